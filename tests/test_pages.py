"""Guideline pages propose, a person confirms: nothing enters a guide unconfirmed."""

from __future__ import annotations

import json
import random
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions.importing import NewGuide, Reading, write_imported_guide
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.guide.amounts import Page
from eager_kestrel.core.guide.drafting import guide_of
from eager_kestrel.core.guide.proposals import proposals
from eager_kestrel.core.guide.questions import BY_KEY, read_answer
from eager_kestrel.core.guide.tables import tables_in
from eager_kestrel.core.resolution import AspectRatio
from eager_kestrel.files.pages import page_of
from tests.conftest import Kestrel, Result
from tests.pages import PAGES, SENTENCES, text_of

WIDE = AspectRatio(16, 9)


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
    page = page_of(text, suffix)
    tables, lines = tables_in(page, WIDE)
    whole = Page(page.grids, (*page.lines, *lines))
    return Reading("page", WIDE, tuple(tables), tuple(proposals(whole, WIDE)))


def value_at(document: Any, key: str) -> Any:
    for part in key.split("."):
        document = document[int(part)] if part.isdigit() else document[part]
    return document


@pytest.mark.parametrize("name", sorted(PAGES))
def test_pages_propose_what_they_say(kestrel: Kestrel, tmp_path: Path, name: str) -> None:
    sets, bitrates, wanted = PAGES[name]
    text = text_of(name)
    options = [part for one in sets for part in ("--set", one)]
    result = imported(kestrel, tmp_path, name, text, "--accept", "all", *options)
    assert result.code == 1, result.err
    document = tomllib.loads((tmp_path / "made-up.toml").read_text())
    assert {key: value_at(document, key) for key in wanted} == wanted
    assert len(document.get("bitrates", ())) == bitrates
    assert "video.keyframes" in document["unverified"]
    assert kestrel("guides", "check", tmp_path / "made-up.toml").code == 0


@pytest.mark.parametrize("line", SENTENCES)
def test_a_sentence_proposes_what_it_says(line: str) -> None:
    """The likeliest of each key; a doubt stands where nobody should take it unseen."""
    first: dict[str, str] = {}
    for one in proposals(Page((), (line,)), WIDE):
        first.setdefault(one.key, f"? {one.value}" if one.doubt else one.value)
        assert one.text in line.replace("max.", "max")
    assert first == SENTENCES[line]


def test_footnotes_make_a_table_doubtful(kestrel: Kestrel, tmp_path: Path) -> None:
    text = """<table><tr><th>Resolution</th><th>fps</th><th>Max (Mbit/s)</th></tr>
<tr><td>1080p</td><td>60</td><td>8<sup>1</sup></td></tr></table>
<p><sup>1</sup> for gold accounts</p>"""
    asked = imported(kestrel, tmp_path, "f.html", text, "--json").document
    (table,) = [q for q in asked["questions"] if q["key"] == "table.1"]
    assert table["proposals"][0]["doubt"] == "note 1: for gold accounts"
    taken = imported(kestrel, tmp_path, "f.html", text, "--accept", "all")
    assert "left out: table.1=" in taken.err
    assert "(note 1: for gold accounts); if it is right, add it with --set" in taken.err
    assert "bitrates" not in tomllib.loads((tmp_path / "made-up.toml").read_text())


# Without a terminal


def test_questions_go_out_and_answers_come_back(kestrel: Kestrel, tmp_path: Path) -> None:
    text = text_of("larch.md")
    bare = imported(kestrel, tmp_path, "larch.md", text)
    assert bare.code == 2
    assert "--answers" in bare.err
    asked = imported(kestrel, tmp_path, "larch.md", text, "--json")
    assert asked.code == 2
    assert not (tmp_path / "made-up.toml").exists()
    document = asked.document
    for question in document["questions"]:
        if question["proposals"]:
            question["answer"] = question["proposals"][0]["value"]
        if question["key"] == "video.max_bitrate":
            question["answer"] = "9 Mbit/s"
        if question["key"] == "audio.codecs":
            question["answer"] = "-"
    answers = tmp_path / "answers.json"
    answers.write_text(json.dumps(document))
    done = imported(kestrel, tmp_path, "larch.md", text, "--answers", answers)
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
        refused = imported(kestrel, tmp_path, "larch.md", text, "--answers", answers)
        assert refused.code == 2
        assert said in refused.err


