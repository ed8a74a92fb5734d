"""``runs`` and ``nearest``, and a history that outlives two writers, kill -9 and a full disk."""

from __future__ import annotations

import json
import os
import signal
import socket
import sqlite3
import ssl
import subprocess
import sys
import time
from contextlib import AbstractContextManager
from datetime import datetime, timedelta
from pathlib import Path

import pytest
import trustme
from hypothesis import given, strategies as st

from eager_kestrel.actions.planning import plan
from eager_kestrel.actions.shows import ShowOptions, asked_show
from eager_kestrel.core.connection.endpoints import AnswerTimes, nearness, ranking
from eager_kestrel.core.connection.pooling import by_hour, uplink_of, uplink_of_history
from eager_kestrel.core.connection.run import Endpoint, Run
from eager_kestrel.core.connection.trace import Trace
from eager_kestrel.core.units import near_moment, parse_time_of_day
from eager_kestrel.files.history import History
from eager_kestrel.files.run_tables import runs_json
from tests.conftest import Kestrel, running, timed
from tests.test_throughput import run_of, sampled

RANK = ("measure", "--to", "oxbow", "--rank")


def at(hour: int, kbps: float, day: int = 20, url: str = "https://up.oxbow.example/u") -> Run:
    run = run_of(sampled(Trace.constant(kbps), 6))
    stamp = f"2026-11-{day:02d}T{hour:02d}:10:00+00:00"
    return run.model_copy(
        update={
            "id": f"202611{day:02d}-{hour:02d}1000-{int(kbps):x}",
            "taken_at": stamp,
            "endpoint": Endpoint(url=url),
        }
    )


def kept(*runs: Run) -> None:
    with History() as history:
        history.add(list(runs))


def test_export_and_import_give_every_sample_back(kestrel: Kestrel, tmp_path: Path) -> None:
    kept(at(12, 12_000), at(20, 8_000), at(20, 7_000, 21))
    assert kestrel("runs", "export", tmp_path / "all.json").code == 0
    before = [run.model_dump_json() for run in History_all()]
    assert kestrel("runs", "forget", "--all").out.strip() == "3 forgotten"
    done = kestrel("runs", "import", tmp_path / "all.json", "--json").document
    assert (done["added"], done["known"], done["bad"]) == (3, 0, [])
    assert [run.model_dump_json() for run in History_all()] == before
    again = kestrel("runs", "import", tmp_path / "all.json", "--json").document
    assert (again["added"], again["known"], again["bad"]) == (0, 3, [])


def History_all() -> list[Run]:  # noqa: N802
    with History() as history:
        return history.runs()


def test_a_csv_export_can_be_read_back_as_readings(kestrel: Kestrel, tmp_path: Path) -> None:
    kept(at(12, 12_000))
    kestrel("runs", "export", tmp_path / "all.csv")
    kestrel("runs", "forget", "latest")
    assert kestrel("runs", "import", tmp_path / "all.csv").code == 0
    (row,) = kestrel("runs", "list", "--json").document["runs"]
    assert row["kind"] == "reading"
    assert row["typical_kbps"] == pytest.approx(12_000, rel=0.01)


@pytest.mark.parametrize(
    ("text", "kbps"),
    [
        ("time,upload_mbps\n2026-11-02 20:15,8.4\n", 8400),
        ("Date;Upload (Mbit/s)\n2026-11-02T20:15:00+01:00;8.4\n", 8400),
        ("when\tupload kbps\n2026-11-02 20:15\t8400\n", 8400),
        ("timestamp,up\n2026-11-02 20:15,1.05 MB/s\n", 8400),
        ('[{"time": "2026-11-02 20:15", "upload": "8.4 Mbit/s"}]', 8400),
        ('[{"taken_at": "2026-11-02 20:15", "upload_mbps": 8.4}]', 8400),
        ("\ufefftime,ping,upload rate [kbit/s]\r\n2026-11-02 20:15,21,8400\r\n", 8400),
    ],
)
def test_tables_from_elsewhere(kestrel: Kestrel, tmp_path: Path, text: str, kbps: float) -> None:
    path = tmp_path / "table.txt"
    path.write_text(text, encoding="utf-8")
    result = kestrel("runs", "import", path)
    assert result.code == 0, result.err
    (row,) = kestrel("runs", "list", "--json").document["runs"]
    assert row["typical_kbps"] == kbps
    assert row["taken_at"].startswith("2026-11-02T20:15")


