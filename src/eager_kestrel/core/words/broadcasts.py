"""What is said of a stream while it goes out, and afterwards."""

from __future__ import annotations

from datetime import date

from eager_kestrel.core.words.numbers import counted, duration, kbit, looks

CARRIES = "carries it"
WAITING = "nothing is being sent yet"


def step_to(settings: str | None, kbps: float | None = None) -> str:
    """What to do about a line that carries less."""
    if settings is not None:
        return f"step down to {settings}"
    if kbps is None:
        return "send less, or stop what else uses the connection"
    return f"the connection carries {kbit(kbps)}: send less than that"


def grows(by_seconds: float, late_in_seconds: float, step: str) -> str:
    """The queue grows, and no frame is late yet."""
    return (
        f"the queue grows by {by_seconds * 1000:.0f} ms a second: late in "
        f"{max(late_in_seconds, 0.0):.0f} s; {step}"
    )


def late(queued_seconds: float, carried_kbps: float, sent_kbps: float, step: str) -> str:
    """Frames are late."""
    return (
        f"late: {queued_seconds:.1f} s wait; the connection carries {carried_kbps:,.0f} of "
        f"{sent_kbps:,.0f} kbit/s; {step}"
    )


def drains(queued_seconds: float) -> str:
    """Late, and on the way back."""
    return (
        f"late: {queued_seconds:.1f} s wait, and the queue drains: the connection carries it again"
    )


def drained(queued_seconds: float) -> str:
    """Just not late any more."""
    return f"late a moment ago; {queued_seconds:.1f} s wait now"


def stalls(seconds: float, late_in_seconds: float) -> str:
    """Nothing gets through."""
    when = f"late in {late_in_seconds:.1f} s" if late_in_seconds > 0 else "late"
    return f"nothing gets through for {seconds:.1f} s: the connection stands still; {when}"


def not_taken(queued_seconds: float) -> str:
    """The other end's window is closed."""
    return (
        f"the ingest does not read what is sent ({queued_seconds:.1f} s wait): not your connection; "
        "another ingest may do better"
    )


def taken_again(queued_seconds: float) -> str:
    """It reads again, and there is much to read."""
    return f"the ingest reads again; {queued_seconds:.1f} s wait still, and not for your connection"


def broken(seconds: float, why: str = "") -> str:
    """There is no connection."""
    because = f" ({why})" if why else ""
    return f"connection broke{because}, {seconds:.0f} s ago"


def back(seconds: float, why: str = "") -> str:
    """It is there again."""
    because = f" ({why})" if why else ""
    return f"connection broke{because}, back after {max(seconds, 1.0):.0f} s"


def program_back(seconds: float) -> str:
    """The program's own connection to us broke."""
    return f"the program broke off, and was back after {seconds:.0f} s"


def behind(late_seconds: float) -> str:
    """Frames come from the program later and later."""
    return (
        f"the program is {late_seconds:.1f} s behind: the encoder does not keep up, not the connection; "
        "a faster preset or a smaller resolution"
    )


def few_frames(fps: float, planned_fps: float) -> str:
    """The program leaves frames out."""
    return (
        f"the program sends {fps:.3g} of {planned_fps:.4g} frames a second: the encoder does not "
        "keep up, not the connection; a faster preset or a smaller resolution"
    )


def less(sent_kbps: float, planned_kbps: float, *, frames_seen: bool) -> str:
    """Less is sent than planned, and nothing waits."""
    why = (
        "every frame comes in time: the scene needs no more"
        if frames_seen
        else "encoder or scene, not the connection"
    )
    sent = f"{sent_kbps:,.0f} of {planned_kbps:,.0f} kbit/s"
    return f"the program sends less than planned, {sent}: {why}"


def more(sent_kbps: float, planned_kbps: float) -> str:
    """More is sent than planned."""
    return (
        f"the program sends more than planned, {sent_kbps:,.0f} of {planned_kbps:,.0f} kbit/s: set "
        "its bitrate as planned"
    )


