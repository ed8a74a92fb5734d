"""The page of ``watch``: who may look, what it is told, and what a browser makes of it."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import json
import re
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from eager_kestrel.actions.second_screen import KEPT, SecondScreen
from eager_kestrel.core.connection.broadcast import Now
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.report.page import watch_page
from tests.broadcasts import planned, played
from tests.conftest import Kestrel, running
from tests.test_cli import PROGRAM
from tests.test_runs import at, kept

HOSTILE = '</script><img src=x onerror="document.title=1">&amp;<b>x</b>'


def told(seconds: float = 60, dip: float = 20.0, kbps: float = 3000.0) -> list[Now]:
    """How a planned stream stands: a connection that carries less for ten seconds."""
    made, expected = planned()
    out = played(
        lambda t: kbps if dip <= t < dip + 10 else 12000, expected, seconds, kbps=made.total_kbps
    )
    return list(out.told)


@pytest.mark.parametrize("begins", [0.5, 1.0, 1.5, 2.0])
def test_a_line_carries_no_more_than_is_sent(begins: float) -> None:
    """Also of a stream that has just begun, of which little was sent on average."""
    made, expected = planned()
    kbps = made.total_kbps
    share = lambda t: 0.05 if t < begins else 1.6 if t < begins + 1.5 else 1.0  # noqa: E731
    out = played(lambda _: 0.95 * kbps, expected, 15, kbps=kbps, share=share)
    said = {now.verdict.text for now in out.told}
    pairs = [re.search(r"carries ([\d,]+) of ([\d,]+)", text) for text in said]
    rates = [[float(rate.replace(",", "")) for rate in pair.groups()] for pair in pairs if pair]
    assert rates
    assert all(carried <= sent for carried, sent in rates), said


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
            for address in (page.address, f"{origin}/x/", page.address + "events"):
                assert httpx.request(method, address, content=b"x").status_code == 404
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


@pytest.mark.parametrize(
    "at", ["nowhere at all", "nowhere!", "127.0.0.1:99999", "203.0.113.9", "http://x/"]
)
def test_an_address_that_is_none_gets_a_line(kestrel: Kestrel, at: str) -> None:
    found = kestrel("watch", "--page-at", at, "--max-time", "1 s")
    assert found.code in (2, 3)
    assert "write" in found.error_line or "choose another with --page-at" in found.error_line
    assert "Unknown error" not in found.error_line


def test_page_and_json_say_the_same_within_a_second(monkeypatch: pytest.MonkeyPatch) -> None:
    """The real commands: one sends a stand-in, the other stands in between, over 2.6 Mbit/s."""
    monkeypatch.setenv("EAGER_KESTREL_LOCAL_KEY", "a-key-that-nobody-may-see")
    monkeypatch.setenv("EAGER_KESTREL_STREAM_KEY", "a-key-that-nobody-may-see")
    planned = ["plan", "--for", "oxbow", "--upload", "6 Mbit/s", "--source", "720p30"]
    subprocess.run([*PROGRAM, *planned], check=True, capture_output=True)
    watch = ["watch", "--practice", "2.6 Mbit/s", "--port", "0", "--page", "--json"]
    with running([*PROGRAM, *watch], bufsize=1) as watching:
        assert watching.stderr is not None
        assert watching.stdout is not None
        address = watching.stderr.readline().split()[-1]
        ingest = watching.stderr.readline().split()[2]
        sends = ["rehearse", "--to", ingest, "--seconds", "6 s"]
        with (
            running([*PROGRAM, *sends]) as sending,
            httpx.stream("GET", address + "events", timeout=30) as answer,
        ):
            events = heard(answer.iter_lines())
            sending.wait(60)
        printed = [json.loads(line) for line in watching.stdout.read().splitlines()]
        errors = watching.stderr.read()
    shown = [data for name, data in events if name == "now"]
    assert events[-1][1].startswith("over: the program")
    assert "a-key-that-nobody-may-see" not in json.dumps(events) + errors
    assert len(printed) >= 5
    for one in printed:
        near = [page["headline"] for page in shown if abs(page["seconds"] - one["seconds"]) <= 1.0]
        assert one["headline"] in near, one["seconds"]
    assert any(one["state"] != "fine" for one in shown)  # there was something to say


# In a browser

FLAGS = (
    *("--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"),
    *("--disable-background-networking", "--disable-component-update", "--disable-sync"),
)


@pytest.fixture(scope="module")
def browser() -> Iterator[Any]:
    """Debian's Chromium, driven; where it is not installed these tests are skipped."""
    driver, program = shutil.which("chromedriver"), shutil.which("chromium")
    if driver is None or program is None:
        pytest.skip("NOT TRIED IN A BROWSER: chromium and chromium-driver are not installed")
    from selenium import webdriver
    from selenium.common.exceptions import WebDriverException

    options = webdriver.ChromeOptions()
    options.binary_location = program
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    for flag in FLAGS:
        options.add_argument(flag)
    try:
        seen = webdriver.Chrome(options, webdriver.ChromeService(driver))
    except WebDriverException as error:
        pytest.skip(f"NOT TRIED IN A BROWSER: chromium does not start ({error.msg})")
    yield seen
    seen.quit()


def until(seen: Any, script: str, seconds: float = 15.0) -> Any:
    """What a script returns once it is something."""
    ends = time.perf_counter() + seconds
    while not (found := seen.execute_script(f"return {script}")):
        assert time.perf_counter() < ends, (
            script,
            seen.execute_script("return document.body.innerText"),
        )
        time.sleep(0.1)
    return found


