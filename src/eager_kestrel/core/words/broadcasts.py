"""What a broadcast says while it goes out and afterwards; this machine's encoders; trials."""

from __future__ import annotations

from datetime import date
from math import ceil

from eager_kestrel.core.words.numbers import (
    Sentence,
    counted,
    duration,
    joined,
    kbit,
    lasting,
    looks,
    points,
)

# While it goes out

CARRIES = "on time"
WAITING = "nothing is being sent yet"


def step_to(settings: str | None, kbps: float | None = None) -> str:
    """What to do if the upload carries less."""
    if settings is not None:
        return f"step down to {settings}"
    if kbps is None:
        return "send less, or stop what else uses the upload"
    return f"send less than the {kbit(kbps)} your upload carries"


def grows(by_seconds: float, late_in_seconds: float, step: str) -> str:
    """The queue grows, and no frame is late yet."""
    return (
        f"the queue grows by {by_seconds * 1000:.0f} ms a second: late in "
        f"{max(late_in_seconds, 0.0):.0f} s; {step}"
    )


late = Sentence(
    "late: {queued:.1f} s queued; your upload carries {carried_kbps:,.0f} of {sent_kbps:,.0f} "
    "kbit/s; {step}"
)
drains = Sentence("late: {queued:.1f} s queued, but the queue is draining")
drained = Sentence("late a moment ago; {queued:.1f} s queued now")


def stalls(seconds: float, late_in_seconds: float) -> str:
    """Nothing gets through."""
    when = f"late in {late_in_seconds:.1f} s" if late_in_seconds > 0 else "late"
    return f"upload has stalled: nothing got through for {seconds:.1f} s; {when}"


not_taken = Sentence(
    "the ingest server stopped reading ({queued:.1f} s queued); your connection is fine; try "
    "another ingest server"
)
small_window = Sentence(
    "the ingest server takes {carried_kbps:kbit} and no more: its receive window is small for a "
    "round trip of {round_trip_ms:.0f} ms; your connection is fine; try another ingest server"
)
PROGRAM_ENDED = "the program ended"
taken_again = Sentence(
    "the ingest server reads again; {queued:.1f} s are still queued; your connection is fine"
)


def broken(seconds: float, why: str = "") -> str:
    """There is no connection."""
    because = f" ({why})" if why else ""
    return f"the connection to the ingest server broke{because}, {seconds:.0f} s ago"


def back(seconds: float, why: str = "") -> str:
    """It is there again."""
    because = f" ({why})" if why else ""
    return (
        f"the connection to the ingest server broke{because}, and was back after "
        f"{max(seconds, 1.0):.0f} s"
    )


program_back = Sentence("the program {went}, and was back after {seconds:.0f} s")
program_away = Sentence("the program {went} {seconds:.0f} s ago; waiting for it to come back")
ENDED_IT, DISCONNECTED = "ended the stream", "disconnected"
ENCODER = (
    "the encoder does not keep up; your connection is fine; use a faster preset or a lower "
    + ("resolution")
)
nothing_comes = Sentence(
    "the program has sent nothing for {seconds:.1f} s: it or its machine was held up; your "
    "connection is fine"
)
hurries = Sentence(
    "{queued:.1f} s queued, because the program sends more than planned: it makes up for a pause, "
    "or does not hold its bitrate; your upload carries {carried_kbps:kbit} of the planned "
    "{planned_kbps:kbit}"
)
halts = Sentence(
    "the program sends by fits and starts, nothing for {silent:.1f} of the last {of:.0f} s: "
    + ENCODER,
    "silent of",
)
behind = Sentence("the program is {late:.1f} s behind: " + ENCODER, "late")
few_frames = Sentence(
    "the program sends {fps:.3g} of {planned_fps:.4g} fps: " + ENCODER, "fps planned_fps"
)


def less(sent_kbps: float, planned_kbps: float, *, frames_seen: bool) -> str:
    """Less is sent than planned, and nothing is queued."""
    why = (
        "every frame is on time, so the scene needs no more"
        if frames_seen
        else "the encoder or the scene, not your connection"
    )
    sent = f"{sent_kbps:,.0f} of {planned_kbps:,.0f} kbit/s"
    return f"the program sends less than planned, {sent}: {why}"


