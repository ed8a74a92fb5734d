"""``plan --footage CLIP``: what a few encodes teach, by laws, and the command on made clips."""

from __future__ import annotations

import shutil
from fractions import Fraction
from itertools import combinations
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions import encode_trial as trying, trial as looking
from eager_kestrel.actions.encode_trial import TrialOptions, quick_settings, trial_settings
from eager_kestrel.actions.encodes import QUICK
from eager_kestrel.core.choice.quality import expected_range, sharpness
from eager_kestrel.core.footage import (
    QUICK_SECONDS,
    FrameComplexity,
    Sample,
    learn,
    modelled,
    pick_busy,
)
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.show import MOTIONS, Motion
from eager_kestrel.files import footage as kept_footage
from eager_kestrel.files.plans import latest_plan
from eager_kestrel.media import trial_encode as media
from eager_kestrel.media.clip import Clip, glance, read_clip
from tests.conftest import Kestrel
from tests.test_plan import TABLE
from tests.test_recordings import (
    Make,
    made as made,  # the fixture
)
from tests.test_trial import BAD, bad_clip

PLAN = ("plan", "--for", "oxbow", "--upload", "2 Mbit/s", "--source", "320x180")


@pytest.fixture
def clip(made: Make) -> Path:
    return made("show.mkv", seconds="8", audio=False)


@pytest.fixture(autouse=True)
def alone(monkeypatch: pytest.MonkeyPatch) -> None:
    """Without a program that has VMAF, which takes most of the time."""
    monkeypatch.setattr(media, "vmaf_program", lambda: None)


@given(st.sampled_from(MOTIONS), st.data())
def test_what_was_measured_is_believed_and_the_doubt_is_less(
    motion: Motion, data: st.DataObject
) -> None:
    """Of any scene of a kind, seen at three resolutions: nearer to it than the kind is."""
    kind = TABLE.motion[motion]
    own = kind.scenes[data.draw(st.sampled_from(sorted(kind.scenes)))]
    kbps = data.draw(st.floats(1.0, 4.0)) * own.half_kbps
    tried = [Sample(w * h, 30.0, kbps, 0.0) for w, h in ((1920, 1080), (1280, 720), (854, 480))]
    seen = modelled(TABLE.with_own(motion, own), motion, "h264", tried)[0]
    samples = [Sample(s.pixels, s.fps, s.kbps, float(v)) for s, v in zip(tried, seen, strict=True)]
    learned = TABLE.with_own(motion, *learn(TABLE, motion, "h264", samples))
    args = [np.array([getattr(s, key) for s in tried]) for key in ("pixels", "fps", "kbps")]
    before, after = (sharpness(t, motion, "h264", *args) for t in (TABLE, learned))
    assert abs(after.mean(axis=0) - seen).max() < 0.03
    assert np.subtract(*expected_range(before)[::-1]).mean() > 0.9 * (
        np.subtract(*expected_range(after)[::-1]).mean()
    )
    surer = TABLE.with_own(motion, *learn(TABLE, motion, "h264", samples * 4))
    doubt, less = (
        np.subtract(*expected_range(sharpness(t, motion, "h264", *args))[::-1]).mean()
        for t in (learned, surer)
    )
    assert less < doubt


@given(
    st.lists(st.tuples(st.floats(1, 90), st.floats(0.6, 40)), min_size=1, max_size=12),
    st.floats(2, 7200),
)
def test_busy_stretches_lie_apart_in_order_and_within(
    seen: list[tuple[float, float]], length: float
) -> None:
    gap = max(0.0, length - QUICK_SECONDS) / len(seen)
    looks = [FrameComplexity(seconds=gap * n, si=si, ti=ti) for n, (si, ti) in enumerate(seen)]
    chosen = pick_busy(looks, length)
    assert 1 <= len(chosen) <= 3
    begins = [stretch.begin_seconds for stretch in chosen]
    assert begins == sorted(begins)
    assert all(later - sooner >= QUICK_SECONDS - 1e-6 for sooner, later in combinations(begins, 2))
    assert all(0 <= s.begin_seconds <= length - s.seconds + 1e-6 for s in chosen)


sizes = st.builds(
    Resolution,
    st.integers(80, 1920).map(lambda n: 2 * n),
    st.integers(45, 1080).map(lambda n: 2 * n),
)


@given(
    sizes,
    sizes,
    st.sampled_from([*map(Fraction, (24, 25, 30, 50, 60, 120)), Fraction(30000, 1001)]),
    st.sampled_from((None, 25, 30, 60)),
    st.floats(300, 20_000),
    st.sampled_from(MOTIONS),
)
def test_what_says_most_is_tried_first_and_nothing_the_clip_does_not_have(
    own: Resolution,
    planned: Resolution,
    rate: Fraction,
    fps: int | None,
    kbps: float,
    motion: Motion,
) -> None:
    clip = Clip(Path("c.mkv"), own, (), rate, 20.0)
    wanted = TrialOptions(
        "h264", "veryfast", planned, kbps, motion, fps=None if fps is None else Fraction(fps)
    )
    settings = trial_settings(clip, wanted)
    assert len(settings) == len(set(settings))
    assert all(s.resolution.within(own) for s in settings)
    assert all(s.resolution.width % 2 == s.resolution.height % 2 == 0 for s in settings)
    assert all((rate / s.frame_rate).denominator == 1 for s in settings)
    assert own in {s.resolution for s in settings}
    assert settings[0].resolution.lines <= planned.lines
    thin, quick = quick_settings(clip, wanted)
    shapes = [s.resolution for s in settings[:QUICK]]
    assert [s.resolution for s in quick] == shapes
    assert thin.frame_rate * thin.every == rate
    assert quick[0].frame_rate <= settings[0].frame_rate
    assert quick[0].kbps <= settings[0].kbps
    assert thin.frame_rate >= min(settings[0].frame_rate, Fraction(trying.LEAST_FPS))