def test_a_browser_shows_verdict_advice_and_nothing_from_outside_as_markup(browser: Any) -> None:
    looks = told()
    bad = next(now for now in looks if now.state == "late" and now.step)
    with screen() as page:
        browser.get(page.address)
        until(
            browser, "document.querySelector('#news:not([hidden])').innerText.includes('nothing')"
        )
        for now in looks:
            page.tell(now)
            if now is bad:
                break
        late = until(browser, "document.querySelector('.late .headline')?.innerText")
        assert late == bad.headline
        assert (
            browser.execute_script("return document.querySelector('.do strong').innerText")
            == bad.step
        )
        assert bad.verdict.text in browser.find_element("id", "said").get_attribute("textContent")
        hostile = bad.model_copy(
            update={
                "seconds": 99.0,
                "headline": HOSTILE,
                "platform": HOSTILE,
                "step": HOSTILE,
                "breaches": (HOSTILE,),
                "verdict": bad.verdict.model_copy(update={"text": HOSTILE}),
            }
        )
        page.tell(hostile)
        until(browser, "document.querySelector('.text').innerText.includes('onerror')")
        for name in (".headline", ".do strong", ".breaches li"):
            shown = browser.execute_script(f"return document.querySelector('{name}').textContent")
            assert shown == HOSTILE
        assert (
            browser.execute_script("return document.images.length + document.scripts.length") == 1
        )
        page.over("over: the program ended")
        until(browser, "document.querySelector('#news:not([hidden])')?.innerText.includes('ended')")
    said = [entry for entry in browser.get_log("browser") if entry["level"] == "SEVERE"]
    assert [entry["message"] for entry in said if "favicon" not in entry["message"]] == []
    asked = [json.loads(entry["message"])["message"] for entry in browser.get_log("performance")]
    urls = [
        one["params"]["request"]["url"]
        for one in asked
        if one["method"] == "Network.requestWillBeSent"
    ]
    assert urls
    assert {url.split("/")[2] for url in urls if url.startswith("http")} == {
        page.address.split("/")[2]
    }


FIELDS = """return (() => {
  const [news, old] = [find('news'), document.querySelector('.stream .verdict')];
  return [news.getBoundingClientRect().top < old.getBoundingClientRect().top,
    [news, old].map((one) => getComputedStyle(one).backgroundColor),
    getComputedStyle(old.querySelector('.headline'), '::before').content];
})()"""


def test_a_browser_says_that_there_is_no_news_and_follows_again(browser: Any) -> None:
    looks = told(30)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(
            "eager_kestrel.actions.second_screen.secrets.token_urlsafe", lambda _: "w" * 16
        )
        first = SecondScreen(*watch_page(words.WAITING), f"127.0.0.1:{port}")
        with first as page:
            page.tell(looks[0])
            browser.get(page.address)
            until(browser, "document.querySelector('.fine .headline')?.innerText")
        until(
            browser,
            "document.querySelector('#news:not([hidden])')?.innerText.includes('no news for')",
        )
        assert "no news" in browser.find_element("id", "said").get_attribute("textContent")
        assert "no news" in browser.title
        above, colours, opinion = browser.execute_script(FIELDS)
        assert above
        assert len(set(colours)) == 1, "a verdict of the past is not shown in a colour of its own"
        assert opinion.startswith('"last')
        again = SecondScreen(*watch_page(words.WAITING), f"127.0.0.1:{port}")
    with again as page:
        ends = time.perf_counter() + 15
        number = 0
        while time.perf_counter() < ends and browser.execute_script("return !find('news').hidden"):
            number += 1
            page.tell(looks[0].model_copy(update={"seconds": 100.0 + number}))
            time.sleep(0.3)
        assert browser.execute_script("return find('news').hidden")
        assert browser.execute_script("return document.querySelectorAll('.stream').length") == 1


@pytest.mark.parametrize("wide", [320, 390, 1280])
def test_nothing_runs_off_the_edge(browser: Any, wide: int) -> None:
    """On a phone and a desk, with large letters, too."""
    size = {"width": wide, "height": 844, "deviceScaleFactor": 1, "mobile": True}
    looks = told()
    with screen() as page:
        browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
        browser.get(page.address)
        for now in looks[:200]:
            page.tell(now)
        until(browser, "document.querySelector('.headline')?.innerText")
        for letters in ("100%", "200%"):
            browser.execute_script(f"document.documentElement.style.fontSize = '{letters}'")
            assert browser.execute_script("return document.documentElement.scrollWidth") <= wide
    browser.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})


@pytest.mark.parametrize("width", [390, 1280])
def test_a_report_fits_a_phone_and_a_desk_with_its_figures_legible(
    browser: Any, kestrel: Kestrel, tmp_path: Path, width: int
) -> None:
    kept(*(at(20, kbps, day) for day, kbps in enumerate((9200, 9900, 8700), 1)))
    kestrel("plan", "--for", "oxbow", "--for", "gatepost", "--days", "3650")
    assert kestrel("report", "-o", tmp_path / "page.html").code == 0
    browser.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride",
        {"width": width, "height": 844, "deviceScaleFactor": 1, "mobile": width < 800},
    )
    browser.get((tmp_path / "page.html").as_uri())
    assert browser.execute_script("return document.documentElement.scrollWidth") <= width
    shown = browser.execute_script(
        "return [...document.querySelectorAll('.figure')].map(figure => [...figure.children]"
        ".map(svg => svg.getBoundingClientRect().width / svg.viewBox.baseVal.width)"
        ".filter(scale => scale > 0))"
    )
    assert len(shown) >= 2
    assert all(len(scales) == 1 for scales in shown)
    assert min(scale for (scale,) in shown) > 0.8 * 96 / 72  # a point of the figure is one, nearly
