"""Climbing: what a sender sees is enough to find a line's rate, and the queue stays short."""

from __future__ import annotations

import shlex
import socket
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions.practice import simulated_connection, simulated_uplink
from eager_kestrel.actions.receiving import Reception, receive
from eager_kestrel.core.connection.climbing import Climb, SenderSample
from eager_kestrel.core.guide.rules import Server
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.guides import guide_toml, load_guide
from eager_kestrel.net.pacing import PACKET_BYTES, Pacer, packet_bytes
from eager_kestrel.practice.uplink import PracticeUplink
from tests.conftest import Kestrel, timed
from tests.tcp import Tcp

CANARY = "canary-7f3a-do-not-show"


def made_of(mbps: float, trip: float, share: float = 0.0) -> Tcp:
    """A link with all the queue it wants, and a window that is open."""
    return Tcp(mbps, trip, control="open", queue=100.0, window=1e9, other_share=share)


def found(climb: Climb, made: Tcp) -> float:
    return float(np.median(climb.rates_kbps)) / made.left_kbps - 1


@given(st.floats(1.0, 300.0), st.floats(0.0005, 0.060))
def test_a_climb_finds_the_rate_and_hardly_uses_the_queue(mbps: float, way: float) -> None:
    made, climb = made_of(mbps, way), Climb()
    seconds = made.climbed(climb, 15.0)
    assert climb.over
    assert seconds < 15
    assert abs(found(climb, made)) < 0.03
    assert made.long_seconds < 1
    assert made.longest_queue < 0.15 + way + 0.012 / mbps  # heard late; and a packet
    if mbps >= 6:  # of a second at the full rate, where a flood takes five
        assert made.delivered / (made.left_kbps * 125) < (0.58 + 2 * way) * 5


@given(st.floats(4.0, 300.0), st.floats(0.0005, 0.030), st.floats(0.1, 0.5))
def test_beside_somebody_else_it_finds_what_is_left(mbps: float, way: float, share: float) -> None:
    made, climb = made_of(mbps, way, share), Climb()
    made.climbed(climb, 15.0)
    assert abs(found(climb, made)) < 0.05
    assert made.long_seconds < 1


@given(
    mbps=st.sampled_from([1.0, 3.0, 8.0, 20.0]),
    trip=st.sampled_from([0.01, 0.02, 0.05, 0.1, 0.3]),
    loss=st.sampled_from([0.0, 0.0, 0.002, 0.005, 0.01]),
    control=st.sampled_from(["cubic", "bbr"]),
    seed=st.integers(0, 10_000),
)
def test_beside_losses_and_on_long_ways_it_is_right_or_says_that_it_cannot_tell(
    mbps: float, trip: float, loss: float, control: str, seed: int
) -> None:
    climb = Climb()
    seconds = Tcp(mbps, trip, loss, control, seed=seed).climbed(climb, 90.0)
    assert climb.over or climb.resent_packets
    assert seconds < 13 + 110 * trip + 5
    if loss == 0 and (trip < 0.3 or mbps <= 3 or control == "bbr"):
        assert not climb.unsure
    unseen = loss > 0 and control == "cubic" and climb.resent == 0  # by chance
    if climb.unsure or not climb.rates_kbps or unseen:
        return
    bare = Tcp(mbps, trip, loss, control, seed=seed + 1).bare_kbps(25 if trip > 0.1 else 8, 15.0)
    varies = 0.12 if loss and control == "cubic" else 0.06  # a bare sender itself
    assert float(np.median(climb.rates_kbps)) == pytest.approx(bare, rel=varies)


