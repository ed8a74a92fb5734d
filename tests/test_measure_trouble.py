"""The rest of ``measure``: several connections, counters, trouble on the connection, schedules."""

from __future__ import annotations

import contextlib
import socket
import time
from itertools import pairwise
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions.practice import SimulatedTrouble, simulated_connection, simulated_uplink
from eager_kestrel.core.choice.budget import budget
from eager_kestrel.core.connection.run import Background
from eager_kestrel.core.connection.summarising import summary_of
from eager_kestrel.core.connection.throughput import window_rates
from eager_kestrel.core.connection.trace import Trace
from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.units import Bitrate
from eager_kestrel.net.addresses import shown_url
from eager_kestrel.net.connections import BackgroundWatch
from eager_kestrel.net.delivered import FALLBACK_SEND_BUFFER, delivered_counter
from eager_kestrel.net.target import find_target
from eager_kestrel.practice.endpoint import Behaviour, PracticeEndpoint
from eager_kestrel.wire.publishing import OPENING_BYTES, is_opening_answer, opening, opening_answer
from tests.conftest import Kestrel, timed
from tests.test_measure import EIGHT, measured
from tests.test_throughput import run_of, sampled


@timed
def test_one_connection_against_several_is_a_verdict(kestrel: Kestrel) -> None:
    capped = simulated_connection(EIGHT, trouble=SimulatedTrouble(per_connection_kbps=2500))
    with simulated_uplink(capped) as up:
        result = kestrel("measure", up.url, "--seconds", "5 s", "--json")
    run = result.document
    assert run["summary"]["one_connection"]["typical_kbps"] == pytest.approx(2500, rel=0.05)
    assert run["summary"]["several_connections"]["typical_kbps"] == pytest.approx(8000, rel=0.05)
    assert (
        run["summary"]["uplink"]["typical_kbps"] == run["summary"]["one_connection"]["typical_kbps"]
    )
    assert any("one connection carries 3" in line for line in run["summary"]["verdicts"])


@timed
def test_the_portable_estimate_is_near_the_truth(kestrel: Kestrel) -> None:
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        run = measured(kestrel, up.url, "--estimate", "--samples", seconds="5 s").document
    assert run["counted_by"].startswith("estimate")
    assert run["summary"]["uplink"]["typical_kbps"] == pytest.approx(8000, rel=0.05)
    seconds = run["one_connection"]["samples"]["seconds"]
    bytes_ = run["one_connection"]["samples"]["delivered_bytes"]
    whole = bytes_[-1] * 8 / seconds[-1] / 1000  # confirmed by the endpoint's answer
    assert whole == pytest.approx(8000, rel=0.08)


@timed
def test_other_traffic_and_stalls_show_in_the_samples(kestrel: Kestrel) -> None:
    trouble = SimulatedTrouble(others=((4.0, 4000.0),), stalls=((6.0, 1.0),))
    with simulated_uplink(simulated_connection(EIGHT, trouble=trouble)) as up:
        run = measured(kestrel, up.url, "--samples", seconds="8 s").document
    samples = run["one_connection"]["samples"]
    rates = window_rates(np.array(samples["seconds"]), np.array(samples["delivered_bytes"]))
    assert max(rates) == pytest.approx(8000, rel=0.1)
    assert min(rates) < 2600
    assert run["one_connection"]["ended"] == "time"
    waits = [t["round_trip_ms"] for t in run["one_connection"]["round_trips"]]
    assert max(w for w in waits if w) > 500  # a small request sat out the stall in the queue


@timed
def test_a_longer_queue_means_longer_waits(kestrel: Kestrel) -> None:
    medians = []
    for queue in (16_384, 131_072):
        with simulated_uplink(simulated_connection(EIGHT, queue_bytes=queue)) as up:
            run = measured(kestrel, up.url, seconds="3 s").document
        medians.append(run["summary"]["loaded"]["median_ms"])
    assert medians[1] - medians[0] == pytest.approx((131_072 - 16_384) * 8 / 8000, rel=0.5)


def test_a_bare_origin_names_its_upload_address(kestrel: Kestrel) -> None:
    with (
        simulated_uplink(simulated_connection(EIGHT)) as up,
        PracticeEndpoint(Behaviour(upload_url=up.url)) as origin,
    ):
        bare = measured(kestrel, f"http://127.0.0.1:{origin.port}", seconds="2 s").document
        deep = measured(kestrel, f"http://127.0.0.1:{origin.port}/deep", seconds="2 s").document
    assert bare["endpoint"]["found_by"] == "responsiveness configuration"
    assert bare["endpoint"]["url"] == up.url
    assert deep["endpoint"]["url"].endswith("/deep")


