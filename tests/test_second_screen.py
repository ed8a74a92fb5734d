"""The page of ``watch``: who may look, what it is told, and what a browser makes of it."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import json
import re
import socket
import time
from collections.abc import Iterator
from typing import Any

import httpx
import pytest

from eager_kestrel.actions.planning import plan, uplink_from_number
from eager_kestrel.actions.second_screen import KEPT, SecondScreen
from eager_kestrel.actions.shows import ShowOptions, asked_show
from eager_kestrel.core.watching.now import Now
from eager_kestrel.core.watching.verdict import Expected
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.report.page import watch_page
from tests.broadcasts import played
from tests.conftest import Kestrel

HOSTILE = '</script><img src=x onerror="document.title=1">&amp;<b>x</b>'


def told(seconds: float = 60, dip: float = 20.0, kbps: float = 3000.0) -> list[Now]:
    """How a planned stream stands: a connection that carries less for ten seconds."""
    made = plan(
        asked_show(
            None, ShowOptions(platforms=("oxbow",), source="1920x1080", source_fps="60")
        ).show,
        uplink_from_number("9 Mbit/s"),
    ).plan.destinations[0]
    expected = Expected(made.total_kbps, 60.0, 2.0, made.fallbacks)
    out = played(
        lambda t: kbps if dip <= t < dip + 10 else 12000, expected, seconds, kbps=made.total_kbps
    )
    return list(out.told)


@contextlib.contextmanager
def screen() -> Iterator[SecondScreen]:
    with SecondScreen(*watch_page(words.WAITING)) as page:
        yield page


def heard(lines: Iterator[str], last: str = "over") -> list[tuple[str, Any]]:
    """Events up to one of a name."""
    found: list[tuple[str, Any]] = []
    name = ""
    for line in lines:
        if line.startswith("event: "):
            name = line.removeprefix("event: ")
        elif line.startswith("data: "):
            found.append((name, json.loads(line.removeprefix("data: "))))
            if name == last:
                break
    return found


def test_only_who_knows_the_word_learns_that_there_is_anything() -> None:
    with screen() as page:
        origin, word = page.address[:-1].rsplit("/", 1)
        assert httpx.get(page.address).status_code == 200
        for path in (
            "",
            "/",
            f"/{word[:-1]}/",
            "/x/events",
            "/favicon.ico",
            f"/{word}/more",
            "/%00/",
        ):
            found = httpx.get(f"{origin}{path}")
            assert (found.status_code, found.json()) == (404, {"text": "Not Found"}), path
        for method in ("POST", "PUT", "DELETE", "OPTIONS"):
            assert httpx.request(method, page.address, content=b"x").status_code in (404, 405)
        assert len(word) >= 16


def test_the_page_is_one_file_that_a_browser_lets_do_nothing_else() -> None:
    with screen() as page:
        found = httpx.get(page.address)
    text, policy = found.text, found.headers["content-security-policy"]
    assert len(found.content) < 40_000
    assert not re.findall(r"""(?:src|href)=|@import|url\(|//(?!www\.w3\.org/2000/svg)\w""", text)
    for tag in ("script", "style"):
        inside = re.search(rf"<{tag}>(.*?)</{tag}>", text, re.DOTALL)
        assert inside is not None
        digest = hashlib.sha256(inside.group(1).encode()).digest()
        assert f"{tag}-src 'sha256-{base64.b64encode(digest).decode()}'" in policy
    assert "default-src 'none'" in policy
    assert "innerHTML" not in text
    assert found.headers["referrer-policy"] == "no-referrer"


def test_it_is_told_what_json_prints_and_late_comers_the_last_two_minutes() -> None:
    looks = told(200)
    with screen() as page:
        for now in looks:
            page.tell(now)
        with httpx.stream("GET", page.address + "events", timeout=5) as answer:
            lines = answer.iter_lines()
            (begun, _), (past, documents) = heard(lines, "past")
            page.tell(looks[-1].model_copy(update={"seconds": 300.0}))
            (live, now), *_ = heard(lines, "now")
            page.over("over: the program ended")
            assert heard(lines) == [("over", "over: the program ended")]
    assert (begun, past, live) == ("begin", "past", "now")
    assert len(documents) == KEPT
    whole = looks[-1].model_dump(mode="json")
    assert set(documents[-1]) == set(whole) - {"server"} | {"stream"}
    assert looks[-1].server not in json.dumps(documents)
    assert now["seconds"] == 300
    by_seconds = {look.seconds: look for look in looks}
    for document in documents:
        at = by_seconds[document["seconds"]].model_dump(mode="json")
        assert document == {"stream": 0} | {k: v for k, v in at.items() if k != "server"}


def test_every_verdict_is_told_and_all_of_it_agrees() -> None:
    """A verdict that changes is sent at once, a standing one each second."""
    looks = told()
    with screen() as page, httpx.stream("GET", page.address + "events", timeout=5) as answer:
        lines = answer.iter_lines()
        heard(lines, "past")
        for now in looks:
            page.tell(now)
        page.over("over")
        documents = [data for name, data in heard(lines) if name == "now"]
    headlines = [now.headline for now in looks]
    changes = [h for n, h in enumerate(headlines) if n == 0 or h != headlines[n - 1]]
    shown = [document["headline"] for document in documents]
    assert [h for n, h in enumerate(shown) if n == 0 or h != shown[n - 1]] == changes
    assert len(documents) <= len(looks)
    assert {now.state for now in looks} >= {"fine", "late"}
    for now in looks:
        assert now.since_seconds <= now.seconds
        assert (now.state == "late") == now.verdict.late
        assert (now.step is not None) == (now.verdict.fallback is not None)
        if now.step is not None:
            assert now.step in now.verdict.text
            assert "step down" in now.headline
    assert [t.text for t in looks[-1].troubles]


def test_who_does_not_read_is_sent_away() -> None:
    now = told(5)[-1]
    big = now.model_copy(update={"breaches": tuple("x" * 900 for _ in range(40))})
    with screen() as page, socket.socket() as idle:
        idle.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
        host, port = page.address.split("/")[2].split(":")
        idle.connect((host, int(port)))
        path = "/" + page.address.split("/", 3)[3]
        idle.sendall(f"GET {path}events HTTP/1.1\r\nHost: x\r\n\r\n".encode())
        until = time.perf_counter() + 20
        number = 0
        while time.perf_counter() < until:
            number += 1
            page.tell(big.model_copy(update={"seconds": 10.0 + number}))
            time.sleep(0.02)
            if number > 20 and not page.viewers:
                break
        assert page.viewers == 0
        assert httpx.get(page.address).status_code == 200


@pytest.mark.parametrize("at", ["nowhere at all", "127.0.0.1:99999", "203.0.113.9", "http://x/"])
def test_an_address_that_is_none_gets_a_line(kestrel: Kestrel, at: str) -> None:
    found = kestrel("watch", "--page-at", at, "--max-time", "1 s")
    assert found.code in (2, 3)
    assert "write" in found.error_line or "choose another" in found.error_line
