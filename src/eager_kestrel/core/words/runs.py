"""What runs, the uplink they lead to, rehearsals and forecasts say."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Literal

from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words.numbers import (
    Sentence,
    counted,
    joined,
    kbit,
    lasting,
    observed,
    rate,
    some_seconds,
)

if TYPE_CHECKING:
    from eager_kestrel.core.stutter import StutterSeen


# What an uplink rests on


def bare_number(upload: Bitrate, written: str, spread: float) -> str:
    """An uplink nobody measured."""
    said = f"a number you gave, {upload}"
    if written and written.strip() != str(upload):
        said += f' (written "{written.strip()}")'
    return f"{said}; nothing was measured, so a spread of {spread:.0%} is assumed"


several_runs = Sentence("{count:count|run} from {first_day} to {last_day}")


def one_run(moment: str, *, partial: bool, practice: bool) -> str:
    """An uplink known by a single run."""
    cut = ", cut short" if partial else ""
    if practice:
        return f"a practice run of {moment}{cut}, not your connection"
    return f"one run of {moment}{cut}; one run is not enough evidence"


readings = Sentence(
    "{count:count|imported reading}; readings say nothing of single connections or dips, so a "
    "spread of at least {spread:.0%} is assumed"
)


def towards(said: str, endpoints: Sequence[str], left_out: int) -> str:
    """An uplink whose runs all went to the same endpoints."""
    named = " and ".join(name for name in endpoints if name)
    if not named:
        return said
    runs, semicolon, remark = said.partition(";")
    others = f"{counted(left_out, 'run')} to other endpoints left out (--endpoint)"
    return joined((f"{runs} to {named}{semicolon}{remark}", others if left_out else None))


no_runs_near = Sentence("no run was taken near {hour}, when the show begins")


def hours_differ(hour: str, low: int, low_kbps: float, *, worst: bool) -> str:
    """Hours that differ so much that all of them together say little of one.

    Args:
        hour: the time of day that is planned for.
        low: the worst hour, and its floor.
        worst: whether that is the one that is planned for.
    """
    other = (
        f"its worst, with a floor of {rate(low_kbps)}"
        if worst
        else f"not for {low:02d}:00, when its floor is {rate(low_kbps)}"
    )
    return (
        f"your upload varies by the hour: this is for {hour}, {other}; --at HH:MM, or "
        'at = "HH:MM" in the show, names another'
    )


def apart(floors: Sequence[tuple[float | None, float | None]]) -> str:
    """Whether floors can be told apart by their intervals, each ``(low, high)`` in kbit/s."""
    known = [(low, high) for low, high in floors if low is not None and high is not None]
    if len(known) < len(floors):
        return "Not every run says how certain its floor is, so they cannot be compared."
    low, high = max(low for low, _ in known), min(high for _, high in known)
    if low <= high:
        return (
            f"The floors cannot be told apart: {rate(low)} to {rate(high)} lies within every "
            "interval."
        )
    return "The floors differ by more than chance: at least two intervals do not overlap."


taken_on = Sentence("{said}, taken on {days:and}")
hours_on = Sentence("only runs taken on {days:and} count")
no_runs_on = Sentence("fewer than two runs were taken on {days:or}: all days count")
taken_around = Sentence("{said}, taken around {hour}")

# Remarks on a run

FAR_MORE = 2.0
"""Times one connection: several that carry so much more call for a reason."""


def one_carries_less(one_kbps: float, several_kbps: float, count: int) -> str:
    """One connection against several."""
    said = (
        f"one connection carries {one_kbps / several_kbps:.0%} of what {count} carry; a live "
        "stream uses one, so plan with that"
    )
    if several_kbps < FAR_MORE * one_kbps:
        return said
    return (
        f"{said}; either others use the upload, or each connection is limited: one got "
        f"{rate(one_kbps)}, {count} got {rate(several_kbps)}"
    )


swings = Sentence(
    "within two seconds the upload swings between {low_kbps:rate} and {high_kbps:rate}; a stream "
    "buffers about one second, so set a larger buffer or send less"
)
already_sending = Sentence(
    "another program on this machine was already sending {kbps:,.0f} kbit/s; stop it and measure "
    "again, or reserve that much"
)
busy = Sentence(
    "this computer was busy: for {share:.0%} of the time the measurement had to wait for other "
    "programs, so the upload carries at least {low:rate}, in proportion {high:rate}; close them "
    "and measure again"
)
full_queue_waits = Sentence(
    "a full upload adds {added_ms:.0f} ms to every answer: calls and games will feel it"
)
uneven = Sentence(
    "the upload is uneven: two seconds carried {low_kbps:rate} at one time and {high_kbps:rate} at "
    "another"
)
stalled = Sentence("{share:.0%} of two-second windows fell below a quarter of typical")
TOO_LITTLE = "too little was measured to say anything"
FLOOR = "nine of ten windows reached this"
windows = Sentence(
    "{count:count|window} over {steady_seconds:.1f} steady seconds, without a ramp of "
    "{ramp_seconds:.1f} s"
)
WINDOWS = "median of two-second windows"
stretches = Sentence(
    "{count:count|stretch|stretches}, {loaded_seconds:.1f} s in total, after a climb of "
    "{climbed_seconds:.1f} s"
)
STRETCHES = "median of short stretches with the upload just full"
HELD = "sent without queueing, as much as was allowed"
held_most = Sentence(
    "held {kbps:,.0f} kbit/s of {max_kbps:,.0f} allowed; the upload may be higher, but a plan "
    "from this run counts on no more"
)
NOTHING = "no settings fit this upload"


def leads_to(title: str, settings: str | None) -> str:
    """What a destination gets at the upload that was measured."""
    return f"{title}: {settings or NOTHING}"


safe_to_send = Sentence(
    "{kbps:,.0f} kbit/s are safe to send before reserves, limited by the {limited_by}"
)
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


ends_agree = Sentence("both ends agree within {difference:.1%}: {endpoint_kbps:rate} arrived there")
ends_disagree = Sentence(
    "the two ends disagree: {here_kbps:rate} was acknowledged, {endpoint_kbps:rate} was read "
    "there; something on the way, or the endpoint itself, buffers"
)
strangers_came = Sentence(
    "{each_second:.0f} connections a second came to the endpoint meanwhile without its token: they "
    "may have slowed it down; measure again when they are gone"
)


# Rehearsals

went_over = Sentence("to {url} after {seconds:.1f} s")
broke = Sentence("{why}, after {at_seconds:.1f} s")


def encoder_late(
    at_seconds: float, worst_seconds: float, encode_ms: float, frame_seconds: float
) -> str:
    """The machine did not keep time."""
    return (
        f"after {at_seconds:.1f} s the encoder was {worst_seconds:.1f} s behind; a frame "
        f"takes {encode_ms:.1f} ms and has {frame_seconds * 1000:.1f}"
    )


held_up = Sentence(
    "after {at_seconds:.1f} s other programs kept this machine from sending for {seconds:.1f} s: "
    "close them and rehearse again; your connection is fine"
)
frames_queued = Sentence(
    "{worst_seconds:.1f} s queued after {at_seconds:.1f} s; {delivered_kbps:,.0f} kbit/s delivered",
    "at_seconds worst_seconds delivered_kbps",
)
perhaps_the_ingest = Sentence(
    "{text}; the other end's window was closed meanwhile, so it may be the ingest server or a "
    "relay on the way: this cannot be told from here"
)
stopped_reading = Sentence("after {at_seconds:.1f} s it stopped reading; your connection is fine")


def nothing_late(seconds: float, *, whole: bool) -> str:
    """It held, or was stopped before it could fail."""
    if whole:
        return f"no frame was late in {seconds:.0f} s"
    return f"stopped after {seconds:.0f} s; no frame was late"


slow_start = Sentence("{text}, but for the start: it took {seconds:seconds} to get up to speed")


def verdict(text: str, limited_by: str | None, *, held: bool) -> str:
    """The first line of a rehearsal's report."""
    if held:
        return f"held: {text}"
    return f"cut short: {text}" if limited_by is None else f"limited by the {limited_by}: {text}"


