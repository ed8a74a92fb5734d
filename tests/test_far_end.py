"""A far end of one's own: who is let in, how much is taken, what is counted, what is never said."""

from __future__ import annotations

import contextlib
import json
import os
import shlex
import socket
import ssl
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
import trustme
from hypothesis import given, strategies as st

from eager_kestrel.actions.far_end import EndpointState, Listening, bounds_of, far_end
from eager_kestrel.actions.practice import simulated_connection
from eager_kestrel.actions.receiving import Key
from eager_kestrel.core.connection.run import Series
from eager_kestrel.core.connection.summarising import EndpointCount, both_ends, summary_of
from eager_kestrel.core.errors import EndpointError, NetworkError
from eager_kestrel.core.units import Bitrate
from eager_kestrel.net import web_server as serving
from eager_kestrel.net.http_endpoint import MOST_SAMPLES, Bounds, Ledger
from eager_kestrel.net.publishing import Publication, PublishTarget
from eager_kestrel.practice.endpoint import Behaviour, PracticeEndpoint
from eager_kestrel.practice.uplink import PracticeUplink
from eager_kestrel.wire import flv
from tests.conftest import Kestrel, running, timed
from tests.test_cli import PROGRAM
from tests.test_hostile_peers import far_end as listening
from tests.test_throughput import run_of

TOKEN = "canary-token-7f3a"
GENEROUS = bounds_of("4 GB", "2 min", "40 GB")


@contextlib.contextmanager
def tier(
    bounds: Bounds = GENEROUS,
    certificate: ssl.SSLContext | None = None,
    proxy: str | None = None,
) -> Iterator[tuple[EndpointState, list[str]]]:
    said: list[str] = []
    key = Key(TOKEN, own=True)
    with far_end(
        key, bounds, Listening("127.0.0.1", 0, 0, certificate, proxy), said.append
    ) as there:
        yield there, said


def posted(there: EndpointState, body: bytes, token: str = TOKEN, **headers: str) -> httpx.Response:
    return httpx.post(
        f"http://127.0.0.1:{there.port}/up",
        content=body,
        headers={"authorization": f"Bearer {token}", **headers},
    )