def test_bad_rows_are_named_by_line_and_good_ones_kept(kestrel: Kestrel, tmp_path: Path) -> None:
    path = tmp_path / "table.csv"
    path.write_text(
        "time,upload\n2026-11-02 20:15,8.4 Mbit/s\n2026-11-02 20:25,8\nnever,8 Mbit/s\n"
        "2026-11-02 20:35,8 mb\n\n2026-11-02 20:45,7 Mbit/s\n"
    )
    result = kestrel("runs", "import", path)
    assert result.code == 1
    lines = result.err.strip().splitlines()
    assert [line.split("table.csv: ")[1].split(":")[0] for line in lines] == [
        "line 3",
        "line 4",
        "line 5",
    ]
    assert 'name the column "upload_mbps"' in lines[0]
    assert "may mean bits or bytes" in lines[2]
    assert len(kestrel("runs", "list", "--json").document["runs"]) == 2


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("a,b\n1,2\n", 'name them "time" and "upload_mbps"'),
        ("", "no columns"),
        ("{not json", "not JSON"),
        ('{"format": "eager-kestrel/plan/3"}', "this is a plan, not a runs"),
        ('{"format": "eager-kestrel/runs/9", "runs": []}', "newer than this program"),
        ("time,upload\nnever,8 Mbit/s\n", "none of 1 row"),
        ("[" * 100_000, "not JSON"),
    ],
)
def test_files_that_are_no_runs(kestrel: Kestrel, tmp_path: Path, text: str, says: str) -> None:
    path = tmp_path / "table"
    path.write_text(text)
    result = kestrel("runs", "import", path)
    assert result.code == 2
    assert says in result.err
    assert "Traceback" not in result.err
    assert kestrel("runs", "import", tmp_path / "missing").code == 2


@given(st.binary(max_size=300))
def test_no_bytes_break_the_import(tmp_path_factory: pytest.TempPathFactory, raw: bytes) -> None:
    from eager_kestrel.core.errors import KestrelError
    from eager_kestrel.files.run_tables import read_runs

    path = tmp_path_factory.getbasetemp() / "fuzz"
    path.write_bytes(raw)
    try:
        read_runs(path, "1")
    except KestrelError as error:
        assert "\n" not in error.line()


def test_hours_pool_by_hour_of_day(kestrel: Kestrel, tmp_path: Path) -> None:
    kept(at(12, 12_000), at(20, 8_000), at(20, 4_000, 21), at(3, 99_000, url="http://127.0.0.1:9/"))
    found = {hour["hour"]: hour for hour in kestrel("runs", "hours", "--json").document["hours"]}
    assert set(found) == {12, 20}  # practice does not count beside real runs
    assert found[12]["typical_kbps"] == pytest.approx(12_000, rel=0.01)
    assert found[20]["runs"] == 2
    assert found[20]["floor_kbps"] == pytest.approx(4_000, rel=0.01)
    figure = tmp_path / "hours.png"
    shown = kestrel("runs", "hours", "--figure", figure)
    assert "20:00" in shown.out
    assert figure.read_bytes().startswith(b"\x89PNG")
    assert "name it .png" in kestrel("runs", "hours", "--figure", tmp_path / "x.txt").error_line


def test_runs_are_found_by_the_beginning_of_their_name(kestrel: Kestrel, tmp_path: Path) -> None:
    kept(at(12, 12_000), at(20, 8_000), at(21, 7_000))
    assert kestrel("runs", "show", "20261120-12", "--json").document["id"].startswith("20261120-12")
    assert kestrel("runs", "show", "--json").document["id"].startswith("20261120-21")
    assert "write" in kestrel("runs", "show", "2026").error_line
    assert "no run" in kestrel("runs", "show", "nope").error_line
    assert kestrel("runs", "show", "latest", "--figure", tmp_path / "run.svg").code == 0
    assert "<svg" in (tmp_path / "run.svg").read_text()
    assert kestrel("runs", "forget", "20261120-12", "nope").code == 2
    assert len(kestrel("runs", "list", "--json").document["runs"]) == 3  # all or none
    assert kestrel("runs", "forget").code == 2


