"""Watching on the wire: FFmpeg sends through simulated uplinks, and past people who lie."""

from __future__ import annotations

import contextlib
import json
import shlex
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import imageio_ffmpeg
import pytest

from eager_kestrel.actions.broadcasts import KeptBroadcast
from eager_kestrel.actions.receiving import Reception, receive
from eager_kestrel.actions.relay import RelayOptions, RelayReport, watch_through
from eager_kestrel.actions.watching import WatchOptions, sees_connections, watch
from eager_kestrel.core.connection.broadcast import Now
from eager_kestrel.core.connection.trace import Trace
from eager_kestrel.core.errors import EndpointError, InputError, NetworkError
from eager_kestrel.files.guides import load_guide
from eager_kestrel.net import relay as passing
from eager_kestrel.net.publishing import Publication, PublishTarget
from eager_kestrel.net.receiving import ReceivedTag
from eager_kestrel.practice.ingest import Misbehaviour
from eager_kestrel.practice.uplink import SimulatedConnection
from eager_kestrel.wire import flv
from tests.conftest import Kestrel, running, timed
from tests.test_rehearse import guide_with_servers

FFMPEG = imageio_ffmpeg.get_ffmpeg_exe()
CANARY, LOCAL = "canary-51c0-do-not-show", "local-9d2e-do-not-keep"
SETTINGS = """format = "eager-kestrel/settings/3"
[video]
bitrate = "500 kbit/s"
frame_rate = "30"
keyframes = "2 s"
[audio]
bitrate = "96 kbit/s"
"""
OXBOW = load_guide("oxbow")
QUIET = Misbehaviour()


