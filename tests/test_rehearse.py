"""Receiving real publishers, rehearsing through simulated connections, keys kept secret."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shlex
import signal
import socket
import ssl
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import imageio_ffmpeg
import numpy as np
import pytest
import trustme

from eager_kestrel.actions.checking import guides_of
from eager_kestrel.actions.planning import plan, uplink_from_number
from eager_kestrel.actions.practice import simulated_connection
from eager_kestrel.actions.receiving import Reception, receive, wait_for
from eager_kestrel.actions.rehearsing import RehearseOptions, destination_of, rehearse, stage
from eager_kestrel.actions.shows import ShowOptions, asked_show
from eager_kestrel.core.checks.causes import StreamSample
from eager_kestrel.core.checks.rehearsal import Rehearsals, Sent, start_seconds, verdict
from eager_kestrel.core.connection.evidence import RunEvidence
from eager_kestrel.core.connection.trace import Trace
from eager_kestrel.core.errors import EndpointError, InputError, NetworkError
from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.guide.rules import Server
from eager_kestrel.core.plan.from_evidence import stutter_of
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.guides import guide_toml, load_guide
from eager_kestrel.media.recording import read_recording
from eager_kestrel.media.stand_in import StandIn
from eager_kestrel.net.publishing import Publication, PublishTarget
from eager_kestrel.practice.ingest import Misbehaviour, Platform
from eager_kestrel.practice.uplink import SimulatedConnection
from eager_kestrel.wire import flv
from eager_kestrel.wire.publishing import RANDOM_BYTES, Publisher, Ready
from tests.conftest import Kestrel, running, timed

FFMPEG = imageio_ffmpeg.get_ffmpeg_exe()
CANARY = "canary-7f3a-do-not-show"
OXBOW = load_guide("oxbow")


def planned(upload: str, platform: str = "oxbow", **wishes: Any) -> Plan:
    """From a small source, so that encoding it does not disturb tests that measure beside it."""
    wishes = {"source": "1280x720", "source_fps": "30"} | wishes
    asked = asked_show(None, ShowOptions(platforms=(platform,), **wishes)).show
    return plan(asked, uplink_from_number(upload)).plan


def published_by_ffmpeg(address: str, seconds: float, *options: str) -> int:
    """The exit code of FFmpeg's own publisher."""
    command = [
        FFMPEG,
        *shlex.split("-v error -re -f lavfi -i testsrc2=size=320x180:rate=30 -f lavfi -i"),
        *shlex.split("sine=frequency=330:sample_rate=48000 -t"),
        str(seconds),
        *shlex.split("-c:v libx264 -preset ultrafast -pix_fmt yuv420p -threads 1 -b:v 500k"),
        *shlex.split("-maxrate 500k -bufsize 500k -g 60 -x264-params scenecut=0:nal-hrd=cbr"),
        *shlex.split("-c:a aac -b:a 96k -ac 2"),
        *options,
        "-f",
        "flv",
        address,
    ]
    return subprocess.run(command, capture_output=True, check=False, timeout=60).returncode


@timed
def test_ffmpeg_publishes_and_is_described(tmp_path: Path) -> None:
    for old in tmp_path.glob("*.flv"):
        old.unlink()
    file = tmp_path / "kept.flv"
    with receive(CANARY, guides=guides_of(["oxbow"]), record_to=file) as (taking, address):
        assert published_by_ffmpeg(f"{address}/wrong", 1) != 0
        assert published_by_ffmpeg(f"{address}/{CANARY}", 5) == 0
        assert published_by_ffmpeg(f"{address}/{CANARY}", 3, "-bf", "2") == 0  # one after another
        found = wait_for(taking, 2, 5)
    assert taking.refused == 1
    assert [one.ended for one in found] == ["ended", "ended"]
    first = found[0].findings
    assert first is not None
    assert first.recording is not None
    video, audio = first.recording.video, first.recording.audio
    assert (video.resolution, video.frame_rate) == (Resolution(320, 180), 30)
    assert video.keyframes.typical_seconds == pytest.approx(2, abs=0.01)
    assert video.average_kbps == pytest.approx(500, rel=0.15)
    assert audio is not None
    assert (audio.sample_rate_hz, audio.channels) == (48000, 2)
    kept = read_recording(file)
    assert kept.video.frames == video.frames
    assert kept.video.average_kbps == pytest.approx(video.average_kbps, rel=0.01)
    second = found[1].findings
    assert second is not None
    assert second.recording is not None
    assert second.recording.video.b_frames == 2
    assert (tmp_path / "kept-2.flv").exists()
    assert not list(tmp_path.glob("*.part"))