@given(st.integers(1, 4000), st.integers(1, 60))
def test_frames_that_are_compared_are_of_every_type(frames: int, wanted: int) -> None:
    gap = media._gap(frames, wanted)
    assert -(-frames // gap) >= min(frames, wanted)
    assert gap == 1 or (gap % 2 and gap % 3)  # P and B-frames come by twos and threes


def test_a_glance_sees_what_reading_all_of_it_sees(clip: Path) -> None:
    glanced, read = glance(clip), read_clip(clip)
    assert (glanced.resolution, glanced.frame_rate) == (read.resolution, read.frame_rate)
    assert glanced.seconds == pytest.approx(read.seconds, abs=0.1)
    assert len(glanced.looks) > 1


def test_a_clip_is_looked_at_once_and_known_by_its_content(
    kestrel: Kestrel, clip: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    first = kestrel(*PLAN, "--footage", clip, "--json")
    assert first.code == 0, first.err
    assert "3 of 3" in first.err
    (name,) = kept_footage.footage_names()
    assert first.document["inputs"]["footage"] == name
    assert first.document["own_footage"] == "6 s of show.mkv"
    assert not list(kept_footage.trial_folder(clip).glob("*.nut"))  # only what was learned stays
    monkeypatch.setattr(looking, "look_quickly", None)
    renamed = tmp_path / "Last Thursday.mkv"
    shutil.copy(clip, renamed)
    for again in (clip, renamed, name):
        card = kestrel(*PLAN, "--footage", again)
        assert card.code == 0, card.err
        assert "by your own footage, 6 s of show.mkv" in " ".join(card.out.split())
        made = latest_plan()
        assert made is not None
        document = made.model_dump(mode="json")
        assert document["destinations"] == first.document["destinations"]
    plain = kestrel(*PLAN)
    assert "own footage" not in plain.out


def test_the_last_show_is_planned_by_as_its_show_file_says(
    kestrel: Kestrel, clip: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    shutil.copy(clip, "last.mkv")
    Path("show.toml").write_text(
        'format = "eager-kestrel/show/3"\nsource = "320x180"\nsource_fps = 30\n'
        'motion = "lively"\nfootage = "last.mkv"\n[[destinations]]\nplatform = "oxbow"\n'
    )
    need = kestrel("need", "show.toml")
    assert need.code == 2
    assert "run eager-kestrel plan --footage last.mkv" in need.error_line
    assert kestrel("plan", "--upload", "2 Mbit/s").code == 0
    assert kestrel("need", "show.toml").code == 0


def test_a_plan_far_from_what_was_tried_wants_another_look(kestrel: Kestrel, clip: Path) -> None:
    for upload, looked in (("2 Mbit/s", True), ("1.9 Mbit/s", False), ("500 kbit/s", True)):
        found = kestrel(*PLAN, "--upload", upload, "--footage", clip)
        assert found.code == 0, found.err
        assert ("3 of 3" in found.err) is looked
    assert len(kept_footage.footage_names()) == 1


@pytest.mark.parametrize("what", list(BAD))
def test_a_clip_that_cannot_be_looked_at_gets_one_line(
    kestrel: Kestrel, tmp_path: Path, what: str
) -> None:
    path, said = bad_clip(tmp_path, what)
    found = kestrel("plan", "--for", "oxbow", "--upload", "2 Mbit/s", "--footage", path)
    assert found.code == 2
    assert said in found.error_line
    assert kept_footage.footage_names() == []


def test_other_footage_that_is_none_gets_one_line(
    kestrel: Kestrel, clip: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "noise.mkv").write_bytes(np.random.default_rng(1).bytes(100_000))
    (tmp_path / "empty.mp4").touch()
    for wrong, said in (
        (tmp_path / "none.mkv", "no such file"),
        (tmp_path / "empty.mp4", "empty"),
        (tmp_path / "noise.mkv", "not a recording"),
        ("Pots & pans", "no footage"),
    ):
        found = kestrel(*PLAN, "--footage", wrong)
        assert found.code == 2, wrong
        assert said in found.error_line
    upright = kestrel("plan", "--for", "oxbow", "--upload", "2 Mbit/s", "--source", "1080x1920",
                      "--footage", clip)  # fmt: skip
    assert upright.code == 2
    assert "show.mkv is 320x180, and the show's source is 1080x1920" in upright.error_line

    def stopped(*_: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(media, "encode", stopped)
    assert kestrel(*PLAN, "--footage", clip).code == 130
    assert latest_plan() is None
