"""``measure`` through the real command line, real sockets and connections of known rate."""

from __future__ import annotations

import errno
import json
import os
import shlex
import signal
import socket
import ssl
import sys
import threading
import time
import urllib.request
from pathlib import Path
from urllib.parse import urlsplit

import httpx
import psutil
import pytest
import trustme

from eager_kestrel.actions.practice import SimulatedTrouble, simulated_connection, simulated_uplink
from eager_kestrel.core.units import Bitrate
from eager_kestrel.net.exchange import network_error
from eager_kestrel.practice.endpoint import Behaviour, PracticeEndpoint
from tests.conftest import Kestrel, Result, running, timed

EIGHT = Bitrate.parse("8 Mbit/s")


def measured(kestrel: Kestrel, url: str, *more: str, seconds: str = "3 s") -> Result:
    return kestrel("measure", url, "--connections", "1", "--seconds", seconds, "--json", *more)


@timed
def test_eight_megabits_are_found_to_be_eight(kestrel: Kestrel) -> None:
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        result = kestrel("measure", up.url, "--seconds", "6 s", "--json")
    assert result.code == 0, result.err
    run = result.document
    assert run["format"] == "eager-kestrel/run/3"
    assert run["summary"]["uplink"]["typical_kbps"] == pytest.approx(8000, rel=0.03)
    assert run["summary"]["uplink"]["floor_kbps"] == pytest.approx(8000, rel=0.05)
    assert run["summary"]["one_connection"]["typical_kbps"] == pytest.approx(8000, rel=0.03)
    assert run["several_connections"]["connections"] == 4
    assert run["summary"]["several_connections"]["typical_kbps"] == pytest.approx(8000, rel=0.05)
    assert 30 <= run["summary"]["idle"]["median_ms"] <= 50
    assert run["summary"]["loaded"]["median_ms"] > run["summary"]["idle"]["median_ms"] + 20
    assert run["counted_by"]
    assert run["one_connection"]["samples"]["seconds"] == []
    assert run["data_used_bytes"] < 3 * 6.5e6  # two phases, one of them once more if it was busy


@pytest.mark.skipif(os.name == "nt", reason="signals are POSIX")
@timed
def test_to_be_told_to_end_is_as_ctrl_c(kestrel: Kestrel, home: Path) -> None:
    """What was learned by then is kept, and marked."""
    program = [sys.executable, "-m", "eager_kestrel", "measure"]
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        asked = [*program, up.url, "--seconds", "60 s", "--connections", "1", "--json"]
        with running(asked, env={**os.environ, "EAGER_KESTREL_HOME": str(home)}) as measuring:
            port, seen = urlsplit(up.url).port, psutil.Process(measuring.pid)
            while not any(one.raddr and one.raddr[1] == port for one in seen.net_connections()):
                time.sleep(0.05)  # a busy machine imports for seconds
            time.sleep(8)
            measuring.send_signal(signal.SIGTERM)
            out, err = measuring.communicate(timeout=20)
    assert measuring.returncode == 1
    assert "stopped" in err
    assert json.loads(out)["partial"] is True
    (row,) = kestrel("runs", "list", "--json").document["runs"]
    assert row["partial"] is True


@timed
def test_a_burst_is_watched_until_it_ends(kestrel: Kestrel) -> None:
    """Enough is known after five seconds; what lasts shows after ten."""
    with simulated_uplink(
        simulated_connection(EIGHT, trouble=SimulatedTrouble(others=((9.0, 5500),)))
    ) as up:
        found = kestrel("measure", up.url, "--connections", "1", "--seconds", "14 s", "--json")
    run = found.document
    if run["sustained"] is not None:  # else it fell before enough was known
        assert run["sustained"]["max_kbps"] == pytest.approx(0.9 * 8000, rel=0.03)
    assert run["summary"]["uplink"]["typical_kbps"] == pytest.approx(2500, rel=0.05)
    assert any("then 2.5" in line and "a burst" in line for line in run["summary"]["verdicts"])


def test_samples_come_only_when_asked_for_and_never_fall(kestrel: Kestrel) -> None:
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        result = measured(kestrel, up.url, "--samples")
    run = result.document
    samples = run["one_connection"]["samples"]
    assert len(samples["seconds"]) == len(samples["delivered_bytes"]) > 30
    assert samples["delivered_bytes"] == sorted(samples["delivered_bytes"])
    again = "measuring one connection again" in result.err  # on a busy machine; then both count
    assert (run["data_used_bytes"] == samples["delivered_bytes"][-1]) is not again


@timed
def test_a_practice_line_is_measured_kept_and_planned_from(kestrel: Kestrel) -> None:
    briefly = ("--connections", "1", "--seconds", "3 s")
    constant = kestrel("measure", "--practice", "8 Mbit/s", *briefly, "--no-keep", "--json")
    assert constant.document["summary"]["uplink"]["typical_kbps"] == pytest.approx(8000, rel=0.05)
    result = kestrel("measure", "--practice", "bad-night", *briefly)
    assert result.code == 0, result.err
    assert "typical" in result.out
    plan = kestrel("plan", "--for", "oxbow", "--json").document
    assert plan["uplink"]["basis"] == "one run"
    assert 1000 < plan["uplink"]["typical_kbps"] < 4000