def test_binding_and_address_families(kestrel: Kestrel) -> None:
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        bound = measured(kestrel, up.url, "--bind", "127.0.0.1", seconds="2 s")
        assert bound.document["endpoint"]["bound_to"] == "127.0.0.1"
        assert measured(kestrel, up.url, "--ipv4", seconds="2 s").code == 0
        assert measured(kestrel, up.url, "--ipv6", seconds="2 s").code == 3
        wrong = measured(kestrel, up.url, "--bind", "203.0.113.7")
        both = measured(kestrel, up.url, "--ipv4", "--ipv6")
    assert wrong.code == 2
    assert "127.0.0.1" in wrong.error_line
    assert both.code == 2


def test_a_proxy_from_the_environment_is_used_and_said(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch
) -> None:
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        monkeypatch.setenv("http_proxy", up.url.replace("/upload", "").replace("//", "//me:key@"))
        run = measured(kestrel, "http://up.oxbow.example/upload", seconds="2 s").document
    assert run["endpoint"]["proxy"].startswith("http://127.0.0.1:")
    assert any("through the proxy" in note for note in run["notes"])
    assert "key" not in str(run)


def test_small_uploads_only_is_lived_with_and_said(kestrel: Kestrel) -> None:
    behaviour = Behaviour(status=413, small_status=200, most_bytes=9_000_000)
    with simulated_uplink(simulated_connection(EIGHT), behaviour=behaviour) as up:
        result = measured(kestrel, up.url, seconds="4 s")
    assert result.code == 0, result.err
    assert any("only small uploads" in note for note in result.document["notes"])


def test_a_schedule_survives_a_failed_run(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch
) -> None:
    from eager_kestrel.actions import measuring as action
    from eager_kestrel.core.errors import NetworkError

    real, calls = find_target, []

    def sometimes(*arguments: object, **named: object) -> object:
        calls.append(1)
        if len(calls) == 2:
            raise NetworkError("there is no route to it", "check that this machine is online", "x")
        return real(*arguments, **named)  # type: ignore[arg-type]

    monkeypatch.setattr(action, "find_target", sometimes)
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        result = measured(kestrel, up.url, "--repeat", "3", "--every", "1 s", seconds="2 s")
    assert result.code == 1
    assert "run 2 failed" in result.err
    assert len(result.document["runs"]) == 2
    assert len(result.document["failed"]) == 1
    assert result.document["uplink"]["basis"] == "runs"
    assert sum(quarter["failed"] for quarter in result.document["quarters"]) == 1
    safe = {budget(Uplink.model_validate(result.document["uplink"]), 0.7, ()).safe_kbps}
    assert result.document["safe_kbps"] in safe
    kept = kestrel("runs", "list", "--json").document["runs"]
    assert len(kept) == 3  # that the connection was down is a finding
    assert [row["typical_kbps"] is None for row in kept] == [False, True, False]
    nowhere = measured(kestrel, "http://127.0.0.1:1/", "--repeat", "2", "--every", "1 s")
    assert nowhere.code == 3
    assert "none of 2 runs" in nowhere.err


def test_a_figure_is_drawn_and_its_name_checked_first(kestrel: Kestrel, tmp_path: Path) -> None:
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        done = measured(kestrel, up.url, "--figure", str(tmp_path / "f" / "run.svg"), seconds="2 s")
    wrong = measured(kestrel, "http://127.0.0.1:1/", "--figure", "run.jpgg")
    assert done.code == 0
    assert done.document["one_connection"]["samples"]["seconds"] == []
    assert "no samples" not in (tmp_path / "f" / "run.svg").read_text()
    assert wrong.code == 2  # nothing was asked of an address where nobody is


def test_a_run_is_written_by_extension_and_can_be_imported(
    kestrel: Kestrel, tmp_path: Path
) -> None:
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        done = measured(
            kestrel, up.url, "--out", str(tmp_path / "run.json"), "--no-keep", seconds="2 s"
        )
        wrong = measured(kestrel, up.url, "--out", "run.txt")
    assert done.code == 0
    assert wrong.code == 2
    assert "name it .csv, .json" in wrong.error_line
    assert kestrel("runs", "list", "--json").document["runs"] == []
    assert kestrel("runs", "import", tmp_path / "run.json", "--json").document["added"] == 1
    kept = kestrel("runs", "show", "latest", "--json").document
    assert (
        kept["summary"]["uplink"]["typical_kbps"]
        == done.document["summary"]["uplink"]["typical_kbps"]
    )