going = Sentence(
    "{seconds:5.1f} s  {delivered_kbps:,.0f} kbit/s  {queued_seconds:.2f} s queued  encoder "
    "{encoder_seconds:.2f} s behind"
)


def kept_in_total(shown: tuple[int, int], every: tuple[int, int], size_bytes: int) -> str:
    """How much of the history is shown, and how large it is.

    Args:
        size_bytes: on the disk.
    """
    parts = [
        (f"{some:,} of " if some < total else "") + counted(total, name)
        for some, total, name in zip(shown, every, ("run", "broadcast"), strict=True)
        if total
    ]
    more = "; --last 100 shows more" if shown[0] < every[0] else ""
    return f"{', '.join(parts)}; {size_bytes / 1e6:,.1f} MB on the disk{more}"


settled = Sentence("Highest that held: {settings}, total {total_kbps:rate}.")


def all_together(names: Sequence[str], failed: Sequence[str]) -> str:
    """The verdict on several destinations sent at once."""
    if not failed:
        return f"Sent together, all held: {' and '.join(names)}."
    rest = [name for name in names if name not in failed]
    held = f"; {' and '.join(rest)} did" if rest else ""
    return f"Sent together, {' and '.join(failed)} did not hold{held}."


def fallback_said(number: int, settings: str | None) -> str:
    """Which fallback of a plan would hold, counted from 1, and what that is."""
    said = f"fallback {number} of the plan"
    return said if settings is None else f"{settings}, {said}"