@timed
def test_both_ends_agree(kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("EAGER_KESTREL_TOKEN", TOKEN)
    line = simulated_connection(Bitrate.parse("8 Mbit/s"))
    with tier() as (there, said), PracticeUplink(line, there.port) as up:
        result = kestrel(
            "measure", f"http://127.0.0.1:{up.port}", "--token", "--json", "--connections", "1"
        )
        kept = kestrel("runs", "list")
    assert result.code == 0, result.err
    ends = result.document["both_ends"]
    assert ends["endpoint_kbps"] == pytest.approx(ends["here_kbps"], rel=0.02)
    assert ends["here_kbps"] == pytest.approx(8000, rel=0.05)
    assert (
        0 < ends["endpoint_bytes"] <= result.document["data_used_bytes"] * 1.1
    )  # and what was queued
    assert "both ends agree" in " ".join(result.document["summary"]["remarks"])
    assert result.document["endpoint"]["found_by"] == "responsiveness configuration"
    for output in (result.out, result.err, kept.out, *said):
        assert TOKEN not in output


@timed
def test_a_stream_is_taken_by_the_token(kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("EAGER_KESTREL_TOKEN", TOKEN)
    with tier() as (there, said):
        url = f"rtmp://127.0.0.1:{there.rtmp_port}/live"
        result = kestrel("measure", url, "--token", "--max-rate", "2 Mbit/s", "--json")
        monkeypatch.setenv("EAGER_KESTREL_TOKEN", "some-other-token")
        wrong = kestrel("measure", url, "--token")
        time.sleep(0.3)
    assert result.code == 0, result.err
    assert result.document["summary"]["one_connection"]["typical_kbps"] == pytest.approx(
        2000, rel=0.05
    )
    assert wrong.code == 3
    assert "the key is not this one's token" in wrong.err
    assert any("rtmp" in line for line in said)
    assert TOKEN not in result.out + result.err + "".join(said)


def test_tls_and_a_token_that_stays_at_home(
    kestrel: Kestrel, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    authority = trustme.CA()
    authority.cert_pem.write_to_path(str(tmp_path / "ca.pem"))
    monkeypatch.setenv("SSL_CERT_FILE", str(tmp_path / "ca.pem"))
    monkeypatch.setenv("EAGER_KESTREL_TOKEN", TOKEN)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert("127.0.0.1").configure_cert(context)
    with tier(certificate=context) as (there, _):
        result = kestrel(
            "measure",
            f"https://127.0.0.1:{there.port}",
            *shlex.split("--token --json --connections 1 --seconds"),
            "2 s",
            "--data-limit",
            "3 GB",
        )
    assert result.code == 0, result.err
    assert result.document["both_ends"] is not None
    assert "unprotected" not in " ".join(result.document["notes"])


def test_a_token_never_leaves_its_origin(kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("EAGER_KESTREL_TOKEN", TOKEN)
    heard: list[bytes] = []

    def listen(connection: socket.socket, head: bytes) -> None:
        heard.append(head)

    with listening(listen) as elsewhere:
        behaviour = Behaviour(small_status=307, location=elsewhere)
        with PracticeEndpoint(behaviour) as first:
            result = kestrel("measure", f"http://127.0.0.1:{first.port}/up", "--token")
    assert result.code == 3
    assert "leads elsewhere, and a token is not sent there" in result.err
    assert heard == []


def test_a_token_that_http_cannot_carry_gets_a_line(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("EAGER_KESTREL_TOKEN", "schlüssel-of-enough-letters")
    for command in (("measure", "http://127.0.0.1:9", "--token"), ("far-end", "--port", "0")):
        found = kestrel(*command)
        assert found.code == 2
        assert "signs that HTTP cannot carry" in found.error_line
        assert "schl" not in found.err


def test_only_the_token_opens_and_guessing_is_stopped(kestrel: Kestrel) -> None:
    with tier() as (there, said):
        assert posted(there, b"x" * 100).json() == {"received_bytes": 100}
        assert posted(there, b"x", token="none").status_code == 401
        codes = [posted(there, b"x", token=f"guess {n}").status_code for n in range(12)]
        assert codes[:9] == [401] * 9
        assert codes[-1] == 429
        assert posted(there, b"x").status_code == 429  # it is not heard any more for a while
        health = httpx.get(f"http://127.0.0.1:{there.port}/health")
        assert health.json() == {"healthy": True, "uploads": 0}
    assert TOKEN not in "".join(said)


def test_a_run_is_counted_and_bounded() -> None:
    with tier(Bounds(3_000_000, 60, 5_000_000)) as (there, _):
        origin = f"http://127.0.0.1:{there.port}"
        auth = {"authorization": f"Bearer {TOKEN}"}
        for _ in range(2):
            assert posted(there, bytes(1_000_000), **{"kestrel-run": "one"}).status_code == 200
        counted = httpx.get(f"{origin}/counted/one", headers=auth).json()
        assert (counted["bytes"], counted["uploads"]) == (2_000_000, 2)
        assert counted["format"] == "eager-kestrel/counted/3"
        assert httpx.get(f"{origin}/counted/one").status_code == 401
        assert httpx.get(f"{origin}/counted/two", headers=auth).status_code == 404
        with contextlib.suppress(httpx.HTTPError):  # it may be cut off while it still sends
            assert posted(there, bytes(2_000_000), **{"kestrel-run": "one"}).status_code == 429
        again = posted(there, b"x", **{"kestrel-run": "one"})
        assert (again.status_code, again.json()["text"]) == (429, "the run's allowance is used up")
        with contextlib.suppress(httpx.HTTPError):
            posted(there, bytes(2_500_000), **{"kestrel-run": "two"})
        assert posted(there, b"x").json()["text"] == "the hour's allowance is used up"
        deadline = time.perf_counter() + 5
        while there.ledger.open and time.perf_counter() < deadline:
            time.sleep(0.05)
        assert there.ledger.open == 0


@pytest.mark.parametrize(
    "said",
    [
        b"\x16\x03\x01\x00\xff" * 40,
        b"GET / HTTP/9\r\n\r\n",
        b"POST /up HTTP/1.1\r\n" + b"x" * 40_000,
        b"POST /up HTTP/1.1\r\nHost: x\r\nContent-Length: -5\r\n\r\n",
        b"POST /up HTTP/1.1\r\nHost: x\r\nContent-Length: 99999999999999999999999\r\n\r\n",
        b"POST /up HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n",
        b"\r\n" * 9000,
    ],
    ids=range(7),
)
def test_nonsense_is_answered_or_closed_and_nothing_breaks(said: bytes) -> None:
    with tier() as (there, _):
        with socket.create_connection(("127.0.0.1", there.port), 5) as guest:
            guest.settimeout(2)
            with contextlib.suppress(OSError):
                guest.sendall(said)
                while guest.recv(65_536):
                    pass
        assert posted(there, b"fine").status_code == 200


def said_to(there: EndpointState, *parts: bytes) -> bytes:
    """What a far end answers until it closes, or falls silent."""
    heard = b""
    with socket.create_connection(("127.0.0.1", there.port), 5) as guest:
        guest.settimeout(2)
        with contextlib.suppress(OSError):
            for part in parts:
                guest.sendall(part)
            while data := guest.recv(65_536):
                heard += data
    return heard


HEAD = f"POST /up HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {TOKEN}\r\n".encode()


def test_no_second_request_hides_behind_a_first() -> None:
    with tier() as (there, _):
        both = HEAD + b"Content-Length: 4\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n" + HEAD
        smuggled = said_to(there, both + b"Content-Length: 2\r\n\r\nab")
        assert smuggled.count(b"HTTP/1.") == 1
        assert b" 400 " in smuggled.splitlines()[0]
        one = HEAD + b"Content-Length: 3\r\n\r\nabc"
        behind = said_to(there, one + one + b"GET /health HTTP/1.1\r\nHost: x\r\n\r\n")
        assert behind.count(b"HTTP/1.1 200") == 3
        chunked = HEAD + b"Transfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n"
        assert said_to(there, chunked + one).count(b'{"received_bytes": 3}') == 2
        body = b"GET /health HTTP/1.1\r\nHost: x\r\nContent-Length: 60\r\n\r\n" + HEAD
        assert said_to(there, body).count(b"HTTP/1.") == 1


def test_it_speaks_http() -> None:
    """Heads without bodies, the older version, and a body that waits to be asked for."""
    head = b"HEAD /health HTTP/1.1\r\nHost: x\r\n\r\n"
    with tier() as (there, _):
        assert said_to(there, head).endswith(b"\r\n\r\n")
        older = HEAD.replace(b"HTTP/1.1", b"HTTP/1.0")
        for asked in (older, HEAD + b"Connection: close\r\n"):
            with socket.create_connection(("127.0.0.1", there.port), 5) as guest:
                guest.sendall(asked + b"Content-Length: 3\r\n\r\nabc")
                assert b" 200 OK\r\n" in guest.recv(1000)
                assert guest.recv(1000) == b""  # closed
        waits = HEAD + b"Expect: 100-continue\r\nContent-Length: 3\r\n\r\n"
        with socket.create_connection(("127.0.0.1", there.port), 5) as guest:
            guest.sendall(waits)
            assert guest.recv(1000).startswith(b"HTTP/1.1 100")
            guest.sendall(b"abc")
            assert b"200 OK" in guest.recv(1000)


def test_no_token_is_no_guess_and_a_proxy_names_its_clients() -> None:
    with tier(proxy="127.0.0.1") as (there, _):
        url = f"http://127.0.0.1:{there.port}/up"
        for _ in range(15):
            assert httpx.post(url, content=b"x").status_code == 401
        assert posted(there, b"x").status_code == 200
        for number in range(12):
            told = f"192.0.2.9, 192.0.2.{'7' if number else '8'}"
            posted(there, b"x", token="a guess", **{"x-forwarded-for": told})
        guessed = {"x-forwarded-for": "192.0.2.1, 192.0.2.7"}
        assert posted(there, b"x", **guessed).status_code == 429
        assert posted(there, b"x", **{"x-forwarded-for": "192.0.2.8"}).status_code == 200
    with tier() as (there, _):  # nobody is believed who is not named
        for number in range(10):
            forged = {"x-forwarded-for": f"192.0.2.{number}"}
            assert posted(there, b"x", token="a guess", **forged).status_code == 401
        assert posted(there, b"x").status_code == 429


def test_strangers_are_counted_and_the_run_says_so() -> None:
    with tier() as (there, _):
        auth = {"authorization": f"Bearer {TOKEN}"}
        posted(there, bytes(2_000_000), **{"kestrel-run": "one"})
        for _ in range(30):
            said_to(there, b"GET /nothing HTTP/1.1\r\nHost: x\r\n\r\n" * 50)
        time.sleep(2 * serving.SWEEP_SECONDS)
        url = f"http://127.0.0.1:{there.port}/counted/one"
        far = EndpointCount.model_validate(httpx.get(url, headers=auth).json())
    assert far.strangers == 30
    near = Series(
        seconds=tuple(n / 10 for n in range(101)),
        delivered_bytes=tuple(n * 10_000 for n in range(101)),
    )
    run = run_of(near)
    for strangers, says in ((30, False), (3000, True)):
        ends = both_ends(near, far.model_copy(update={"samples": near, "strangers": strangers}))
        summary = summary_of(run.model_copy(update={"both_ends": ends}))
        assert ("without its token" in " ".join(summary.verdicts)) == says


def test_silent_strangers_over_tls_lock_nobody_out(tmp_path: Path) -> None:
    authority = trustme.CA()
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert("127.0.0.1").configure_cert(context)
    trusting = ssl.create_default_context()
    authority.configure_trust(trusting)
    with tier(certificate=context) as (there, said), contextlib.ExitStack() as stack:
        url = f"https://127.0.0.1:{there.port}/up"
        owner = stack.enter_context(
            httpx.Client(verify=trusting, headers={"authorization": f"Bearer {TOKEN}"})
        )
        assert owner.post(url, content=b"x").status_code == 200
        for number in range(400):
            stranger = socket.create_connection(("127.0.0.1", there.port), 5)
            stack.enter_context(stranger)
            if number % 2:
                stranger.sendall(b"\x16\x03\x01")
        assert owner.post(url, content=b"x").status_code == 200  # on the connection it had
        with httpx.Client(verify=trusting, headers=owner.headers) as another:
            assert another.post(url, content=b"x").status_code == 200
        assert there.web.connections <= serving.MOST_CONNECTIONS
    assert said == []  # it ended with handshakes pending, without a word


@pytest.mark.skipif(os.name == "nt", reason="Ctrl-C is sent as a POSIX signal")
def test_serving_goes_on_when_nobody_listens_to_what_it_tells() -> None:
    command = ["far-end", "--port", "0", "--no-rtmp", "--bind", "127.0.0.1", "--json"]
    with running([*PROGRAM, *command]) as there:
        assert there.stdout is not None
        assert there.stderr is not None
        told = ""
        while not told.rstrip().endswith("}"):
            told += there.stdout.readline()
        found = json.loads(told)
        there.stderr.close()
        there.stderr = None
        for _ in range(18):  # each is worth a line
            answer = httpx.post(
                f"http://127.0.0.1:{found['port']}/up",
                content=bytes(2_000_000),
                headers={"authorization": f"Bearer {found['token']}"},
            )
            assert answer.json() == {"received_bytes": 2_000_000}
        health = httpx.get(f"http://127.0.0.1:{found['port']}/health").json()
        assert health == {"healthy": True, "uploads": 0}
        there.send_signal(2)
        assert there.wait(10) == 0


def test_a_stranger_is_not_listened_to_for_long() -> None:
    refused = b"POST /up HTTP/1.1\r\nHost: x\r\nContent-Length: 99999999\r\n\r\n"
    with tier() as (there, _), socket.create_connection(("127.0.0.1", there.port), 5) as guest:
        guest.settimeout(2)
        guest.sendall(refused)
        assert guest.recv(100).startswith(b"HTTP/1.1 401")
        with pytest.raises(ConnectionError):  # closed, however lively it is
            guest.sendall(bytes(130_000_000))
    with tier() as (there, _):
        ingest = PublishTarget("rtmp", "127.0.0.1", there.rtmp_port or 0, "live")
        for _ in range(10):
            with pytest.raises(EndpointError, match="not this one's token"):
                Publication(ingest, "a-guess-of-some-length")
        with pytest.raises(EndpointError, match="too many wrong keys"):
            Publication(ingest, TOKEN)


def test_all_that_a_publisher_sends_is_counted() -> None:
    with tier(Bounds(3_000_000, 60, 5_000_000)) as (there, said):
        target = PublishTarget("rtmp", "127.0.0.1", there.rtmp_port or 0, "live")
        sending = Publication(target, TOKEN)
        with contextlib.suppress(NetworkError):
            for number in range(400):  # data messages: neither audio nor video
                sending.send(flv.DATA, number, bytes(20_000), None)
                sending.look(0.01)
        sending.close()
        until = time.perf_counter() + 5
        while there.ledger.open and time.perf_counter() < until:
            time.sleep(0.05)
    assert any("rtmp: 3,0" in line and "allowance is used up" in line for line in said)


def test_an_upload_is_not_thrown_out_by_strangers(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(serving, "MOST_CONNECTIONS", 20)
    with tier() as (there, _), contextlib.ExitStack() as stack:
        up = stack.enter_context(socket.create_connection(("127.0.0.1", there.port), 5))
        up.sendall(HEAD + b"Content-Length: 200000\r\n\r\n" + bytes(100_000))
        time.sleep(0.2)
        for _ in range(60):
            stack.enter_context(socket.create_connection(("127.0.0.1", there.port), 5))
        time.sleep(0.2)
        assert there.web.connections <= 20
        up.settimeout(5)
        up.sendall(bytes(100_000))
        assert b'{"received_bytes": 200000}' in up.recv(1000)


def test_the_silent_are_sent_away_and_cost_no_place(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(serving, "HEAD_SECONDS", 1.5)
    with tier() as (there, _):
        guests = [socket.create_connection(("127.0.0.1", there.port), 5) for _ in range(200)]
        try:
            assert posted(there, b"x").status_code == 200
            guests[0].settimeout(5)
            assert guests[0].recv(10) == b""
        finally:
            for guest in guests:
                guest.close()


@given(st.lists(st.tuples(st.integers(0, 3), st.integers(1, 5000), st.floats(0, 900)), max_size=60))
def test_no_more_than_the_bounds_is_ever_taken(steps: list[tuple[int, int, float]]) -> None:
    """Whatever comes when: an hour's bytes stay under its bound but for the last piece."""
    now = [0.0]
    ledger = Ledger(TOKEN, Bounds(8000, 600, 20_000, at_once=2), lambda: now[0])
    taken: list[tuple[float, int, int]] = []
    for run, count, pause in steps:
        now[0] += pause
        if ledger.begin(f"run {run}") is not None:
            continue
        ledger.add(f"run {run}", count)
        taken.append((now[0], run, count))
        ledger.end(f"run {run}")
        hour = sum(c for at, _, c in taken if at > now[0] - 3600)
        assert hour < 20_000 + 5000
        assert sum(c for _, r, c in taken if r == run) < 8000 + 5000
    assert ledger.open == 0


def test_samples_of_a_long_run_stay_few_and_never_fall() -> None:
    now = [0.0]
    ledger = Ledger(TOKEN, Bounds(10**12, 10**6, 10**12), lambda: now[0])
    assert ledger.begin("long") is None
    for _ in range(50_000):
        now[0] += 0.004
        ledger.add("long", 1000)
    found = ledger.count_of("long")
    assert found is not None
    assert len(found.seconds) <= MOST_SAMPLES
    assert found.counts == sorted(found.counts)
    assert found.bytes == 50_000_000


@pytest.mark.skipif(os.name == "nt", reason="Ctrl-C is sent as a POSIX signal")
def test_the_command_prints_its_token_once() -> None:
    with running(
        [*PROGRAM, "far-end", "--port", "0", "--rtmp-port", "0", "--bind", "127.0.0.1", "--json"]
    ) as there:
        assert there.stdout is not None
        said = ""
        while not said.rstrip().endswith("}"):
            said += there.stdout.readline()
        found = json.loads(said)
        health = httpx.get(f"http://127.0.0.1:{found['port']}/health")
        assert health.status_code == 200
        assert len(found["token"]) >= 20
        there.send_signal(2)
        rest, errors = there.communicate(timeout=10)
    assert found["token"] not in rest + errors


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (("--max-run", "4 GB", "--max-hour", "1 GB"), "give the hour more"),
        (("--certificate", "nothing.pem"), "a certificate goes with its key"),
        (("--certificate", "no.pem", "--private-key", "no.key"), "are no certificate and key"),
        (("--bind", "203.0.113.9"), "cannot be used"),
    ],
)
def test_a_far_end_that_cannot_stand_says_so(
    kestrel: Kestrel, arguments: tuple[str, ...], says: str
) -> None:
    result = kestrel("far-end", *arguments)
    assert result.code in (2, 3)
    assert says in result.error_line
