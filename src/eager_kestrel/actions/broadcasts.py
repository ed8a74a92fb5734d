"""Write down a broadcast: what is expected, what was seen, and what is kept at the end."""

from __future__ import annotations

import contextlib
import secrets
import shlex
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from eager_kestrel.actions.checking import settings_from
from eager_kestrel.actions.planning import plan, uplink_for
from eager_kestrel.actions.rehearsing import destination_of
from eager_kestrel.actions.shows import ShowOptions, asked_show, show_here
from eager_kestrel.core.checks.causes import SPAN_SECONDS, StreamSample
from eager_kestrel.core.connection.broadcast import Broadcast, Now, SeenBy
from eager_kestrel.core.connection.run import is_loopback
from eager_kestrel.core.errors import KestrelError, StorageError
from eager_kestrel.core.plan.plan import DestinationPlan, Plan
from eager_kestrel.core.settings.recording import RECORDING_KINDS
from eager_kestrel.core.settings.values import Settings
from eager_kestrel.core.watching.recorder import Recorder
from eager_kestrel.core.watching.review import Review, review_of
from eager_kestrel.core.watching.verdict import Expected
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.files.history import History
from eager_kestrel.files.plans import LATEST, latest_plan, read_plan
from eager_kestrel.version import __version__

LOOK_SECONDS = 0.25
"""Between two looks."""
KEEP_SECONDS = 60.0
"""Between two times it is kept while it goes on, so that nothing can lose more."""
ENDS_BEFORE_SECONDS, ENDS_AFTER_SECONDS = 5.0, 60.0
"""Between the end of a broadcast and that of its recording."""
ON_THE_AIR = "on the air"

Tell = Callable[[Now], None]


@dataclass(frozen=True, slots=True)
class ExpectedStream:
    """Which stream is meant: what is expected of it, and whose it is."""

    platform: str = ""
    """The guide's name; empty where none was named."""
    expected: Expected = field(default_factory=Expected)
    text: str = ""
    """What should be sent."""
    destination: DestinationPlan | None = None

    @property
    def title(self) -> str:
        """The platform's, where it is planned for; else its name."""
        return self.destination.title if self.destination is not None else self.platform


def plan_meant(name: str) -> Plan | None:
    """The plan that is meant; None when it is the latest and none was made."""
    return latest_plan() if name == LATEST else read_plan(name)


def of_plan(there: DestinationPlan) -> ExpectedStream:
    """What a plan has for a destination."""
    assert there.video is not None
    expected = Expected(
        kbps=there.total_kbps,
        fps=float(there.video.frame_rate),
        keyframe_seconds=there.video.keyframe_seconds,
        steps=there.fallbacks,
    )
    return ExpectedStream(there.platform, expected, there.video.text, there)


def meant_by(plan: Plan | None, platform: str | None) -> ExpectedStream:
    """What is meant of a plan, where that is clear: the named destination, or its only one.

    Raises:
        InputError: the plan has no settings for the one that is named.
    """
    if plan is None:
        return ExpectedStream(platform or "")
    feasible = [there for there in plan.destinations if there.feasible]
    if platform is not None:
        return of_plan(destination_of(plan, platform))
    return of_plan(feasible[0]) if len(feasible) == 1 else ExpectedStream()


def meant_by_settings(path: Path, platform: str | None) -> ExpectedStream:
    """What a settings file has, as ``check`` reads it."""
    found: Settings = settings_from(path, {}, platform or "")
    video, audio = found.video, found.audio
    most = video.bitrate
    kbps = None if most is None else most.kbps + (audio.bitrate.kbps if audio.bitrate else 0.0)
    fps = None if video.frame_rate is None else float(video.frame_rate)
    interval = video.keyframes.seconds if video.keyframes is not None else None
    expected = Expected(kbps=kbps, fps=fps, keyframe_seconds=interval or SPAN_SECONDS)
    said = "" if kbps is None else f"{kbps:,.0f} kbit/s by {path.name}"
    return ExpectedStream(platform or "", expected, said)


@dataclass(slots=True)
class About:
    """What a broadcast is about."""

    meant: ExpectedStream
    server: str
    program: str
    seen_by: SeenBy
    host: str
    """It goes to."""


@dataclass(frozen=True, slots=True)
class KeptBroadcast:
    """A broadcast that is over."""

    broadcast: Broadcast
    kept: bool
    """Whether the disk took it."""