@pytest.fixture(autouse=True)
def keys(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("EAGER_KESTREL_STREAM_KEY", "not-this-one")
    monkeypatch.setenv("EAGER_KESTREL_STREAM_KEY_OXBOW", CANARY)
    monkeypatch.setenv("EAGER_KESTREL_LOCAL_KEY", LOCAL)


def ffmpeg(url: str, seconds: float, pace: str = "1", source: str = "testsrc2") -> list[str]:
    size = "color=c=black" if source == "color" else source
    separator = ":" if source == "color" else "="
    filled = "scenecut=0" if source == "color" else "scenecut=0:nal-hrd=cbr"
    return [
        FFMPEG,
        "-v",
        "error",
        "-readrate",
        pace,
        "-f",
        "lavfi",
        "-i",
        f"{size}{separator}size=320x180:rate=30",
        "-readrate",
        pace,
        *shlex.split("-f lavfi -i sine=frequency=330:sample_rate=48000 -t"),
        str(seconds),
        *shlex.split("-c:v libx264 -preset ultrafast -pix_fmt yuv420p -threads 1 -b:v 500k"),
        *shlex.split("-maxrate 500k -bufsize 500k -g 60 -x264-params"),
        filled,
        *shlex.split("-c:a aac -b:a 96k -ac 2 -f flv"),
        url,
    ]


@contextlib.contextmanager
def platform(
    line: SimulatedConnection, trouble: Misbehaviour = QUIET
) -> Iterator[tuple[PublishTarget, Reception]]:
    """A simulated platform that knows the canary, behind a simulated connection."""
    from eager_kestrel.practice.ingest import Platform
    from eager_kestrel.practice.uplink import PracticeUplink

    with (
        receive(CANARY, 0, [OXBOW], None, Platform(OXBOW, trouble)) as (taking, url),
        PracticeUplink(line, PublishTarget.parse(url).port) as relay,
    ):
        yield PublishTarget("rtmp", "127.0.0.1", relay.port, "live"), taking


WIDE = Trace.constant(1500)


@dataclass
class Scene:
    """What is sent through what, and who is at fault."""

    name: str
    cause: str | None
    line: Trace = WIDE
    trouble: Misbehaviour = QUIET
    pace: str = "1"
    source: str = "testsrc2"
    seconds: float = 15.0


SCENES = [
    Scene("steady", None, seconds=12),
    Scene("dip", "upload", Trace.constant(1500).with_others(1250, 5, 9), seconds=12),
    Scene("stall", "upload", Trace.constant(1500).with_stall(6, 8.2, 60), seconds=12),
    Scene("hang-up", "connection", trouble=Misbehaviour(hang_up_at=5), seconds=12),
    Scene("slow encoder", "machine", pace="0.75", seconds=8),
    Scene("easy scene", "scene", source="color", seconds=13),
]


def watched_through(scene: Scene, settings: Path) -> tuple[KeptBroadcast, Reception]:
    """One scene, passed through."""
    told: list[RelayReport] = []
    with platform(SimulatedConnection(scene.line, 20), scene.trouble) as (target, taking):
        wish = RelayOptions(
            settings=settings, to=(f"oxbow={target.url}",), port=0, max_time="40 s", gone_seconds=3
        )
        ready = threading.Event()

        def begin(it: RelayReport) -> None:
            told.append(it)
            ready.set()

        with ThreadPoolExecutor(1) as pool:
            broadcast = pool.submit(watch_through, wish, lambda _: None, None, begin)
            assert ready.wait(10)
            sent = ffmpeg(f"{told[0].address}/{LOCAL}", scene.seconds, scene.pace, scene.source)
            assert subprocess.run(sent, check=False, timeout=60).returncode == 0
            (aired,) = broadcast.result(30)
        return aired, taking


@timed
def test_through_names_who_is_at_fault(tmp_path: Path) -> None:
    settings = tmp_path / "settings.toml"
    settings.write_text(SETTINGS)
    with ThreadPoolExecutor(3) as pool:
        found = list(pool.map(lambda scene: watched_through(scene, settings), SCENES))
    for scene, (aired, taking) in zip(SCENES, found, strict=True):
        broadcast = aired.broadcast
        said = [(trouble.cause, trouble.text) for trouble in broadcast.troubles]
        causes = {cause for cause, _ in said}
        if scene.cause != "machine":  # the programs share this machine with other tests
            causes.discard("machine")
        assert causes == ({scene.cause} if scene.cause else set()), (scene.name, said)
        assert broadcast.ended == "the program ended the stream"
        frames = sum(
            one.findings.recording.video.frames
            for one in taking.received
            if one.findings and one.findings.recording
        )
        assert broadcast.frames == round(scene.seconds * 30)
        lost = broadcast.lost_frames or 0
        assert frames == broadcast.frames - lost or (
            lost and abs(frames + lost - broadcast.frames) < 20
        )
        assert (lost > 0) == (scene.cause == "connection")
        assert (broadcast.late_frames or 0) > 0 or scene.name not in ("dip", "stall")
        assert CANARY not in broadcast.model_dump_json()
        assert LOCAL not in broadcast.model_dump_json()


class Lying(Reception):
    """Takes everything that comes, and keeps it."""

    def __init__(self) -> None:
        super().__init__(CANARY, [])
        self.got: list[tuple[int, int, bytes]] = []

    def arrived(self, piece: ReceivedTag) -> str | None:
        self.got.append((9 if piece.kind == "video" else 8, piece.sent_ms, piece.payload))
        return None

    def besides(self, kind: int, milliseconds: int, payload: bytes) -> None:
        self.got.append((kind, milliseconds, payload))


@contextlib.contextmanager
def between(
    *places: str, tell: Callable[[Now], None] = lambda _: None, **wishes: object
) -> Iterator[tuple[RelayReport, list[tuple[KeptBroadcast, ...]]]]:
    """Tier between, in a thread, until the program ends."""
    told: list[RelayReport] = []
    ready, done = threading.Event(), []

    def begin(it: RelayReport) -> None:
        told.append(it)
        ready.set()

    wish = RelayOptions(to=places, port=0, max_time="30 s", gone_seconds=1, **wishes)  # type: ignore[arg-type]
    thread = threading.Thread(
        target=lambda: done.append(watch_through(wish, tell, None, begin)), daemon=True
    )
    thread.start()
    assert ready.wait(10)
    yield told[0], done
    thread.join(20)
    assert not thread.is_alive()


def tag(keyframe: bool, size: int, seed: int) -> bytes:
    body = bytes((seed * 31 + at) % 251 for at in range(size))
    return flv.video_frame("h264", body, keyframe=keyframe)


@timed
def test_every_byte_is_passed_on_in_order() -> None:
    from eager_kestrel.net.receiving import IngestServer

    lying = Lying()
    with (
        IngestServer(lying) as server,
        between(f"oxbow=rtmp://127.0.0.1:{server.port}/live") as (told, done),
    ):
        sending = Publication(PublishTarget.parse(told.address), LOCAL)
        sent = [
            (9, 0, flv.video_header("h264", b"\x01\x64\x00\x1f\xff")),
            (8, 0, flv.aac_header(b"\x11\x90")),
        ]
        for number in range(200):
            at = 2_000_000_000 + number * 33  # an odd clock, with an extended timestamp
            sent.append((9, at, tag(number % 50 == 0, 20_000 if number % 50 == 0 else 900, number)))
            sent.append((8, at + 5, flv.aac_frame(bytes([number % 256]) * 200)))
        for kind, at, payload in sent:
            sending.send(kind, at, payload, None)
            sending.look(0.001)
        until = time.perf_counter() + 10
        while len(lying.got) < len(sent) and time.perf_counter() < until:
            sending.look(0.05)
        sending.close()
    assert lying.got == sent
    assert done[0][0].broadcast.frames == 200


@timed
def test_a_stream_goes_over_to_the_backup_and_says_so(home: Path) -> None:
    with contextlib.ExitStack() as first, receive(CANARY) as (taking, spare):
        _, address = first.enter_context(receive(CANARY))
        guide_with_servers(home, address, spare)
        with (
            between(f"oxbow={address}") as (told, done),
            subprocess.Popen(ffmpeg(f"{told.address}/{LOCAL}", 12)) as sending,
        ):
            time.sleep(3)
            first.close()
            assert sending.wait(40) == 0
        aired = done[0][0].broadcast
    assert aired.server == spare
    assert taking.received[-1].findings is not None
    assert aired.troubles
    assert aired.lost_frames


@timed
def test_a_slow_platform_does_not_hold_up_the_others(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(passing, "MOST_SECONDS", 1.0)
    monkeypatch.setenv("EAGER_KESTREL_STREAM_KEY_LARKSPUR", CANARY)
    slow, fast = (
        SimulatedConnection(Trace.constant(200), 20),
        SimulatedConnection(Trace.constant(8000), 20),
    )
    with (
        platform(slow) as (narrow, _),
        platform(fast) as (wide, taking),
        between(f"oxbow={wide.url}", f"larkspur={narrow.url}") as (told, done),
    ):
        sent = ffmpeg(f"{told.address}/{LOCAL}", 8)
        assert subprocess.run(sent, check=False, timeout=60).returncode == 0
    good, bad = (one.broadcast for one in done[0])
    assert taking.received[-1].findings.recording.video.frames == 240  # type: ignore[union-attr]
    assert {trouble.cause for trouble in good.troubles} <= {"machine"}  # this one, when busy
    assert good.lost_frames == 0
    assert {trouble.cause for trouble in bad.troubles} - {"machine"} == {"upload"}
    assert 0 < (bad.lost_frames or 0) < 240


@timed
def test_a_program_that_breaks_off_may_come_back() -> None:
    header = flv.video_header("h264", b"\x01\x64\x00\x1f\xff")
    with receive(CANARY) as (taking, url), between(f"oxbow={url}") as (told, done):
        here = PublishTarget.parse(told.address)
        for number in range(2):
            sending = Publication(here, LOCAL)
            sending.send(9, 0, header, None)
            for frame in range(30):
                sending.send(9, frame * 33, tag(frame % 15 == 0, 500, frame), None)
                sending.look(0.03)
            if number:
                sending.close()
            else:
                sending._socket.close()  # as a program that was killed
                time.sleep(0.5)
    broadcast = done[0][0].broadcast
    (trouble,) = broadcast.troubles
    assert trouble.text.startswith("the program disconnected, and was back after")
    assert broadcast.frames == 60
    assert len(taking.received) == 2


@timed
def test_a_program_that_ends_and_begins_again_is_waited_for() -> None:
    """Its coming and going are told within a second, with the cause."""
    header = flv.video_header("h264", b"\x01\x64\x00\x1f\xff")
    told: list[Now] = []
    with receive(CANARY) as (_, url), between(f"oxbow={url}", tell=told.append) as (at, done):
        here = PublishTarget.parse(at.address)
        for number in range(2):
            sending = Publication(here, LOCAL)
            sending.send(9, 0, header, None)
            for frame in range(40):
                sending.send(9, frame * 33, tag(frame % 15 == 0, 500, frame), None)
                sending.look(0)
                time.sleep(0.03)
            sending.close()
            if number == 0:
                time.sleep(0.7)
    broadcast = done[0][0].broadcast
    (trouble,) = broadcast.troubles
    assert trouble.text.startswith("the program ended the stream, and was back after")
    assert broadcast.frames == 80
    states = [now.state for now in told]
    changes = [state for n, state in enumerate(states) if n == 0 or state != states[n - 1]]
    assert changes == ["fine", "stopped", "fine", "stopped"]
    away = [now for now in told if now.state == "stopped"]
    assert {now.verdict.cause for now in away} == {None}
    assert away[0].seconds - away[0].since_seconds < 1
    assert "waiting for it to come back" in away[0].verdict.text


@timed
def test_a_platform_that_is_late_gets_the_stream_from_the_next_keyframe(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr("eager_kestrel.actions.relay.AGAIN_SECONDS", 0.5)
    monkeypatch.setattr(passing, "MOST_SECONDS", 0.5)
    monkeypatch.setenv("EAGER_KESTREL_STREAM_KEY_LARKSPUR", CANARY)
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    with receive(CANARY) as (first, url), contextlib.ExitStack() as later:
        places = (f"oxbow={url}", f"larkspur=rtmp://127.0.0.1:{port}/live")
        with between(*places) as (told, done):
            sender = subprocess.Popen(ffmpeg(f"{told.address}/{LOCAL}", 9))
            time.sleep(3)
            second, _ = later.enter_context(receive(CANARY, port))
            assert sender.wait(30) == 0
    good, late = (one.broadcast for one in done[0])
    assert first.received[0].findings.recording.video.frames == 270  # type: ignore[union-attr]
    came = second.received[0].findings.recording.video  # type: ignore[union-attr]
    assert came.frames + (late.lost_frames or 0) == 270
    assert 60 <= came.frames < 240
    assert good.troubles == ()
    assert [trouble.cause for trouble in late.troubles] == ["connection"]


def test_only_this_machine_and_only_with_the_local_key() -> None:
    with platform(SimulatedConnection(Trace.constant(5000), 10)) as (target, taking):
        told: RelayReport
        with between(f"oxbow={target.url}") as (told, _):
            here = PublishTarget.parse(told.address)
            for wrong in (CANARY, "guess", ""):
                with pytest.raises(EndpointError) as refused:
                    Publication(here, wrong, timeout_seconds=3)
                assert CANARY not in refused.value.line()
                assert LOCAL not in refused.value.line()
            others = {str(info[4][0]) for info in socket.getaddrinfo(socket.gethostname(), None)}
            for other in others - {"127.0.0.1", "127.0.1.1", "::1"}:
                with pytest.raises(OSError, match=r"refused|timed out|unreachable"):
                    socket.create_connection((other, here.port), 0.5).close()
            with pytest.raises(OSError, match=r"refused|timed out"):
                socket.create_connection(("127.0.0.2", here.port), 0.5).close()
            assert taking.received == []
            sending = Publication(here, LOCAL)
            sending.send(9, 0, flv.video_header("h264", b"\x01\x64\x00\x1f\xff"), None)
            sending.look(0.1)
            sending.close()


def test_a_platform_that_refuses_is_said_to_the_program() -> None:
    with receive("another-key") as (_, url):
        wish = RelayOptions(to=(f"oxbow={url}",), port=0, max_time="3 s")
        refused: list[str] = []

        def come(told: RelayReport) -> None:
            def publish() -> None:
                try:
                    Publication(PublishTarget.parse(told.address), LOCAL, timeout_seconds=5)
                except EndpointError as error:
                    refused.append(error.line())

            threading.Thread(target=publish, daemon=True).start()

        with pytest.raises(EndpointError, match="the ingest server refused"):
            watch_through(wish, lambda _: None, None, come)
    assert "the ingest server refused" in refused[0]
    assert CANARY not in refused[0]


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (("--through", "--pid", "1"), "--pid"),
        (("--through", "--to", "rtmp://h.example/live/key"), "its last part may be a key"),
        (("--through", "--to", "nowhere"), "nowhere"),
        (("--through",), "--to rtmp://HOST/APP"),
        (("--to", "a", "--to", "b"), "--through"),
        (("--to", "rtmp://"), "--to HOST"),
        (("--pid", "999999", "--max-time", "1 s"), "process 999999"),
        (("none.json",), "none.json"),
    ],
)
def test_bad_input_gets_one_line(kestrel: Kestrel, arguments: tuple[str, ...], said: str) -> None:
    found = kestrel("watch", *arguments)
    assert found.code in (2, 3)
    *before, last = found.err.strip().splitlines()
    assert said in last
    assert before in ([], ["nothing is being sent yet; waiting for a stream"])


@pytest.mark.skipif(not sees_connections(), reason="this system tells nothing of connections")
@timed
def test_from_outside_a_dip_is_told_and_the_program_is_not_touched(tmp_path: Path) -> None:
    settings = tmp_path / "settings.toml"
    settings.write_text(SETTINGS)
    line = SimulatedConnection(Trace.constant(1500).with_others(1250, 5, 10), 20)
    told: list[Now] = []
    with platform(line) as (target, taking):
        sender = subprocess.Popen(ffmpeg(f"{target.url}/{CANARY}", 14))
        wish = WatchOptions(
            settings=settings, to=f"127.0.0.1:{target.port}", max_time="30 s", gone_seconds=1
        )
        aired = watch(wish, told.append)
        assert sender.wait(20) == 0
    broadcast = aired.broadcast
    assert {trouble.cause for trouble in broadcast.troubles} == {"upload"}
    assert broadcast.ended == "the program ended"
    assert broadcast.program.startswith("ffmpeg")
    assert CANARY not in broadcast.model_dump_json()
    assert taking.received[0].findings.recording.video.frames == 420  # type: ignore[union-attr]
    assert max(now.cores or 0 for now in told) > 0


@pytest.mark.skipif(not sees_connections(), reason="this system tells nothing of connections")
@timed
def test_json_is_a_document_a_second_and_ends_on_sigterm(tmp_path: Path, home: Path) -> None:
    with (
        platform(SimulatedConnection(Trace.constant(3000), 10)) as (target, _),
        running(ffmpeg(f"{target.url}/{CANARY}", 20)) as sender,
        running(
            [sys.executable, "-m", "eager_kestrel", "watch", "--json", "--pid", str(sender.pid)]
        ) as watching,
    ):
        assert watching.stdout is not None
        lines = [json.loads(watching.stdout.readline()) for _ in range(3)]
        watching.terminate()
        rest = watching.stdout.read()
        assert watching.wait(10) in (0, 1)
    assert [line["format"] for line in lines] == ["eager-kestrel/watch/3"] * 3
    assert 0.5 < lines[2]["seconds"] - lines[1]["seconds"] < 1.8
    assert all(json.loads(line) for line in rest.splitlines())


def test_other_systems_are_told_what_can_be_seen(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("eager_kestrel.cli.watch.sees_connections", lambda: False)
    found = kestrel("watch", "--max-time", "2 s")
    assert found.code == 0
    assert "watch --through" in found.err
    assert "all programs together send" in found.err
    assert kestrel("review").code == 2  # a rate alone is no broadcast


def test_a_platform_that_does_not_take_the_stream_is_told_at_once(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("EAGER_KESTREL_STREAM_KEY", CANARY)
    with (
        socket.create_server(("127.0.0.1", 0)) as shut,
        socket.create_server(("127.0.0.1", 0)) as s,
    ):
        gone, port = shut.getsockname()[1], s.getsockname()[1]
    refusals: list[str] = []

    def program() -> None:
        until = time.perf_counter() + 8
        while not refusals and time.perf_counter() < until:
            try:
                Publication(PublishTarget("rtmp", "127.0.0.1", port, "live"), LOCAL).close()
            except NetworkError as error:
                if "server refused" in error.what:
                    refusals.append(error.what)
            time.sleep(0.1)

    sender = threading.Thread(target=program)
    sender.start()
    url = f"rtmp://127.0.0.1:{gone}/live"
    found = kestrel(
        *("watch", "--through", "--port", port, "--to", f"oxbow={url}", "--max-time", "3 s")
    )
    sender.join()
    assert found.code == 3
    assert f"{url}: 127.0.0.1 cannot be reached" in found.err
    assert "cannot be reached" in refusals[0]
    assert CANARY not in found.err + refusals[0]


def test_a_port_that_is_taken_is_said() -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        wish = RelayOptions(to=("oxbow=rtmp://127.0.0.1:9/live",), port=taken.getsockname()[1])
        with pytest.raises(Exception, match="cannot be used"):
            watch_through(wish, lambda _: None)
    with pytest.raises(InputError):
        watch_through(RelayOptions(to=("oxbow=http://a.example",)), lambda _: None)