more = Sentence(
    "the program sends more than planned, {sent_kbps:,.0f} of {planned_kbps:,.0f} kbit/s: set its "
    "bitrate as planned"
)
only_a_rate = Sentence(
    "all programs together send {kbps:,.0f} kbit/s; this system does not show whether it arrives: "
    "use watch --through"
)
breach = Sentence("{title}: {rule} is {found}, wanted {wanted}; {do}")

# What a plan says of it

DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


def day_words(day: date, today: date) -> str:
    """``last Thursday``: a day as people say it."""
    ago = (today - day).days
    if ago <= 0:
        return "today"
    if ago == 1:
        return "yesterday"
    return f"last {DAYS[day.weekday()]}" if ago <= 7 else f"on {day.isoformat()}"


def aired(day: str, kbps: float, seconds: float, stalls_seen: int) -> str:
    """A broadcast, in a plan."""
    with_ = "no stall" if stalls_seen == 0 else counted(stalls_seen, "stall")
    return f"{day} it carried {kbit(kbps)} for {lasting(seconds)} with {with_}"


def clock(seconds: float) -> str:
    """``0:12:31``."""
    whole = int(seconds)
    return f"{whole // 3600}:{whole % 3600 // 60:02d}:{whole % 60:02d}"


# The live view, and the card at the end

HEADLINES = {
    "upload": "your upload",
    "ingest": "ingest server",
    "machine": "look at the encoder",
    "scene": "arriving",
    "program": "look at the program",
    "connection": "no connection",
}
ARRIVING, STOPPED, SENDING = "arriving", "stopped", "sending"


def is_over(ended: list[str]) -> str:
    """Nothing more will come."""
    return f"over: {joined(dict.fromkeys(ended))}" if ended else "over"


def headline(
    cause: str | None, *, late: bool, late_in_seconds: float | None, step: str | None
) -> str:
    """A verdict to be read from across a desk."""
    if cause is None:
        return ARRIVING
    if cause in ("connection", "scene"):
        return HEADLINES[cause]
    what = "step down" if step is not None else HEADLINES.get(cause, cause)
    if late:
        return f"late: {what}"
    if late_in_seconds is not None:
        return f"late in {late_in_seconds:.0f} s: {what}"
    return "recovering" if cause == "upload" else what


def sent_of(sent_kbps: float, planned_kbps: float | None) -> str:
    """What is sent against the plan."""
    if planned_kbps is None:
        return f"{sent_kbps:,.0f} kbit/s"
    return f"{sent_kbps:,.0f} of {planned_kbps:,.0f} kbit/s planned"


def round_trips(now_ms: float | None, least_ms: float | None) -> str:
    """How long an answer takes."""
    if not now_ms:
        return "-"
    return f"{now_ms:.0f} ms" + (f", at best {least_ms:.0f} ms" if least_ms else "")


def sent_again(count: int, of: float) -> str:
    """Retransmissions."""
    share = f", {count / of:.2%}" if of > 0 else ""
    return f"{count / 1000:,.1f} kB in total{share}"


def takes(cores: float | None, memory_mb: float | None) -> str:
    """What the sending program takes of the machine."""
    if cores is None:
        return "-"
    memory = f", {memory_mb:,.0f} MB" if memory_mb is not None else ""
    return f"{cores:.2f} cores{memory}"


def late_of(late_frames: int | None, frames: int | None, lost: int | None) -> str:
    """Late frames, counted."""
    gone = f", {lost:,} lost" if lost else ""
    return f"{late_frames or 0:,} of {frames or 0:,}{gone}"


def seen_as(program: str, to: str) -> str:
    """Which stream it is."""
    return f"{program} to {to}" if program else f"to {to}"


def for_how_long(seconds: float, typical_kbps: float, planned_kbps: float | None) -> str:
    """A broadcast in short."""
    of = f" of {planned_kbps:,.0f} planned" if planned_kbps is not None else ""
    return f"{lasting(seconds)}, typically {typical_kbps:,.0f}{of} kbit/s"


CAUSES = {
    "upload": "upload",
    "ingest": "ingest server",
    "machine": "this machine",
    "scene": "scene",
    "program": "program",
    "connection": "connection",
}