@pytest.mark.parametrize(
    ("option", "says"),
    [
        ("video.max_bitrate=fast", "video.max_bitrate"),
        ("video.top=6 Mbit/s", "video.top"),
        ("max_bitrate", "sets nothing"),
        ("table.1=resolution", "columns"),
        ("table.1=resolution | nonsense | maximum | ignore", "nonsense"),
        ("bitrates=1080p", "not a row"),
        ("audio.sample_rates=48", "sample rate"),
        ("servers=example.com", "address"),
    ],
)
def test_an_answer_that_is_none_says_what_to_write(
    kestrel: Kestrel, tmp_path: Path, option: str, says: str
) -> None:
    text = text_of("larch.md")
    result = imported(kestrel, tmp_path, "larch.md", text, "--accept", "none", "--set", option)
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


SEPARATORS = {"plain": "{}", "comma": "{:,}"}
HEADINGS = {"min": "Minimum", "recommended": "Recommended", "max": "Maximum"}
ORDER = ["min", "recommended", "max"]
SIZES = [(3840, 2160), (2560, 1440), (1920, 1080), (1280, 720), (854, 480), (640, 360)]


@st.composite
def tables(draw: st.DrawFn) -> tuple[str, list[dict[str, Any]]]:
    """A table as somebody might write it, and what it means."""
    bounds = draw(st.lists(st.sampled_from(ORDER), min_size=1, unique=True))
    columns = draw(st.permutations(["resolution", "frame_rate", *bounds]))
    unit = draw(st.sampled_from(["kbit/s", "kbps", "Mbit/s", "Mbps", "kB/s", "MB/s"]))
    in_heading = draw(st.booleans())
    number = SEPARATORS[draw(st.sampled_from(sorted(SEPARATORS)))]
    lines_only = draw(st.booleans())
    kind = draw(st.sampled_from(["markdown", "html", "csv"]))
    rows, cells = [], []
    for width, height in draw(st.lists(st.sampled_from(SIZES), min_size=1, unique=True)):
        rates = sorted(draw(st.lists(st.integers(4, 400), min_size=3, max_size=3, unique=True)))
        meant = {b: r * 100 for b, r in zip(ORDER, rates, strict=True) if b in bounds}
        fps = draw(st.sampled_from(["60", "50", "30", "25", "29.97"]))
        divisor = {"k": 1, "M": 1000}[unit[0]] * (8 if "B" in unit else 1)
        written = {
            b: _plain(kbps / divisor, number) + ("" if in_heading else f" {unit}")
            for b, kbps in meant.items()
        }
        written |= {
            "resolution": f"{height}p" if lines_only else f"{width}x{height}",
            "frame_rate": fps,
        }
        cells.append([written[column] for column in columns])
        rows.append({"resolution": height, "frame_rate": fps} | meant)
    over = f" ({unit})" if in_heading else ""
    names = {"resolution": "Resolution", "frame_rate": "Frame rate"}
    headings = [names.get(c) or HEADINGS[c] + over for c in columns]
    return _table(kind, [headings, *cells]), rows


def _plain(value: float, number: str) -> str:
    return number.format(round(value)) if value == round(value) else f"{value:.5f}".rstrip("0")


def _table(kind: str, rows: list[list[str]]) -> str:
    if kind == "csv":
        return "\n".join(";".join(row) for row in rows)
    if kind == "markdown":
        body = ["| " + " | ".join(row) + " |" for row in rows]
        return "\n".join([body[0], "|" + " --- |" * len(rows[0]), *body[1:]])
    cells = ["".join(f"<td>{cell}" for cell in row) for row in rows]
    return "<table>" + "".join(f"<tr>{row}" for row in cells) + "</table>"


@given(tables())
def test_a_table_is_proposed_as_meant(made: tuple[str, list[dict[str, Any]]]) -> None:
    """However it is laid out, and whichever end tags are left out."""
    text, rows = made
    reading = reading_of(text)
    assert len(reading.tables) == 1
    found = read_answer("bitrates", reading.accepted()["bitrates"])["bitrates"]
    assert len(found) == len(rows)
    for read, row in zip(found, rows, strict=True):
        assert read["resolution"].endswith(f"x{row['resolution']}")
        assert float(read["frame_rate"]) == float(row["frame_rate"])
        for bound in ORDER:
            assert (bound in read) == (bound in row)
            if bound in row:
                rate = float(read[bound].removesuffix(" kbit/s"))
                assert rate == pytest.approx(row[bound], rel=1e-4, abs=1)


@given(st.sampled_from(sorted(PAGES)), st.randoms(use_true_random=False))
def test_mutated_pages_never_crash(name: str, rng: random.Random) -> None:
    text = list(text_of(name))
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
    reading = reading_of("".join(text), Path(name).suffix)
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