PYAV = """
import sys
import av
import numpy as np

with av.open(sys.argv[1], "w", format="flv") as out:
    stream = out.add_stream("libx264", rate=30)
    stream.width, stream.height, stream.pix_fmt = 320, 176, "yuv420p"
    stream.options = {"preset": "ultrafast", "tune": "zerolatency"}
    for number in range(60):
        resolution = np.full((264, 320), number, np.uint8)
        frame = av.VideoFrame.from_ndarray(resolution, format="yuv420p")
        frame.pts = number
        out.mux(stream.encode(frame))
    out.mux(stream.encode())
"""


@timed
def test_findings_come_as_the_stream_goes() -> None:
    seen = []
    with receive(CANARY, guides=guides_of(["oxbow"])) as (taking, address):
        publisher = threading.Thread(target=published_by_ffmpeg, args=(f"{address}/{CANARY}", 5))
        publisher.start()
        wait_for(taking, 1, 15, lambda view, found: seen.append((view, found)))
        publisher.join(10)
    views = [view for view, _ in seen if view is not None and view.seconds > 2]
    assert views
    assert views[-1].fps == pytest.approx(30, rel=0.1)
    assert views[-1].video_kbps == pytest.approx(500, rel=0.3)
    assert views[-1].delay_seconds < 1
    going = [found for _, found in seen if found is not None]
    assert any(f.rule == "video.profiles.h264" for f in going[-1].findings)
    assert taking.so_far() is None


def test_a_recording_never_takes_the_place_of_another(kestrel: Kestrel, tmp_path: Path) -> None:
    taken = tmp_path / "taken.flv"
    taken.write_bytes(b"dear to somebody")
    result = kestrel("receive", "--port", "0", "--record", taken, "--max-time", "1 s")
    assert result.code == 2
    assert "already exists" in result.error_line
    assert "name it .flv" in kestrel("receive", "--record", "a.mp4").error_line
    later = tmp_path / "later.flv"
    with receive(CANARY, record_to=later) as (taking, address):
        later.write_bytes(b"somebody was quicker")
        assert published_by_ffmpeg(f"{address}/{CANARY}", 1) == 0
        (one,) = wait_for(taking, 1, 5)
    assert "already exists" in str(one.file_error)
    assert one.findings is not None  # it is described all the same
    assert later.read_bytes() == b"somebody was quicker"
    assert taken.read_bytes() == b"dear to somebody"


def test_a_goodbye_in_pieces_is_heard_out() -> None:
    """It is two messages; closing after the first would reset the connection under the second."""
    with receive(CANARY) as (taking, address):
        target = PublishTarget.parse(address)
        publisher = Publisher(target.app, target.url, CANARY, os.urandom(RANDOM_BYTES))
        with socket.create_connection((target.host, target.port), 5) as connection:
            connection.settimeout(5)
            ready = False
            while not ready:
                connection.sendall(bytes(publisher.outgoing))
                publisher.outgoing.clear()
                events = publisher.receive(connection.recv(65_536))
                ready = any(isinstance(event, Ready) for event in events)
            goodbye = publisher.end()
            first = goodbye.index(b"deleteStream") - 11  # a chunk header and a marker before it
            for piece in (goodbye[:first], goodbye[first : first + 5], goodbye[first + 5 :]):
                connection.sendall(piece)  # raises once the other end has closed
                time.sleep(0.2)
        wait_for(taking, 1, 5)


