"""What is said of the upload a picture takes."""

from __future__ import annotations

from typing import NamedTuple

from eager_kestrel.core.words.numbers import kbit, looks, points, rate


class SettingsAt(NamedTuple):
    """Settings at an upload."""

    upload_kbps: float
    words: str
    """Picture, frame rate and bitrate."""
    bitrate_kbps: float
    quality: float


def mbit(kbps: float) -> str:
    """``6.24``: Mbit/s in three figures, where a heading has the unit."""
    return f"{kbps / 1000:.3g}"


def span(begin: float, end: float | None) -> str:
    """``6.24 to 9.81``: uploads in Mbit/s between which a picture is among the best-looking."""
    return f"from {mbit(begin)}" if end is None else f"{mbit(begin)} to {mbit(end)}"


def video_span(begin_kbps: float, end_kbps: float) -> str:
    """``2,900 to 4,700``: its bitrates in kbit/s at both."""
    first = f"{begin_kbps:,.0f}"
    return first if end_kbps == begin_kbps else f"{first} to {end_kbps:,.0f}"


def in_words(
    picture: str,
    begin: SettingsAt | None,
    end: SettingsAt | None,
    good_kbps: float | None,
    full: SettingsAt,
    better: SettingsAt | None,
) -> str:
    """All of it in one line.

    Args:
        picture: with its frame rate.
        begin: where it is among the best-looking for the first time.
        end: where another looks better, and that other.
        good_kbps: the upload from which it looks good.
        full: where nothing more is gained.
        better: what beats it there, where it never is among the best.
    """
    said = []
    if begin is not None:
        said.append(
            f"among the best-looking from {rate(begin.upload_kbps)} up "
            f"with {kbit(begin.bitrate_kbps)} of video and a quality of {looks(begin.quality)}"
        )
        if end is not None:
            said.append(f"until {rate(end.upload_kbps)}, where {end.words} looks better")
    elif better is not None:
        said.append(
            f"never among the best-looking: {better.words} looks better{_not(better, full)}"
        )
    if good_kbps is not None:
        said.append(f"it looks good from {rate(good_kbps)}")
    said.append(
        f"nothing is gained beyond {rate(full.upload_kbps)} "
        f"with {kbit(full.bitrate_kbps)} and a quality of {looks(full.quality)}"
    )
    return f"{picture}: {'; '.join(said)}"


def _not(better: SettingsAt, full: SettingsAt) -> str:
    """Both numbers, where they differ; on single scenes one can be worse with the same mean."""
    if points(better.quality) == points(full.quality):
        return " on the footage where this does worst"
    return f": {looks(better.quality)}, not {looks(full.quality)}"


def not_taken(platform: str, wanted: str) -> str:
    """A picture a platform does not take of this source."""
    return f"{platform} does not take {wanted} of this source"


def choose(known: list[str], *, of_rates: bool) -> str:
    """What it takes instead."""
    what = "frame rates are" if of_rates else "pictures are"
    return f"its {what} {', '.join(known)}"


TOO_SLOW = "this machine does not encode it in time"


def under_floor(kbps: float) -> str:
    """It may not be sent at so little."""
    return f"it takes {kbit(kbps)} at the least"
