"""Answers to what-if questions: the upload pictures take, and what is chosen along a range."""

from __future__ import annotations

from typing import Literal

from eager_kestrel.core.choice.option import Option
from eager_kestrel.core.document import Frozen, format_name

Over = Literal["upload", "share", "motion", "standing"]
OVER: tuple[Over, ...] = ("upload", "share", "motion", "standing")


class Need(Frozen):
    """The upload one picture takes on one platform."""

    platform: str
    standing: str | None
    picture: str
    fps: float
    upload_kbps: float | None
    """The least typical upload; none when no upload makes a plan choose it."""
    gives: Option | None
    """What that upload gives."""
    forced: Option | None = None
    """For a picture no plan chooses: the most that can be made of it when it is set anyway."""
    forced_upload_kbps: float | None = None
    """The upload that takes."""
    better: Option | None = None
    """What a plan chooses with that upload."""


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
