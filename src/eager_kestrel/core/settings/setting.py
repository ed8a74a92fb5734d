"""What there is to say of one setting: the rule, the reason, what to set instead.

Each module of this room says it of one setting, in this order: the guide's keys it obeys, how a
plan chooses it, the rule that checks it, the reason for its value with the sentence, what to set
instead. :mod:`eager_kestrel.core.settings.table` lists the modules.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import TYPE_CHECKING, Any, Literal, NamedTuple, TypeVar

from pydantic import Field

from eager_kestrel.core.document import Frozen
from eager_kestrel.core.resolution import Resolution, frame_rate_text
from eager_kestrel.core.words.numbers import filled

if TYPE_CHECKING:
    from eager_kestrel.core.choice.budget import Budget
    from eager_kestrel.core.choice.choice import Choice
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.recording import Recording
    from eager_kestrel.core.settings.values import AudioSettings, Settings, VideoSettings
    from eager_kestrel.core.show.show import Show

T = TypeVar("T")
Severity = Literal["breach", "caution", "fine"]
"""A breach is what the platform refuses or the upload cannot hold; a caution works but is unwise;
fine says that a rule was checked and holds."""
Bound = Literal[
    "budget",
    "guide",
    "source",
    "level",
    "viewers",
    "machine",
    "content",
    "no visible gain",
    "quality at this bitrate",
    "quality at this resolution",
    "share of the total",
    "wish",
]
"""The kinds of limit that decide a setting."""


class Finding(Frozen):
    """One rule and how it stands."""

    platform: str
    """The guide it is of; ``upload``, ``plan`` or ``any``."""
    tier: str | None = None
    """Of the account the guide was read for."""
    setting: str = ""
    """Which setting the rule is about; empty for the safe rate."""
    rule: str
    """The guide's key, or the name of a general rule."""
    severity: Severity
    found: str
    wanted: str
    fields: tuple[str, ...] = ()
    """Of a settings file: what to set to meet it."""
    what_to_do: str = ""
    """Empty when fine."""

    @property
    def label(self) -> str:
        """``oxbow`` or ``oxbow:hearth``: which guide, and for whom."""
        return f"{self.platform}:{self.tier}" if self.tier else self.platform


class RuleResult(NamedTuple):
    """A rule and how it stands."""

    rule: str
    severity: Severity
    found: object
    wanted: object
    do: str = ""
    """What to do, if advice on settings cannot say it."""
    setting: str = ""
    fields: tuple[str, ...] = ()
    """As in a finding; the walk over the table fills them in."""


Rules = Iterator[RuleResult]


def held(
    rule: str,
    holds: bool,
    found: object,
    wanted: object,
    *,
    worse: Severity = "breach",
    do: str = "",
) -> RuleResult:
    """How a rule stands that holds or does not; ``worse``: what it is if it does not."""
    return RuleResult(rule, "fine" if holds else worse, found, wanted, "" if holds else do)


def one_of(rule: str, found: object, taken: Iterable[object]) -> RuleResult:
    """One of the values that are taken."""
    known = [str(t) for t in taken]
    return held(rule, str(found) in known, found, " or ".join(known))


def recommended(rule: str, found: object, wish: object, taken: Iterable[object] = ()) -> Rules:
    """A wish of the guide's; nothing where it has none, or either of both is not taken anyway.

    Args:
        taken: values that do not break a rule; all where none are given.
    """
    known = [str(t) for t in taken]
    if wish is not None and (not known or {str(found), str(wish)} <= {*known}):
        yield held(rule, str(found) == str(wish), found, wish, worse="caution")


@dataclass(frozen=True, slots=True)
class Held:
    """What is held against a guide: settings, and the recording they were read from, if any."""

    settings: Settings
    recording: Recording | None = None


class Reason(Frozen):
    """Why one setting is what it is: the constraint that bound it and the figures behind that."""

    setting: str
    """By its name in ``limited_by``."""
    value: str
    limited_by: Bound
    facts: dict[str, float | str] = Field(default_factory=dict)
    """Figures by name, for programs; nothing here reads them back."""
    text: str

    @property
    def title(self) -> str:
        """The setting as people read it: ``frame rate``."""
        return self.setting.replace("_", " ").replace("b frames", "B-frames")


class Because:
    """A kind of reason: the setting, the limit that decides it, and the sentence with its gaps.

    Call it with the value and the figures to get the reason. Bitrates are in kbit/s, lengths in
    seconds, shares and qualities 0..1.
    """

    def __init__(self, setting: str, limited_by: Bound, text: str) -> None:
        self.setting, self.limited_by, self.text = setting, limited_by, text

    def __call__(self, value: object, **figures: Any) -> Reason:
        """The reason for a value, as it is shown."""
        known = {name: _plain(of) for name, of in figures.items() if of is not None}
        return Reason(
            setting=self.setting,
            value=str(value),
            limited_by=self.limited_by,
            facts=known,
            text=filled(self.text, figures),
        )


def _plain(value: Any) -> float | str:
    if isinstance(value, Fraction):
        return frame_rate_text(value)
    plain: float | str = str(value) if isinstance(value, Resolution) else value
    return plain


class PlanSettings(NamedTuple):
    """The settings of a plan for one destination."""

    video: VideoSettings
    audio: AudioSettings


@dataclass(frozen=True, slots=True)
class Why:
    """What reasons are found from."""

    guide: Guide
    """What satisfies all that get the encode, tiers applied."""
    show: Show
    choice: Choice
    budget: Budget
    video: VideoSettings
    audio: AudioSettings


Guides = Sequence["Guide"]
PICTURE = (
    "video.resolution",
    "video.frame_rate",
    "source_fps",
    "video.bitrate",
    "video.peak",
    "video.level",
    "video.buffer_kbit",
)
"""They hang together: a smaller resolution has another minimum, maximum and level."""


class Rule(NamedTuple):
    """A rule of a guide's, and what to set to meet it."""

    check: Callable[[Held, Guide], Rules]
    fields: tuple[str, ...] = PICTURE
    """Of a settings file."""


def _nothing(*_: object) -> Iterator[Any]:
    return iter(())


def _as_it_is(settings: Settings, _: Guides, __: float) -> Settings:
    return settings


@dataclass(frozen=True, kw_only=True)
class Setting:
    """Everything about one setting: a row of the table."""

    name: str
    """In ``limited_by``, reasons and findings."""
    term: str = ""
    """What ``explain`` calls it, if not by its name."""
    keys: tuple[str, ...] = ()
    """The guide's keys a plan's value rests on."""
    rules: tuple[Rule, ...] = ()
    """Of a guide."""
    always: Callable[[Recording], Rules] = _nothing
    """What no platform likes in a recording."""
    as_planned: Callable[[Recording, PlanSettings], Rules] = _nothing
    """Whether a recording is what a plan says."""
    reasons: Callable[[Why], Iterable[Reason]] = _nothing
    instead: Callable[[Settings, Guides, float], Settings] = _as_it_is
    """The nearest that all guides take, within a rate for everything sent in kbit/s."""
    follows: bool = False
    """Whether that depends on the resolution and the frame rate."""


def nearest(
    own: T | None, taken: Sequence[Sequence[T]], wishes: Iterable[T | None] = ()
) -> T | None:
    """What is wished for, what is set, or the first that all take; what is not set stays unset."""
    if own is None:
        return None
    common = [value for value in taken[0] if all(value in others for others in taken[1:])]
    liked = [wish for wish in wishes if wish is not None and wish in common]
    return next(iter((*liked, *(c for c in common if c == own), *common)), own)
