"""Guideline pages become guides: understood whole, or asked about; nothing is misread silently."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_kestrel.core.guide.amounts import VIDEO_KBPS, read_amounts
from eager_kestrel.core.guide.page import Answers
from eager_kestrel.core.guide.page_reading import understand
from eager_kestrel.files.pages import page_of
from tests.conftest import Kestrel, Result
from tests.pages import ASKED, WHOLE


def imported(kestrel: Kestrel, folder: Path, name: str, text: str, *options: str) -> Result:
    (folder / name).write_text(text, encoding="utf-8")
    return kestrel("guides", "import", folder / name, "--name", "made-up", *options,
                   "--out", folder / "made-up.toml")  # fmt: skip


def value_at(document: Any, key: str) -> Any:
    for part in key.split("."):
        document = document[int(part)] if part.isdigit() else document[part]
    return document


@pytest.mark.parametrize("name", sorted(WHOLE))
def test_pages_are_read_right(kestrel: Kestrel, tmp_path: Path, name: str) -> None:
    text, options, rungs, wanted = WHOLE[name]
    result = imported(kestrel, tmp_path, name, text, *options)
    assert result.code == 0, result.err
    written = (tmp_path / "made-up.toml").read_text()
    document = tomllib.loads(written)
    assert {key: value_at(document, key) for key in wanted} == wanted
    assert len(document["rungs"]) == rungs
    for line in written.splitlines():  # each rung, and each key that was read, says where from
        if line.startswith("picture "):
            assert "# row " in line
    assert kestrel("guides", "check", tmp_path / "made-up.toml").code == 0


@pytest.mark.parametrize("name", sorted(ASKED))
def test_what_is_not_understood_stops_the_import(
    kestrel: Kestrel, tmp_path: Path, name: str
) -> None:
    text, says = ASKED[name]
    result = imported(kestrel, tmp_path, name, text)
    assert result.code == 2
    assert says in result.err
    assert "--leave-rest" in result.err.splitlines()[-1] or "no row of" in result.err
    assert not (tmp_path / "made-up.toml").exists()


def test_the_rest_is_kept_as_comments_when_told(kestrel: Kestrel, tmp_path: Path) -> None:
    text, _ = ASKED["notes.csv"]
    result = imported(kestrel, tmp_path, "notes.csv", text, "--leave-rest")
    assert result.code == 0, result.err
    written = (tmp_path / "made-up.toml").read_text()
    assert '# Not understood, look it up: column "Remarks"' in written
    assert tomllib.loads(written)["rungs"][0]["ceiling"] == "4000 kbit/s"


def test_guesses_are_marked(kestrel: Kestrel, tmp_path: Path) -> None:
    text, *_ = WHOLE["wishes.md"]
    assert imported(kestrel, tmp_path, "wishes.md", text).code == 0
    written = (tmp_path / "made-up.toml").read_text()
    (ceiling,) = [line for line in written.splitlines() if line.startswith("ceiling")]
    assert "a guess" in ceiling
    (codecs,) = [line for line in written.splitlines() if line.startswith('codecs = ["h264')]
    assert "not on the page: check" in codecs


def test_standings_without_an_ordinary_one_are_asked(kestrel: Kestrel, tmp_path: Path) -> None:
    text = "Account,Picture,fps,Max\nSilver,1280x720,60,4 Mbps\nGold,1280x720,60,7 Mbps\n"
    asked = imported(kestrel, tmp_path, "s.csv", text)
    assert asked.code == 2
    assert "--ordinary" in asked.err
    assert imported(kestrel, tmp_path, "s.csv", text, "--ordinary", "Silver").code == 0
    document = tomllib.loads((tmp_path / "made-up.toml").read_text())
    assert document["video"]["ceiling"] == "4000 kbit/s"
    assert document["standings"]["gold"]["ceiling"] == "7000 kbit/s"


SEPARATORS = {"plain": "{}", "comma": "{:,}"}
HEADINGS = {"floor": "Minimum", "advised": "Recommended", "ceiling": "Maximum"}
ORDER = ["floor", "advised", "ceiling"]
SIZES = [(3840, 2160), (2560, 1440), (1920, 1080), (1280, 720), (854, 480), (640, 360)]


@st.composite
def tables(draw: st.DrawFn) -> tuple[str, list[dict[str, Any]]]:
    """A table as somebody might write it, and what it means."""
    bounds = draw(st.lists(st.sampled_from(ORDER), min_size=1, unique=True))
    columns = draw(st.permutations(["picture", "frame_rate", *bounds]))
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
        written = {b: _plain(kbps / divisor, number) + ("" if in_heading else f" {unit}")
                   for b, kbps in meant.items()}  # fmt: skip
        written |= {"picture": f"{height}p" if lines_only else f"{width}x{height}",
                    "frame_rate": fps}  # fmt: skip
        cells.append([written[column] for column in columns])
        rows.append({"picture": height, "frame_rate": fps} | meant)
    over = f" ({unit})" if in_heading else ""
    names = {"picture": "Resolution", "frame_rate": "Frame rate"}
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
    cells = ["".join(f"<td>{cell}</td>" for cell in row) for row in rows]
    return "<table>" + "".join(f"<tr>{row}</tr>" for row in cells) + "</table>"


@given(tables())
def test_a_table_is_read_as_meant_or_asked_about(made: tuple[str, list[dict[str, Any]]]) -> None:
    """However it is laid out: every row says what was meant, or the reader asks."""
    text, rows = made
    found = understand(page_of(text), Answers())
    if found.unplaced or found.questions:
        return
    assert len(found.rungs) == len(rows)
    for rung, row in zip(found.rungs, rows, strict=True):
        assert rung.picture.height == row["picture"]
        assert rung.frame_rate is not None
        assert round(float(rung.frame_rate), 2) == float(row["frame_rate"])
        for bound in ORDER:
            rate = getattr(rung, bound)
            assert (rate is None) == (bound not in row)
            assert rate is None or rate.kbps == pytest.approx(row[bound], rel=1e-4)


@given(st.text(alphabet="0123456789., kKmMbBit/sp-–to()maxrecomn+*xyz", max_size=40))
def test_every_character_is_accounted_for(text: str) -> None:
    """No number of a cell is dropped: it is an amount, or it is told."""
    reading = read_amounts(text, "bitrate", "kbit/s", VIDEO_KBPS)
    if reading.whole and any(c.isdigit() for c in text):
        digits = "".join(c for c in text if c.isdigit())
        taken = "".join(c for amount in reading.amounts for c in amount.text if c.isdigit())
        assert taken == digits
