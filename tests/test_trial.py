"""``trial``: stretches, hulls and fits by their laws, and the command line on made clips."""

from __future__ import annotations

import re
import shlex
import subprocess
from fractions import Fraction
from itertools import combinations, pairwise
from pathlib import Path
from threading import Lock

import numpy as np
import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions.encodes import QUICK, look_of
from eager_kestrel.actions.trial import judged
from eager_kestrel.core.errors import InputError, StoppedError
from eager_kestrel.core.footage import (
    STRETCH_SECONDS,
    Curves,
    FrameComplexity,
    Sample,
    Trial,
    TrialPoint,
    behaves_like,
    best_between,
    hull,
    learn,
    modelled,
    off_by,
    pick,
    spatial,
    temporal,
)
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.show import MOTIONS, Motion
from eager_kestrel.files import footage as kept_footage
from eager_kestrel.media import trial_encode as media
from tests.conftest import Kestrel
from tests.test_plan import TABLE
from tests.test_recordings import (
    FFMPEG,
    Make,
    made as made,  # the fixture
)

points = st.lists(st.tuples(st.floats(100, 9000), st.floats(0, 1)), min_size=1, max_size=14)
SHAPES = [
    (Resolution(1920, 1080), 60),
    (Resolution(1280, 720), 60),
    (Resolution(1280, 720), 30),
    (Resolution(854, 480), 30),
]


@given(points)
def test_nobody_beats_the_hull_and_nothing_else_is_on_it(found: list[tuple[float, float]]) -> None:
    on = hull(found)
    kept = sorted(p for p, is_on in zip(found, on, strict=True) if is_on)
    assert kept
    assert all(a[1] < b[1] for a, b in pairwise(kept))
    assert max(worth for _, worth in found) == kept[-1][1]
    for cost, worth in found:
        at = np.interp(cost, [c for c, _ in kept], [w for _, w in kept])
        assert cost < kept[0][0] or worth <= at + 1e-9


@given(
    st.lists(st.tuples(st.floats(1, 90), st.floats(0, 40)), min_size=1, max_size=80),
    st.floats(STRETCH_SECONDS, 60),
)
def test_stretches_lie_apart_within_the_clip_and_hold_the_hardest(
    seen: list[tuple[float, float]], length: float
) -> None:
    gap = length / len(seen)
    looks = [FrameComplexity(seconds=gap * n, si=si, ti=ti) for n, (si, ti) in enumerate(seen)]
    chosen = pick(looks, length)
    assert 1 <= len(chosen) <= 3
    for one, other in combinations(chosen, 2):
        assert abs(one.begin_seconds - other.begin_seconds) >= STRETCH_SECONDS - 1e-6
    assert all(0 <= s.begin_seconds <= length - STRETCH_SECONDS + 1e-3 for s in chosen)
    assert chosen[0].si * chosen[0].ti == max(s.si * s.ti for s in chosen)


def test_information_is_none_in_a_still_grey_and_grows_with_edges_and_motion() -> None:
    grey, rng = np.full((90, 160), 100.0), np.random.default_rng(1)
    noise = rng.normal(100, 20, (90, 160))
    assert spatial(grey) == temporal(grey, grey) == 0
    assert spatial(noise) > spatial(grey + 0.1 * (noise - grey)) > 0
    assert temporal(noise, np.roll(noise, 1, axis=1)) == pytest.approx(20 * 2**0.5, rel=0.1)


@given(st.sampled_from(MOTIONS), st.sampled_from(MOTIONS), st.floats(0.3, 3.0))
def test_a_dozen_encodes_teach_what_a_footage_is(start: str, truth: str, harder: float) -> None:
    """Made by the model with other parameters, they are found again as far as one can see."""
    own = TABLE.motion[truth].typical  # type: ignore[index]
    own = own.model_copy(update={"half_kbps": own.half_kbps * harder})
    real = TABLE.with_own(truth, own)  # type: ignore[arg-type]
    asked = [
        Sample(p.pixels, fps, kbps, 0.0) for p, fps in SHAPES for kbps in (700.0, 2000.0, 5000.0)
    ]
    looks = modelled(real, truth, "h264", asked)[0]  # type: ignore[arg-type]
    samples = [Sample(a.pixels, a.fps, a.kbps, float(v)) for a, v in zip(asked, looks, strict=True)]
    fitted = learn(TABLE, start, "h264", samples)  # type: ignore[arg-type]
    after = TABLE.with_own(start, *fitted)  # type: ignore[arg-type]
    assert off_by(after, start, "h264", samples) <= off_by(TABLE, start, "h264", samples) + 1e-9  # type: ignore[arg-type]
    assert off_by(after, start, "h264", samples) < 0.03  # type: ignore[arg-type]


