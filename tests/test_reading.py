"""What is read: bounded before it is read, and nothing in it reaches a terminal or a sheet raw."""

from __future__ import annotations

import json
import os
import re
import sys
from pathlib import Path

import pytest
from hypothesis import given, strategies as st

from eager_kestrel.core.errors import may_hide, printable, printable_in
from eager_kestrel.files.documents import csv_text
from eager_kestrel.files.guides import guide_toml, load_guide
from eager_kestrel.net.addresses import without_key
from tests.conftest import Kestrel
from tests.test_runs import at, kept

HOSTILE = "\x1b[2J\x1b]0;owned\x07Coast\u202egnp.exe\u200b\u2066x\x9b31m"
STEERS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u200b\u200e\u200f\u202a-\u202e\u2066-\u2069]")


def escaped(text: str) -> str:
    """As a TOML or JSON file may hold it."""
    return json.dumps(text)[1:-1]


@pytest.fixture
def guides(tmp_path: Path) -> Path:
    folder = tmp_path / "guides"
    folder.mkdir()
    text = guide_toml(load_guide("oxbow"))
    title = re.search(r'^title = "(.*)"$', text, re.MULTILINE)
    assert title is not None
    (folder / "oxbow.toml").write_text(text.replace(title[0], f'title = "{escaped(HOSTILE)}"'))
    return folder


def test_texts_of_files_cannot_steer_a_terminal(
    kestrel: Kestrel, guides: Path, tmp_path: Path
) -> None:
    key = tmp_path / "key.toml"
    key.write_text(f'format = "eager-kestrel/show/3"\n"{escaped(HOSTILE)}" = 1\n')
    table = tmp_path / "runs.csv"
    table.write_text(f"time,upload_mbps\n{HOSTILE},12\n2026-11-01 20:00,{HOSTILE}\n")
    page = tmp_path / "page.html"
    page.write_text(
        "<table><tr><th>Setting</th><th>Value</th></tr><tr><td>Max bitrate &#27;[2J&#8238;</td>"
        f"<td>6000 kbps {HOSTILE}</td></tr></table>"
    )
    run = at(20, 9_000).model_dump(mode="json")
    run["endpoint"]["name"] = HOSTILE
    runs = tmp_path / "runs.json"
    runs.write_text(json.dumps({"format": "eager-kestrel/runs/3", "runs": [run]}))
    assert kestrel("runs", "import", runs).code == 0
    outputs = [
        kestrel(*command)
        for command in (
            ("plan", "--for", "oxbow", "--upload", "9 Mbit/s", "--guides", guides),
            ("guides", "show", "oxbow", "--guides", guides),
            ("guides", "list", "--guides", guides),
            ("guides", "check", guides / "oxbow.toml"),
            ("guides", "import", page, "--name", "coast", "--json"),
            ("plan", key),
            ("runs", "import", table),
            ("runs", "list"),
            ("runs", "show", "latest"),
        )
    ]
    for found in outputs:
        assert found.out or found.err
        assert STEERS.search(found.out + found.err) is None, found
    assert any("gnp.exe" in found.out for found in outputs)


@given(st.text(), st.booleans())
def test_printable_text_holds_nothing_that_steers(text: str, lines: bool) -> None:
    once = printable(text, lines=lines)
    assert STEERS.search(once) is None
    assert printable(once, lines=lines) == once
    assert [c for c in once if c not in " \n\r\t"] == [
        c for c in text if c in once and c not in " \n\r\t"
    ]


@given(st.dictionaries(st.text(), st.lists(st.text() | st.integers() | st.none())), st.booleans())
def test_a_quick_look_misses_nothing(document: dict[str, object], plain: bool) -> None:
    raw = json.dumps(document, ensure_ascii=plain).encode(errors="replace")
    if not may_hide(raw):
        assert printable_in(json.loads(raw)) == json.loads(raw)


@given(st.text(alphabet="abcXYZ0189-_", min_size=8), st.sampled_from("\u200b\u2060\ufeff\u202e"))
def test_a_key_is_masked_whatever_is_hidden_in_it(key: str, unseen: str) -> None:
    said = f"no stream {key[:4]}{unseen}{key[4:]} here"
    assert key not in printable(said).replace(" ", "") or key not in without_key(
        printable(said), key
    )


def test_no_cell_is_one_that_a_spreadsheet_runs(kestrel: Kestrel, tmp_path: Path) -> None:
    hostile = at(20, 9_000)
    endpoint = hostile.endpoint.model_copy(update={"url": '=HYPERLINK("http://a.example")'})
    kept(hostile.model_copy(update={"endpoint": endpoint}))
    assert kestrel("runs", "export", tmp_path / "runs.csv").code == 0
    text = (tmp_path / "runs.csv").read_text()
    assert "HYPERLINK" in text
    assert re.search(r'(^|,)"?[=+@-]', text, re.MULTILINE) is None
    assert csv_text([["-1", -1, "=a", "a=b"]]) == "'-1,-1,'=a,a=b\n"


@pytest.mark.skipif(sys.platform == "win32", reason="no pipes by name, no holes")
@pytest.mark.parametrize("kind", ["pipe", "device", "hole", "folder"])
@pytest.mark.parametrize(
    "command",
    [
        ("plan", "FILE.toml"),
        ("check", "FILE.toml", "--for", "oxbow"),
        ("check", "FILE.json", "--for", "oxbow"),
        ("check", "FILE.mkv", "--for", "oxbow"),
        ("check", "FILE.m3u8", "--for", "oxbow"),
        ("rehearse", "FILE.json", "--practice", "5 Mbit/s"),
        ("guides", "check", "FILE.toml"),
        ("guides", "import", "FILE.html", "--name", "coast", "--json"),
        ("runs", "import", "FILE.csv"),
        ("report", "FILE.json"),
        ("trial", "FILE.mp4"),
    ],
    ids=" ".join,
)
def test_nothing_is_read_that_has_no_end(
    kestrel: Kestrel, tmp_path: Path, command: tuple[str, ...], kind: str
) -> None:
    name = next(part for part in command if part.startswith("FILE"))
    path = tmp_path / name
    if kind == "pipe":
        os.mkfifo(path)
    elif kind == "device":
        path.symlink_to("/dev/zero")
    elif kind == "folder":
        path.mkdir()
    else:
        with path.open("wb") as file:
            file.truncate(5_000_000_000)
    found = kestrel(*(path if part == name else part for part in command))
    assert found.code in (1, 2), found
    assert "Traceback" not in found.err
    assert name in found.err