def test_a_sender_that_is_held_up_blames_neither_the_queue_nor_the_rate() -> None:
    """By a machine that is stolen from it: no call of ours comes for a while, again and again."""
    for most in (None, 1000.0):
        climb, made = Climb(max_kbps=most), made_of(8.0, 0.01)
        look, held_until = climb.look, 0.0

        def late(moment: SenderSample, look: Callable[[SenderSample], None] = look) -> None:
            nonlocal held_until
            if moment.seconds >= held_until:
                look(moment)
                held_until = moment.seconds + (0.05 if int(moment.seconds * 10) % 3 == 0 else 0.0)

        climb.look = late  # type: ignore[method-assign, assignment]
        made.climbed(climb, 40.0)
        assert climb.over
        assert float(np.median(climb.rates_kbps)) == pytest.approx(
            min(made.left_kbps, most or 1e9), rel=0.05
        )


@given(st.floats(2.0, 50.0), st.floats(0.05, 3.0))
def test_the_most_that_is_allowed_is_never_passed(mbps: float, part: float) -> None:
    made = made_of(mbps, 0.01)
    climb = Climb(max_kbps=part * made.left_kbps)
    seen: list[float] = []
    look = climb.look

    def noted(moment: SenderSample) -> None:
        seen.append(climb.rate_kbps)
        look(moment)

    climb.look = noted  # type: ignore[assignment, method-assign]
    made.climbed(climb, 15.0)
    assert climb.max_kbps is not None
    assert max(seen) <= climb.max_kbps
    assert climb.held_most == (part < 0.97) or 0.9 < part < 1.1
    if part < 0.9:
        assert np.median(climb.rates_kbps) == pytest.approx(climb.max_kbps, rel=0.03)


@timed
def test_measure_gently_end_to_end(kestrel: Kestrel, tmp_path: Path) -> None:
    with simulated_uplink(simulated_connection(Bitrate.parse("8 Mbit/s"))) as up:
        small = kestrel("measure", up.url, "--gently", "--data-limit", "300 kB")
        assert small.code == 2
        assert "the data limit was used up" in small.err
        assert "or more" in small.err
        result = kestrel(
            "measure", up.url, "--gently", "--json", "--samples", "--figure", tmp_path / "climb.png"
        )
        shown = kestrel("runs", "show", result.document["id"])
    assert result.code == 0, result.err
    run = result.document
    phase = run["one_connection"]
    assert phase["method"] == "climbing"
    assert 0 <= phase["late_share"] < 0.5  # how long this machine held it up
    assert run["several_connections"] is None
    figures = run["summary"]["one_connection"]
    assert figures["typical_kbps"] == pytest.approx(8000, rel=0.05)
    assert figures["steady_seconds"] == pytest.approx(
        sum(end - begin for begin, end in phase["samples"]["stretches"]), abs=0.01
    )
    assert "short stretches" in " ".join(shown.out.replace("│", " ").split())
    assert kestrel("plan", "--for", "oxbow").code == 0
    assert (tmp_path / "climb.png").stat().st_size > 10_000
    again = kestrel("runs", "export", tmp_path / "runs.json")
    assert again.code == 0, again.err
    assert kestrel("runs", "import", tmp_path / "runs.json").code == 0


def behind_a_line(taking_address: str, rate: str) -> PracticeUplink:
    port = int(taking_address.rsplit(":", 1)[1].split("/")[0])
    return PracticeUplink(simulated_connection(Bitrate.parse(rate)), port)


def sent_to(taking: Reception) -> str:
    (one,) = taking.received
    assert one.findings is not None
    assert one.findings.recording is not None
    return f"{one.findings.recording.video.codec} {one.findings.recording.video.resolution}"