def test_a_plan_takes_recent_runs_and_those_near_an_hour(kestrel: Kestrel) -> None:
    now = time.time()
    runs = []
    for days, hour, kbps in ((1, 12, 12_000), (2, 20, 6_000), (3, 21, 6_500), (40, 20, 1_000)):
        day = time.strftime("%Y-%m-%d", time.gmtime(now - days * 86400))
        runs.append(
            at(hour, kbps).model_copy(
                update={"id": f"r{days}", "taken_at": f"{day}T{hour}:10:00+00:00"}
            )
        )
    kept(*runs)
    recent = kestrel("plan", "--for", "oxbow", "--json").document["uplink"]
    assert sorted(recent["runs"]) == ["r1", "r2", "r3"]
    assert recent["basis"] == "runs"
    evening = kestrel("plan", "--for", "oxbow", "--at", "20:30", "--json").document["uplink"]
    assert sorted(evening["runs"]) == ["r2", "r3"]
    assert "around 20:30" in evening["text"]
    assert evening["typical_kbps"] < recent["typical_kbps"]
    assert (
        len(kestrel("plan", "--for", "oxbow", "--days", "60", "--json").document["uplink"]["runs"])
        == 4
    )
    assert "none is near 05:00" in kestrel("plan", "--for", "oxbow", "--at", "05:00").error_line
    assert "20:00" in kestrel("plan", "--for", "oxbow", "--at", "evening").error_line


def test_real_runs_outweigh_readings_and_practice() -> None:
    reading = at(20, 1).model_copy(update={"imported_kbps": 5_000.0, "one_connection": None})
    practice = at(20, 3_000, url="http://127.0.0.1:1/upload")
    real = at(20, 9_000)
    assert uplink_of_history([reading, practice, real]).typical_kbps == pytest.approx(
        9_000, rel=0.01
    )
    assert uplink_of_history([reading, practice]).basis == "assumed"
    assert "not your connection" in uplink_of_history([practice]).text


@given(st.integers(0, 23), st.integers(0, 59), st.integers(0, 23))
def test_near_an_hour_goes_round_midnight(hour: int, minute: int, begun: int) -> None:
    wanted = parse_time_of_day(f"{hour}:{minute:02d}")
    half = "am" if hour < 12 else "pm"
    assert wanted == parse_time_of_day(f"{hour}.{minute:02d}")
    assert wanted == parse_time_of_day(f"{hour % 12 or 12}:{minute:02d} {half}")
    run = at(begun, 5_000)
    apart = min(
        (begun * 60 + 10 - hour * 60 - minute) % 1440, (hour * 60 + minute - begun * 60 - 10) % 1440
    )
    assert near_moment(run.taken, wanted) == (apart <= 90)
    assert sum(h.runs for h in by_hour([run]).hours) == 1


def test_a_damaged_history_gets_one_line(kestrel: Kestrel, home: Path) -> None:
    home.mkdir(parents=True)
    (home / "runs.sqlite3").write_bytes(b"this is no database at all, not even nearly" * 100)
    result = kestrel("runs", "list")
    assert result.code == 1
    assert "damaged" in result.error_line


WRITER = """
import sys, time
sys.path.insert(0, sys.argv[3])
from tests.test_runs import at, History
from eager_kestrel.core.connection.run import Run
run = at(20, 8000)
print("begun", flush=True)
for number in range(int(sys.argv[2])):
    with History() as history:
        history.add([run.model_copy(update={"id": f"{sys.argv[1]}-{number:05d}"})])
"""


def writer(name: str, count: int) -> AbstractContextManager[subprocess.Popen[str]]:
    root = str(Path(__file__).parent.parent)
    return running([sys.executable, "-c", WRITER, name, str(count), root])


def test_two_writers_at_once_lose_nothing() -> None:
    with writer("a", 25) as one, writer("b", 25) as other:
        for process in (one, other):
            process.communicate(timeout=60)
            assert process.returncode == 0
    with History() as history:
        assert len(history.rows()) == 50


@pytest.mark.skipif(os.name == "nt", reason="kill -9 is POSIX")
def test_kill_9_leaves_a_whole_history() -> None:
    with writer("k", 100_000) as process:
        assert process.stdout is not None
        process.stdout.readline()
        until = time.perf_counter() + 20
        with History() as history:
            while not history.rows() and time.perf_counter() < until:
                time.sleep(0.1)
        time.sleep(0.3)
        process.send_signal(signal.SIGKILL)
    with History() as history:
        rows = history.rows()
        assert rows
        assert [row.id for row in rows] == [f"k-{number:05d}" for number in range(len(rows))]
        assert len(history.runs()) == len(rows)
        history.add([at(20, 8_000)])
        assert len(history.rows()) == len(rows) + 1


