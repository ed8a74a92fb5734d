"""Clips, encodes and what is kept of them: the parts of ``trial`` and ``encoders`` in full."""

from __future__ import annotations

import os
from fractions import Fraction
from pathlib import Path
from threading import Event

import numpy as np
import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions.encodes import look_of, screen_of
from eager_kestrel.actions.trial import finalists
from eager_kestrel.core.choice.quality import MotionParameters
from eager_kestrel.core.errors import FormatError, InputError, NotFoundError, StoppedError
from eager_kestrel.core.footage import Footage, Stretch
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.machine import Endurance
from eager_kestrel.core.words import broadcasts as machines, broadcasts as trials
from eager_kestrel.files.footage import (
    footage_names,
    read_footage,
    require_footage_name,
    table_for,
    trial_folder,
    write_footage,
)
from eager_kestrel.media import trial_encode as trying
from eager_kestrel.media.clip import crop_of, cut, frames_of, hardest, read_clip
from eager_kestrel.media.encoders import encoders, live_kbps
from eager_kestrel.media.trial_encode import EncodeSetting, Seen, compare, encode
from eager_kestrel.report.figures import save_sheet
from tests.conftest import Kestrel
from tests.test_encoders import machine_of
from tests.test_plan import TABLE
from tests.test_recordings import (
    Make,
    made as made,  # the fixture
)

HALF_IN = Stretch(begin_seconds=0.5, seconds=3.0, si=1, ti=1)


@pytest.fixture
def clip(made: Make) -> Path:
    return made("whole.mkv", seconds="5", audio=True, fps="30000/1001")