@given(st.sampled_from(MOTIONS), st.data())
def test_a_footage_behaves_like_the_kind_whose_scene_it_is(truth: str, data: st.DataObject) -> None:
    kind = TABLE.motion[truth]  # type: ignore[index]
    own = kind.scenes[data.draw(st.sampled_from(sorted(kind.scenes)))]
    asked = [Sample(p.pixels, f, kbps, 0.0) for p, f in SHAPES for kbps in (700.0, 2000.0, 5000.0)]
    looks = modelled(TABLE.with_own(truth, own), truth, "h264", asked)[0]  # type: ignore[arg-type]
    samples = [Sample(a.pixels, a.fps, a.kbps, float(v)) for a, v in zip(asked, looks, strict=True)]
    assert behaves_like(TABLE, "h264", samples) == truth


@given(st.sampled_from(MOTIONS), st.floats(300, 3000), st.data())
def test_what_is_best_at_a_bitrate_that_was_tried_was_measured_to_be(
    motion: Motion, first: float, data: st.DataObject
) -> None:
    tried = [first * share for share in (1.0, 2.0, 4.0)]
    looks = st.floats(0.05, 0.95)
    seen = {(*shape, kbps): data.draw(looks) for shape in SHAPES for kbps in tried}
    measured = [
        TrialPoint(
            resolution=resolution,
            frame_rate=Fraction(fps),
            target_kbps=kbps,
            kbps=kbps,
            xpsnr_db=30,
            ssim=0.9,
            vmaf=None,
            look=look,
            on_hull=False,
        )
        for (resolution, fps, kbps), look in seen.items()
    ]
    curves = Curves(TABLE, motion, "h264", 1.0, measured)
    assert curves.quality(np.array(tried)) == pytest.approx(
        np.array([[seen[*shape, kbps] for kbps in tried] for shape in SHAPES])
    )
    found = best_between(curves, (first, 4 * first))
    assert found[0].from_kbps == pytest.approx(first, abs=5.1)
    assert found[-1].to_kbps == pytest.approx(4 * first, abs=5.1)
    for part in found:
        middle = np.array([(part.from_kbps + part.to_kbps) / 2])
        of = dict(zip(curves.shapes, curves.quality(middle)[:, 0], strict=True))
        assert of[part.resolution, part.frame_rate] >= max(of.values()) - 0.02


# The command line


@pytest.fixture
def clip(made: Make) -> Path:
    return made("clip.mkv", seconds="4", audio=False)


@pytest.fixture
def alone(monkeypatch: pytest.MonkeyPatch) -> None:
    """Without a program that has VMAF, which takes most of the time."""
    monkeypatch.setattr(media, "vmaf_program", lambda: None)


