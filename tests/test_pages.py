"""Guideline pages are quoted, not interpreted: what is proposed is right, and all else is asked."""

from __future__ import annotations

import json
import random
import sys
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions.importing import NewGuide, Reading, write_imported_guide
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.guide.drafting import guide_of
from eager_kestrel.core.guide.page import Page
from eager_kestrel.core.guide.questions import BY_KEY, read_answer
from eager_kestrel.core.guide.quotes import quotes_of
from eager_kestrel.core.guide.tables import tables_in
from eager_kestrel.core.resolution import AspectRatio
from eager_kestrel.files.pages import page_of
from tests.conftest import THOROUGH, Kestrel, Person, Result
from tests.pages import page

WIDE = AspectRatio(16, 9)
PAGE = (Path(__file__).parent / "tables" / "larkspur.html").read_text(encoding="utf-8")


def imported(kestrel: Kestrel, folder: Path, name: str, text: str, *options: object) -> Result:
    (folder / name).write_text(text, encoding="utf-8")
    return kestrel(
        "guides",
        "import",
        folder / name,
        "--name",
        "made-up",
        *options,
        "--out",
        folder / "made-up.toml",
    )


def reading_of(text: str, suffix: str = "") -> Reading:
    read = page_of(text, suffix)
    tables, lines = tables_in(read, WIDE)
    quotes = quotes_of(Page((*read.lines, *lines), ()), WIDE)
    return Reading("page", WIDE, tuple(tables), tuple(quotes))


@given(st.integers(0, 10**9))
def test_a_page_is_read_right_or_asked_never_wrong(seed: int) -> None:
    """A random guide, written in any of six styles with distractors between."""
    rows = read = 0
    for number in range(50 if THOROUGH else 25):
        made = page(random.Random(seed + number))
        accepted = reading_of(made.text, made.suffix).accepted()
        for key, answer in accepted.items():
            if not key.startswith("table."):
                assert read_answer(key, answer) == made.means.get(key), (key, made.text)
        if made.style == "table" and "bitrates" in made.means:
            rows, read = rows + 1, read + ("bitrates" in accepted)
    assert read >= 0.7 * rows


SAID: dict[str, tuple[dict[str, str], set[str]]] = {
    "## Audio\n\nBitrate: 128 kbps": ({}, {"audio.bitrate"}),
    "## Audio\n\n128 kbps recommended, 160 kbps maximum": (
        {"audio.bitrate": "recommended 128 kbit/s, at most 160 kbit/s"},
        set(),
    ),
    "AAC or Opus; 64-320 kbps": ({}, {"audio.codecs", "audio.bitrate"}),
    "The total bitrate of video and audio must never exceed 9,500 Kbps.": (
        {},
        {"video.max_bitrate", "audio.bitrate"},
    ),
    "Recommended resolution: 1280x720. Maximum resolution: 1920x1080.": (
        {},
        {"video.max_resolution"},
    ),
    "Recommended frame rate: 30. Up to 60.": ({}, {"video.frame_rates"}),
    "We plan to support AV1 in the future": ({}, {"video.codecs"}),
    "Please send no B-frames to our low delay servers": ({}, {"video.max_b_frames"}),
    "Keyframes every 2 s, 4 s at the latest": ({}, {"video.keyframes"}),
    "Keyframe interval: at most 4 s": ({"video.keyframes": "at most 4 s"}, set()),
    "Mono audio is fine": ({}, {"audio.channels"}),
    "We accept RTMPS and SRT": ({"transports": "rtmps, srt"}, set()),
    "Send to rtmps://a.hollowlane.example/x or rtmps://b.hollowlane.example/x (backup)": (
        {"servers": "rtmps://a.hollowlane.example/x, rtmps://b.hollowlane.example/x (backup)"},
        set(),
    ),
    "H.264 level up to 4.2": ({"video.max_level": "4.2"}, set()),
    "Bitrate: 4500-6000 kbps, 8000 kbps for partners": ({}, {"video.max_bitrate"}),
    "Frame rate: 30 fps, max 60": ({}, {"video.frame_rates"}),
    "Video bitrate should not be lower than 1,000 kbps nor higher than 6,000 kbps.": (
        {},
        {"video.max_bitrate"},
    ),
    "Keyframe interval: no more than 4 seconds (2 seconds is best)": (
        {"video.keyframes": "at most 4 s, recommended 2 s"},
        set(),
    ),
    "Audio codec: AAC or MP3; Opus over WebRTC": ({}, {"audio.codecs"}),
    "Main: rtmps://a.hollowlane.example/x Backup: rtmps://b.hollowlane.example/x": (
        {"servers": "rtmps://a.hollowlane.example/x, rtmps://b.hollowlane.example/x (backup)"},
        set(),
    ),
    "Limit your video bitrate to 80% of 6000 kbps at most.": ({}, {"video.max_bitrate"}),
    "Audio: stereo at most 320 kbps, mono at most 160 kbps": ({}, {"audio.bitrate"}),
    "Audio at most 160 kbps per channel": ({}, {"audio.bitrate"}),
    "Sample rate: 96 kHz sources are resampled to 48 kHz": ({}, {"audio.sample_rates"}),
    "Bitrate control: ABR or CBR": ({}, {"video.rate_control"}),
    "## Video on demand\n\nMaximum bitrate: 20 Mbps": ({}, {"video.max_bitrate"}),
    "Guests join with at most 720p and a max video bitrate of 2000 kbps.": ({}, {"bitrates"}),
    "<table><tr><td>Max resolution<td>1920x1080</tr><tr><td>Max frame rate<td>60 fps</tr>"
    "<tr><td>Max bitrate<td>6 MBit/s</tr></table>": (
        {
            "video.max_resolution": "1920x1080",
            "video.frame_rates": "up to 60",
            "video.max_bitrate": "6000 kbit/s",
        },
        set(),
    ),
    "Maximum video bitrate: 9.500 kbps": ({"video.max_bitrate": "9500 kbit/s"}, set()),
    "Maximum video bitrate: 128.000 kbps": ({}, {"video.max_bitrate"}),
    "Maximum video bitrate: 750 kB/s": ({}, {"video.max_bitrate"}),
    "Maximum video bitrate: 9 500 kbit/s": ({"video.max_bitrate": "9500 kbit/s"}, set()),
    "<table><tr><th>Quality<th>Bildrate<th>Bitrate</tr><tr><td>1080p<td>50<td>6000</tr>"
    "<tr><td>240p<td>25<td>300</tr></table>": ({}, {"table.1"}),
    "<table><tr><th>Mode<th>Low<th>Normal</tr><tr><td>Segment duration<td>2 s<td>6 s</tr>"
    "<tr><td>Resolution<td>1280x720<td>1920x1080</tr><tr><td>Bitrate<td>4 Mbps<td>8 Mbps</tr>"
    "</table>": ({}, {"table.1"}),
}


