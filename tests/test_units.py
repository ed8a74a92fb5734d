"""Quantities: strict in, plain out, rounded down."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given, strategies as st

from eager_kestrel.core.errors import UnitError
from eager_kestrel.core.resolution import AspectRatio, Resolution, frame_rate_text, parse_frame_rate
from eager_kestrel.core.units import (
    Bitrate,
    DataSize,
    parse_hours_a_month,
    parse_seconds,
    parse_share,
)


@pytest.mark.parametrize(
    ("written", "bits"),
    [
        ("12 Mbit/s", 12_000_000),
        ("12Mbps", 12_000_000),
        ("12 Mb/s", 12_000_000),
        ("12 Mb", 12_000_000),
        ("12 mbit/s", 12_000_000),
        ("6000 kbit/s", 6_000_000),
        ("6000kbps", 6_000_000),
        ("6000 Kbps", 6_000_000),
        ("1.5 MB/s", 12_000_000),
        ("1.5 MBps", 12_000_000),
        ("100 kB/s", 800_000),
        ("1 MiB/s", 8_388_608),
        (".5 Gbit/s", 500_000_000),
        ("900 bit/s", 900),
    ],
)
def test_rates_are_read_as_written(written: str, bits: int) -> None:
    assert Bitrate.parse(written).bits_per_second == bits


@pytest.mark.parametrize(
    ("written", "says"),
    [
        ("18", "write 18 Mbit/s or 18 kbit/s"),
        ("18 mb", "18 Mbit/s for bits or 18 MB/s for bytes"),
        ("18 mb/s", "may mean bits or bytes"),
        ("18 MBPS", "may mean bits or bytes"),
        ("18 MB", "write 18 MB/s"),
        ("12,5 Mbit/s", "comma"),
        ("4,500 kbit/s", "comma"),
        ("-3 Mbit/s", "zero or more"),
        ("0 Mbit/s", "above zero"),
        ("18 Mbit/h", "not a unit"),
        ("fast", "is not a bitrate"),
        ("", "is not a bitrate"),
        ("nan Mbit/s", "is not a bitrate"),
        ("1e9 Mbit/s", "not a unit"),
        ("99999 Gbit/s", "check the unit"),
    ],
)
def test_slips_are_refused_with_what_to_write(written: str, says: str) -> None:
    with pytest.raises(UnitError) as caught:
        Bitrate.parse(written)
    assert says in caught.value.line()
    assert "\n" not in caught.value.line()


@given(st.text(max_size=30))
def test_no_text_breaks_the_reader(written: str) -> None:
    for read in (
        Bitrate.parse,
        DataSize.parse,
        parse_seconds,
        parse_share,
        Resolution.parse,
        AspectRatio.parse,
        parse_frame_rate,
    ):
        try:
            read(written)
        except UnitError as error:
            assert "\n" not in error.line()


@given(st.integers(1, 10**11))
def test_rounding_down_lands_on_a_step_and_never_goes_up(bits: int) -> None:
    rounded = Bitrate(bits).rounded_down()
    step = 50_000 if bits < 2_000_000 else 100_000
    assert rounded.bits_per_second <= bits < rounded.bits_per_second + step
    assert rounded.bits_per_second % step == 0
    assert rounded.rounded_down() == rounded


@given(st.integers(1, 10**11))
def test_what_is_said_can_be_read_back_to_three_figures(bits: int) -> None:
    said = str(Bitrate(bits)).replace(",", "")
    if not said.startswith("0 "):
        assert Bitrate.parse(said).bits_per_second == pytest.approx(bits, rel=0.01, abs=500)


def test_data_times_and_shares() -> None:
    assert DataSize.parse("200 MB").bytes == 200_000_000
    assert DataSize.parse("1 GiB").bytes == 2**30
    assert str(DataSize(48_300_000)) == "48.3 MB"
    assert parse_seconds("10min") == 600
    assert parse_seconds("500 ms") == 0.5
    assert parse_share("70 %") == pytest.approx(0.7)
    for read, bad, says in (
        (DataSize.parse, "200", "write 200 MB"),
        (DataSize.parse, "200 Mb", "write 200 MB"),
        (parse_seconds, "5", "write 5 s"),
        (parse_share, "0.7", 'write "70 %"'),
        (parse_share, "120 %", "up to 100 %"),
    ):
        with pytest.raises(UnitError) as caught:
            read(bad)
        assert says in caught.value.line()


def test_frame_rates_are_exact_and_resolutions_have_a_shape() -> None:
    assert parse_frame_rate("29.97") == Fraction(30000, 1001)
    assert parse_frame_rate("59.94 fps") == Fraction(60000, 1001)
    assert frame_rate_text(Fraction(30000, 1001)) == "29.97"
    assert frame_rate_text(Fraction(60)) == "60"
    assert Resolution.parse("1920 x 1080").shape == AspectRatio(16, 9)
    assert AspectRatio.parse("16:9").fits(Resolution(848, 480))
    assert not AspectRatio.parse("4:3").fits(Resolution(848, 480))
    assert Resolution.parse("720p") == Resolution(1280, 720)
    with pytest.raises(UnitError, match="1280x720"):
        Resolution.parse("720")


@given(st.integers(10, 240), st.sampled_from([2, 3]))
def test_rates_of_the_1000_1001_family_are_known_by_their_digits(whole: int, digits: int) -> None:
    rate = Fraction(whole * 1000, 1001)
    assert parse_frame_rate(f"{float(rate):.{digits}f}") == rate
    assert parse_frame_rate(f"{float(rate):.3f}0") == rate
    assert parse_frame_rate(frame_rate_text(rate)) == rate
    assert parse_frame_rate(f"{whole}.50") == whole + Fraction(1, 2)


def test_two_rates_are_asked_about_and_capitals_are_read() -> None:
    assert Bitrate.parse("12 MBit/s") == Bitrate.parse("12 Mbit/s")
    with pytest.raises(UnitError) as caught:
        Bitrate.parse("100/20 Mbit/s")
    assert caught.value.instead == "write 20 Mbit/s if that is the upload"


@pytest.mark.parametrize(
    ("written", "hours"),
    [("12", 12), ("12 h", 12), ("12h a month", 12), ("3/week", 13.04), ("3 h a week", 13.04)],
)
def test_hours_are_read_by_month_and_week(written: str, hours: float) -> None:
    assert parse_hours_a_month(written) == pytest.approx(hours, abs=0.01)


@pytest.mark.parametrize("written", ["", "x", "0", "-3", "800", "3 h a fortnight", "1e9"])
def test_other_hours_get_a_line(written: str) -> None:
    with pytest.raises(UnitError, match="is not how long you stream"):
        parse_hours_a_month(written)
