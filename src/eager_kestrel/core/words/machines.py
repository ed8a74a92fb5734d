"""What is said of this machine's encoders."""

from __future__ import annotations

from eager_kestrel.core.words.numbers import duration


def measured(days: float, others: float) -> str:
    """Where a plan's figures of the machine come from; plans are shared, so without its name."""
    when = "today" if days < 1 else f"{days:.0f} day{'' if round(days) == 1 else 's'} ago"
    beside = f", beside programs that took {others:.0%} of it" if others else ""
    return f"this machine's encoders as measured {when}{beside}"


def means(encoder: str, picture: str, holds: tuple[str, float] | None, fails: str | None) -> str:
    """What an encoder's figures come to for one picture.

    Args:
        encoder: as the media library names it.
        picture: ``1920x1080 at 60``.
        holds: the slowest preset that holds it, and the share of the machine it takes.
        fails: the next slower one, which does not; None when all were tried.
    """
    if holds is None:
        return f"{encoder} does not hold {picture} here" + (f", not even {fails}" if fails else "")
    preset, share = holds
    name = f"{encoder} {preset}".strip()
    said = f"{name} holds {picture} with {share:.0%} of this machine"
    return said + (f"; {fails} does not" if fails else "")


def endured(name: str, minutes: float, first: float, last: float) -> str:
    """Whether it slows down when it is hot."""
    change = last / first - 1
    kept = "it keeps its pace" if change > -0.05 else f"it slows down by {-change:.0%}"
    return (
        f"{name} for {duration(60 * minutes)}: {first:.0f} frames a second at first, {last:.0f} at "
        f"the end; {kept}"
    )


def beside(others: float) -> str:
    """Other programs took some of the machine meanwhile."""
    return (
        f"other programs took {others:.0%} of this machine: these figures are what is left beside "
        "them; run it again without them to know the machine alone"
    )


def elsewhere(name: str) -> str:
    """The figures are of another machine."""
    return f"the encoders were measured on {name}, not here, and are not counted; run encoders"