@timed
@pytest.mark.parametrize(("rate", "kbps"), [("4 Mbit/s", 4000), ("20 Mbit/s", 6000)])
def test_an_ingest_is_measured_and_its_ceiling_kept(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch, rate: str, kbps: float
) -> None:
    monkeypatch.setenv("EAGER_KESTREL_STREAM_KEY", CANARY)
    with receive(CANARY) as (taking, address), behind_a_line(address, rate) as line:
        url = f"rtmp://127.0.0.1:{line.port}/live"
        result = kestrel("measure", url, "--json")
        assert taking.wait(5, 1)
        sent = sent_to(taking)
        last = kestrel("endpoints", "list", "--json").document["last"]
        history = kestrel("runs", "list")
    assert result.code == 0, result.err
    phase = result.document["one_connection"]
    figures = result.document["summary"]["one_connection"]
    assert figures["typical_kbps"] == pytest.approx(kbps, rel=0.08)  # a relay takes bursts
    assert (phase["max_kbps"] is not None) == (kbps == 6000)
    assert ("the upload may be higher" in " ".join(result.document["summary"]["remarks"])) == (
        kbps == 6000
    )
    assert "some platforms go live by themselves" in result.err
    assert "nothing above 6 Mbit/s is sent" in result.err
    assert sent == "h264 640x360"
    assert last == url
    assert CANARY not in result.out + result.err + history.out


def test_a_private_way_is_taken_and_said(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("EAGER_KESTREL_STREAM_KEY", CANARY)
    oxbow = load_guide("oxbow")
    suffix = oxbow.private
    assert suffix is not None
    with receive(f"{CANARY}{suffix.key_suffix}") as (taking, address):
        points = (Server(name="Coast", url=address),)
        folder = tmp_path / "guides"
        folder.mkdir()
        text = guide_toml(oxbow.model_copy(update={"servers": points}))
        (folder / "oxbow.toml").write_text(text)
        result = kestrel(
            *shlex.split("measure --to oxbow --server coast --guides"),
            folder,
            "--max-rate",
            "1 Mbit/s",
            "--json",
        )
        assert taking.wait(5, 1)
    assert result.code == 0, result.err
    assert f'"{suffix.key_suffix}" is put behind the key' in result.err
    assert result.document["one_connection"]["max_kbps"] == 1000
    assert taking.refused == 0


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (("--to", "oxbo"), 'write "oxbow"'),
        (("--to", "oxbow", "--server", "Coats"), 'write "Coast"'),
        (("--to", "oxbow", "--practice", "wet-evening"), "more than one endpoint"),
        (("rtmp://127.0.0.1/live/secret-key",), "keep the key in the keyring"),
        (("rtmp://127.0.0.1/live", "--bind", "127.0.0.1"), "go with an http address"),
        (("https://up.oxbow.example/x", "--max-rate", "3 Mbit/s"), "go with an ingest"),
        (("https://up.oxbow.example/x", "--gently", "--estimate"), "leave out --estimate"),
        (("rtmp://127.0.0.1:1/live",), "no stream key for 127.0.0.1"),
    ],
)
def test_what_cannot_be_gets_one_line(
    kestrel: Kestrel, arguments: tuple[str, ...], says: str
) -> None:
    result = kestrel("measure", *arguments)
    assert result.code == 2
    assert says in result.err.strip().splitlines()[-1]


@pytest.mark.skipif(not hasattr(socket, "TCP_MAXSEG"), reason="this system does not tell it")
@pytest.mark.parametrize("most", [600, 1200, 1428, 60_000])
def test_what_is_written_is_whole_packets_of_the_connection(most: int) -> None:
    """A tunnel, or IPv6, holds less in a packet: a write that does not fit ends in a small one."""
    with socket.create_server(("127.0.0.1", 0)) as server, socket.socket() as near:
        near.setsockopt(socket.IPPROTO_TCP, socket.TCP_MAXSEG, min(most, 32_767))
        near.connect(server.getsockname())
        pace = Pacer(8000.0)
        pace.packet_bytes = packet_bytes(near)
        assert pace.packet_bytes <= min(most, PACKET_BYTES)
        for kbps in (100.0, 3000.0, 80_000.0):
            pace.kbps = kbps
            assert pace.write_bytes % pace.packet_bytes == 0
            assert pace.write_bytes >= 2 * pace.packet_bytes