@pytest.fixture(autouse=True)
def alone(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(trying, "vmaf_program", lambda: None)


def footage(name: str = "pots", half: float = 400.0) -> Footage:
    own = TABLE.motion["lively"].typical.model_copy(update={"half_kbps": half})
    return Footage(
        name=name,
        clip="c.mkv",
        taken_at="2026-11-20T20:00:00+01:00",
        version="1",
        motion="lively",
        codec="h264",
        around_kbps=4000,
        seen_seconds=6,
        scenes=(own,),
        encodes=12,
        off_by=0.01,
    )


def test_a_clip_is_read_as_it_was_made(clip: Path) -> None:
    seen = read_clip(clip)
    assert seen.resolution == Resolution(320, 180)
    assert seen.frame_rate == Fraction(30000, 1001)
    assert seen.seconds == pytest.approx(5, abs=0.1)
    assert [look.seconds for look in seen.looks] == sorted(look.seconds for look in seen.looks)
    assert len(seen.looks) >= 8
    assert all(look.si > 1 for look in seen.looks)
    assert all(look.ti > 0.5 for look in seen.looks)


def test_a_cut_stretch_is_the_clip_to_the_bit(clip: Path, tmp_path: Path) -> None:
    seen = read_clip(clip)
    stretch = Stretch(begin_seconds=1.0, seconds=3.0, si=1, ti=1)
    cut(seen, [stretch], tmp_path / "s.mkv")
    wanted = [f.to_ndarray() for f, at in frames_of(clip) if 0.99 < at < 3.99]
    got = [f.to_ndarray() for f, _ in frames_of(tmp_path / "s.mkv")]
    assert len(got) == round(3 * 30000 / 1001)
    for one, other in zip(got[:10], wanted, strict=False):
        assert (one == other).all()
    assert [p.name for p in tmp_path.iterdir() if p.suffix == ".mkv"] == ["s.mkv"]


@pytest.mark.parametrize("every", [1, 2])
def test_more_bits_come_nearer_and_take_what_they_were_given(
    clip: Path, tmp_path: Path, every: int
) -> None:
    seen = read_clip(clip)
    cut(seen, [HALF_IN], tmp_path / "s.mkv")
    scores = []
    for kbps in (150.0, 600.0):
        rate = seen.frame_rate / every
        setting = EncodeSetting("h264", "veryfast", Resolution(320, 180), rate, kbps)
        out = tmp_path / f"{kbps}.mkv"
        encode(tmp_path / "s.mkv", setting, every, out, Event())
        assert len([*frames_of(out)]) == -(-90 // every)
        look = Seen(every, Resolution(640, 360))
        scores.append(compare(tmp_path / "s.mkv", out, setting, look, Event()))
    decibels, similar = [s.xpsnr_db or 0 for s in scores], [s.ssim or 0 for s in scores]
    assert decibels == sorted(set(decibels))
    assert similar == sorted(set(similar))
    assert similar[1] <= 1
    assert scores[0].kbps < scores[1].kbps
    assert scores[1].kbps == pytest.approx(600, rel=0.35)
    assert look_of(scores[0].xpsnr_db, scores[0].ssim) < look_of(scores[1].xpsnr_db, scores[1].ssim)


def test_what_is_to_end_ends_and_leaves_nothing(clip: Path, tmp_path: Path) -> None:
    seen, stopped = read_clip(clip), Event()
    stopped.set()
    cut(seen, [HALF_IN], tmp_path / "s.mkv")
    setting = EncodeSetting("h264", "veryfast", Resolution(320, 180), seen.frame_rate, 300.0)
    with pytest.raises(StoppedError):
        encode(tmp_path / "s.mkv", setting, 1, tmp_path / "out.mkv", stopped)
    assert [path.name for path in tmp_path.iterdir()] == ["s.mkv"]


def test_a_smaller_resolution_shows_less_at_plenty_of_bits(clip: Path, tmp_path: Path) -> None:
    seen = read_clip(clip)
    cut(seen, [HALF_IN], tmp_path / "s.mkv")
    found = []
    for resolution in (Resolution(320, 180), Resolution(160, 90)):
        setting = EncodeSetting("h264", "veryfast", resolution, seen.frame_rate, 3000.0)
        out, look = tmp_path / f"{resolution}.mkv", Seen(1, Resolution(640, 360))
        encode(tmp_path / "s.mkv", setting, 1, out, Event())
        found.append(compare(tmp_path / "s.mkv", out, setting, look, Event()).ssim or 0)
    assert found[0] > found[1] + 0.05


def test_crops_are_of_one_place_and_one_moment(clip: Path, tmp_path: Path) -> None:
    screen = Resolution(640, 360)
    pixels, where = crop_of(clip, 2.0, screen, (200, 100), None)
    again, same = crop_of(clip, 2.0, screen, (200, 100), where)
    assert pixels.shape == (100, 200, 3)
    assert where == same
    assert (pixels == again).all()
    assert 0 <= pixels.min() <= pixels.max() <= 1
    later, _ = crop_of(clip, 4.0, screen, (200, 100), where)
    assert (later != pixels).any()
    save_sheet([("one", pixels), ("two", later)], tmp_path / "s.png", "title")
    import matplotlib.image

    drawn = matplotlib.image.imread(tmp_path / "s.png")[..., :3]
    rows = np.abs(drawn[34 + 34 : 34 + 34 + 100, 6:206] - pixels).max()
    assert rows < 0.02  # not a pixel is scaled


def test_the_hardest_stretch_is_found() -> None:
    several = [Stretch(begin_seconds=n, seconds=3, si=10, ti=t) for n, t in enumerate((3, 9, 4))]
    assert hardest(several) == 1


@given(st.integers(100, 4000), st.integers(100, 4000))
def test_a_resolution_fills_the_screen_in_one_direction(width: int, height: int) -> None:
    seen = screen_of(Resolution(width, height))
    assert seen.width <= 1922
    assert seen.height <= 1082
    assert seen.width >= 1918 or seen.height >= 1078
    assert seen.width % 2 == seen.height % 2 == 0


@given(st.floats(20, 60), st.floats(0.5, 0.9999), st.floats(0, 10))
def test_nearer_looks_better_without_vmaf(xpsnr: float, ssim: float, more: float) -> None:
    assert 0 < look_of(xpsnr, ssim) < 1
    assert look_of(xpsnr + more, ssim) >= look_of(xpsnr, ssim)
    assert look_of(xpsnr, min(0.99999, ssim + more / 1000)) >= look_of(xpsnr, ssim)


# What is kept


def test_footage_is_kept_by_name_and_read_back(home: Path) -> None:
    assert footage_names() == []
    write_footage(footage())
    write_footage(footage("wheel-2", 900.0))
    assert footage_names() == ["pots", "wheel-2"]
    assert read_footage("pots") == footage()
    table = table_for("lively", "wheel-2")
    assert [own.half_kbps for own in table.motion["lively"].scenes.values()] == [900]
    assert table.motion["calm"] == TABLE.motion["calm"]
    assert "c.mkv" in table.basis
    assert table_for("lively", None) == TABLE
    with pytest.raises(NotFoundError, match="pots"):
        read_footage("pot")
    (home / "footage" / "pots.json").write_text("{")
    with pytest.raises(FormatError, match=r"pots\.json"):
        read_footage("pots")
    assert (home / "footage" / "pots.json").read_text() == "{"


@pytest.mark.parametrize("name", ["", "../x", "A", "a b", "-a", "x" * 41, "a/b"])
def test_names_that_could_leave_the_folder_are_refused(name: str) -> None:
    with pytest.raises(InputError, match="lower-case letters"):
        require_footage_name(name)
    with pytest.raises(NotFoundError):
        read_footage(name)


def test_clips_are_known_by_their_content(tmp_path: Path) -> None:
    one, other = tmp_path / "a.mkv", tmp_path / "b.mkv"
    one.write_bytes(b"x" * 5_000_000)
    other.write_bytes(b"x" * 5_000_000)
    assert trial_folder(one) == trial_folder(other)
    other.write_bytes(b"x" * 4_999_999 + b"y")
    assert trial_folder(one) != trial_folder(other)


def test_a_harder_footage_gets_a_smaller_resolution(kestrel: Kestrel) -> None:
    write_footage(footage("easy", 150.0))
    write_footage(footage("hard", 3000.0))
    found = {
        name: kestrel("plan", "oxbow", "--upload", "4 Mbit/s", "--footage", name, "--json").document
        for name in ("easy", "hard")
    }
    video = {name: d["destinations"][0]["video"] for name, d in found.items()}
    assert video["easy"]["width"] > video["hard"]["width"]
    quality = {name: d["destinations"][0]["quality"] for name, d in found.items()}
    assert quality["easy"] > quality["hard"] + 0.1


@given(st.floats(50, 5000))
def test_parameters_of_one_kind_leave_the_others(half: float) -> None:
    own = TABLE.motion["hectic"].typical.model_copy(update={"half_kbps": half})
    table = TABLE.with_own("hectic", own)
    assert isinstance(table.motion["hectic"], MotionParameters)
    assert table.motion["hectic"].arrays["half_kbps"].tolist() == [half]
    assert all(table.motion[m] == TABLE.motion[m] for m in ("still", "calm", "lively"))


# What is said


def test_what_encoders_come_to() -> None:
    said = machine_of([200, 90, 40]).meanings()
    assert said == [
        "libx264 veryfast keeps up at 1280x720 at 60 fps, using 67% of its speed; medium does not"
    ]
    none = machine_of([30]).meanings()
    assert none == ["libx264 does not keep up at 1280x720 at 60 fps, not even with ultrafast"]
    hot = machine_of([200], 0.25).model_copy(
        update={"endurance": Endurance(name="x", minutes=5, first_fps=100, last_fps=80)}
    )
    lines = hot.meanings()
    assert "slows down by 20%" in lines[1]
    assert "used 25% of this machine" in lines[2]
    assert "keeps its speed" in machines.endured("x", 5, 100, 98)


def test_what_a_trial_says() -> None:
    assert trials.one_more(6000, 0.001).endswith("adds nothing visible")
    assert trials.one_more(6000, 0.024).endswith("adds 2 of 100")
    assert trials.kind("calm", "calm") == "you said calm, and it behaves like that"
    assert "vmaf" in trials.metric(vmaf=False)


def test_encoders_are_those_that_open_and_no_codec_twice() -> None:
    found, missing = encoders(("h264", "av1"))
    if hasattr(os, "sched_getscheduler"):  # libsvtav1 would make root's a real-time process
        assert os.sched_getscheduler(0) not in (os.SCHED_FIFO, os.SCHED_RR)
    names = [one.name for one in found]
    assert "libx264" in names
    assert len(names) == len(set(names))
    assert not set(names) & set(missing)
    assert all(why and "\n" not in why for why in missing.values())
    assert {one.codec for one in found} <= {"h264", "av1"}
    assert all(one.presets for one in found)
    assert "h264" not in names
    assert live_kbps(Resolution(1920, 1080), Fraction(60)) > live_kbps(
        Resolution(640, 360), Fraction(30)
    )


def test_finalists_are_the_hull_first(kestrel: Kestrel, clip: Path) -> None:
    from eager_kestrel.core.footage import Trial

    document = kestrel("trial", clip, "--bitrate", "300 kbit/s", "--json").document
    trial = Trial.model_validate(document["trial"])
    chosen = finalists(trial)
    on = [trial.points[n].on_hull for n in chosen]
    assert on == sorted(on, reverse=True)
    assert len(chosen) == len(set(chosen)) <= 5
