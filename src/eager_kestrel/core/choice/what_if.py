"""What-if questions: sweeps of one input, settings side by side, and where the choice changes."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np

from eager_kestrel.core.choice.budget import Budget, budget_of
from eager_kestrel.core.choice.candidates import Candidate
from eager_kestrel.core.choice.candidates_table import CandidatesTable, candidates_table
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.choice.scored import Option
from eager_kestrel.core.codecs import Codec
from eager_kestrel.core.connection.uplink import Uplink, assumed_uplink
from eager_kestrel.core.document import Frozen, Spread, format_name
from eager_kestrel.core.errors import InputError, UnitError, nearest_name
from eager_kestrel.core.quantities import FrameRate
from eager_kestrel.core.resolution import Resolution, parse_frame_rate
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.plans import BitrateBound

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide


Varied = Literal["upload", "share", "motion", "tier"]
VARIED: tuple[Varied, ...] = ("upload", "share", "motion", "tier")


class Need(Frozen):
    """The upload one resolution takes on one platform. Uploads are typical rates in kbit/s."""

    platform: str
    tier: str | None
    resolution: str
    fps: float
    possible: bool
    """Whether the platform takes it of this source at any upload."""
    from_kbps: float | None = None
    """The least at which nothing is seen to look better; none when something always does."""
    from_gives: Option | None = None
    """The resolution's settings there."""
    until_kbps: float | None = None
    """The least from which on something is seen to look better; none when nothing ever is."""
    until_gives: Option | None = None
    then: Option | None = None
    """What a plan takes there."""
    chosen_from_kbps: float | None = None
    """The lowest whose plan takes this very resolution; none if one of about the same quality
    always wins."""
    good_kbps: float | None = None
    """The least from which its quality is called good; none when it never is."""
    full_kbps: float | None = None
    """The least beyond which nothing is gained of it."""
    full_gives: Option | None = None
    better: Option | None = None
    """For a resolution that is never among the best-looking: what a plan takes instead, there."""


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
    varied: Varied
    points: tuple[Point, ...]
    beside: tuple[Beside, ...] = ()
    """The show's other destinations."""


POINTS = 79
"""Of a range: 1 to 40 Mbit/s in steps of a half."""


@dataclass(frozen=True, slots=True)
class Range:
    """What to sweep: numbers for upload (Mbit/s) and share (per cent), else every name."""

    varied: Varied
    begin: float = 0.0
    end: float = 0.0


def parse_range(text: str) -> Range:
    """Read ``upload=1..40``, ``share=50..80``, ``motion`` or ``tier``.

    Raises:
        InputError: none of these.
    """
    name, _, span = text.partition("=")
    over = next((known for known in VARIED if known == name.strip()), None)
    if over is None:
        raise InputError(f'"{name}" cannot be swept', nearest_name(name, [*VARIED], ""))
    if over in ("motion", "tier"):
        return Range(over)
    match = re.fullmatch(r"\s*([0-9.]+)\s*\.\.\s*([0-9.]+)\s*", span)
    example = "upload=1..40 (Mbit/s)" if over == "upload" else "share=50..80 (per cent)"
    try:
        begin, end = (float(match[1]), float(match[2])) if match else (0.0, 0.0)
    except ValueError:
        begin = end = 0.0
    highest = 10_000 if over == "upload" else 100
    if not 0 < begin < end <= highest:
        raise InputError(f'"{text}" is not a range', f"write {example}")
    return Range(over, begin, end)


def values_of(wanted: Range, show: Show, uplink: Uplink | None) -> list[tuple[str, float, float]]:
    """Of a range of uploads or shares: each value in words, as a number, and its safe rate."""
    values = np.linspace(wanted.begin, wanted.end, POINTS).tolist()
    if wanted.varied == "upload":
        lines = [assumed_uplink(Bitrate.from_kbps(value * 1000)) for value in values]
        safe = [budget_of(line, show).safe_kbps for line in lines]
        names = [f"{value:.4g} Mbit/s" for value in values]
        return list(zip(names, values, safe, strict=True))
    if uplink is None:
        raise ValueError("a sweep of shares needs an uplink")
    shares = [value / 100 for value in values]
    shows = [show.model_copy(update={"safe_share": share}) for share in shares]
    safe = [budget_of(uplink, each).safe_kbps for each in shows]
    return list(zip([f"{share:.1%}" for share in shares], shares, safe, strict=True))