FILL = """
import resource, sys
sys.path.insert(0, sys.argv[1])
from tests.test_runs import at
from eager_kestrel.cli.main import run
from eager_kestrel.files.history import History
with History() as history:
    history.add([at(12, 12000)])
resource.setrlimit(resource.RLIMIT_FSIZE, (60_000, 60_000))
sys.exit(run(["runs", "import", sys.argv[2]]))
"""


@pytest.mark.skipif(os.name == "nt", reason="file size limits are POSIX")
def test_a_full_disk_gets_one_line_and_loses_nothing(tmp_path: Path) -> None:
    many = [
        at(h, 5_000 + n, d) for n, (h, d) in enumerate((h, d) for h in range(24) for d in (1, 2))
    ]
    (tmp_path / "many.json").write_text(runs_json(many))
    root = str(Path(__file__).parent.parent)
    done = subprocess.run(
        [sys.executable, "-c", FILL, root, str(tmp_path / "many.json")],
        capture_output=True,
        text=True,
        check=False,
        env=dict(os.environ),
    )
    assert done.returncode == 1, done.stderr
    assert len(done.stderr.strip().splitlines()) == 1, done.stderr
    assert "disk" in done.stderr
    with History() as history:
        assert [run.id for run in history.runs()] == [at(12, 12_000).id]


@timed
def test_ingest_points_are_ranked_by_their_first_answer(kestrel: Kestrel) -> None:
    found = kestrel(*RANK, "--practice", "60 ms, 5 ms, 30 ms", "--tries", "3", "--json")
    assert found.code == 0, found.err
    points = found.document["rankings"][0]["servers"]
    assert [point["name"] for point in points] == ["Coast", "Vale", "North"]
    assert [p["median_ms"] for p in points] == pytest.approx([5, 30, 60], abs=12)
    assert all(p["lost_share"] == 0 and p["tries"] == 3 for p in points)
    assert "Coast" in kestrel(*RANK, "--practice", "60 ms, 5 ms").out


def test_unreachable_points_are_named(kestrel: Kestrel, home: Path) -> None:
    from tests.test_guides import OXBOW, own_guide

    with socket.create_server(("127.0.0.1", 0)) as silent:
        port = silent.getsockname()[1]
        silent.listen(8)
        text = OXBOW.replace("rtmps://north.ingest.oxbow.example", "rtmp://127.0.0.1:1")
        text = text.replace("rtmps://coast.ingest.oxbow.example", "rtmp://no-such.example")
        text = text.replace("rtmps://vale.ingest.oxbow.example", f"rtmp://127.0.0.1:{port}")
        own_guide(home, text)
        result = kestrel("measure", "--to", "oxbow", "--rank", "--tries", "1", "--json")
    assert result.code == 3
    reasons = {
        point["name"]: point["failure"] for point in result.document["rankings"][0]["servers"]
    }
    assert "nothing listens" in reasons["North"]
    assert "does not resolve" in reasons["Coast"]
    assert "in time" in reasons["Vale"]
    assert kestrel("measure", "--to", "oxbw", "--rank").code == 2
    assert kestrel(*RANK, "--practice", "5").code == 2
    assert kestrel(*RANK, "--practice", "5 ms,5 ms,5 ms,5 ms").code == 2


@given(
    st.lists(
        st.lists(st.one_of(st.none(), st.floats(0.1, 900)), min_size=1, max_size=6),
        min_size=1,
        max_size=6,
    )
)
def test_ranking_law(answers: list[list[float | None]]) -> None:
    points = [
        nearness(
            f"p{n}",
            "rtmp://x.example/live",
            [AnswerTimes(answer_ms=a, failure="" if a else "gone") for a in row],
        )
        for n, row in enumerate(answers)
    ]
    medians = [p.median_ms for p in ranking("oxbow", points).servers]
    reachable = [m for m in medians if m is not None]
    assert medians[: len(reachable)] == sorted(reachable)
    assert all(m is None for m in medians[len(reachable) :])


def test_a_run_document_is_the_run(kestrel: Kestrel, tmp_path: Path) -> None:
    kept(at(20, 8_000))
    path = tmp_path / "run.json"
    path.write_text(json.dumps(kestrel("runs", "show", "--samples", "--json").document))
    kestrel("runs", "forget", "--all")
    assert kestrel("runs", "import", path).code == 0
    assert History_all() == [at(20, 8_000)]