NOTHING_SENT = "the program sends nothing: its encoder stands still, not the connection"


def only_a_rate(kbps: float) -> str:
    """Where a system tells nothing of other programs' connections."""
    return (
        f"all programs together send {kbps:,.0f} kbit/s; whether the connection carries it cannot be "
        "seen here: use watch --through"
    )


def breach(title: str, rule: str, found: str, wanted: str, do: str) -> str:
    """A rule of a guide that the stream breaks."""
    return f"{title}: {rule} is {found}, wanted {wanted}; {do}"


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
    """Of a broadcast, in a plan."""
    with_ = "no stall" if stalls_seen == 0 else counted(stalls_seen, "stall")
    return f"{day} it carried {kbit(kbps)} for {lasting(seconds)} with {with_}"


def lasting(seconds: float) -> str:
    """``2 h 10 min``."""
    minutes = round(seconds / 60)
    if minutes < 2:
        return duration(round(seconds))
    if minutes < 60:
        return f"{minutes} min"
    hours, rest = divmod(minutes, 60)
    return f"{hours} h {rest} min" if rest else f"{hours} h"


def clock(seconds: float) -> str:
    """``0:12:31``."""
    whole = int(seconds)
    return f"{whole // 3600}:{whole % 3600 // 60:02d}:{whole % 60:02d}"


# The live view, and the card at the end


def sent_of(sent_kbps: float, planned_kbps: float | None) -> str:
    """What is sent against the plan."""
    if planned_kbps is None:
        return f"{sent_kbps:,.0f} kbit/s"
    return f"{sent_kbps:,.0f} of {planned_kbps:,.0f} kbit/s planned"


def round_trips(now_ms: float | None, least_ms: float | None) -> str:
    """How long an answer takes."""
    if not now_ms:
        return "-"
    return f"{now_ms:.0f} ms" + (f", {least_ms:.0f} ms at the least" if least_ms else "")


def sent_again(count: int, of: float) -> str:
    """Retransmissions."""
    share = f", {count / of:.2%}" if of > 0 else ""
    return f"{count / 1000:,.1f} kB in all{share}"


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
    return f"{lasting(seconds)}, {typical_kbps:,.0f}{of} kbit/s in a usual second"


CAUSES = {
    "upload": "upload",
    "ingest": "ingest",
    "machine": "this machine",
    "scene": "scene",
    "program": "program",
    "connection": "connection",
}


def kept(name: str, *, on_disk: bool) -> str:
    """What became of it."""
    if not on_disk:
        return "The disk did not take it: it is not kept."
    return f"Kept as {name}: eager-kestrel review tells what to do next time."


# Afterwards

DO = {
    "upload": "send less, or stop what else uses the connection then",
    "ingest": "another ingest point: eager-kestrel nearest",
    "machine": "a faster preset or a smaller resolution: eager-kestrel encoders",
    "scene": "nothing: there was no more to send",
    "program": "set its bitrate as planned, and constant",
    "connection": "if it comes again, another ingest point: eager-kestrel nearest",
}
"""What to do about each cause."""
NEXT = {
    "ingest": "The ingest did not take what was sent: send to another point "
    "(eager-kestrel nearest).",
    "connection": "The connection broke: if it does so again, send to another point "
    "(eager-kestrel nearest).",
    "program": "The program did not send as planned: type the plan's bitrate and rate control in.",
    "scene": "Less was sent than planned because the scene needed less: nothing to change.",
}


def send_less(held_kbps: float, step: str | None) -> str:
    """The connection carried less than was sent."""
    bound = f"An even stream of up to {kbit(held_kbps)} would have had no late frame"
    if step is None:
        return f"{bound}: plan again below that."
    return f"{bound}: next time begin with {step}, which leaves a tenth to spare."


def encode_less(step: str | None) -> str:
    """The machine did not keep up."""
    smaller = f", or step down to {step}" if step is not None else ""
    return (
        "This machine did not encode in time: try a faster preset (eager-kestrel encoders)"
        f"{smaller}."
    )