# Forecasts

NONE = "none"


def hourly(seen: StutterSeen) -> str:
    """``about 4 s an hour (0 to 15 s)``."""
    if seen.high_seconds_per_hour < 0.05:
        return NONE
    between = f"{some_seconds(seen.low_seconds_per_hour)} to "
    between += some_seconds(seen.high_seconds_per_hour)
    return f"about {some_seconds(seen.seconds_per_hour)} an hour ({between})"


def tonight(
    seen: StutterSeen | None,
    limit: float,
    basis: Literal["runs", "one run", "number", "readings", "practice"],
    around: str | None,
    measure: str,
) -> str:
    """Whether the upload holds a plan as far as is known, and how to know more.

    Args:
        seen: what it would have stuttered in everything observed.
        limit: seconds of stutter an hour that are accepted.
        basis: what the upload is known by.
        measure: how to measure.
    """
    if basis in ("number", "readings"):
        what = "is a number you gave" if basis == "number" else "comes from imported readings"
        return f"not known: the upload {what}, not a measurement; {measure}"
    if seen is None:
        return f"not known: nothing was observed; {measure}"
    who = "a simulated connection" if basis == "practice" else "your upload"
    holds = "holds" if seen.within(limit) else "does not hold"
    when = f" around {around}" if around else ""
    link = " in" if hourly(seen) == NONE else ", from"
    stutter = f"{hourly(seen)}{link} {observed(seen.observed_seconds)} observed{when}"
    more = {
        "practice": f"; your own is not known: {measure}",
        "one run": "; from one run, a rule of thumb: three at the hour of the show more than halve "
        f"the risk; {measure}",
    }
    why = "" if seen.within(limit) else f"; at most {some_seconds(limit)} an hour are accepted"
    return f"{who} {holds} this; stutter: {stutter}{why}{more.get(basis, '')}"


def stood_still(seen: StutterSeen | None) -> str | None:
    """Say how often the connection stood still, how late a stream is then, and what helps."""
    if seen is None or seen.standstills is None:
        return None
    still = seen.standstills
    longest = some_seconds(still.longest_seconds)
    times = f"once for {longest}"
    if still.number > 1:
        times = f"{still.number:,} times, for {longest} at most,"
    span = observed(seen.observed_seconds)
    late = f"the stream is late for about {some_seconds(still.late_seconds)} after each"
    if round(still.late_at_half_seconds, 1) < round(still.late_seconds, 1):
        late += f", at half the bitrate for {some_seconds(still.late_at_half_seconds)}"
    helps = (
        f"set your program to reconnect for longer than {longest}"
        if still.longest_seconds >= RECONNECT_SECONDS
        else "try a cable instead of wireless, another ingest server, or an hour when nobody else "
        "is online"
    )
    return (
        f"your connection stopped {times} in the {span} observed; no bitrate avoids that: {late}; "
        f"{helps}"
    )


def schedule_line(until: str, seconds: float, most: int) -> str:
    """Until when runs are taken, and how many at most."""
    return f"measuring until {until}, for {lasting(seconds)}: at most {counted(most, 'run')}"


measure_like = Sentence("measure at {when}, like this: eager-kestrel measure --to {platform}")


def observed_line(seconds: float, runs: int, broadcasts: int) -> str:
    """``14 min: 33 runs and 2 broadcasts``."""
    parts = [counted(runs, "run")] if runs or not broadcasts else []
    parts += [counted(broadcasts, "broadcast")] if broadcasts else []
    return f"{observed(seconds)}: {' and '.join(parts)}"


def observed_row(said: str, seen: StutterSeen | None) -> str:
    """The line above, and how much of it reaches the rate that is asked about."""
    reaches = "" if seen is None else observed(seen.observed_seconds)
    return said if said.startswith(reaches) else f"{said}; {reaches} of it reach this rate"


def forecast_verdict(
    seen: StutterSeen | None, limit: float, better: str | None, *, own: bool, known: bool
) -> str:
    """What the plan would have stuttered, and what does better.

    Args:
        seen: by the plan's own settings; None if nothing is known of their rate.
        limit: seconds of stutter an hour that are accepted.
        better: the first settings that meet it; None if none do.
    """
    if seen is None:
        why = "nothing observed reaches this rate" if known else "no observation shows seconds"
        return f"How it would stutter is not known: {why}."
    span = observed(seen.observed_seconds)
    if seen.number:
        times = "once" if seen.number == 1 else f"{seen.number:,} times"
        said = (
            f"In the {span} observed it would have stuttered for {some_seconds(seen.seconds)} "
            f"({times})"
        )
    else:
        said = f"In the {span} observed it would not have stuttered"
    if own:
        return f"{said}."
    accepted = f"{some_seconds(limit)} an hour"
    if better is None:
        return f"{said}; no fallback meets the limit of {accepted}."
    return f"{said}. Within {accepted}: {better}."


