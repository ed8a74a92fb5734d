"""Rehearsing a plan: a stand-in stream on the wire, a verdict, and a step that holds."""

from __future__ import annotations

import contextlib
import json
import secrets
import ssl
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

from pydantic import ValidationError

from eager_kestrel.actions.practice import Line, practice_line
from eager_kestrel.actions.receive import APP, Reception, reception
from eager_kestrel.core.checks.rehearsal import Moment, Rehearsal, rehearsal_of
from eager_kestrel.core.document import first_error, require_format
from eager_kestrel.core.errors import FormatError, InputError
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.plan import (
    AudioSettings,
    DestinationPlan,
    Fallback,
    Plan,
    VideoSettings,
)
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.guides import load_guide
from eager_kestrel.files.home import storage_error
from eager_kestrel.files.latest import latest_plan
from eager_kestrel.media.stand_in import StandIn
from eager_kestrel.net.publishing import CONNECT_SECONDS, SEND_BUFFER_BYTES, Target
from eager_kestrel.net.rehearsing import FIRST_WAIT, Rehearser
from eager_kestrel.practice.ingest import Misbehaviour, Platform
from eager_kestrel.practice.servers import LOOPBACK
from eager_kestrel.practice.uplink import PracticeUplink

__all__ = ["Misbehaviour", "Outcome", "Platform", "Stage", "Wish", "destination_of", "guide_of",
           "read_plan", "rehearse", "rehearse_at", "rehearse_in_practice", "stage"]  # fmt: skip

LATEST = "latest"
QUIET = Misbehaviour()
BETWEEN_SECONDS = 1.0
"""Between two rehearsals, for queues to drain."""


@dataclass(frozen=True, slots=True)
class Wish:
    """How to rehearse."""

    seconds: float = 30.0
    settle: bool = False
    """Whether to step down until a step holds."""
    slowed_ms: float = 0.0
    """Added to each frame's encoding, to see what a slow machine does."""
    timeout_seconds: float = CONNECT_SECONDS
    first_wait_seconds: float = FIRST_WAIT
    context: ssl.SSLContext | None = None
    unsent_bytes: int = SEND_BUFFER_BYTES
    """That may sit in the system's send buffer."""


@dataclass(frozen=True, slots=True)
class Outcome:
    """What came of it: every rehearsal, and the plan that held, if one did."""

    rehearsals: tuple[Rehearsal, ...]
    settled: Plan | None


def read_plan(name: str) -> Plan:
    """A plan's file, or ``latest``.

    Raises:
        FormatError: it is no plan.
        InputError: no plan was made yet.
        StorageError: it cannot be read.
    """
    if name == LATEST:
        plan = latest_plan()
        if plan is None:
            raise InputError("no plan was made yet", "run eager-kestrel plan, or name a plan file")
        return plan
    try:
        document = json.loads(Path(name).read_bytes())
        require_format(document.get("format") if isinstance(document, dict) else None, "plan", name)
        return Plan.model_validate(document)
    except OSError as error:
        raise storage_error(error, name) from None
    except ValidationError as error:
        raise FormatError(first_error(error), "plan again", name) from None
    except ValueError:
        raise FormatError("not JSON", "give what plan --out wrote", name) from None


def destination_of(plan: Plan, platform: str | None) -> DestinationPlan:
    """The destination to rehearse: the one named, or the first with settings.

    Raises:
        InputError: it is not in the plan, or has no settings.
    """
    fitting = [d for d in plan.destinations
               if platform in (None, d.platform, f"{d.platform}:{d.standing}")]  # fmt: skip
    chosen = next((d for d in fitting if d.feasible), None)
    if chosen is None:
        names = ", ".join(d.platform for d in plan.destinations if d.feasible)
        raise InputError(
            f"the plan has no settings for {platform or 'anything'}", f"choose from {names}"
        )
    return chosen


def rehearse(
    plan: Plan,
    chosen: DestinationPlan,
    target: Target,
    key: str,
    wish: Wish,
    tell: Callable[[Moment], None] = lambda _: None,
) -> Outcome:
    """Send a stand-in as planned; with ``settle``, step down until it holds.

    Raises:
        NetworkError: the ingest cannot be reached or does not answer.
        EndpointError: it refuses.
        InputError: this machine has no encoder for it.
    """
    if chosen.video is None or chosen.audio is None:
        raise InputError(f"the plan has no settings for {chosen.title}", "plan again")
    now = Fallback(video=chosen.video, audio=chosen.audio, quality=chosen.quality or 0.0,
                   total_kbps=chosen.total_kbps, upload_kbps=0.0)  # fmt: skip
    steps = (now, *chosen.steps_down)
    done: list[Rehearsal] = []
    at = 0
    while True:
        done.append(_once(chosen, steps[at], steps[at + 1 :], target, key, wish, tell))
        verdict = done[-1].verdict
        if verdict.held:
            return Outcome(tuple(done), _settled(plan, chosen, steps, at))
        if not wish.settle or verdict.limited_by == "ingest" or at + 1 >= len(steps):
            return Outcome(tuple(done), None)
        at += 1 + (verdict.would_hold or 0)
        time.sleep(BETWEEN_SECONDS)