@timed
def test_a_wall_clock_that_jumps_changes_nothing(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = time.time
    monkeypatch.setattr(time, "time", lambda: real() - 3600 * (real() % 2))
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        run = measured(kestrel, up.url, seconds="3 s").document
    # Read by that clock, a rate would be a thousandth or nothing, not a tenth less.
    assert run["summary"]["uplink"]["typical_kbps"] == pytest.approx(8000, rel=0.15)


def test_background_upload_is_named() -> None:
    run = run_of(sampled(Trace.constant(8000), 6))
    busy = run.model_copy(update={"background": Background(upload_kbps=900, watched_seconds=1.2)})
    quiet = run.model_copy(update={"background": Background(upload_kbps=40, watched_seconds=1.2)})
    assert any("already sending 900 kbit/s" in line for line in summary_of(busy).verdicts)
    assert not any("already sending" in line for line in summary_of(quiet).verdicts)


def test_background_is_what_leaves_by_every_way_but_loopback(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    sent, now = {"en7": 1000, "wl2": 50, "lo": 10}, [100.0]
    monkeypatch.setattr(time, "perf_counter", lambda: now[0])
    monkeypatch.setattr(
        "psutil.net_io_counters",
        lambda pernic: {name: SimpleNamespace(bytes_sent=count) for name, count in sent.items()},
    )
    monkeypatch.setattr(
        "psutil.net_if_stats",
        lambda: {
            name: SimpleNamespace(flags="up,loopback" if name == "lo" else "up") for name in sent
        },
    )
    watch = BackgroundWatch()
    sent |= {"en7": 251_000, "wl2": 125_050, "lo": 9_000_000}
    now[0] += 2
    assert watch.so_far() == Background(upload_kbps=1500, watched_seconds=2)
    sent["en7"] = 0  # an interface that was taken down and came back counts from zero
    assert watch.so_far().upload_kbps < 1500


@pytest.mark.parametrize("estimate", [False, True], ids=["kernel", "estimate"])
def test_counters_never_count_what_the_peer_does_not_have(estimate: bool) -> None:
    """On this system's own kernel; the other systems' counters are tested when run there."""
    with socket.create_server(("127.0.0.1", 0)) as door:
        door.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 65_536)
        sender = socket.create_connection(door.getsockname())
        peer, _ = door.accept()
    written = 0
    with sender, peer:
        counter = delivered_counter(sender, lambda: written, estimate=estimate)
        assert counter.kind.startswith("estimate" if estimate else "kernel")
        sender.setblocking(False)
        with contextlib.suppress(BlockingIOError):
            while True:  # until every buffer on the way is full, and nobody reads
                written += sender.send(bytes(65_536))
        stuck = counter.delivered_bytes()
        assert stuck < written
        had = 0
        while had < written:
            had += len(peer.recv(1 << 20))
        until = time.perf_counter() + 5
        while (now := counter.delivered_bytes()) < written and time.perf_counter() < until:
            time.sleep(0.01)
            if estimate:
                break
        assert stuck <= now
        true = max(0, written - FALLBACK_SEND_BUFFER) if estimate else written
        assert true <= now <= true + 1  # a kernel may count the opening as a byte
    with pytest.raises(OSError, match=r"."):
        counter.delivered_bytes()


def test_addresses_are_shown_without_anything_secret() -> None:
    assert shown_url("https://me:pw@up.oxbow.example:8443/p?key=k#x") == (
        "https://up.oxbow.example:8443/p"
    )
    assert shown_url("http://[::1]:80/u") == "http://[::1]:80/u"


@given(st.floats(500, 20_000), st.floats(0, 30), st.floats(0.5, 5), st.floats(0, 60))
def test_trouble_only_ever_takes_away(kbps: float, begin: float, length: float, at: float) -> None:
    line = Trace((0.0, 1.0), (kbps, kbps / 2), 3.0)
    stalled = line.with_stall(begin, begin + length, 100.0)
    for worse in (stalled, line.with_others(kbps * 0.9, begin, 100.0)):
        assert worse.bytes_until(at) <= line.bytes_until(at) + 1
        if at <= begin:
            assert worse.bytes_until(at) == pytest.approx(line.bytes_until(at), abs=1)
    assert stalled.bytes_until(begin + length) == pytest.approx(stalled.bytes_until(begin), abs=1)


def test_wandering_lines_come_from_their_seed() -> None:
    one, same, other = (
        simulated_connection(EIGHT, trouble=SimulatedTrouble(spread=0.3, seed=s)).trace
        for s in (1, 1, 2)
    )
    assert one == same != other
    assert all(5600 <= k <= 10_400 for k in one.kbps)
    assert len({round(b - a, 3) for a, b in pairwise(one.kbps)}) > 10


@given(st.binary(min_size=1528, max_size=1528), st.integers(0, 2**40))
def test_rtmp_opening(random: bytes, clock: int) -> None:
    hello = opening(clock, random)
    assert len(hello) == OPENING_BYTES
    answer = opening_answer(hello)
    assert is_opening_answer(answer[:1])
    assert answer[-1536:] == hello[1:]  # S2 echoes C1
    with pytest.raises(ValueError, match="1528"):
        opening(clock, random[1:])


def test_practice_options_in_words(kestrel: Kestrel) -> None:
    for options, says in (
        (("--stall", "3 s"), 'write "3 s@10 s"'),
        (("--others", "2@8 s"), "write 2 Mbit/s"),
        (("--spread", "0.2"), 'write "20 %"'),
    ):
        result = kestrel("practice", "uplink", "8 Mbit/s", *options)
        assert result.code == 2
        assert says in result.error_line


def test_bitrates_of_units_match() -> None:
    assert Bitrate.parse("8 Mbit/s") == EIGHT