LITTLE_SECONDS = 600.0
"""Of less evidence a bound an hour says nothing."""
RECONNECT_SECONDS = 10.0
"""Standstills that are longer outlast what many programs wait for."""


def not_seen(seen: StutterSeen | None, at: str | None, run_mb: float) -> tuple[str, ...]:
    """The footnote on what was not seen, and the cheapest way to learn more.

    Args:
        at: the time of day of the show, where it is known.
        run_mb: what a run sends.
    """
    when = f"at {at}" if at else "at the hour of the show"
    if seen is None:
        return (f"to begin: one run of eager-kestrel measure {when}",)
    if seen.observed_seconds < LITTLE_SECONDS:
        return (
            f"{observed(seen.observed_seconds)} are a rule of thumb: run eager-kestrel measure "
            f"{when} on three evenings (about {run_mb:,.0f} MB each), or watch a show with "
            "eager-kestrel watch, which adds its hours and sends nothing of its own",
        )
    what = "rarer stutters" if seen.number else "stutters"
    unseen = seen.unseen_per_hour
    most = f"{unseen:.0f}" if unseen >= 1 else f"{unseen:.1f}"
    return (
        f"up to {most} {what} an hour cannot be excluded (95 %) after "
        f"{observed(seen.observed_seconds)}; eager-kestrel watch during a show adds its hours and "
        f"sends nothing of its own; a run of eager-kestrel measure {when} sends about "
        f"{run_mb:,.0f} MB",
    )


readings_only = Sentence("{count:count|imported reading}: averages say nothing of single seconds")
failed = Sentence(
    "{count:count|failed run} not counted: whether the connection was down is not known"
)
PRACTICE = "a simulated connection, not yours"
frames_of = Sentence("the frames of {name} (planned: {planned})")


def sent(said: str, total_kbps: float, reserved_kbps: float) -> str:
    """What goes out."""
    beside = f"with {kbit(reserved_kbps)} of reserves in use" if reserved_kbps else None
    return joined((f"{said}; {kbit(total_kbps)} in total", beside))


def in_the_show(seen: StutterSeen, lasts_seconds: float) -> str:
    """What that is for a show of such a length."""
    hours = lasts_seconds / 3600
    low, high = seen.low_seconds_per_hour * hours, seen.high_seconds_per_hour * hours
    if high < 0.05:
        return f"none expected in {observed(lasts_seconds)}"
    return (
        f"about {some_seconds(seen.seconds_per_hour * hours)} in {observed(lasts_seconds)} "
        f"({some_seconds(low)} to {some_seconds(high)})"
    )


def stutters_said(lasted: Sequence[float]) -> str:
    """``no stutter``, ``3 stutters, 4.2 s in total``, by how long each lasted."""
    if not lasted:
        return "no stutter"
    return f"{counted(len(lasted), 'stutter')}, {some_seconds(sum(lasted))} in total"


def with_future(said: str, count: int) -> str:
    """What an uplink rests on, and that runs dated ahead of now do not count."""
    if not count:
        return said
    verb = "is dated in the future and does" if count == 1 else "are dated in the future and do"
    return f"{said}; {counted(count, 'run')} {verb} not count"


# Bursts

burst = Sentence(
    "the first {seconds:seconds} at {high:rate}, then {low:rate}: a burst, or your connection "
    "fell; plans go by {low:rate}"
)
no_burst_excluded = Sentence(
    "one connection was watched for {seconds:seconds}: a burst that lasts longer would not show; "
    '--seconds "{longer:.0f} s" --connections 1 tells, for about {size}'
)
no_burst_excluded_to_ingest = Sentence(
    "one connection was watched for {seconds:seconds}: a burst that lasts longer would not show; "
    "a show that is watched tells"
)
OWN_AUTHORITY = "to trust an authority of your own, set SSL_CERT_FILE=ca.pem"
contradicted = Sentence(
    "broadcasts got {got_kbps:rate} while frames were queued, where measurements found "
    "at least {floor_kbps:rate}: they disagree, so measure again while you stream, at the same "
    "hour"
)
burst_possible = Sentence(
    "no measurement watched for longer than {seconds:seconds}, so the upload may be a burst that "
    'does not last: eager-kestrel measure --seconds "35 s"'
)
measured_again = Sentence(
    "this computer was busy for {share:.0%} of that time; measuring one connection again"
)
watching_on = Sentence(
    "watching on for {seconds:seconds} at {kbps:rate}, to tell a burst from what lasts (about "
    '{size}; --seconds "10 s" leaves it out)'
)
