"""What is said of runs, of the uplink they speak for, and of rehearsals."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from eager_kestrel.core.words.numbers import counted, kbit, rate

if TYPE_CHECKING:
    from eager_kestrel.core.stutter import StutterSeen
    from eager_kestrel.core.units import Bitrate


FAR_MORE = 2.0
"""Times one connection: several that carry so much more call for a reason."""

# What an uplink rests on


def bare_number(upload: Bitrate, written: str, spread: float) -> str:
    """Of an uplink nobody measured."""
    said = f"a bare number, {upload}"
    if written and written.strip() != str(upload):
        said += f' (written "{written.strip()}")'
    return f"{said}; nothing measured, so a spread of {spread:.0%} is assumed"


def several_runs(count: int, first_day: str, last_day: str) -> str:
    """Of an uplink pooled from runs."""
    return f"{count} runs from {first_day} to {last_day}"


def one_run(moment: str, *, partial: bool, practice: bool) -> str:
    """Of an uplink known by a single run."""
    cut = ", cut short" if partial else ""
    if practice:
        return f"a practice run of {moment}{cut}, not your connection"
    return f"one run of {moment}{cut}; one run is not evidence yet"


def readings(count: int, spread: float) -> str:
    """Of an uplink known by rates read elsewhere."""
    return (
        f"{count} imported readings, which say nothing of single connections or "
        f"dips, so a spread of {spread:.0%} at least is assumed"
    )


def towards(said: str, places: Sequence[str], left_out: int) -> str:
    """Of an uplink whose runs all went towards some places."""
    named = " and ".join(place for place in places if place)
    if not named:
        return said
    rest = f"; {left_out} towards other places are left out (--from)" if left_out else ""
    return f"{said} towards {named}{rest}"


def no_runs_near(hour: str) -> str:
    """A show begins at an hour nobody measured."""
    return f"no run was taken near {hour}, when the show begins: planned from all hours"


def hours_differ(low: int, low_kbps: float, high: int, high_kbps: float) -> str:
    """Hours that differ so much that all of them together say little of one."""
    return (
        f"your connection differs by the hour: its floor is {rate(low_kbps)} about {low:02d}:00 and "
        f"{rate(high_kbps)} about {high:02d}:00; plan the hour of the show with --around HH:MM, or "
        f'at = "HH:MM" in its file'
    )


def apart(floors: Sequence[tuple[float | None, float | None]]) -> str:
    """Whether floors can be told apart by their intervals, each ``(low, high)`` in kbit/s."""
    known = [(low, high) for low, high in floors if low is not None and high is not None]
    if len(known) < len(floors):
        return "Not all of them say how sure their floor is: they cannot be held side by side."
    low, high = max(low for low, _ in known), min(high for _, high in known)
    if low <= high:
        return (
            f"Their floors cannot be told apart: {rate(low)} to {rate(high)} lies within the "
            "intervals of all."
        )
    return "Their floors differ by more than chance: at least two intervals do not overlap."


def taken_on(said: str, days: Sequence[str]) -> str:
    """Of an uplink whose runs were picked by day of the week."""
    return f"{said}, taken on {' and '.join(days)}"


def no_runs_on(days: Sequence[str]) -> str:
    """A show begins on days of which hardly a run is kept."""
    named = " or ".join(days)
    return f"fewer than two runs were taken on {named}: planned from all days"


def taken_around(said: str, hour: str) -> str:
    """Of an uplink whose runs were picked by time of day."""
    return f"{said}, taken around {hour}"


# What a careful person would remark on a run


def one_carries_less(one_kbps: float, several_kbps: float, count: int) -> str:
    """One connection against several."""
    said = (
        f"one connection carries {one_kbps / several_kbps:.0%} of what several do; a live stream "
        "rides on one, so plan with that, and mistrust tests that use many"
    )
    if several_kbps < FAR_MORE * one_kbps:
        return said
    return (
        f"{said}; others are using this connection, or each connection is held back: one got "
        f"{rate(one_kbps)}, {count} got {rate(several_kbps)}"
    )


def swings(low_kbps: float, high_kbps: float) -> str:
    """Uneven within the windows that typical and floor are taken over."""
    return (
        f"within two seconds the connection swings between {rate(low_kbps)} and {rate(high_kbps)}; a "
        "stream has about one second of buffer, so set a larger one or send less"
    )


def already_sending(upload_kbps: float) -> str:
    """Other traffic of this machine."""
    return (
        f"something on this machine was already sending {upload_kbps:,.0f} kbit/s "
        "before the test; stop it and measure again, or reserve it"
    )


def full_queue_waits(added_ms: float) -> str:
    """Round trips under load against idle ones."""
    return f"a full connection adds {added_ms:.0f} ms to every answer: calls and games will feel it"


def uneven(low_kbps: float, high_kbps: float) -> str:
    """A line whose two-second windows differ much."""
    return (
        f"the connection is uneven: two seconds carried {rate(low_kbps)} at one "
        f"time and {rate(high_kbps)} at another"
    )


def stalled(share: float) -> str:
    """Windows in which hardly anything went."""
    return f"{share:.0%} of two-second windows fell under a quarter of typical"


TOO_LITTLE = "too little was learned to say anything"
FLOOR = "nine windows in ten did at least this"


def windows(count: int, steady_seconds: float, ramp_seconds: float) -> str:
    """What typical and floor are taken over."""
    many = "1 window" if count == 1 else f"{count} windows"
    return f"{many} over {steady_seconds:.1f} steady seconds, ramp of {ramp_seconds:.1f} s left out"


WINDOWS = "median of two-second windows"


def stretches(count: int, loaded_seconds: float, climbed_seconds: float) -> str:
    """What they are taken over where the connection was climbed."""
    many = "1 stretch" if count == 1 else f"{count} stretches"
    return f"{many}, {loaded_seconds:.1f} s in all, after a climb of {climbed_seconds:.1f} s"


STRETCHES = "median of short stretches with the connection just full"
HELD = "sent without a wait, as much as was allowed"


def held_most(kbps: float, most_kbps: float) -> str:
    """Nothing was seen above a rate that was not to be passed."""
    return (
        f"held {kbps:,.0f} kbit/s, and {most_kbps:,.0f} were allowed; the connection may carry more, but "
        "a plan from this run counts on no more"
    )


NOTHING = "nothing this connection carries"


def leads_to(title: str, settings: str | None) -> str:
    """What a destination gets on the connection that was measured."""
    return f"{title}: {settings or NOTHING}"


def safe_to_send(kbps: float, limited_by: str) -> str:
    """What there is to plan with."""
    return f"{kbps:,.0f} kbit/s are safe to send before anything is reserved, limited by the {limited_by}"


BARS = "▁▂▃▄▅▆▇█"
FAILED_BAR = "×"


def bars(values: Sequence[float | None], most: int = 48) -> str:
    """Rates as a row of bars, the latest last; a run that failed is a cross."""
    shown = values[-most:]
    highest = max((value for value in shown if value is not None), default=0.0)
    return "".join(
        FAILED_BAR
        if value is None or highest <= 0
        else BARS[min(len(BARS) - 1, int(value / highest * len(BARS)))]
        for value in shown
    )


AGREE = 0.01


def both_ends(near_kbps: float, far_kbps: float) -> str:
    """What the far end counted against what was counted here."""
    apart = abs(far_kbps / near_kbps - 1)
    if apart <= AGREE:
        return f"both ends agree within {max(apart, 0.001):.1%}: {rate(far_kbps)} arrived there"
    return (
        f"the ends do not agree: {rate(near_kbps)} was acknowledged, {rate(far_kbps)} was read "
        "there; something on the way, or the far end itself, takes and keeps"
    )


# What came of a rehearsal


def broke(why: str, at_seconds: float) -> str:
    """The ingest refused or ended it."""
    return f"{why}, after {at_seconds:.1f} s"


def encoder_late(
    at_seconds: float, worst_seconds: float, encode_ms: float, frame_seconds: float
) -> str:
    """The machine did not keep time."""
    return (
        f"after {at_seconds:.1f} s it was {worst_seconds:.1f} s behind; a frame "
        f"takes {encode_ms:.1f} ms and has {frame_seconds * 1000:.1f}"
    )


def held_up(at_seconds: float, seconds: float) -> str:
    """Other programs kept this machine from sending."""
    return (
        f"after {at_seconds:.1f} s this machine did not send for {seconds:.1f} s, since other "
        "programs kept it busy: close them and rehearse again; the connection is not to blame"
    )


def frames_waited(at_seconds: float, worst_seconds: float, delivered_kbps: float) -> str:
    """The connection did not carry it."""
    return (
        f"after {at_seconds:.1f} s frames waited {worst_seconds:.1f} s; it delivered "
        f"{delivered_kbps:,.0f} kbit/s"
    )


def perhaps_the_ingest(text: str) -> str:
    """The other end's window was closed meanwhile."""
    return (
        f"{text}; the other end's window was closed meanwhile, so that it may be the ingest, or a "
        "relay on the way: nobody can tell from here"
    )