@timed
def test_the_data_limit_is_kept_and_said(kestrel: Kestrel) -> None:
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        run = measured(kestrel, up.url, "--data-limit", "3 MB", seconds="8 s").document
    assert run["one_connection"]["ended"] == "data"
    assert 2_800_000 <= run["data_used_bytes"] <= 3_010_000  # with the heads of requests
    assert run["summary"]["one_connection"]["typical_kbps"] == pytest.approx(8000, rel=0.03)


def test_a_phase_leaves_the_line_clean(kestrel: Kestrel) -> None:
    with simulated_uplink(simulated_connection(Bitrate.parse("2 Mbit/s"))) as up:
        measured(kestrel, up.url, seconds="2 s")
        request = urllib.request.Request(up.url, data=b"k", method="POST")
        with urllib.request.urlopen(request, timeout=3) as answer:
            assert answer.status == 200


def test_nothing_is_kept_when_not_wanted(kestrel: Kestrel) -> None:
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        assert measured(kestrel, up.url, "--no-keep", seconds="2 s").code == 0
    assert kestrel("plan", "--for", "oxbow").code == 2


@pytest.mark.parametrize(
    ("behaviour", "says"),
    [
        (Behaviour(small_status=500, status=500), "it answered 500"),
        (Behaviour(status=503), "it answered 503"),
        (Behaviour(status=404, small_status=404), "does not take uploads by POST"),
        (Behaviour(status=403, small_status=403), "refuses uploads"),
        (Behaviour(small_status=301, location="https://elsewhere.example/up"), "elsewhere.example"),
        (Behaviour(break_after_bytes=20_000), "broke the connection"),
        (Behaviour(status=413, early_after_bytes=10_000), "does not take uploads that large"),
    ],
)
def test_a_bad_endpoint_gets_one_line(kestrel: Kestrel, behaviour: Behaviour, says: str) -> None:
    fast = simulated_connection(Bitrate.parse("400 Mbit/s"), round_trip_ms=2)
    if behaviour.status == 503:  # must swallow a whole upload before it answers
        behaviour = Behaviour(status=503, early_after_bytes=50_000)
    with simulated_uplink(fast, behaviour=behaviour) as up:
        result = measured(kestrel, up.url)
    assert result.code == 3
    assert says in result.error_line
    assert result.out == ""
    assert kestrel("plan", "--for", "oxbow").code == 2  # nothing was kept


@timed
def test_an_endpoint_that_dies_midway_leaves_what_was_learned(kestrel: Kestrel) -> None:
    behaviour = Behaviour(break_after_bytes=2_500_000)
    with simulated_uplink(simulated_connection(EIGHT), behaviour=behaviour) as up:
        result = measured(kestrel, up.url, seconds="8 s")
    assert result.code == 3
    assert "marked partial" in result.error_line
    run = result.document
    assert run["partial"] is True
    assert run["one_connection"]["ended"] == "failed"
    assert run["summary"]["uplink"]["typical_kbps"] == pytest.approx(8000, rel=0.1)
    assert kestrel("plan", "--for", "oxbow", "--json").document["uplink"]["basis"] == "one run"


@timed
def test_a_silence_is_sat_out(kestrel: Kestrel) -> None:
    behaviour = Behaviour(pause_after_bytes=1_500_000, pause_seconds=2.5)
    with simulated_uplink(simulated_connection(EIGHT), behaviour=behaviour) as up:
        result = measured(kestrel, up.url, seconds="7 s")
    assert result.code == 0, result.err
    run = result.document
    assert run["one_connection"]["ended"] == "time"
    assert run["summary"]["uplink"]["floor_kbps"] < 5000
    assert run["summary"]["uplink"]["typical_kbps"] > 5000


def test_a_redirect_that_keeps_the_method_is_followed(kestrel: Kestrel) -> None:
    with (
        simulated_uplink(simulated_connection(EIGHT)) as up,
        PracticeEndpoint(Behaviour(small_status=307, location=up.url)) as first,
    ):
        run = measured(kestrel, f"http://127.0.0.1:{first.port}/", seconds="2 s").document
    assert run["endpoint"]["url"] == up.url
    assert run["endpoint"]["found_by"] == "redirect"


def test_an_untrusted_certificate_is_refused(kestrel: Kestrel) -> None:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    trustme.CA().issue_cert("127.0.0.1").configure_cert(context)
    with PracticeEndpoint(Behaviour(certificate=context)) as endpoint:
        result = measured(kestrel, f"https://127.0.0.1:{endpoint.port}/upload")
    assert result.code == 3
    assert "certificate is not trusted" in result.error_line
    assert "SSL_CERT_FILE" in result.error_line