def keep_it(worst_seconds: float, step_up: tuple[str, float] | None) -> str:
    """It held."""
    held = f"It held, and at worst {worst_seconds:.2f} s of stream waited: keep the plan."
    if step_up is None:
        return held
    settings, upload_kbps = step_up
    return f"{held} The next step up, {settings}, wants an upload of {kbit(upload_kbps)}."


def again_from(settings: str, before: str | None) -> str:
    """The plan made again, with this broadcast counted."""
    if settings == before:
        return f"Planned again with this show counted, it stays at {settings}."
    was = f", was {before}" if before else ""
    return f"Planned again with this show counted: {settings}{was}."


def carried_share(share: float, worst_seconds: float) -> str:
    """How much of a show went without a wait."""
    return f"In {share:.1%} of its seconds nothing waited; at worst {worst_seconds:.2f} s did."


def measured(days: float, others: float) -> str:
    """Where a plan's figures of the machine come from; plans are shared, so without its name."""
    when = "today" if days < 1 else f"{days:.0f} day{'' if round(days) == 1 else 's'} ago"
    beside = f", beside programs that took {others:.0%} of it" if others else ""
    return f"this machine's encoders as measured {when}{beside}"


def means(encoder: str, resolution: str, holds: tuple[str, float] | None, fails: str | None) -> str:
    """What an encoder's figures come to for one resolution.

    Args:
        encoder: as the media library names it.
        resolution: ``1920x1080 at 60``.
        holds: the slowest preset that holds it, and the share of the machine it takes.
        fails: the next slower one, which does not; None when all were tried.
    """
    if holds is None:
        return f"{encoder} does not hold {resolution} here" + (
            f", not even {fails}" if fails else ""
        )
    preset, share = holds
    name = f"{encoder} {preset}".strip()
    said = f"{name} holds {resolution} with {share:.0%} of this machine"
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


def basis(clip: str, encodes: int, off_by: float) -> str:
    """Where a plan's quality comes from."""
    return f"measured on {clip}: {encodes} encodes, off by {100 * off_by:.1f} of 100"


def going(done: int, total: int, what: str, look: float, best: str) -> str:
    """How far a trial is, and the hull so far."""
    return f"{done} of {total}: {what}: {looks(look)}; best for its bitrate so far: {best}"


def chosen(kbps: float, first: str, look: float, others: list[tuple[str, float]]) -> str:
    """What looks best at one bitrate."""
    rest = "; ".join(f"{name} {looks(worse)}" for name, worse in others)
    return f"at {kbit(kbps)} {first} looks best: {looks(look)}" + (f" ({rest})" if rest else "")


def best(parts: list[tuple[str, float, float]]) -> str:
    """Which resolution is best at which bitrate."""
    said = [f"{name} from {kbit(first)} to {kbit(last)}" for name, first, last in parts]
    return "best by bitrate: " + ", ".join(said)


def one_more(kbps: float, gain: float) -> str:
    """What one more Mbit/s buys."""
    if 100 * gain < 0.5:
        return f"one more Mbit/s than {kbit(kbps)} buys nothing anybody sees"
    return f"one more Mbit/s than {kbit(kbps)} buys {100 * gain:.0f} of 100"


def kind(said: str, behaves: str) -> str:
    """Whether the kind of motion was guessed right."""
    if said == behaves:
        return f"you said {said}, and it behaves like that"
    return f"you said {said}; it behaves like {behaves}"


def missed(off_by: float) -> str:
    """How far the fitted model is from what was measured."""
    return f"the model fitted to it is off by {100 * off_by:.1f} of 100"


def metric(*, vmaf: bool) -> str:
    """What looks were taken from."""
    return "VMAF" if vmaf else "XPSNR and SSIM; for VMAF install eager-kestrel[vmaf]"


def agreed(pairs: int, of: int) -> str:
    """How far a person's eyes and the model agree."""
    return f"you and the model agree on {pairs} of {of} pairs"