def kept(name: str, *, on_disk: bool) -> str:
    """What became of it."""
    if not on_disk:
        return "It could not be saved: see the message above."
    return f"Kept as {name}: eager-kestrel review says what to do next time."


# Afterwards

ELSEWHERE = "use another ingest server: eager-kestrel measure --to PLATFORM --rank"
DO = {
    "upload": "send less, or stop what else uses the upload then",
    "ingest": ELSEWHERE,
    "machine": "use a faster preset or a lower resolution: eager-kestrel encoders",
    "scene": "nothing: there was no more to send",
    "program": "set its bitrate as planned, and constant",
    "connection": f"if it happens again, {ELSEWHERE}",
}
"""What to do about each cause."""
STOOD_STILL_DO = "find out what stopped, your connection or the ingest server: no bitrate helps"
STOOD_STILL = (
    "For a while nothing at all got through, so no bitrate would have held: find out whether your "
    f"connection or the ingest server stopped (another device online then tells), and {ELSEWHERE}."
)
NEXT = {
    "ingest": f"The ingest server did not read what was sent: {ELSEWHERE}.",
    "connection": f"The connection to the ingest server broke: if it happens again, {ELSEWHERE}.",
    "program": "The program did not send as planned: set the plan's bitrate and rate control.",
    "scene": "Less was sent than planned because the scene needed less: change nothing.",
}


def send_less(held_kbps: float | None, fallback: tuple[str, float] | None) -> str:
    """The upload carried less than was sent.

    Args:
        held_kbps: the most that would have had no late frame; None if so little does not show it.
        fallback: settings that stay below, and everything they send in kbit/s.
    """
    if held_kbps is None:
        return "Your upload carried less than was sent: plan again, or begin with a fallback."
    limit = f"An even stream of up to {kbit(held_kbps)} would have had no late frame"
    if fallback is None:
        return f"{limit}: plan again below that."
    settings, total = fallback
    why = "; other runs and your reserves leave no more" if total < held_kbps / 2 else ""
    return f"{limit}: next time begin with {settings}, {kbit(total)} in total{why}."


def encode_less(fallback: str | None) -> str:
    """The machine did not keep up."""
    smaller = f", or step down to {fallback}" if fallback is not None else ""
    return (
        "This machine did not encode in time: use a faster preset (eager-kestrel encoders)"
        f"{smaller}."
    )


def keep_it(worst_seconds: float, step_up: tuple[str, float] | None) -> str:
    """It held."""
    held = f"It held; at worst {worst_seconds:.2f} s were queued. Keep the plan."
    if step_up is None:
        return held
    settings, upload_kbps = step_up
    return f"{held} The next step up, {settings}, needs an upload of {kbit(upload_kbps)}."


def again_from(settings: str, before: str | None) -> str:
    """The plan made again, with this broadcast counted."""
    if settings == before:
        return f"Planned again with this broadcast, it stays at {settings}."
    was = f", was {before}" if before else ""
    return f"Planned again with this broadcast: {settings}{was}."


carried_share = Sentence(
    "In {share:.1%} of its seconds nothing was queued; at worst {worst:.2f} s were."
)

# This machine's encoders


def measured(days: float, others: float) -> str:
    """Where a plan's figures of the machine come from; plans are shared, so without its name."""
    when = "today" if days < 1 else f"{counted(round(days), 'day')} ago"
    beside = f", beside programs that used {others:.0%} of it" if others else ""
    return f"this machine's encoders as measured {when}{beside}"


USED = "a plan uses this one"
TOO_SLOW = "too slow"
FASTER = "faster than a plan needs"
over_share = Sentence("over the {share:.0%} a plan uses")


def means(encoder: str, resolution: str, holds: tuple[str, float] | None, fails: str | None) -> str:
    """What an encoder's figures mean for one resolution.

    Args:
        resolution: ``1920x1080 at 60``.
        holds: the slowest preset that keeps up, and the share of its speed that takes.
        fails: the next slower one, which does not; None if all were tried.
    """
    if holds is None:
        even = f", not even with {fails}" if fails else ""
        return f"{encoder} does not keep up at {resolution}{even}"
    preset, share = holds
    name = f"{encoder} {preset}".strip()
    said = f"{name} keeps up at {resolution}, using {share:.0%} of its speed"
    return joined((said, f"{fails} does not" if fails else None))