@pytest.mark.parametrize("text", SAID)
def test_what_is_proposed_and_what_is_asked(text: str) -> None:
    reading, (proposed, asked) = reading_of(text), SAID[text]
    assert reading.accepted() == proposed
    assert set(reading.open_keys(proposed)) >= asked
    quotes = [quote for key in asked for quote in reading.quotes(key, {})]
    assert all(
        " ".join(quote.split())[-12:] in " ".join(text.split())
        for quote in quotes
        if "|" not in quote
    )


def test_what_nobody_confirmed_breaks_nothing(kestrel: Kestrel, tmp_path: Path) -> None:
    """All that is taken is unverified, rows included, and each value says where it is from."""
    taken = imported(kestrel, tmp_path, "p.html", PAGE, "--accept", "all")
    assert taken.code == 1, taken.err
    assert 'left out: audio.channels, "Audio: Channels: stereo. Mono audio is fine."' in taken.err
    written = (tmp_path / "made-up.toml").read_text()
    guide = tomllib.loads(written)
    assert {"bitrates", "video.keyframes", "video.codecs", "video.max_bitrate"} <= set(
        guide["unverified"]
    )
    assert [row["max"] for row in guide["bitrates"]] == ["9000 kbit/s", "4000 kbit/s"]
    assert "# unverified: Recommended encoder settings: Keyframe interval: 2 seconds" in written
    assert 'transcodes = "when there is capacity" # unverified: not on the page' in written
    assert "channels = [2, 1] # unverified: customary, not confirmed" in written
    asked = (
        "check",
        "--for",
        tmp_path / "made-up.toml",
        "--bitrate",
        "12 Mbit/s",
        "--resolution",
        "1920x1080",
        "--fps",
        "60",
        "--keyframes",
        "9 s",
        "--json",
    )
    found = kestrel(*asked)
    assert found.code == 0, found.out
    assert {f["rule"] for f in found.document["findings"] if f["severity"] == "caution"} >= {
        "video.max_bitrate",
        "video.keyframes",
    }