@timed
def test_a_trusted_certificate_is_measured_through(
    kestrel: Kestrel, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    authority = trustme.CA()
    authority.cert_pem.write_to_path(str(tmp_path / "ca.pem"))
    monkeypatch.setenv("SSL_CERT_FILE", str(tmp_path / "ca.pem"))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert("127.0.0.1").configure_cert(context)
    line = simulated_connection(EIGHT)
    with simulated_uplink(line, behaviour=Behaviour(certificate=context)) as up:
        result = measured(kestrel, up.url.replace("http:", "https:"), seconds="4 s")
    assert result.code == 0, result.err
    assert result.document["summary"]["uplink"]["typical_kbps"] == pytest.approx(8000, rel=0.03)


@pytest.mark.parametrize(
    ("url", "code", "says"),
    [
        ("http://127.0.0.1:1/", 3, "nothing listens there"),
        ("http://no-such-host.example/upload", 3, "does not resolve"),
        ("ftp://up.oxbow.example/", 2, "write https://HOST/PATH"),
        ("18", 2, "write https://HOST/PATH"),
        ("https://", 2, "write https://HOST/PATH"),
    ],
)
def test_a_bad_address_gets_one_line(kestrel: Kestrel, url: str, code: int, says: str) -> None:
    result = measured(kestrel, url)
    assert result.code == code
    assert says in result.error_line


def test_something_that_does_not_speak_http(kestrel: Kestrel) -> None:
    def babble(listener: socket.socket) -> None:
        connection, _ = listener.accept()
        connection.sendall(b"\x03\x00\x01\x02 not http\r\n\r\n")
        connection.close()

    with socket.create_server(("127.0.0.1", 0)) as listener:
        speaker = threading.Thread(target=babble, args=(listener,))
        speaker.start()
        result = measured(kestrel, f"http://127.0.0.1:{listener.getsockname()[1]}/")
        speaker.join()
    assert result.code == 3
    assert result.error_line


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        ((), "pass a URL, --to PLATFORM, or --practice CONNECTION"),
        (
            ("http://x.example", "--practice", "day"),
            "pass a URL, --to PLATFORM, or --practice CONNECTION",
        ),
        (("--practice", "dya"), 'write "day"'),
        (("http://x.example", "--seconds", "5 parsecs"), "write 5 s"),
        (("http://x.example", "--seconds", "0.1 s"), "write 2 s to 600 s"),
        (("http://x.example", "--data-limit", "50"), "write 50 MB"),
    ],
)
def test_bad_words_get_one_line(kestrel: Kestrel, arguments: tuple[str, ...], says: str) -> None:
    result = kestrel("measure", *arguments)
    assert result.code == 2
    assert says in result.error_line


@timed
def test_a_home_that_cannot_be_written_still_shows_the_result(kestrel: Kestrel, home: Path) -> None:
    home.write_text("a file where the folder should be")
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        result = measured(kestrel, up.url, seconds="2 s")
    assert result.code == 1
    assert "could not be kept" in result.error_line
    assert result.document["summary"]["uplink"]["typical_kbps"] > 0
    assert home.read_text() == "a file where the folder should be"


@pytest.mark.parametrize(
    ("error", "says"),
    [
        (OSError(errno.ENETUNREACH, "x"), "no route"),
        (OSError(errno.EHOSTUNREACH, "x"), "no route"),
        (OSError(errno.ECONNREFUSED, "x"), "nothing listens"),
        (OSError(errno.EADDRNOTAVAIL, "x"), "no such address"),
        (socket.gaierror(-3, "Temporary failure in name resolution"), "does not resolve"),
        (ssl.SSLError(1, "wrong version number"), "does not speak TLS"),
        (httpx.ConnectTimeout("x"), "in time"),
        (httpx.ReadTimeout("x"), "stopped answering"),
        (httpx.RemoteProtocolError("x"), "broke the connection"),
    ],
)
def test_every_failure_of_the_network_has_words(error: Exception, says: str) -> None:
    wrapped = httpx.ConnectError("wrapped")
    wrapped.__cause__ = error
    shown = network_error(error if isinstance(error, httpx.HTTPError) else wrapped, "https://x")
    assert says in shown.line()
    assert shown.instead


def test_two_at_once_are_both_kept(kestrel: Kestrel) -> None:
    with simulated_uplink(simulated_connection(EIGHT)) as up:
        command = [
            sys.executable,
            "-m",
            "eager_kestrel",
            "measure",
            up.url,
            *shlex.split("--json --connections 1 --seconds"),
            "5 s",
        ]
        with running(command) as one, running(command) as other:
            both = (one, other)
            found = [json.loads(process.communicate(timeout=60)[0]) for process in both]
    assert [process.returncode for process in both] == [0, 0]
    total = sum(run["summary"]["uplink"]["typical_kbps"] for run in found)
    assert 4000 < total < 10_000  # they share the connection
    assert len(kestrel("runs", "list", "--json").document["runs"]) == 2