unusable = Sentence("not usable here: {names}: {why}")


def endured(name: str, minutes: float, first: float, last: float) -> str:
    """Whether it slows down when it is hot."""
    change = last / first - 1
    kept = "it keeps its speed" if change > -0.05 else f"it slows down by {-change:.0%}"
    return (
        f"{name} for {duration(60 * minutes)}: {first:.0f} fps at first, {last:.0f} at the end; "
        f"{kept}"
    )


beside = Sentence(
    "other programs used {others:.0%} of this machine, so these figures are what is left beside "
    "them; close them and run it again to know the machine alone"
)
elsewhere = Sentence(
    "the encoders were measured on {name}, not on this machine, and are not used; run encoders"
)

# Trials of one's own footage


def basis(seen: str, encodes: int, off_by: float) -> str:
    """Where a plan's quality comes from."""
    return f"by {seen}: {counted(encodes, 'encode')}, off by {100 * off_by:.1f} of 100"


SMOOTH = (
    "quality is VMAF less what the frame rate leaves of smoothness; best: nothing tried beats it"
)
goes_over = Sentence("{first} does not answer: the stream goes to {then}")
cutting = Sentence("cutting stretch {stretch}")


def trial_takes(seconds: float, every: float) -> str:
    """How long a trial will take, and how long all of it would."""
    if every <= 1.05 * seconds:
        return f"this takes {about(seconds)}"
    minutes = ceil(every / 60)
    return f"this takes {about(seconds)}; all of it would take --minutes {minutes}"


look_takes = Sentence(
    "this takes {seconds:.0f} s more; the next plan by this clip needs none of it"
)


def about(seconds: float) -> str:
    """``about 40 s``, ``about 3 min``."""
    return f"about {seconds:.0f} s" if seconds < 90 else f"about {seconds / 60:.0f} min"


def going(
    done: int, total: int, what: str, stretch: int, quality: float, left: float | None
) -> str:
    """One encode has ended."""
    rest = "" if left is None or done == total else f"; {about(left)} left"
    return f"{done} of {total}: {what}, stretch {stretch}: sharpness {looks(quality)}{rest}"


stopped_after = Sentence(
    "stopped: {stretches:count|stretch|stretches} tried; run it again to go on"
)


def chosen(kbps: float, first: str, quality: float, others: list[tuple[str, float]]) -> str:
    """What is best at one bitrate."""
    rest = "; ".join(f"{name} {looks(worse)}" for name, worse in others)
    return f"best at {kbit(kbps)}: {first}, {looks(quality)}" + (f" ({rest})" if rest else "")


def best(parts: list[tuple[str, float, float]]) -> str:
    """Which resolution is best at which bitrate."""
    said = [f"{name} from {kbit(first)} to {kbit(last)}" for name, first, last in parts]
    return "best by bitrate: " + ", ".join(said)


plan_by_it = Sentence("settings by what is in it: eager-kestrel plan --footage {file}")
recorded = Sentence("{name} seems to be its recording; {advice}")
interpolated = Sentence(
    "{name} is planned and was not encoded: its quality is read off the model fitted to the encodes"
)


def one_more(kbps: float, gain: float) -> str:
    """What one more Mbit/s adds."""
    added = f"{points(gain)} of 100" if 100 * gain >= 0.5 else "nothing visible"
    return f"one more Mbit/s beyond {kbit(kbps)} adds {added}"


def kind(said: str, behaves: str) -> str:
    """Whether the kind of motion was guessed right."""
    if said == behaves:
        return f"you said {said}, and it behaves like that"
    return f"you said {said}; it behaves like {behaves}"


def missed(off_by: float) -> str:
    """How far the fitted model is from what was measured."""
    return f"the model fitted to it is off by {100 * off_by:.1f} of 100"


def metric(*, vmaf: bool) -> str:
    """What quality was taken from."""
    return "VMAF" if vmaf else "XPSNR and SSIM; for VMAF install eager-kestrel[vmaf]"


agreed = Sentence("you and the model agree on {pairs} of {of} pairs")