Shape = tuple[Resolution, Fraction]


class Finalist(Spread):
    """What one resolution and frame rate would get on this connection."""

    SPREAD: ClassVar = {"resolution": ("width", "height"), "frame_rate": ("fps", "frame_rate")}

    resolution: Resolution
    frame_rate: FrameRate
    bitrate_kbps: float
    """What the encoder aims at."""
    quality: float
    """0..1, smoothness in it."""
    smoothness: float
    """0..1, what so many frames a second leave of it."""
    limited_by: BitrateBound
    """What bounds its bitrate."""
    total_kbps: float
    """Everything sent."""
    upload_kbps: float
    """The typical upload that carries it, with the same share and reserves."""
    chosen: bool
    """Whether a plan takes it."""
    refused: str
    """Why it cannot be taken; empty where it can."""


class Comparison(Frozen):
    """Finalists in the order asked."""

    format: str = format_name("comparison")
    platform: str
    tier: str | None
    safe_kbps: float
    finalists: tuple[Finalist, ...]


def parse_shapes(text: str) -> list[Shape]:
    """Read ``"1280x720@60, 1920x1080@30"``.

    Raises:
        UnitError: one is none.
    """
    found = []
    for part in text.split(","):
        match = re.fullmatch(r"\s*(\S+?)\s*(?:@|\s+at\s+)\s*(\S+)\s*", part)
        if match is None:
            raise UnitError(f'"{part.strip()}" is not a resolution at a rate', "write 1280x720@60")
        found.append((Resolution.parse(match[1]), parse_frame_rate(match[2])))
    return found


def compare(
    show: Show,
    guide: Guide,
    table: QualityTable,
    codec: Codec,
    budget: Budget,
    shapes: Sequence[Shape],
) -> Comparison:
    """What each of some resolutions at frame rates would get if it were insisted on.

    Args:
        guide: with the tier applied.

    Raises:
        InputError: the platform does not take one of them; says what it takes.
    """
    free = candidates_table(show, guide, table, codec)
    index = free.chosen(np.array([budget.safe_kbps]))[0] if free.candidates else -1
    taken = free.candidates[index] if index >= 0 else None
    finalists = []
    for resolution, rate in shapes:
        update = {"resolution": resolution, "fps": rate}
        choices = candidates_table(show.model_copy(update=update), guide, table, codec)
        finalists.append(_finalist(choices, budget, taken))
    return Comparison(
        platform=guide.name,
        tier=guide.tier,
        safe_kbps=round(budget.safe_kbps, 3),
        finalists=tuple(finalists),
    )


def _finalist(choices: CandidatesTable, budget: Budget, taken: Candidate | None) -> Finalist:
    """The only candidate of a table."""
    (candidate,), scored = choices.candidates, choices.at(budget.safe_kbps)
    kbps, floor = float(scored.kbps[0]), float(scored.min_kbps[0])
    total = (kbps + scored.audio_kbps) * float(choices.per_byte[0]) + float(choices.fixed_kbps[0])
    refused = ""
    if not scored.encodable[0]:
        refused = words.TOO_SLOW
    elif not scored.allowed[0]:
        refused = words.under_minimum(floor, max(0.0, kbps), scored.limit(0))
    return Finalist(
        resolution=candidate.resolution,
        frame_rate=candidate.frame_rate,
        bitrate_kbps=float(scored.target_kbps[0]),
        quality=round(float(scored.quality[0]), 4),
        smoothness=round(float(scored.smoothness[0]), 4),
        limited_by=scored.limit(0),
        total_kbps=round(total, 3),
        upload_kbps=round(budget.upload_for(total), 1),
        chosen=(candidate.resolution, candidate.frame_rate)
        == (None if taken is None else (taken.resolution, taken.frame_rate)),
        refused=refused,
    )
