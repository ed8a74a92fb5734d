"""The brief answer: what to type, whether it will hold, and what to do when it struggles."""

from __future__ import annotations

import itertools
import re
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Kestrel

MOST_LINES = 24
"""Of a single destination, at 80 columns, warnings included."""
SHOWS = ("wheel-night", "kiln-watch", "glaze-talk", "clay-fair")
ONLY_FULL = ("yuv420p", "B-frames", "level", "│ buffer")


def words(text: str) -> str:
    return " ".join(re.sub("[│╭╮╰╯─]", " ", text).split())


def as_said(step: dict[str, Any]) -> str:
    video = step["video"]
    size, rate = f"{video['width']}x{video['height']}", f"{video['bitrate_kbps']:,.0f} kbit/s"
    return f"{size} at {video['fps']:g} fps, {rate}"


@pytest.mark.parametrize(
    ("show", "upload"),
    [*zip(SHOWS, itertools.cycle(("5 Mbit/s", "12 Mbit/s")))],
)
def test_what_to_type_comes_first_and_the_rest_is_asked_for(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch, show: str, upload: str
) -> None:
    """Every value that is typed, every warning; a card for each that differs, and no more."""
    monkeypatch.setenv("COLUMNS", "80")
    asked = ("plan", show, "--upload", upload)
    made = kestrel(*asked, "--json").document
    brief, why, full = (kestrel(*asked, *how).out for how in ((), ("--why",), ("--full",)))
    sent = [there for there in made["destinations"] if there["feasible"]]
    cards = {str((there["video"], there["audio"])) for there in sent}
    assert brief.count("╭") == why.count("╭") == full.count("╭") == len(cards)
    assert len(brief.splitlines()) <= MOST_LINES * len(cards)
    said = words(brief)
    for there in sent:
        video = there["video"]
        assert f"resolution {video['width']}x{video['height']}" in said
        assert f"video bitrate {video['bitrate_kbps']:,.0f} kbit/s" in said
        assert f"= {video['keyframe_frames']} frames" in said
        assert f"AAC {there['audio']['bitrate_kbps']:g} kbit/s" in said
        assert there["title"] in said
        assert there["servers"][0] in said
        assert all(address in words(full) for address in there["servers"])
        assert all(as_said(step) in said for step in there["fallbacks"][:3])
    for warning in made["warnings"]:
        assert warning in said
    assert not [word for word in ONLY_FULL if word in brief]
    assert all(word in full for word in ONLY_FULL)
    assert "safe rate" in words(why)
    assert "limited by" in why
    assert "limited by" not in brief
    for there in sent:
        for offer in there["offers"]:
            assert offer["text"] in words(why)
            assert offer["text"] in words(full)
            assert offer["text"] not in said or offer["kind"] == "machine"


def test_nothing_is_marked_that_is_no_trouble(kestrel: Kestrel) -> None:
    """Viewers who may get what is sent are a remark; those who always do are a warning."""
    made = kestrel("plan", "oxbow", "--upload", "9 Mbit/s", "--json").document
    assert made["warnings"] == []
    assert "may get exactly what you send" in made["remarks"][0]
    assert "!" not in kestrel("plan", "oxbow", "--upload", "9 Mbit/s", "--why").out
    always = kestrel("plan", "gatepost", "--upload", "9 Mbit/s", "--json").document
    assert any("always get exactly" in line for line in always["warnings"])


def test_a_sheet_for_helpers_is_the_answer_and_nothing_else(kestrel: Kestrel) -> None:
    made = kestrel("plan", "glaze-talk", "--upload", "9 Mbit/s", "--json").document
    assert kestrel("report", "--one-page", "--out", "sheet.md").code == 0
    assert kestrel("report", "--out", "whole.md").code == 0
    short, long = (Path(name).read_text(encoding="utf-8") for name in ("sheet.md", "whole.md"))
    for there in made["destinations"]:
        assert all(address in short for address in there["servers"])
    assert "When it struggles" in short
    video = made["destinations"][0]["video"]
    assert f"every {video['keyframe_seconds']:g} s = {video['keyframe_frames']} frames" in short
    assert f"{video['buffer_kbit']:,.0f} kbit = " in short
    assert f"{video['profile']}, level {video['level']}, {video['b_frames']} B-frames" in short
    assert video["colour"] in short
    assert all(as_said(step) in short for step in made["destinations"][0]["fallbacks"])
    for heading in ("Where the bitrate comes from", "Every setting, and why", "limited by"):
        assert heading in long
        assert heading not in short