def test_a_trial_is_kept_seen_and_planned_by(
    kestrel: Kestrel, clip: Path, alone: None, tmp_path: Path
) -> None:
    asked = ("trial", clip, "--bitrate", "400 kbit/s", "--save-as", "pots")
    found = kestrel(*asked, "--sheet", tmp_path / "s.png", "--clips", tmp_path / "out", "--json")
    assert found.code == 0, found.err
    trial = Trial.model_validate(found.document["trial"])
    assert [p.target_kbps for p in trial.points] == [140, 200, 280, 400]
    assert all(p.resolution == Resolution(320, 180) and p.vmaf is None for p in trial.points)
    assert [p.look for p in trial.points] == sorted(p.look for p in trial.points)
    assert [p.kbps for p in trial.points] == sorted(p.kbps for p in trial.points)
    assert hull([(p.target_kbps, p.look) for p in trial.points]) == [
        p.on_hull for p in trial.points
    ]
    assert (tmp_path / "s.png").stat().st_size > 10_000
    assert len([*(tmp_path / "out").iterdir()]) == 4
    files = {p: p.stat().st_mtime_ns for p in (kept_footage.trial_folder(clip)).iterdir()}
    card = kestrel(*asked)
    assert "it behaves like" in card.out
    said = " ".join(card.out.split())
    at_most = re.search(r"best at 400 kbit/s: ([0-9x]+ at [0-9.]+ fps)", said)
    assert at_most is not None
    (last,) = [b for b in trial.best if b.from_kbps <= 400 <= b.to_kbps]
    assert at_most[1] == last.text  # two lines, one answer
    refused = kestrel("trial", tmp_path / "nowhere.mkv", "--for", "oxbow").error_line
    assert "no run" in refused  # before the clip is looked at
    assert {p: p.stat().st_mtime_ns for p in files} == files  # nothing was encoded again
    plain = kestrel("plan", "--for", "oxbow", "--upload", "3 Mbit/s", "--json").document
    own = kestrel("plan", "--for", "oxbow", "--upload", "3 Mbit/s", "--footage", "pots", "--json")
    assert "by 3 s of clip.mkv: 4 encodes" in own.document["quality_basis"]
    assert own.document["inputs"]["footage"] == "pots"
    assert plain["inputs"]["footage"] is None
    assert own.document["destinations"][0]["quality"] != plain["destinations"][0]["quality"]
    wrong = kestrel("plan", "--for", "oxbow", "--upload", "3 Mbit/s", "--footage", "pits")
    assert 'no footage "pits" is kept, and no clip has that name; write "pots"' in wrong.error_line


