"""Answers to what-if questions: the upload pictures take, and what is chosen along a range."""

from __future__ import annotations

from typing import Literal

from eager_kestrel.core.choice.option import Option
from eager_kestrel.core.document import Frozen, format_name

Over = Literal["upload", "share", "motion", "standing"]
OVER: tuple[Over, ...] = ("upload", "share", "motion", "standing")


class Need(Frozen):
    """The upload one picture takes on one platform. Uploads are typical rates in kbit/s."""

    platform: str
    standing: str | None
    picture: str
    fps: float
    possible: bool
    """Whether the platform takes it of this source at any upload."""
    from_kbps: float | None = None
    """The least at which nothing is seen to look better; none when something always does."""
    from_gives: Option | None = None
    """The picture's settings there."""
    until_kbps: float | None = None
    """The least from which on something is seen to look better; none when nothing ever is."""
    until_gives: Option | None = None
    then: Option | None = None
    """What a plan takes there."""
    taken_kbps: float | None = None
    """The least whose plan takes this very picture; none when one that looks alike is always taken.
    """
    good_kbps: float | None = None
    """The least from which it looks good, 80 of 100; none when it never does."""
    full_kbps: float | None = None
    """The least beyond which nothing is gained of it."""
    full_gives: Option | None = None
    better: Option | None = None
    """For a picture that is never among the best-looking: what a plan takes instead, there."""


class Needs(Frozen):
    """Answers, in the order asked."""

    format: str = format_name("need")
    needs: tuple[Need, ...]


class Point(Frozen):
    """What is chosen at one value."""

    at: str
    """The value in words."""
    value: float | None
    """The value as a number: Mbit/s or 0..1; none for names."""
    safe_kbps: float
    chosen: Option | None
    """None where no settings satisfy the guide."""


class Beside(Frozen):
    """Another destination of the same show, along the same way."""

    platform: str
    chosen: tuple[Option | None, ...]
    """At each point; None where it is left out."""


class Sweep(Frozen):
    """Everything along the way."""

    format: str = format_name("sweep")
    platform: str
    """Of the show's first destination, which ``points`` speak of."""
    over: Over
    points: tuple[Point, ...]
    beside: tuple[Beside, ...] = ()
    """The show's other destinations."""
