"""One page to keep, and what is kept for it."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from pathlib import Path

import pytest

from eager_kestrel.files.history import History
from tests.broadcasts import a_broadcast
from tests.conftest import Kestrel
from tests.test_runs import at, kept

UPLOAD = ("--upload", "9 Mbit/s")
VOID = {"meta", "br", "hr", "img", "path", "use", "rect", "circle", "line", "image", "stop"}


class Page(HTMLParser):
    """Checks that every tag is closed, and collects text, ids and what is fetched."""

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.text: list[str] = []
        self.ids: list[str] = []
        self.fetched: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        given = dict(attrs)
        self.ids += [found] if (found := given.get("id")) else []
        self.fetched += [v for k, v in attrs if k in ("src", "href", "xlink:href") and v]
        if tag not in VOID:
            self.open.append(tag)

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.handle_starttag(tag, attrs)
        if tag not in VOID:
            self.open.pop()

    def handle_endtag(self, tag: str) -> None:
        if tag not in VOID:
            assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        self.text.append(data)


def test_the_page_is_whole_and_needs_nothing_else(kestrel: Kestrel, tmp_path: Path) -> None:
    kept(*(at(20, kbps, day) for day, kbps in enumerate((9200, 9900, 8700), 1)))
    ever = ("--days", "3650")
    made = kestrel("plan", "--for", "oxbow", "--for", "gatepost", *ever, "--json").document
    kestrel("check", "--for", "oxbow", "--bitrate", "9 Mbit/s")
    with History() as history:
        history.keep([a_broadcast([4000] * 30)])
    assert kestrel("report", "-o", tmp_path / "deep" / "page.html").code == 0
    page = Page()
    page.feed((tmp_path / "deep" / "page.html").read_text())
    assert page.open == []
    assert len(page.ids) == len(set(page.ids))
    assert [one for one in page.fetched if not one.startswith("#")] == []
    assert "script" not in (tmp_path / "deep" / "page.html").read_text()
    text = " ".join(" ".join(page.text).split())
    for there in made["destinations"]:
        for reason in there["reasons"]:
            assert " ".join(reason["text"].split()) in text
        for step in there["fallbacks"]:
            assert f"{step['video']['bitrate_kbps']:,.0f} kbit/s" in text
    for said in (
        "The upload, divided",
        "Upload by hour of the day",
        "Checked",
        "9,000 kbit/s",
        "The last broadcast",
        "It held",
        "GB an hour",
        made["made_at"][:10],
    ):
        assert said in text, said
    assert kestrel("report", "-o", tmp_path / "page.md").code == 0
    plain = (tmp_path / "page.md").read_text()
    for said in ("The upload, divided", "Checked", "The last broadcast", "fallback", "local copy"):
        assert said in plain


def test_what_people_write_is_text_and_no_markup(kestrel: Kestrel, tmp_path: Path) -> None:
    assert (
        kestrel(
            "plan", "--for", "oxbow", *UPLOAD, "--reserve", "<script>x</script>=1 Mbit/s", "--json"
        ).code
        == 0
    )
    kestrel("report", "-o", tmp_path / "p.html")
    text = (tmp_path / "p.html").read_text()
    assert "<script>" not in text
    assert "&lt;script&gt;" in text


def test_titles_of_any_script_are_drawn_quietly(kestrel: Kestrel, tmp_path: Path) -> None:
    kept(*(at(20, kbps, day) for day, kbps in enumerate((9200, 9900, 8700), 1)))
    show = tmp_path / "show.toml"
    show.write_text(
        'format = "eager-kestrel/show/3"\ntitle = "ろくろの夜 🎉 轆轤 \U000e0041"\n'
        'source = "1920x1080"\nsource_fps = "60"\nmotion = "calm"\n[[destinations]]\n'
        'platform = "oxbow"\n'
    )
    for command, name in (
        (("plan", show, "--days", "3650", "--figure"), "plan.png"),
        (("report", "latest", "-o"), "page.html"),
    ):
        found = kestrel(*command, tmp_path / name)
        assert found.code == 0, found.err
        assert "glyph" not in found.err.lower()
        assert (tmp_path / name).stat().st_size > 10_000


@pytest.mark.parametrize("name", ["p.pdf", "p.txt", "p"])
def test_a_page_of_another_kind_is_refused(kestrel: Kestrel, tmp_path: Path, name: str) -> None:
    assert "no plan was made" in kestrel("report").error_line
    kestrel("plan", "--for", "oxbow", *UPLOAD)
    assert "name it .html or .md" in kestrel("report", "-o", tmp_path / name).error_line


def test_a_page_without_anything_else_tells_the_plan_alone(
    kestrel: Kestrel, tmp_path: Path
) -> None:
    kestrel("plan", "--for", "oxbow", *UPLOAD)
    assert kestrel("report", "-o", tmp_path / "p.html").code == 0
    text = (tmp_path / "p.html").read_text()
    for title in ("Rehearsed", "Checked", "The last broadcast", "The connection by hour"):
        assert not re.search(f"<h2>{title}", text)