def stopped_reading(at_seconds: float) -> str:
    """The ingest holds its window closed."""
    return f"after {at_seconds:.1f} s it took nothing any more: it stopped reading"


def nothing_late(seconds: float, *, whole: bool) -> str:
    """It held, or was stopped before it could fail."""
    if whole:
        return f"it held for {seconds:.0f} s, no frame was late"
    return f"stopped after {seconds:.0f} s; no frame was late"


def verdict(text: str, limited_by: str | None, *, held: bool) -> str:
    """The first line of a rehearsal's report."""
    if held:
        return f"held: {text}"
    return f"cut short: {text}" if limited_by is None else f"limited by the {limited_by}: {text}"


def going(
    seconds: float, delivered_kbps: float, queued_seconds: float, encoder_seconds: float
) -> str:
    """A rehearsal while it goes."""
    return (
        f"{seconds:5.1f} s  {delivered_kbps:,.0f} kbit/s  waiting "
        f"{queued_seconds:.2f} s  encoder {encoder_seconds:.2f} s behind"
    )


def kept_in_all(shown: tuple[int, int], every: tuple[int, int], size_bytes: int) -> str:
    """How much of the history is shown, and how large it is.

    Args:
        shown: runs and broadcasts.
        every: the same of all that are kept.
        size_bytes: on the disk.
    """
    parts = [
        (f"{some:,} of " if some < total else "") + counted(total, name)
        for some, total, name in zip(shown, every, ("run", "broadcast"), strict=True)
        if total
    ]
    more = "; --last 100 shows more" if shown[0] < every[0] else ""
    return f"{', '.join(parts)}; {size_bytes / 1e6:,.1f} MB on the disk{more}"


def settled(settings: str, total_kbps: float) -> str:
    """What rehearsing closed in on."""
    return f"The most that held: {settings}, {rate(total_kbps)} in all."


def all_together(names: Sequence[str], failed: Sequence[str]) -> str:
    """The verdict on several destinations sent at once."""
    if not failed:
        return f"All at once they held: {' and '.join(names)}."
    rest = [name for name in names if name not in failed]
    held = f"; {' and '.join(rest)} did" if rest else ""
    return f"Not all at once: {' and '.join(failed)} did not hold{held}."


def step_down(number: int, settings: str | None) -> str:
    """Which step of a plan would hold, counted from 1, and what that is."""
    ordinal = {1: "the first", 2: "the second", 3: "the third"}.get(number, f"number {number},")
    said = f"{ordinal} step down of the plan"
    return said if settings is None else f"{settings}, {said}"


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
