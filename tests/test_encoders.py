"""``encoders``: what is measured of this machine, and that plans keep to it."""

from __future__ import annotations

import itertools
import json
import platform
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path

import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions import encoders as measuring
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.machine import EncoderPoint, MeasuredMachine
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.media import encoders as media
from eager_kestrel.media.encoders import FRAMES, made_frames
from tests.conftest import Kestrel, timed
from tests.test_plan import planned, show

SMALL = ("--resolution", "160x96", "--fps", "24")
ORDER = ("ultrafast", "veryfast", "medium")


@pytest.fixture
def quick(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(measuring, "POINT_SECONDS", 0.05)
    monkeypatch.setattr(measuring, "LOOK_SECONDS", 0.05)
    monkeypatch.setattr(media, "WARM_SECONDS", 0.02)


def machine_of(
    speeds: list[float], others: float = 0.0, resolution: str = "1280x720"
) -> MeasuredMachine:
    return MeasuredMachine(
        version="1",
        taken_at="2026-11-20T20:00:00+01:00",
        name="bench",
        processor="p",
        cores=4,
        others_share=others,
        points=tuple(
            EncoderPoint(
                encoder="libx264",
                codec="h264",
                preset=preset,
                resolution=Resolution.parse(resolution),
                wanted=Fraction(60),
                fps=fps,
                cores_share=0.5,
                seconds=3.0,
            )
            for preset, fps in zip(ORDER, speeds, strict=False)
        ),
    )


@timed
def test_encoders_are_measured_kept_and_planned_by(
    kestrel: Kestrel, quick: None, tmp_path: Path
) -> None:
    free = kestrel("plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--json").document
    assert free["inputs"]["machine"] == ""
    found = kestrel("encoders", *SMALL, "--codec", "h264", "--figure", tmp_path / "e.svg", "--json")
    assert found.code == 0, found.err
    document = found.document
    assert document["format"] == "eager-kestrel/machine/3"
    first = next(point for point in document["points"] if point["encoder"] == "libx264")
    assert (first["width"], first["height"], first["wanted_fps"]) == (160, 96, 24)
    assert first["preset"] == "ultrafast"
    assert first["fps"] > 24
    assert 0 < first["cores_share"] < 1
    assert (tmp_path / "e.svg").stat().st_size > 2000
    made = kestrel("plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--json").document
    said = made["inputs"]["machine"]
    assert said.startswith("this machine's encoders as measured today")  # a plan tells no name
    assert made["destinations"][0]["video"]["preset"] is not None
    aside = kestrel("plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--ignore-machine", "--json")
    assert aside.document["destinations"] == free["destinations"]


def test_a_show_file_says_nothing_of_this_machine(
    kestrel: Kestrel, quick: None, tmp_path: Path
) -> None:
    """What was measured here is read anew for every plan, never written into somebody's file."""
    assert kestrel("encoders", *SMALL, "--codec", "h264").code == 0
    begun = kestrel("start", "--yes", "--for", "oxbow", "--upload", "12 Mbit/s")
    assert begun.code == 0, begun.err
    assert "encoders" not in (tmp_path / "show.toml").read_text()
    assert "preset" in begun.out
    assert "as measured today" in kestrel("plan", "--upload", "12 Mbit/s", "--why").out


def test_a_card_says_what_it_means(kestrel: Kestrel, quick: None) -> None:
    assert kestrel("plan", "--for", "oxbow", "--upload", "700 kbit/s").code == 0
    out = kestrel("encoders", "--codec", "h264").out
    assert "854x480" in out or "640x360" in out  # as planned
    assert "of its speed" in out
    assert "libx264" in out


@given(st.lists(st.integers(20, 400), min_size=1, max_size=len(ORDER)))
def test_the_table_says_which_preset_a_plan_uses(speeds: list[int]) -> None:
    found = machine_of([float(fps) for fps in sorted(speeds, reverse=True)])
    pixels = Resolution.parse("1280x720").pixels * 60.0
    machine = found.machine(datetime.now(UTC))
    used = [
        p.preset for p, said in zip(found.points, found.uses(), strict=True) if said == words.USED
    ]
    assert used == [p for p in [machine.preset("h264", pixels)] if p is not None]
    for point, said in zip(found.points, found.uses(), strict=True):
        assert ("too slow" in said) is (point.fps < 60)
        assert ("over the 60%" in said) is (point.fps >= 60 and point.load > machine.share)


def test_the_card_says_first_that_the_machine_holds_the_picture_back(
    kestrel: Kestrel, home: Path
) -> None:
    home.mkdir(exist_ok=True)
    slow = machine_of([130.0, 40.0, 20.0]).model_copy(update={"name": platform.node()})
    (home / "machine.json").write_text(slow.model_dump_json())
    made = kestrel("plan", "--for", "oxbow", "--upload", "60 Mbit/s", "--motion", "hectic")
    assert made.code == 0, made.err
    said = " ".join(made.out.split())
    assert "this machine holds quality back: a faster encoder" in said
    assert said.index("holds quality back") < said.index("why ")


def test_what_cannot_be_measured_gets_one_line(kestrel: Kestrel, quick: None, home: Path) -> None:
    for wrong in (
        ("--codec", "h265x"),
        ("--resolution", "1281x720"),
        ("--resolution", "big"),
        ("--fps", "0"),
        ("--figure", "e.txt"),
        ("--minutes", "-1"),
    ):
        found = kestrel("encoders", *SMALL, *wrong)
        assert found.code == 2
        assert found.error_line
    assert not (home / "machine.json").exists()
    home.mkdir()
    (home / "machine.json").write_text('{"format": "eager-kestrel/machine/3"}')
    assert "machine.json" in kestrel("plan", "--for", "oxbow", "--upload", "9 Mbit/s").error_line
    assert (home / "machine.json").read_text() == '{"format": "eager-kestrel/machine/3"}'


def test_stopped_half_way_the_old_figures_stay(
    kestrel: Kestrel, quick: None, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert kestrel("encoders", *SMALL, "--codec", "h264").code == 0
    before = (home / "machine.json").read_text()

    def stopped(*_: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(media, "pace", stopped)
    assert kestrel("encoders", *SMALL, "--codec", "h264").code == 130
    assert (home / "machine.json").read_text() == before


def test_figures_of_another_machine_do_not_count(kestrel: Kestrel, home: Path) -> None:
    home.mkdir()
    (home / "machine.json").write_text(machine_of([70]).model_dump_json())
    found = kestrel("plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--json")
    assert "measured on bench, not on this machine" in found.error_line
    assert found.document["inputs"]["machine"] == ""


@given(
    st.lists(st.floats(2, 400), min_size=1, max_size=3).map(lambda s: sorted(s, reverse=True)),
    st.sampled_from([0.0, 0.3]),
    st.floats(1_000, 30_000),
)
def test_a_plan_keeps_to_what_was_measured(speeds: list[float], others: float, kbps: float) -> None:
    machine = machine_of(speeds, others).machine(datetime(2026, 11, 25, tzinfo=UTC))
    assert ("used 30%" in machine.text) == (others > 0)
    assert "4 days ago" in machine.text
    there = planned(kbps, show().model_copy(update={"machine": machine})).destinations[0]
    if there.video is None:
        return
    pixels = 1280 * 720 * int(max(speeds))
    assert there.video.pixels_per_second <= machine.share * pixels * (1 + 1e-9)
    held = {p: 1280 * 720 * int(s) for p, s in zip(ORDER, speeds, strict=False)}
    assert there.video.preset is not None
    assert there.video.pixels_per_second <= machine.share * held[there.video.preset] * (1 + 1e-9)


def test_an_encoder_without_presets_goes_by_its_own_name(kestrel: Kestrel, home: Path) -> None:
    import platform

    point = machine_of([90]).points[0]
    made = point.model_copy(update={"encoder": "h264_made", "preset": "", "fps": 400.0})
    here = {
        "points": (*machine_of([70, 40]).points, made),
        "name": platform.node() or "this machine",
    }
    home.mkdir()
    (home / "machine.json").write_text(machine_of([70]).model_copy(update=here).model_dump_json())
    asked = ("plan", "--for", "oxbow", "--upload", "12 Mbit/s")
    video = kestrel(*asked, "--json").document["destinations"][0]["video"]
    assert video["preset"] == "h264_made"
    assert (video["width"], video["height"]) == (1920, 1080)  # more than the others hold
    assert "encoder h264_made" in " ".join(kestrel(*asked).out.split())
    command = kestrel(*asked, "--command", "ffmpeg").out
    assert "-c:v h264_made" in command
    assert "-preset" not in command


def test_of_two_resolutions_the_slower_pace_counts() -> None:
    small, large = machine_of([200]), machine_of([60], resolution="1920x1080")
    both = small.model_copy(update={"points": small.points + large.points})
    holds = both.machine(datetime.now(UTC)).encoders[0].holds
    assert holds.pixels_per_second == min(200 * 1280 * 720, 60 * 1920 * 1080)
    read = MeasuredMachine.model_validate(json.loads(both.model_dump_json()))
    assert read == both


def test_made_resolutions_move_and_never_jump() -> None:
    frames = made_frames(Resolution(128, 72))
    assert len(frames) == FRAMES
    luma = [frame.to_ndarray()[:72].astype(float) for frame in frames]
    steps = [abs(a - b).mean() for a, b in itertools.pairwise(luma)]
    assert min(steps) > 1
    assert max(steps) < 4 * min(steps)


def test_a_preset_is_answered_and_the_figures_stay(
    kestrel: Kestrel, quick: None, home: Path
) -> None:
    assert kestrel("encoders", *SMALL, "--codec", "h264").code == 0
    before = (home / "machine.json").read_bytes()
    asked = kestrel(
        "encoders", "--resolution", "160x96@24", "--codec", "h264", "--preset", "medium"
    )
    assert asked.code == 0, asked.err
    assert "libx264 medium keeps up at 160x96 at 24 fps" in " ".join(asked.out.split())
    assert (home / "machine.json").read_bytes() == before
    assert "no encoder of this machine" in kestrel("encoders", "--preset", "no").err