@dataclass
class BroadcastWriter:
    """A broadcast being written down."""

    about: About
    tell: Tell
    began: float = field(default_factory=time.perf_counter)
    breaches: tuple[str, ...] = ()
    counts: tuple[int | None, int | None, int | None] | None = None
    """Frames, late ones, lost ones, where they are seen: at the end."""

    def __post_init__(self) -> None:
        """Begin now."""
        taken = datetime.now(UTC)
        self._id = f"{taken:%Y%m%d-%H%M%S}-w{secrets.token_hex(2)}"
        self._taken_at = taken.astimezone().isoformat(timespec="seconds")
        self.notes = Recorder.of(
            self.about.server, self.about.meant.expected, self.about.meant.title
        )
        self._kept_at = self.began

    def seconds(self) -> float:
        """Since it began."""
        return time.perf_counter() - self.began

    def look(self, look: StreamSample) -> Now:
        """Take a look, tell what it means, and keep the broadcast now and then."""
        now = self.notes.look(look)
        if self.breaches:
            now = now.model_copy(update={"breaches": self.breaches})
        self.tell(now)
        if time.perf_counter() - self._kept_at > KEEP_SECONDS:
            self._kept_at = time.perf_counter()
            self._keep(self.broadcast(ON_THE_AIR))
        return now

    def broadcast(self, ended: str) -> Broadcast:
        """What is known of it."""
        about, now = self.about, self.notes.now
        counts: tuple[int | None, ...] = (None, None, None)
        if now is not None:
            counts = (now.frames, now.late_frames, now.lost_frames)
        frames, late, lost = self.counts or counts
        return Broadcast(
            id=self._id,
            taken_at=self._taken_at,
            version=__version__,
            kind="practice" if is_loopback(f"//{about.host}") else "measured",
            seen_by=about.seen_by,
            program=about.program,
            platform=about.meant.platform,
            server=about.server,
            planned=about.meant.text,
            planned_kbps=about.meant.expected.kbps,
            seconds=self.notes.seconds,
            troubles=tuple(self.notes.troubles),
            frames=frames,
            late_frames=late,
            lost_frames=lost,
            breaches=self.breaches,
            ended=ended,
        )

    def end(self, why: str, cut_at: float | None = None) -> KeptBroadcast:
        """It is over: keep it, and give it back.

        Args:
            cut_at: seconds from which on nothing was sent any more; that is left out.
        """
        self.notes.over(cut_at)
        broadcast = self.broadcast(why)
        return KeptBroadcast(broadcast, bool(broadcast.lasted_seconds) and self._keep(broadcast))

    def _keep(self, broadcast: Broadcast) -> bool:
        """A disk that does not take it is no reason to stop watching."""
        try:
            with History() as history:
                history.keep([broadcast])
        except StorageError:
            return False
        return True


def review(name: str = LATEST, planned: str = LATEST, show: str | None = None) -> Review:
    """Look back on a broadcast.

    Args:
        name: its id, the beginning of one, or ``latest``.
        show: planned again with this broadcast counted; default: ``show.toml`` of this folder,
            if any.

    Raises:
        NotFoundError: no such broadcast is kept.
        FormatError: the file is not a plan.
    """
    with History() as history:
        broadcast = history.find_broadcast(name)
    made = latest_plan() if planned == LATEST else read_plan(planned)
    fitting = [there for there in (made.destinations if made else ()) if there.feasible]
    there = next((one for one in fitting if one.platform == broadcast.platform), None)
    found = review_of(broadcast, there)
    more = [line for line in (_again(broadcast, there, show), _recorded(broadcast)) if line]
    return found.model_copy(update={"next_time": (*found.next_time, *more)})


def _recorded(broadcast: Broadcast) -> str | None:
    """To plan by a recording of it: the file of this folder that ended when it did."""
    ended = broadcast.taken.timestamp() + broadcast.lasted_seconds
    with contextlib.suppress(OSError):  # of files nobody may look at
        for path in sorted(Path().iterdir()):
            if path.suffix.lower() not in RECORDING_KINDS or not path.is_file():
                continue
            if -ENDS_BEFORE_SECONDS <= path.stat().st_mtime - ended <= ENDS_AFTER_SECONDS:
                return words.recorded(path.name, words.plan_by_it(shlex.quote(path.name)))
    return None


def _again(broadcast: Broadcast, there: DestinationPlan | None, show: str | None) -> str | None:
    """What the show's plan comes to with this broadcast counted; None where that is not known."""
    if show is None and show_here() is None:
        return None
    try:
        asked = asked_show(show, ShowOptions()).show
        uplink, _ = uplink_for(asked)
        made = plan(asked, uplink).plan
    except KestrelError:
        if show is not None:
            raise
        return None
    now = next((one for one in made.destinations if one.platform == broadcast.platform), None)
    if now is None or now.video is None or broadcast.id not in uplink.broadcasts:
        return None
    before = there.video.text if there is not None and there.video is not None else None
    return words.again_from(now.video.text, before)