def _once(
    chosen: DestinationPlan, step: Fallback, below: tuple[Fallback, ...], target: Target, key: str,
    wish: Wish, tell: Callable[[Moment], None],
) -> Rehearsal:  # fmt: skip
    video = step.video
    rate = Fraction(video.frame_rate)
    stand_in = StandIn(video, step.audio, wish.slowed_ms)
    try:
        sent = Rehearser(
            target, key, stand_in.steps(), float(1 / rate), wish.seconds, wish.context,
            wish.timeout_seconds, wish.first_wait_seconds, tell, wish.unsent_bytes,
        ).run()  # fmt: skip
    finally:
        stand_in.close()
    return rehearsal_of(
        sent,
        target=target.url,
        platform=chosen.platform,
        planned=words(video, step.audio),
        total_kbps=step.total_kbps,
        asked_seconds=wish.seconds,
        frame_seconds=float(1 / rate),
        steps=below,
        pixels_per_second=video.width * video.height * float(rate),
    )


def words(video: VideoSettings, audio: AudioSettings) -> str:
    """Settings in a line."""
    return (
        f"{video.width}x{video.height} at {video.fps:g}, {video.bitrate_kbps:,.0f} kbit/s, a "
        f"keyframe every {video.keyframe_seconds:g} s, audio {audio.bitrate_kbps:g} kbit/s"
    )


def _settled(plan: Plan, chosen: DestinationPlan, steps: tuple[Fallback, ...], at: int) -> Plan:
    """The plan with the step that held in place of what was planned."""
    step = steps[at]
    there = chosen.model_copy(
        update={
            "video": step.video, "audio": step.audio, "quality": step.quality,
            "total_kbps": step.total_kbps, "steps_down": steps[at + 1 :],
        }
    )  # fmt: skip
    places = tuple(there if d is chosen else d for d in plan.destinations)
    total = round(sum(d.total_kbps for d in places), 3)
    return plan.model_copy(update={"destinations": places, "total_kbps": total})


def rehearse_at(
    plan: Plan,
    chosen: DestinationPlan,
    url: str,
    key_of: Callable[[str], str],
    wish: Wish,
    tell: Callable[[Moment], None] = lambda _: None,
) -> Outcome:
    """Rehearse at an ingest; the key is asked for only once the address is known to be one.

    Raises:
        InputError: the address is none.
        NetworkError: the ingest cannot be reached or does not answer.
        EndpointError: it refuses.
    """
    target = Target.parse(url)
    return rehearse(plan, chosen, target, key_of(chosen.platform), wish, tell)


def rehearse_in_practice(
    plan: Plan,
    chosen: DestinationPlan,
    wish: Wish,
    name: str | None = None,
    rate: str | None = None,
    guides: Path | None = None,
    tell: Callable[[Moment], None] = lambda _: None,
) -> Outcome:
    """Rehearse at a simulated platform behind a simulated line.

    Args:
        plan: what to rehearse.
        chosen: for which destination.
        wish: how.
        name: of a bundled line.
        rate: of a constant line, in its place.
        guides: a folder whose guides come first.
        tell: called as it goes.
    """
    line = practice_line(name, Bitrate.parse(rate) if rate is not None else None)
    with stage(line, guide_of(chosen, guides)) as there:
        return rehearse(plan, chosen, there.target, there.key, wish, tell)


@dataclass(frozen=True, slots=True)
class Stage:
    """A simulated platform behind a simulated line."""

    target: Target
    key: str
    taking: Reception


@contextlib.contextmanager
def stage(
    line: Line, guide: Guide, trouble: Misbehaviour = QUIET, record_to: Path | None = None
) -> Iterator[Stage]:
    """A simulated platform that obeys a guide, behind a simulated line, for the ``with`` block.

    Args:
        line: the uplink.
        guide: with its standing applied.
        trouble: of the ingest.
        record_to: an FLV file for what arrives.
    """
    key = secrets.token_hex(8)
    with (
        reception(key, 0, [(guide, None)], record_to, Platform(guide, trouble)) as (taking, url),
        PracticeUplink(line, Target.parse(url).port) as relay,
    ):
        yield Stage(Target("rtmp", LOOPBACK, relay.port, APP), key, taking)


def guide_of(chosen: DestinationPlan, guides: Path | None = None) -> Guide:
    """The guide a destination was planned by.

    Raises:
        NotFoundError: it is not known here.
    """
    return load_guide(chosen.platform, guides).under(chosen.standing)