def test_a_person_confirms_one_list_and_conflicts_are_told_at_the_second(
    kestrel: Kestrel, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Enter alone ends; a number changes an answer; a conflict is told once, with both quotes."""
    keys = ["table.1", *BY_KEY]
    change = str(keys.index("video.max_resolution") + 1)
    typed = ["stereo", change, "1280x720", "", change, "1920x1080", "0", ""]
    monkeypatch.setattr(sys, "stdin", Person("\n".join(typed) + "\n"))
    result = imported(kestrel, tmp_path, "p.html", PAGE)
    assert result.code == 0, result.err
    said = " ".join(result.err.split())
    assert (
        '1 of 1 Audio channels: stereo, mono "Audio: Channels: stereo. Mono audio is fine."' in said
    )
    assert "that contradicts another answer" in said
    assert "Rows of its table: resolution, frame rate, bitrates: 1920x1080 at 60" in said
    assert '"0" is not one of these numbers' in said
    guide = tomllib.loads((tmp_path / "made-up.toml").read_text())
    assert guide["audio"]["channels"] == [2]
    assert guide["video"]["max_resolution"] == "1920x1080"
    assert "video.max_resolution" not in guide["unverified"]
    assert "# asked" in (tmp_path / "made-up.toml").read_text()
    monkeypatch.setattr(sys, "stdin", Person("\n" * 40))
    (tmp_path / "made-up.toml").unlink()
    assert imported(kestrel, tmp_path, "p.html", PAGE).code == 0


def test_a_column_without_a_unit_is_asked(
    kestrel: Kestrel, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    page_ = "| Resolution | fps | Bitrate |\n| --- | --- | --- |\n| 1280x720 | 30 | 3000 |\n"
    monkeypatch.setattr(sys, "stdin", Person("3=recommended kbit/s\n\n\n"))
    result = imported(kestrel, tmp_path, "p.md", page_)
    assert result.code == 0, result.err
    guide = tomllib.loads((tmp_path / "made-up.toml").read_text())
    assert guide["bitrates"][0]["recommended"] == "3000 kbit/s"


@pytest.mark.parametrize("cells", [250, 2000])
def test_spans_end_with_their_table(cells: int) -> None:
    row = "<tr><td rowspan=65534 colspan=65534>1080p</td><td>60</td><td>6000 kbps</td></tr>"
    (grid,) = page_of(f"<table>{row * cells}</table>").grids
    assert len(grid.rows) <= cells
    assert sum(map(len, grid.rows)) <= 40_000


# Without a terminal


def test_questions_go_out_and_answers_come_back(kestrel: Kestrel, tmp_path: Path) -> None:
    text = PAGE
    bare = imported(kestrel, tmp_path, "larch.html", text)
    assert bare.code == 2
    assert "--answers" in bare.err
    asked = imported(kestrel, tmp_path, "larch.html", text, "--json")
    assert asked.code == 2
    assert not (tmp_path / "made-up.toml").exists()
    document = asked.document
    for question in document["questions"]:
        question["answer"] = question["proposal"]
        if question["key"] == "video.max_bitrate":
            question["answer"] = "9 Mbit/s"
        if question["key"] == "audio.codecs":
            question["answer"] = "-"
    answers = tmp_path / "answers.json"
    answers.write_text(json.dumps(document))
    done = imported(kestrel, tmp_path, "larch.html", text, "--answers", answers)
    assert done.code == 0, done.err
    guide = tomllib.loads((tmp_path / "made-up.toml").read_text())
    assert guide["video"]["max_bitrate"] == "9000 kbit/s"
    assert len(guide["bitrates"]) == 2
    assert "audio.codecs" in guide["unverified"]
    assert "video.max_bitrate" not in guide["unverified"]
    apples = json.dumps(document).replace("9 Mbit/s", "9 apples")
    other = '{"format": "eager-kestrel/plan/3"}'
    for wrong, said in (("{", "JSON"), (other, "questions"), (apples, "apples")):
        answers.write_text(wrong)
        (tmp_path / "made-up.toml").unlink(missing_ok=True)
        refused = imported(kestrel, tmp_path, "larch.html", text, "--answers", answers)
        assert refused.code == 2
        assert said in refused.err


@pytest.mark.parametrize(
    ("option", "says"),
    [
        ("video.max_bitrate=fast", "video.max_bitrate"),
        ("video.top=6 Mbit/s", "video.top"),
        ("max_bitrate", "sets nothing"),
        ("table.1=resolution", "columns"),
        ("table.1=resolution | nonsense | minimum | recommended | maximum", "nonsense"),
        ("bitrates=1080p", "not a row"),
        ("audio.sample_rates=48", "sample rate"),
        ("servers=example.com", "address"),
    ],
)
def test_an_answer_that_is_none_says_what_to_write(
    kestrel: Kestrel, tmp_path: Path, option: str, says: str
) -> None:
    text = PAGE
    result = imported(kestrel, tmp_path, "larch.html", text, "--accept", "none", "--set", option)
    assert result.code == 2
    assert says in result.err
    assert ";" in result.err
    assert not (tmp_path / "made-up.toml").exists()


GOOD: dict[str, list[str]] = {
    "bitrates": [
        "1280x720 at 30: at most 3,000 kbit/s",
        "1080p60: 4 to 6 Mbit/s",
        "1920x1080 at 60 in hevc: recommended 5 Mbit/s; 720p at 30 for gold: 4 Mbit/s",
    ],
    "video.max_resolution": ["1920x1080", "1280x720"],
    "video.frame_rates": ["up to 60", "30, 60", "25"],
    "video.max_bitrate": ["6,000 kbit/s", "9.5 Mbit/s", "750 kB/s"],
    "video.min_bitrate": ["300 kbit/s", "0.5 Mbit/s"],
    "video.keyframes": [
        "2 s",
        "at most 4 s",
        "at least 1 s, at most 4 s",
        "1 s to 4 s, recommended 2 s",
    ],
    "video.rate_control": [
        "constant",
        "constant, variable",
        "constant, variable, recommended constant",
    ],
    "video.codecs": ["h264", "h264, hevc, av1"],
    "video.profiles": ["high, main", "main"],
    "video.max_level": ["4.2"],
    "video.max_b_frames": ["0", "2", "recommended 1"],
    "audio.codecs": ["aac", "aac, opus"],
    "audio.bitrate": ["96 to 160 kbit/s", "128 kbit/s", "recommended 128 kbit/s"],
    "audio.sample_rates": ["48 kHz", "44.1 kHz, 48 kHz"],
    "audio.channels": ["stereo", "mono, stereo"],
    "transports": ["rtmps", "rtmps, rtmp"],
    "servers": ["rtmps://a.hollowlane.example/live", "North=rtmp://b.hollowlane.example/x"],
    "delivery.transcodes": ["always", "never"],
}


@given(st.dictionaries(st.sampled_from(sorted(BY_KEY)), st.integers(0, 3)))
def test_a_guide_holds_exactly_what_was_confirmed(
    tmp_path_factory: pytest.TempPathFactory, picked: dict[str, int]
) -> None:
    """Whatever is answered; what contradicts itself is refused, and nothing is written."""
    assert set(GOOD) == set(BY_KEY)
    answers = {key: GOOD[key][number % len(GOOD[key])] for key, number in picked.items()}
    path = tmp_path_factory.mktemp("guides") / "made-up.toml"
    about = NewGuide("made-up", "Made Up", "a page", path)
    reading = Reading("page", WIDE, (), ())
    try:
        guide = write_imported_guide(reading, answers, about)
    except InputError:
        assert not path.exists()
        return
    document = guide.model_dump(mode="json", exclude_none=True)
    said: dict[str, Any] = {}
    for key, answer in answers.items():
        said |= read_answer(key, answer)
    whole = json.loads(json.dumps(document))
    for key, value in said.items():
        *path_, last = key.split(".")
        meant = json.loads(json.dumps(whole))
        at = meant
        for part in path_:
            at = at[part]
        assert last in at
        if key == "bitrates" or key.startswith("tiers."):
            assert len(at[last]) == len(value)
            value = [now | row for now, row in zip(at[last], value, strict=True)]
        at[last] = value
        assert guide_of(meant) == guide, key
    unverified = set(guide.unverified)
    for key in answers:
        assert not unverified & set(BY_KEY[key].covers)


# Pages of any kind


@given(st.randoms(use_true_random=False))
def test_mutated_pages_never_crash(rng: random.Random) -> None:
    made = page(rng)
    text = list(made.text)
    for _ in range(rng.randint(1, 12)):
        at = rng.randrange(len(text))
        match rng.randrange(4):
            case 0:
                del text[at : at + rng.randint(1, 40)]
            case 1:
                text[at:at] = rng.choices("<>|/;:,.0123456789kMBs[]^*\n\u00a0", k=5)
            case 2:
                text[at:at] = text[rng.randrange(len(text)) :][: rng.randint(1, 60)]
            case _:
                text[at] = rng.choice("\u0660\u3007<&%\u202e\ud7ff")
        text = text or ["x"]
    reading = reading_of("".join(text), made.suffix)
    for key, answer in reading.accepted().items():
        reading.check(key, answer)  # whatever is proposed is an answer
    reading.questions({})


def test_a_page_of_20_mb_is_refused_before_it_is_read(kestrel: Kestrel, tmp_path: Path) -> None:
    huge = tmp_path / "huge.html"
    with huge.open("wb") as file:
        file.truncate(5 * 10**9)  # sparse: reading it would take gigabytes
    result = kestrel("guides", "import", huge, "--name", "made-up", "--accept", "all")
    assert result.code == 2
    assert "save the table alone" in result.err


def test_a_table_without_end_breaks_no_folder(kestrel: Kestrel, tmp_path: Path) -> None:
    rows = "\n".join(f"{256 + 8 * n}x{144 + 2 * n},30,3000 kbit/s" for n in range(100_000))
    imported(kestrel, tmp_path, "many.csv", f"Resolution,fps,Max\n{rows}\n", "--accept", "all")
    written = tmp_path / "made-up.toml"
    assert not written.exists() or kestrel("guides", "check", written).code == 0
