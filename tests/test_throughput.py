"""What samples say: ramp, typical, floor, intervals, against traces whose truth is known."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions.samples import Arrivals, Samples
from eager_kestrel.core.connection.pooling import uplink_of
from eager_kestrel.core.connection.run import Endpoint, Phase, Run, Series
from eager_kestrel.core.connection.summarising import summary_of
from eager_kestrel.core.connection.throughput import (
    burst_end,
    floor_interval,
    known_well_enough,
    throughput,
)
from eager_kestrel.core.connection.trace import Trace
from eager_kestrel.core.connection.uplink import Uplink, assumed_uplink
from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.units import Bitrate, DataSize


def sampled(trace: Trace, seconds: float, begin: float = 0.0) -> Series:
    at = np.arange(0, seconds + 1e-9, 0.05)
    start = trace.bytes_until(begin)
    return Series(
        seconds=tuple(float(x) for x in at),
        delivered_bytes=tuple(int(trace.bytes_until(begin + float(x)) - start) for x in at),
    )


def run_of(series: Series, number: int = 1) -> Run:
    return Run(
        id=f"2026110{number}-200000-abcd",
        taken_at=f"2026-11-{number + 1:02}T20:00:00+01:00",
        version="1",
        endpoint=Endpoint(url="https://up.oxbow.example/upload"),
        counted_by="test",
        one_connection=Phase(name="one connection", connections=1, ended="time", samples=series),
    )


rates = st.floats(100, 500_000, allow_nan=False)


@given(rates)
def test_a_constant_line_is_known_exactly_and_at_once(kbps: float) -> None:
    series = sampled(Trace.constant(kbps), 6)
    found = throughput(series)
    assert found is not None
    assert found.typical_kbps == pytest.approx(kbps, rel=0.002)
    assert found.floor_kbps == pytest.approx(kbps, rel=0.002)
    assert found.ramp_seconds <= 1.1  # slow start and the repair of its overshoot are left out
    assert known_well_enough(series)


@given(st.floats(300, 9_000), st.integers(1, 3), st.floats(0, 1))
def test_packets_of_a_slow_line_do_not_show(kbps: float, packets: int, phase: float) -> None:
    """What arrives in steps is read when it arrives: the rate is the connection's."""
    step = packets * 1448
    clock = 0.0

    def sleep(seconds: float) -> None:
        nonlocal clock
        clock += seconds

    arrivals = Arrivals(
        lambda: int((clock * kbps * 125 + phase * step) // step) * step, lambda: clock, sleep
    )
    samples = Samples()
    for tick in range(1, 121):
        if (at := arrivals.until(tick * 0.05, kbps)) is not None:
            samples.add(at, arrivals.seen)
    found = throughput(samples.series())
    assert found is not None
    assert found.typical_kbps == pytest.approx(kbps, rel=0.003)
    assert found.floor_kbps == pytest.approx(kbps, rel=0.01)


def test_a_standstill_is_noted_while_it_lasts() -> None:
    clock = [0.0]

    def sleep(seconds: float) -> None:
        clock[0] += seconds

    arrivals = Arrivals(lambda: int(min(clock[0], 1.0) * 125_000), lambda: clock[0], sleep)
    noted = [arrivals.until(tick * 0.05, 1000) for tick in range(1, 61)]
    assert all(at is not None and at <= 1.001 for at in noted[:20])
    assert noted[20:24] == [None] * 4
    assert [at for at in noted[25:] if at is not None] == pytest.approx(
        [tick * 0.05 for tick in range(26, 61)]
    )


@given(rates, st.floats(0.5, 3.0))
def test_the_ramp_is_left_out(kbps: float, ramp: float) -> None:
    steps = np.arange(0, ramp, 0.1)
    climbing = [max(1.0, kbps * (s / ramp) ** 2) for s in steps]
    trace = Trace((*(float(s) for s in steps), ramp), (*climbing, kbps), 100.0)
    found = throughput(sampled(trace, 10))
    assert found is not None
    assert found.typical_kbps == pytest.approx(kbps, rel=0.01)
    assert found.floor_kbps >= 0.85 * kbps


@given(st.lists(rates, min_size=4, max_size=40), st.integers(1, 5))
def test_order_and_scale(stretches: list[float], factor: int) -> None:
    trace = Trace(
        tuple(0.5 * i for i in range(len(stretches))), tuple(stretches), 0.5 * len(stretches)
    )
    series = sampled(trace, 12)
    found = throughput(series)
    assert found is not None
    assert 0 < found.floor_kbps <= found.typical_kbps <= found.high_kbps
    assert min(stretches) * 0.99 - 1 <= found.floor_kbps
    assert found.high_kbps <= max(stretches) * 1.01 + 1
    larger = Series(
        seconds=series.seconds, delivered_bytes=tuple(b * factor for b in series.delivered_bytes)
    )
    scaled = throughput(larger)
    assert scaled is not None
    assert scaled.floor_kbps == pytest.approx(found.floor_kbps * factor, rel=1e-6)


def test_floor_is_the_tenth_percentile_of_true_windows() -> None:
    rng = np.random.default_rng(3)
    kbps = tuple(float(x) for x in rng.choice([8000, 4000], size=120, p=[0.8, 0.2]))
    trace = Trace(tuple(0.5 * i for i in range(120)), kbps, 60.0)
    found = throughput(sampled(trace, 60))
    assert found is not None
    true = np.percentile(trace.window_kbps(2.0), [10, 50])
    assert found.floor_kbps == pytest.approx(true[0], rel=0.05)
    assert found.typical_kbps == pytest.approx(true[1], rel=0.05)


def test_an_uneven_line_is_not_known_early() -> None:
    kbps = (8000.0, 8000.0, 3000.0, 8000.0, 8000.0, 5000.0)
    uneven = Trace(tuple(float(i) for i in range(6)), kbps, 6.0)
    series = sampled(uneven, 8)
    assert not known_well_enough(series)
    interval = floor_interval(series, np.random.default_rng(1))
    found = throughput(series)
    assert interval is not None
    assert found is not None
    assert interval[0] < interval[1]
    assert interval[0] <= found.floor_kbps * 1.1


def test_too_little_says_nothing() -> None:
    assert throughput(sampled(Trace.constant(8000), 0.9)) is None
    assert throughput(Series(seconds=(0.0, 1.0, 5.0), delivered_bytes=(0, 0, 0))) is None
    with pytest.raises(FormatError):
        uplink_of([run_of(sampled(Trace.constant(8000), 0.9))])
    with pytest.raises(ValueError, match="never fall"):
        Series(seconds=(0.0, 1.0), delivered_bytes=(5, 4))


def test_runs_are_pooled_with_equal_weight() -> None:
    long, short = sampled(Trace.constant(10_000), 30), sampled(Trace.constant(4_000), 6)
    both = uplink_of([run_of(long, 1), run_of(short, 2)])
    assert both.basis == "runs"
    assert 4_000 <= both.typical_kbps <= 10_000
    assert both.floor_kbps == pytest.approx(4_000, rel=0.01)
    assert both.floor_low_kbps is not None
    assert both.floor_high_kbps is not None
    assert both.floor_low_kbps <= both.floor_kbps <= both.floor_high_kbps
    assert both.floor_high_kbps > 9_000  # had only the good evening been seen
    alone = uplink_of([run_of(long, 1)])
    assert alone.basis == "one run"
    assert "not enough evidence" in alone.text


def test_equal_runs_give_equal_uplinks() -> None:
    runs = [run_of(sampled(Trace((0.0, 3.0), (8000.0, 5000.0), 6.0), 20), n) for n in (1, 2, 3)]
    assert uplink_of(runs) == uplink_of(runs)
    assert Uplink.model_validate_json(uplink_of(runs).model_dump_json()) == uplink_of(runs)


@given(st.integers(10**5, 10**10))
def test_a_bare_number_is_marked_as_assumed(bits: int) -> None:
    uplink = assumed_uplink(Bitrate(bits))
    assert uplink.basis == "assumed"
    assert uplink.floor_kbps < uplink.typical_kbps == bits / 1000
    assert "nothing was measured" in uplink.text


@given(
    st.lists(st.floats(0, 50_000), min_size=1, max_size=20).filter(lambda r: max(r) > 1),
    st.floats(0, 100),
)
def test_trace_integral_and_its_inverse(kbps: list[float], at: float) -> None:
    trace = Trace(tuple(float(i) for i in range(len(kbps))), tuple(kbps), float(len(kbps)))
    carried = trace.bytes_until(at)
    later = trace.when_carried(carried + 1)
    assert trace.bytes_until(later) == pytest.approx(carried + 1, abs=0.01 + carried * 1e-9)
    assert later >= at - 1e-6
    assert trace.bytes_until(at + 1) >= carried * (1 - 1e-12)


@given(rates, st.floats(0.15, 0.7), st.floats(3, 15), st.floats(5, 12))
def test_after_a_burst_only_what_lasts_counts(
    kbps: float, share: float, lasted: float, more: float
) -> None:
    """As a token bucket gives it: so many seconds at one rate, then a lower one for good."""
    line = Trace((0.0, lasted), (kbps, share * kbps), 1000.0)
    series = sampled(line, lasted + more)
    ended = burst_end(series)
    assert ended == pytest.approx(lasted, abs=0.6)
    found = throughput(series)
    assert found is not None
    assert found.typical_kbps == pytest.approx(share * kbps, rel=0.02)
    (said,) = [line for line in summary_of(run_of(series)).verdicts if "a burst" in line]
    assert "plans go by" in said


@given(rates, st.floats(0.15, 0.7), st.floats(5.5, 24))
def test_what_is_said_of_a_burst_is_when_it_ended(kbps: float, share: float, lasted: float) -> None:
    """Five seconds at full rate, then watched on to 30 s at nine tenths of it."""
    sent = 0.9 * kbps
    alone = run_of(sampled(Trace.constant(kbps), 5))
    on = Trace((0.0, lasted - 5), (sent, share * sent), 1000.0)
    watched = Phase(
        name="sustained", connections=1, samples=sampled(on, 25), max_kbps=sent, ended="time"
    )
    found = summary_of(alone.model_copy(update={"sustained": watched}))
    (said,) = [text for text in found.verdicts if "a burst" in text]
    assert float(said.split()[2]) == pytest.approx(lasted, abs=1.2)  # in whole seconds
    held = watched.model_copy(update={"samples": sampled(Trace.constant(sent), 25)})
    found = summary_of(alone.model_copy(update={"sustained": held}))
    assert not [text for text in found.verdicts if "burst" in text]
    (dear,) = [text for text in found.remarks if "burst" in text]
    assert str(DataSize(int(kbps * 125 * 75))) in dear
    ingest = Endpoint(url="rtmps://north.ingest.oxbow.example/live")
    (said,) = summary_of(alone.model_copy(update={"endpoint": ingest})).verdicts
    assert "a show that is watched tells" in said  # more time does not make a climb watch on


@given(rates, st.integers(0, 10_000), st.floats(6, 25))
def test_an_uneven_connection_is_no_burst(kbps: float, seed: int, seconds: float) -> None:
    """A dip that ends, or that deepens to a standstill, is none; and a little unevenness."""
    dips = Trace((0.0, 4.0, 5.0), (kbps, 0.4 * kbps, kbps), 1000.0)
    stands = Trace((0.0, 4.0), (kbps, 0.02 * kbps), 1000.0)
    little = Trace.uneven(kbps, 0.1, 1.0, 60.0, seed)
    for line in (dips, stands, little, Trace.constant(kbps)):
        assert burst_end(sampled(line, seconds)) is None


@given(rates, st.floats(0.2, 0.6))
def test_what_one_connection_lost_meanwhile_is_not_planned_by(kbps: float, share: float) -> None:
    """Several connections carry no less than one, unless the rate did not last."""
    run = run_of(sampled(Trace.constant(kbps), 6))
    later = Phase(
        name="several connections",
        connections=4,
        ended="time",
        samples=sampled(Trace.constant(share * kbps), 6),
    )
    uplink = uplink_of([run.model_copy(update={"several_connections": later})])
    assert uplink.typical_kbps == pytest.approx(share * kbps, rel=0.02)
    held = later.model_copy(update={"name": "sustained", "max_kbps": share * kbps})
    kept = uplink_of([run.model_copy(update={"sustained": held})])  # no more was sent
    assert kept.typical_kbps == pytest.approx(kbps, rel=0.02)