def test_a_tls_ingest_point_answers_by_its_handshake(
    kestrel: Kestrel, home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from eager_kestrel.practice.endpoint import Behaviour, PracticeEndpoint
    from tests.test_guides import OXBOW, own_guide

    authority = trustme.CA()
    authority.cert_pem.write_to_path(str(tmp_path / "ca.pem"))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert("127.0.0.1").configure_cert(context)
    with PracticeEndpoint(Behaviour(certificate=context)) as endpoint:
        text = OXBOW
        for point in ("north", "coast", "vale"):
            text = text.replace(f"{point}.ingest.oxbow.example", f"127.0.0.1:{endpoint.port}")
        own_guide(home, text)
        distrusted = kestrel("measure", "--to", "oxbow", "--rank", "--tries", "1", "--json")
        monkeypatch.setenv("SSL_CERT_FILE", str(tmp_path / "ca.pem"))
        trusted = kestrel("measure", "--to", "oxbow", "--rank", "--tries", "2", "--json")
    assert distrusted.code == 3
    assert "not trusted" in distrusted.document["rankings"][0]["servers"][0]["failure"]
    assert trusted.code == 0, trusted.err
    assert all(
        p["answered"] == 2 and p["median_ms"] > 0
        for p in trusted.document["rankings"][0]["servers"]
    )


def test_something_else_than_rtmp_is_no_answer(kestrel: Kestrel, home: Path) -> None:
    from eager_kestrel.practice.endpoint import PracticeEndpoint
    from tests.test_guides import OXBOW, own_guide

    with PracticeEndpoint() as endpoint:
        text = OXBOW
        for point in ("north", "coast", "vale"):
            address = f"rtmp://127.0.0.1:{endpoint.port}"
            text = text.replace(f"rtmps://{point}.ingest.oxbow.example", address)
        own_guide(home, text)
        result = kestrel("measure", "--to", "oxbow", "--rank", "--tries", "1")
    assert result.code == 3
    assert "none of the 3 ingest servers" in result.err


def test_a_schedule_leaves_its_runs_in_the_history_one_by_one(kestrel: Kestrel) -> None:
    from eager_kestrel.actions.measuring import MeasureOptions, keep_run
    from eager_kestrel.actions.practice import simulated_connection, simulated_uplink
    from eager_kestrel.actions.schedule import measure_repeatedly
    from eager_kestrel.core.connection.throughput import Limits
    from eager_kestrel.core.units import Bitrate

    with simulated_uplink(simulated_connection(Bitrate.parse("8 Mbit/s"))) as up:
        wish = MeasureOptions(up.url, connections=1, limits=Limits(2.0), practice=True)
        for outcome in measure_repeatedly(wish, 2, 0.1):
            assert outcome.run is not None
            keep_run(outcome.run)
            assert len(kestrel("runs", "list", "--json").document["runs"]) == outcome.number


def test_a_read_only_disk_can_still_be_planned_from(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch
) -> None:
    kept(at(20, 8_000), at(20, 7_000, 21))
    real = sqlite3.connect

    def read_only(*arguments: object, **named: object) -> sqlite3.Connection:
        if not named.get("uri"):
            raise sqlite3.OperationalError("unable to open database file")
        return real(*arguments, **named)  # type: ignore[call-overload, no-any-return]

    with monkeypatch.context() as patched:
        patched.setattr(sqlite3, "connect", read_only)
        assert kestrel("plan", "--for", "oxbow", "--days", "3000").code == 0
        assert len(kestrel("runs", "list", "--json").document["runs"]) == 2
        writing = kestrel("runs", "forget", "--all")
    assert writing.code == 1
    assert "read-only" in writing.error_line
    with History() as history:
        assert len(history.runs()) == 2


def test_hours_say_what_a_platform_would_get(kestrel: Kestrel, tmp_path: Path) -> None:
    """Each hour's settings are those of a plan from that hour's runs alone."""
    runs = [
        at(hour, kbps, 20 + number)
        for hour, kbps in ((9, 12_000), (20, 4000), (23, 300))
        for number in range(3)
    ]
    kept(*runs)
    asked = ("runs", "hours", "--for", "oxbow", "--for", "gatepost")
    found = kestrel(*asked, "--json", "--figure", tmp_path / "hours.png").document["hours"]
    shows = {
        name: asked_show(None, ShowOptions(platforms=(name,))).show
        for name in ("oxbow", "gatepost")
    }
    for hour in found:
        uplink = uplink_of([run for run in runs if run.taken.hour == hour["hour"]])
        assert [gets["platform"] for gets in hour["gets"]] == list(shows)
        for gets in hour["gets"]:
            place = plan(shows[gets["platform"]], uplink).plan.destinations[0]
            assert gets["total_kbps"] == place.total_kbps
            wanted = place.video.text if place.video is not None else "no settings fit this upload"
            assert gets["settings"] == wanted
    shown = kestrel("runs", "hours", "--for", "oxbow").out
    assert found[0]["gets"][0]["settings"] in shown
    assert (tmp_path / "hours.png").stat().st_size > 10_000
    assert kestrel("runs", "hours", "--for", "oxbo").code == 2
    assert all(hour["gets"] == [] for hour in kestrel("runs", "hours", "--json").document["hours"])


def test_a_show_is_planned_with_runs_near_its_hour(kestrel: Kestrel, tmp_path: Path) -> None:
    kept(*(at(12, 12_000, day) for day in (20, 21, 22)), *(at(20, 4_000, d) for d in (20, 21, 22)))
    days = ("--days", "3650", "--json")
    pooled = kestrel("plan", "--for", "oxbow", *days)
    assert "varies by the hour: this is for " in pooled.error_line
    assert "4 Mbit/s" in pooled.error_line
    assert pooled.document["uplink"]["typical_kbps"] in (12_000, 4_000)  # never both in one
    assert kestrel("start", "--yes", "--for", "oxbow", "--at", "20:30", "--out", "s.toml").code == 0
    assert 'at = "20:30"' in (tmp_path / "s.toml").read_text().replace("  ", " ")
    begun = kestrel("plan", "s.toml", *days)
    assert begun.err == ""
    asked = kestrel("plan", "--for", "oxbow", "--at", "20:30", *days).document
    assert begun.document["uplink"] == asked["uplink"]
    assert begun.document["destinations"] == asked["destinations"]
    told = kestrel("forecast", "s.toml", *days).document
    assert told["stutter"] == begun.document["stutter"]
    text = (tmp_path / "s.toml").read_text()
    (tmp_path / "s.toml").write_text(text.replace("20:30", "04:00"))
    never = kestrel("plan", "s.toml", *days)
    assert "no run was taken near 04:00" in never.error_line
    assert never.document["uplink"]["typical_kbps"] == 4_000  # 20:10 is nearer than 12:10
    (tmp_path / "s.toml").write_text(text.replace("20:30", "25:00"))
    assert "is not a time of day" in kestrel("plan", "s.toml", *days).error_line


def test_a_clock_that_was_wrong_counts_for_nothing(kestrel: Kestrel, tmp_path: Path) -> None:
    table = tmp_path / "readings.csv"
    now = datetime.now()
    rows = [(now - timedelta(days=1), "9"), (now + timedelta(days=400), "90")]
    rows += [(now - timedelta(days=2), "1,234.5")]
    lines = [f"{moment:%Y-%m-%d %H:%M},{rate}" for moment, rate in rows]
    table.write_text("\n".join(["time,upload_mbps", *lines]))
    taken = kestrel("runs", "import", table)
    assert "1 added" in taken.out
    assert "line 3" in taken.err
    assert "is in the future" in taken.err
    assert 'line 4: ",234.5" is one cell too many' in taken.err
    ahead = at(20, 50_000).model_copy(
        update={"taken_at": (now + timedelta(days=30)).astimezone().isoformat(), "id": "ahead"}
    )
    kept(ahead)
    planned = kestrel("plan", "--for", "oxbow", "--json").document["uplink"]
    assert planned["typical_kbps"] == 9000
    assert "1 run is dated in the future and does not count" in planned["text"]


def test_an_input_is_never_written_over(kestrel: Kestrel, tmp_path: Path) -> None:
    show, other = tmp_path / "show.json", tmp_path / "same.json"
    kestrel("plan", "--for", "oxbow", "--upload", "9 Mbit/s", "--out", show)
    other.hardlink_to(show)
    before = show.read_text()
    for target in (show, other):
        refused = kestrel("check", show, "--for", "oxbow", "--out", target)
        assert refused.code == 2
        assert "write to another file" in refused.error_line
    assert show.read_text() == before
