"""What is said of a forecast: what was seen, its rate, and what is not known."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from eager_kestrel.core.words.numbers import counted, kbit

if TYPE_CHECKING:
    from eager_kestrel.core.stutter import StutterSeen

NONE = "none"


def some_seconds(seconds: float) -> str:
    """``4 s``, ``0.4 s``; ``3 min`` from two minutes on."""
    if seconds >= 120:
        return f"{seconds / 60:,.0f} min"
    if seconds >= 9.95 or f"{seconds:.1f}".endswith(".0"):
        return f"{seconds:,.0f} s"
    return f"{seconds:.1f} s"


def span(seconds: float) -> str:
    """A length of time that was observed: ``80 s``, ``4 min``, ``2.5 h``."""
    if seconds < 100:
        return f"{seconds:.0f} s"
    if seconds < 6000:
        return f"{seconds / 60:.0f} min"
    return f"{seconds / 3600:.1f}".removesuffix(".0") + " h"


def hourly(seen: StutterSeen) -> str:
    """``about 4 s an hour (0 to 15 s)``."""
    if seen.high_seconds_per_hour < 0.05:
        return NONE
    between = f"{some_seconds(seen.low_seconds_per_hour)} to "
    between += some_seconds(seen.high_seconds_per_hour)
    return f"about {some_seconds(seen.seconds_per_hour)} an hour ({between})"


def stutter_line(seen: StutterSeen | None, around: str | None, *, practice: bool = False) -> str:
    """The stutter beside a card, in one line."""
    if seen is None:
        return "not known: nothing was observed"
    where = "of a simulated connection" if practice else "observed"
    when = f" around {around}" if around else ""
    link = " in" if hourly(seen) == NONE else ", from"
    return f"{hourly(seen)}{link} {span(seen.observed_seconds)} {where}{when}"


def observed_line(seconds: float, runs: int, broadcasts: int) -> str:
    """``14 min: 33 runs and 2 broadcasts``."""
    parts = [counted(runs, "run")] if runs or not broadcasts else []
    parts += [counted(broadcasts, "broadcast")] if broadcasts else []
    return f"{span(seconds)}: {' and '.join(parts)}"


def forecast_verdict(
    seen: StutterSeen | None, limit: float, better: str | None, *, own: bool, known: bool
) -> str:
    """What the plan would have stuttered, and what does better.

    Args:
        seen: by the plan's own settings; None where nothing is known of their rate.
        limit: seconds of stutter an hour that are accepted.
        better: the first settings that keep it; None when none do.
        own: whether those are the plan's own.
        known: whether anything was observed at all.
    """
    if seen is None:
        if known:
            return "Nothing observed reaches this rate: how it would stutter is not known."
        return "Nothing was observed that shows seconds: how it would stutter is not known."
    observed = span(seen.observed_seconds)
    if seen.number:
        times = "once" if seen.number == 1 else f"{seen.number} times"
        said = (
            f"In the {observed} observed it would have stuttered for {some_seconds(seen.seconds)}"
        )
        said += f" ({times})"
    else:
        said = f"In the {observed} observed it would not have stuttered"
    if own:
        return f"{said}."
    accepted = f"{some_seconds(limit)} an hour"
    if better is None:
        return f"{said}; no fallback keeps within {accepted}."
    return f"{said}. Within {accepted}: {better}."


def not_seen(seen: StutterSeen | None) -> tuple[str, ...]:
    """The one footnote on what was not seen, and the cheapest way to learn more."""
    if seen is None:
        return ("one run of eager-kestrel measure at the hour of the show is a beginning",)
    what = "stutters of a rarer kind" if seen.number else "stutters"
    rate = seen.unseen_per_hour
    most = f"{rate:.0f}" if rate >= 1 else f"{rate:.1f}"
    return (
        f"up to {most} {what} an hour cannot be excluded (95 %) after "
        f"{span(seen.observed_seconds)}; eager-kestrel watch during a show adds its hours, "
        "measure --until 23:00 an evening",
    )


def readings_only(count: int) -> str:
    """Imported readings give a rate and nothing else."""
    return f"{counted(count, 'imported reading')}: averages say nothing of seconds"


def failed(count: int) -> str:
    """Runs that found the connection or the endpoint down."""
    return f"{counted(count, 'failed run')} not counted: whether the connection was down is unknown"


PRACTICE = "a simulated connection, not yours"


def safe_step(limit: float, observed_seconds: float, headroom: float) -> str:
    """Why the seen-safe rate is what it is."""
    return (
        f"the most that stutters no more than {some_seconds(limit)} an hour in the "
        f"{span(observed_seconds)} observed, with {headroom:.0%} headroom for what so short a "
        "time does not show"
    )


def frames_of(name: str, planned: str) -> str:
    """What is sent, of a recording."""
    return f"the frames of {name} (planned: {planned})"


def sent(said: str, total_kbps: float, reserved_kbps: float) -> str:
    """What goes out."""
    beside = f"; {kbit(reserved_kbps)} of reserves in use beside it" if reserved_kbps else ""
    return f"{said}; {kbit(total_kbps)} in total{beside}"


def in_the_show(seen: StutterSeen, lasts_seconds: float) -> str:
    """What that is for a show of such a length."""
    hours = lasts_seconds / 3600
    low, high = seen.low_seconds_per_hour * hours, seen.high_seconds_per_hour * hours
    if high < 0.05:
        return f"none expected in {span(lasts_seconds)}"
    return (
        f"about {some_seconds(seen.seconds_per_hour * hours)} in {span(lasts_seconds)} "
        f"({some_seconds(low)} to {some_seconds(high)})"
    )


def stutters_said(lasted: Sequence[float]) -> str:
    """``no stutter``, ``3 stutters, 4.2 s in total``, by how long each lasted."""
    if not lasted:
        return "no stutter"
    return f"{counted(len(lasted), 'stutter')}, {some_seconds(sum(lasted))} in total"