def test_a_stopped_trial_goes_on_where_it_was(
    kestrel: Kestrel, clip: Path, alone: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    real, alone_ = media.encode, Lock()
    done: list[object] = []

    def stopping(*given: object) -> None:
        with alone_:
            if len(done) == 2:
                raise KeyboardInterrupt
            done.append(given)
            real(*given)  # type: ignore[arg-type]

    monkeypatch.setattr(media, "encode", stopping)
    stopped = kestrel("trial", clip, "--bitrate", "300 kbit/s", "--save-as", "pots")
    assert stopped.code == 130
    assert "run it again to go on" in stopped.err.splitlines()[-1]
    assert kept_footage.footage_names() == []
    monkeypatch.setattr(media, "encode", lambda *g: (done.append(g), real(*g)))
    assert kestrel("trial", clip, "--bitrate", "300 kbit/s", "--save-as", "pots").code == 0
    assert len(done) in (4, 5)  # what was not compared any more may be done again


def test_a_trial_takes_as_long_as_it_may(
    kestrel: Kestrel, made: Make, alone: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A few encodes in any case, others as time allows, each told as it ends; a stretch that is
    complete counts, whatever stops the next one."""
    clip = made("long.mkv", seconds="10", audio=False)
    asked = ("trial", clip, "--bitrate", "300 kbit/s", "--json")
    one = kestrel(*asked, "--minutes", "0.01")
    assert one.code == 0, one.err
    assert "all of it would take --minutes 1" in one.err
    assert [line for line in one.err.splitlines() if "of 4: " in line]
    assert len(one.document["trial"]["stretches"]) == 1
    assert len(one.document["trial"]["points"]) == QUICK
    real = media.encode
    begun: list[object] = []

    def stopping(*given: object) -> None:
        begun.append(given)
        if len(begun) > 5:
            raise KeyboardInterrupt
        real(*given)  # type: ignore[arg-type]

    monkeypatch.setattr(media, "encode", stopping)
    stopped = kestrel(*asked, "--minutes", "9")
    assert stopped.code == 0, stopped.err
    assert "stopped: 2 stretches tried; run it again to go on" in stopped.err
    assert len(stopped.document["trial"]["stretches"]) == 2
    again: list[object] = []
    monkeypatch.setattr(media, "encode", lambda *g: (again.append(g), real(*g)))
    whole = kestrel(*asked, "--minutes", "9")
    assert len(whole.document["trial"]["stretches"]) == 3
    assert len(again) in (3, 4)  # nothing that was done is done again
    for trial in (stopped, whole):
        points = trial.document["trial"]["points"]
        at = [p["target_kbps"] for p in points if p["on_hull"]]
        assert len(at) == len(set(at))  # one is best at a bitrate
        assert all(p["look"] <= p["smoothness"] for p in points)


def test_encodes_are_bounded_the_oldest_go_first(tmp_path: Path, home: Path) -> None:
    folder = home / kept_footage.TRIALS / "x"
    folder.mkdir(parents=True)
    for number in range(5):
        file = folder / f"{number}.mkv"
        file.write_bytes(bytes(100))
        import os

        os.utime(file, (number, number))
    kept_footage.bound_trials(250)
    assert sorted(p.name for p in folder.iterdir()) == ["3.mkv", "4.mkv"]
    kept_footage.bound_trials(50, keep=folder)
    assert sorted(p.name for p in folder.iterdir()) == ["3.mkv", "4.mkv"]


BAD = {
    "short": (("-t", "1"), "are too short"),
    "ten": (("-t", "4", "-pix_fmt", "yuv420p10le"), "10 bits"),
    "laced": (("-t", "4", "-flags", "+ildct", "-x264-params", "interlaced=1"), "interlaced"),
    "uneven": (
        ("-t", "4", "-vf", "select='not(mod(n,7))+not(mod(n,3))'", "-fps_mode", "vfr"),
        "varies",
    ),
    "still": (("-t", "4", "-vf", "trim=end_frame=1,loop=-1:1:0,setpts=N/30/TB"), "nothing in it"),
    "hdr": (("-t", "4", "-vf", "setparams=color_trc=smpte2084"), "HDR (PQ)"),
}


def bad_clip(folder: Path, what: str) -> tuple[Path, str]:
    """A clip that cannot be tried, and a word on it."""
    options, said = BAD[what]
    path = folder / f"{what}.mkv"
    subprocess.run(
        [
            FFMPEG,
            *shlex.split("-v error -f lavfi -i testsrc2=size=160x96:rate=30"),
            *(options if "-pix_fmt" in options else (*options, "-pix_fmt", "yuv420p")),
            *shlex.split("-c:v libx264 -preset ultrafast"),
            str(path),
        ],
        check=True,
    )
    return path, said


@pytest.mark.parametrize("what", list(BAD))
def test_a_clip_that_cannot_be_tried_gets_one_line(
    kestrel: Kestrel, tmp_path: Path, what: str
) -> None:
    path, said = bad_clip(tmp_path, what)
    found = kestrel("trial", path)
    assert found.code == 2
    assert said in found.error_line


def test_other_bad_input_gets_one_line(kestrel: Kestrel, clip: Path, tmp_path: Path) -> None:
    cut_off = tmp_path / "cut.flv"
    cut_off.write_bytes(clip.read_bytes()[: clip.stat().st_size // 2])
    for wrong in (
        (tmp_path / "none.mkv",),
        (cut_off,),
        (clip, "--save-as", "Pots & pans"),
        (clip, "--sheet", "s.txt"),
        (clip, "--blind"),
        (clip, "--bitrate", "6000"),
        (clip, "--for", "nowhere"),
        (clip, "--motion", "wild"),
    ):
        found = kestrel("trial", *wrong)
        assert found.code == 2, wrong
        assert found.error_line


def test_a_full_disk_leaves_nothing_half_kept(
    kestrel: Kestrel, clip: Path, alone: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(media, "_scaled", full)
    found = kestrel("trial", clip, "--bitrate", "300 kbit/s", "--save-as", "pots")
    assert found.code == 1
    assert "No space left on device" in found.err.splitlines()[-1]
    assert kept_footage.footage_names() == []
    assert not [p for p in kept_footage.trial_folder(clip).iterdir() if p.name.startswith(".")]


def test_a_ranking_by_eye_is_held_against_the_model(
    kestrel: Kestrel, clip: Path, alone: None
) -> None:
    found = kestrel("trial", clip, "--bitrate", "400 kbit/s", "--json")
    assert found.code == 0, found.err
    document = found.document
    trial = Trial.model_validate(document["trial"])
    order = sorted(range(4), key=lambda n: -trial.points[n].look)
    shown = dict(zip("ABCD", order, strict=True))
    assert judged(trial, shown, "A, B, C, D")[-1].endswith("6 of 6 pairs")
    assert judged(trial, shown, "dcba")[-1].endswith("0 of 6 pairs")
    with pytest.raises(InputError, match="A B C D"):
        judged(trial, shown, "A B C")


def test_stopping_is_no_defect() -> None:
    assert issubclass(StoppedError, Exception)
    assert look_of(50, 0.999) > look_of(30, 0.9) > look_of(20, 0.6)
