"""What is said of the upload a picture takes."""

from __future__ import annotations

from eager_kestrel.core.choice.option import Option
from eager_kestrel.core.words.numbers import kbit, looks, rate


def mbit(kbps: float) -> str:
    """``6.24``: Mbit/s in three figures, where a heading has the unit."""
    return f"{kbps / 1000:.3g}"


def span(begin: float, end: float | None) -> str:
    """``6.24 to 9.81``: uploads in Mbit/s between which a picture is among the best-looking."""
    return f"from {mbit(begin)}" if end is None else f"{mbit(begin)} to {mbit(end)}"


def video_span(begin: Option | None, end: Option | None) -> str:
    """``2,900 to 4,700``: its bitrates in kbit/s at both."""
    if begin is None:
        return ""
    first = f"{begin.bitrate_kbps:,.0f}"
    if end is None or end.bitrate_kbps == begin.bitrate_kbps:
        return first
    return f"{first} to {end.bitrate_kbps:,.0f}"


def beaten(better: Option, own: Option) -> str:
    """What beats a picture that is never among the best-looking."""
    return f"{better.words} looks better: {looks(better.quality)}, not {looks(own.quality)}"


def in_words(
    picture: str,
    begin: tuple[float, Option] | None,
    end: tuple[float, Option] | None,
    good_kbps: float | None,
    full: tuple[float, Option],
    better: Option | None,
) -> str:
    """All of it in one line.

    Args:
        picture: with its frame rate.
        begin: the upload from which it is among the best-looking, and what it then is.
        end: the upload from which another looks better, and that other.
        good_kbps: the upload from which it looks good.
        full: the upload beyond which nothing is gained, and what it then is.
        better: what beats it where it never is.
    """
    said = []
    if begin is not None:
        said.append(
            f"among the best-looking from {rate(begin[0])} up ({kbit(begin[1].bitrate_kbps)} of "
            f"video, {looks(begin[1].quality)})"
        )
        if end is not None:
            said.append(f"until {rate(end[0])}, where {end[1].words} looks better")
    elif better is not None:
        said.append(f"never among the best-looking: {beaten(better, full[1])}")
    if good_kbps is not None:
        said.append(f"it looks good from {rate(good_kbps)}")
    said.append(
        f"nothing is gained beyond {rate(full[0])} "
        f"({kbit(full[1].bitrate_kbps)}, {looks(full[1].quality)})"
    )
    return f"{picture}: {'; '.join(said)}"