def test_pyav_publishes_too() -> None:
    with receive(CANARY) as (taking, address):
        publisher = [sys.executable, "-c", PYAV, f"{address}/{CANARY}"]
        subprocess.run(publisher, check=True, timeout=30)
        (one,) = wait_for(taking, 1, 5)
    assert one.findings is not None
    assert one.findings.recording is not None
    assert one.findings.recording.video.frames == 60
    assert one.findings.recording.audio is None


def test_only_one_at_a_time_and_silence_ends() -> None:
    with receive(CANARY) as (taking, address):
        target = PublishTarget.parse(address)
        first = Publication(target, CANARY)
        with pytest.raises(EndpointError, match="another stream is coming in"):
            Publication(target, CANARY)
        first.close()
        assert taking.wait(3, 1)
        with socket.create_connection((target.host, target.port)) as stranger:
            stranger.sendall(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n")
            assert stranger.recv(10) == b""
        Publication(target, CANARY).close()
        assert taking.wait(3, 2)
    assert taking.received[0].findings is None


def rehearsed(
    plan: Plan, rate: str, wish: RehearseOptions, **more: Any
) -> tuple[Rehearsals, Reception]:
    chosen = destination_of(plan, None)
    line = simulated_connection(Bitrate.parse(rate))
    with stage(line, OXBOW.under(chosen.tier), **more) as there:
        outcome = rehearse(plan, chosen, there.target, there.key, wish)
    return outcome, there.taking


@timed
def test_a_plan_of_four_holds_on_five() -> None:
    plan = planned("6 Mbit/s")
    outcome, taking = rehearsed(plan, "5 Mbit/s", RehearseOptions(seconds=5))
    (one,) = outcome.rehearsals
    assert one.verdict.held, one.verdict.text
    assert (one.late_frames, one.lost_frames, one.reconnects) == (0, 0, 0)
    assert one.delivered_kbps == pytest.approx(one.total_kbps, rel=0.08)
    arrived = taking.received[0].findings
    assert arrived is not None
    assert arrived.recording is not None
    assert arrived.breaches == 0
    video, wanted = arrived.recording.video, plan.destinations[0].video
    assert wanted is not None
    assert (video.resolution, video.frame_rate) == (wanted.resolution, wanted.frame_rate)
    assert video.average_kbps == pytest.approx(wanted.bitrate_kbps, rel=0.02)
    assert video.keyframes.typical_seconds == wanted.keyframe_seconds
    assert video.profile == wanted.profile
    assert (video.colour, video.colour_range) == ("bt709", "limited")
    assert video.spread < 0.1


@timed
def test_six_on_five_is_the_line_and_settles() -> None:
    plan = planned("12 Mbit/s")
    outcome, _ = rehearsed(plan, "5 Mbit/s", RehearseOptions(seconds=10, settle=True))
    first, last = outcome.rehearsals[0], outcome.rehearsals[-1]
    assert first.verdict.limited_by == "upload", first.verdict.text
    assert first.verdict.at_seconds is not None
    assert first.verdict.at_seconds < 10
    assert first.late_frames > 0
    assert first.delivered_kbps == pytest.approx(5000, rel=0.06)
    assert last is not first
    assert outcome.best.verdict.held, last.verdict.text
    assert outcome.settled is not None
    settled = outcome.settled.destinations[0]
    assert 0.88 * 5000 <= settled.total_kbps < 5000  # the ladder's own step is at 3,700
    assert outcome.best.total_kbps == pytest.approx(settled.total_kbps, abs=0.1)
    assert all(step.total_kbps < settled.total_kbps for step in settled.fallbacks)
    assert Plan.model_validate_json(outcome.settled.model_dump_json()) == outcome.settled


@timed
@pytest.mark.parametrize(("upload", "others"), [("2.4 Mbit/s", 1800), ("1.2 Mbit/s", 400)])
def test_a_rehearsal_stutters_where_the_replay_of_the_same_connection_does(
    upload: str, others: float
) -> None:
    """One connection, asked two ways: on the wire, and replayed from what it carries."""
    made = planned(upload)
    dip = Trace.constant(2600).with_others(others, 4, 8)
    with stage(SimulatedConnection(dip, 20), OXBOW) as there:
        chosen = made.destinations[0]
        outcome = rehearse(made, chosen, there.target, there.key, RehearseOptions(seconds=8))
    found = outcome.rehearsals[-1]
    moments = np.arange(0, 8 + 1e-9, 0.05)
    carried = np.diff([dip.bytes_until(float(at)) for at in moments]) * 8e-3
    run = RunEvidence(
        "r",
        "2026-11-01T20:00:00+00:00",
        "",
        "",
        "measured",
        False,
        False,
        None,
        None,
        carried[:1],
        carried,
    )
    seen = stutter_of(made, Evidence.of([run]))
    assert seen is not None
    # other programs of this machine may hold the sender up: it says so, and means no connection
    late = [one for one in found.stutters if one.cause != "machine"]
    assert seen.number == len(late) == (1 if others > 1000 else 0)
    if found.verdict.limited_by != "machine":
        assert found.verdict.held is (not found.stutters)
    if late:
        assert late[0].cause == "upload"
        assert 4 < late[0].at_seconds < 6.5


def test_a_slow_encoder_is_the_machine() -> None:
    plan = planned("3 Mbit/s")
    outcome, _ = rehearsed(plan, "8 Mbit/s", RehearseOptions(seconds=6, slowed_ms=120))
    (one,) = outcome.rehearsals
    assert one.verdict.limited_by == "machine", one.verdict.text
    assert one.encode_ms_typical > 100
    assert "a frame takes" in one.verdict.text
    assert outcome.settled is None


@timed
def test_a_dropped_connection_is_made_again_and_counted() -> None:
    wish = RehearseOptions(seconds=6, first_wait_seconds=0.2)
    outcome, taking = rehearsed(
        planned("3 Mbit/s"), "8 Mbit/s", wish, trouble=Misbehaviour(hang_up_at=1.5)
    )
    (one,) = outcome.rehearsals
    assert one.verdict.limited_by == "ingest"
    assert "being restarted" in one.verdict.text
    assert one.reconnects == 1
    assert one.lost_frames > 0
    assert len(taking.received) == 2
    again = taking.received[1].findings
    assert again is not None
    assert again.recording is not None
    assert again.recording.video.frames > 30  # it went on, from a keyframe


@pytest.fixture
def silent() -> Iterator[int]:
    """An ingest that takes connections and never answers."""
    with socket.create_server(("127.0.0.1", 0)) as listener:
        yield listener.getsockname()[1]


def test_an_ingest_that_never_answers_has_a_limit(silent: int) -> None:
    with pytest.raises(NetworkError, match="did not answer within"):
        Publication(PublishTarget("rtmp", "127.0.0.1", silent, "live"), CANARY, timeout_seconds=0.5)
    with pytest.raises(NetworkError):
        Publication(PublishTarget("rtmp", "127.0.0.1", 1, "live"), CANARY)


def test_rtmps_with_certificates_checked() -> None:
    authority = trustme.CA()
    server = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert("127.0.0.1").configure_cert(server)
    trusting = ssl.create_default_context()
    authority.configure_trust(trusting)
    with receive(CANARY) as (taking, address):
        inner = PublishTarget.parse(address)
        listener = socket.create_server(("127.0.0.1", 0))
        port = listener.getsockname()[1]
        relay = threading.Thread(target=_unwrap, args=(listener, server, inner.port), daemon=True)
        relay.start()
        target = PublishTarget("rtmps", "127.0.0.1", port, inner.app)
        sending = Publication(target, CANARY, trusting)
        step = next(StandIn(*_smallest()).steps())
        for tag in step.tags:
            sending.send(tag.kind, tag.milliseconds, tag.payload, time.perf_counter())
        sending.look(0.1)
        assert sending.counted_by == "bytes handed over"
        sending.close()
        assert taking.wait(5, 1)
        with pytest.raises(NetworkError, match="certificate is not trusted"):
            Publication(target, CANARY)  # nobody vouches for that certificate
        relay.join(10)
        listener.close()


def _unwrap(listener: socket.socket, context: ssl.SSLContext, port: int) -> None:
    """Take TLS off, one connection after another, and pass it on, both ways."""

    def pass_on(source: socket.socket, target: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while data := source.recv(65536):
                target.sendall(data)
            target.shutdown(socket.SHUT_WR)

    for _ in range(2):
        with contextlib.suppress(OSError):
            raw, _ = listener.accept()
            with (
                raw,
                context.wrap_socket(raw, server_side=True) as outer,
                socket.create_connection(("127.0.0.1", port)) as inner,
            ):
                back = threading.Thread(target=pass_on, args=(inner, outer), daemon=True)
                back.start()
                pass_on(outer, inner)
                back.join(5)


def _smallest() -> tuple[Any, Any]:
    there = planned("1 Mbit/s", "gatepost").destinations[0]
    return there.video, there.audio


@pytest.mark.parametrize("codec", ["h264", "hevc", "av1"])
def test_stand_ins_of_every_codec_are_valid_and_constant(codec: str, tmp_path: Path) -> None:
    plan = planned("5 Mbit/s", "fernlight", codec=codec, source="640x360", source_fps="30")
    video, audio = plan.destinations[0].video, plan.destinations[0].audio
    assert video is not None
    assert audio is not None
    made = StandIn(video, audio)
    steps = made.steps()
    tags = [tag for _ in range(150) for tag in next(steps).tags]
    made.close()
    assert video.codec == codec
    path = tmp_path / "stand-in.flv"
    path.write_bytes(
        flv.file_header() + b"".join(flv.file_tag(t.kind, t.milliseconds, t.payload) for t in tags)
    )
    seen = read_recording(path, deep=True)
    assert seen.decoded is not None
    assert seen.decoded.damaged == 0
    assert seen.decoded.frames >= 140
    assert seen.video.codec == codec
    assert seen.video.resolution == video.resolution
    assert seen.video.average_kbps == pytest.approx(video.bitrate_kbps, rel=0.03)
    assert seen.video.keyframes.typical_seconds == pytest.approx(video.keyframe_seconds, abs=0.04)


@pytest.mark.parametrize(
    ("pieces", "says"),
    [
        ([(t * 33, t % 60 == 0, 30_000, "h264") for t in range(400)], "the most it takes is"),
        ([(t * 33, t == 0, 5_000, "h264") for t in range(200)], "no keyframe for"),
        ([(0, True, 5_000, "av1")], "av1 is not taken"),
        ([(t * 33, t % 60 == 0, 20_000, "h264") for t in range(300)], None),
    ],
)
def test_a_simulated_platform_obeys_its_guide(
    pieces: list[tuple[int, bool, int, str]], says: str | None
) -> None:
    class Piece:
        kind, header = "video", False

        def __init__(self, sent_ms: int, keyframe: bool, size: int, codec: str) -> None:
            self.sent_ms, self.keyframe, self.size, self.codec = sent_ms, keyframe, size, codec

    platform = Platform(OXBOW)
    assert platform.health() == "waiting for a stream"
    answers = [platform.arrived(Piece(*piece)) for piece in pieces]
    why = next((answer for answer in answers if answer), None)
    assert (why is None) == (says is None)
    if says is not None:
        assert says in str(why)
    else:
        assert platform.health().startswith("takes it: 4,")


def test_a_simulated_platform_judges_each_stream_by_itself() -> None:
    """Each begins at zero, like the one before: its bitrate is its own."""
    platform = Platform(OXBOW)
    for frames in (300, 420, 600):
        for number in range(frames):
            due = round(number * 1000 / 60)
            size = 5_900_000 // 8 // 60
            piece = SimpleNamespace(
                kind="video",
                codec="h264",
                header=False,
                sent_ms=due,
                size=size,
                keyframe=number % 120 == 0,
            )
            assert platform.arrived(piece) is None


def sent(moments: list[tuple[float, float, float, int]], **more: Any) -> Sent:
    base: dict[str, Any] = {
        "seconds": 10.0,
        "frames": 300,
        "late_frames": 0,
        "lost_frames": 0,
        "encode_ms": (5.0,) * 9,
        "reconnects": 0,
        "broken": (),
        "counted_by": "kernel",
    }
    looked = tuple(
        StreamSample(
            seconds=t,
            connected=True,
            handed_bytes=n,
            carried_bytes=n,
            queued_seconds=b,
            media_late_seconds=e,
            round_trip_ms=9,
        )
        for t, b, e, n in moments
    )
    return Sent(**(base | more), moments=looked)


def test_a_long_way_may_take_its_time_to_get_up_to_speed() -> None:
    """Of 300 ms there and back a connection takes three seconds; a real program starts so, too."""
    now, *rest = planned("12 Mbit/s").destinations[0].fallbacks
    begins = [(t / 10, max(0.0, 1.1 - t / 20), 0.0, t * 60_000) for t in range(100)]
    slow = sent(begins, start_seconds=start_seconds(300.0, 10.0))
    assert slow.start_seconds == 3.0
    held = verdict(slow, now, tuple(rest), 10)
    assert held.held
    assert "get up to speed" in held.text
    never = sent([(t, 0.9, 0.0, t * 600_000) for t in range(11)], start_seconds=3.0)
    assert verdict(never, now, tuple(rest), 10).at_seconds == 4
    assert start_seconds(5.0, 30.0) == 2.0
    assert start_seconds(None, 3.0) == 1.0


def test_verdicts_tell_the_three_apart() -> None:
    now, *rest = planned("12 Mbit/s").destinations[0].fallbacks
    steps = tuple(rest)
    fine = verdict(sent([(t, 0.1, 0, t * 600_000) for t in range(11)]), now, steps, 10)
    assert (fine.held, fine.limited_by) == (True, None)
    line = verdict(
        sent([(t, t / 8, 0, t * 500_000) for t in range(11)], late_frames=9), now, steps, 10
    )
    assert (line.held, line.limited_by, line.at_seconds) == (False, "upload", 6)
    assert line.fallback is not None
    assert steps[line.fallback].total_kbps <= 0.9 * 4000
    assert line.fallback == 0 or steps[line.fallback - 1].total_kbps > 0.9 * 4000
    slow = verdict(
        sent([(t, t / 9, t / 5, 0) for t in range(11)], encode_ms=(66.0,) * 9), now, steps, 10
    )
    assert (slow.limited_by, slow.at_seconds, slow.late_seconds) == ("machine", 4, 2)
    able = now.video.pixels_per_second * 1000 / float(now.video.frame_rate) / 66
    fitting = [i for i, step in enumerate(steps) if step.video.pixels_per_second <= able]
    assert slow.fallback == next(iter(fitting), None)
    looks = [(t / 10, 0.0, 0.0, t * 60_000) for t in range(50)]
    busy = verdict(sent([*looks, (6.0, 0.9, 0.0, 3_000_000)], late_frames=3), now, steps, 10)
    assert (busy.limited_by, busy.at_seconds, busy.late_seconds) == ("machine", 6, 1.1)
    after = (6.1, 0.0, 0.0, 3_600_000)
    unseen = verdict(
        sent([*looks, (6.0, 0.1, 0.0, 3_500_000), after], late_frames=3), now, steps, 10
    )
    assert (unseen.limited_by, unseen.at_seconds, unseen.late_seconds) == ("machine", 6, 1.1)
    both = verdict(sent([*looks, (6.0, 2.9, 0.0, 3_000_000)], late_frames=3), now, steps, 10)
    assert both.limited_by == "upload"
    gone = verdict(sent([(1, 0, 0, 0)], broken=((3.0, "it hung up"),)), now, steps, 10)
    assert (gone.limited_by, gone.breaks) == ("ingest", 1)
    assert gone.text == "it hung up, after 3.0 s"
    short = verdict(sent([(1, 0, 0, 0)], seconds=4.0), now, steps, 10)
    assert (short.held, short.limited_by) == (False, None)


@timed
def test_the_command_line_rehearses_settles_and_draws(kestrel: Kestrel, tmp_path: Path) -> None:
    small = ("--source", "1280x720", "--source-fps", "30")
    assert kestrel("plan", "--for", "oxbow", "--upload", "6 Mbit/s", *small).code == 0
    out, figure = tmp_path / "held.json", tmp_path / "r.png"
    out.unlink(missing_ok=True)
    result = kestrel(
        "rehearse",
        "--practice",
        "3 Mbit/s",
        "--seconds",
        "4 s",
        "--settle",
        "--json",
        "--plan-out",
        out,
        "--figure",
        figure,
    )
    assert result.code == 0, result.err
    document = result.document
    assert document["format"] == "eager-kestrel/rehearsals/3"
    assert document["rehearsals"][0]["verdict"]["limited_by"] == "upload"
    assert document["held"] is True
    assert figure.read_bytes().startswith(b"\x89PNG")
    held = json.loads(out.read_text())
    assert held["destinations"][0]["total_kbps"] < 3000
    again = kestrel("rehearse", out, "--practice", "3 Mbit/s", "--seconds", "2 s")
    assert again.code == 0
    assert "no frame was late" in again.out
    assert kestrel("check", out, "--for", "oxbow").code == 0


@pytest.mark.parametrize(
    ("options", "code", "says"),
    [
        ((), 2, "--to URL or --practice"),
        (("--practice", "x.example"), 2, "x.example"),
        (("--to", "http://x.example/live"), 2, "rtmp://HOST"),
        (("--to", "rtmp://127.0.0.1:1/live"), 2, "EAGER_KESTREL_STREAM_KEY"),
        (("gone.json", "--practice", "day"), 2, "no such file"),
        (("--practice", "day", "--for", "gatepost"), 2, "choose from oxbow"),
        (("--practice", "day", "--seconds", "soon"), 2, "is not a length of time"),
    ],
)
def test_rehearse_refuses_in_one_line(
    kestrel: Kestrel, options: tuple[str, ...], code: int, says: str
) -> None:
    assert "no plan was made yet" in kestrel("rehearse", "--practice", "day").error_line
    assert kestrel("plan", "--for", "oxbow", "--upload", "6 Mbit/s").code == 0
    result = kestrel("rehearse", *options)
    assert result.code == code
    assert says in result.error_line


def test_a_dead_ingest_is_exit_three_and_the_key_stays_secret(
    kestrel: Kestrel, home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("EAGER_KESTREL_STREAM_KEY", CANARY)
    plan = kestrel("plan", "--for", "oxbow", "--upload", "3 Mbit/s", "--out", tmp_path / "p.json")
    dead = kestrel("rehearse", "--to", "rtmp://127.0.0.1:1/live")
    assert dead.code == 3
    with receive("another key") as (taking, address):
        refused = kestrel("rehearse", "--to", address, "--seconds", "2 s")
    assert refused.code == 3
    assert "refused" in refused.error_line
    assert taking.refused == 1
    with receive(CANARY) as (_, address):
        held = kestrel("rehearse", "--to", address, "--seconds", "2 s", "--json")
    assert held.code == 0, held.err
    leaked = kestrel("rehearse", "--to", f"rtmp://127.0.0.1:1/live?key={CANARY}")
    assert leaked.code == 2
    said = [result.out + result.err for result in (plan, dead, refused, held, leaked)]
    files = [path for path in (*home.rglob("*"), *tmp_path.rglob("*")) if path.is_file()]
    said += [path.read_bytes().decode("utf-8", "replace") for path in files]
    assert len(files) >= 2
    assert CANARY not in "".join(said)
    with pytest.raises(InputError) as caught:
        PublishTarget.parse(f"rtmp://x.example/live?key={CANARY}")
    assert CANARY not in str(caught.value)


def guide_with_servers(home: Path, first: str, backup: str) -> None:
    """A guide of one's own in place of the bundled one."""
    guide = OXBOW.model_copy(
        update={
            "servers": (
                Server(name="spare", url=backup, backup=True),
                Server(name="first", url=first),
            )
        }
    )
    (home / "guides").mkdir(parents=True, exist_ok=True)
    (home / "guides" / "oxbow.toml").write_text(guide_toml(guide))


def test_a_backup_takes_over_where_the_first_does_not_answer(
    kestrel: Kestrel, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Only a guide's own servers have one; and plans name the first one first."""
    monkeypatch.setenv("EAGER_KESTREL_STREAM_KEY", CANARY)
    dead = "rtmp://127.0.0.1:1/live"
    with receive(CANARY) as (taking, spare):
        guide_with_servers(home, dead, spare)
        made = kestrel("plan", "--for", "oxbow", "--upload", "3 Mbit/s", "--json").document
        assert made["destinations"][0]["servers"] == [dead, spare]
        gone = kestrel("rehearse", "--to", dead, "--seconds", "2 s", "--json")
        assert gone.code == 0, gone.err
        (one,) = gone.document["rehearsals"]
        assert one["went_over"] == [[0.0, spare]]
        assert one["verdict"]["held"]
        elsewhere = kestrel("rehearse", "--to", "rtmp://127.0.0.1:2/live", "--seconds", "2 s")
        assert elsewhere.code == 3
    assert len(taking.received) == 1


@pytest.mark.skipif(os.name == "nt", reason="Ctrl-C is sent as a POSIX signal")
def test_receive_waits_reports_and_hides_the_key(home: Path, tmp_path: Path) -> None:
    environment = os.environ | {"EAGER_KESTREL_STREAM_KEY": CANARY, "COLUMNS": "120"}
    command = [
        sys.executable,
        *shlex.split("-m eager_kestrel receive --port 0 --for oxbow --max-time"),
        "40 s",
        "--record",
        str(tmp_path / "r.flv"),
    ]
    with running(command, env=environment) as serving:
        assert serving.stderr is not None
        line = serving.stderr.readline()
        address = next(word for word in line.split() if word.startswith("rtmp://"))
        assert published_by_ffmpeg(f"{address}/{CANARY}", 4) == 0
        out, err = serving.communicate(timeout=30)
    assert serving.returncode == 1, err  # baseline is no profile of Oxbow's
    assert "320x180" in out
    assert re.search(r"profile +high\b", out)
    assert "It ended; the latest frame" in out
    assert CANARY not in line + out + err
    assert (tmp_path / "r.flv").stat().st_size > 100_000


@pytest.mark.skipif(os.name == "nt", reason="Ctrl-C is sent as a POSIX signal")
def test_a_simulated_platform_on_the_command_line(home: Path) -> None:
    command = [sys.executable, "-m", "eager_kestrel", "practice", "ingest", "gatepost", "--json"]
    with running(command) as serving:
        assert serving.stdout is not None
        lines = [serving.stdout.readline() for _ in range(6)]
        tier = json.loads("".join(lines))
        address = f"{tier['url']}/{tier['key']}"
        assert published_by_ffmpeg(address, 14, "-g", "600", "-r", "25") != 0  # cut off
        assert published_by_ffmpeg(address, 2) == 0
        serving.send_signal(signal.SIGINT)
        _, err = serving.communicate(timeout=30)
    assert serving.returncode == 0
    assert "no keyframe for" in err
    assert "stream 2: ended" in err
