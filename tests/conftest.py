"""The command line as tests drive it: in this process, on a home of its own."""

from __future__ import annotations

import functools
import io
import json
import os
import re
import signal
import subprocess
import sys
from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import HealthCheck, Phase, settings

from eager_kestrel.cli.main import run
from eager_kestrel.files.schemas import document_schema

settings.register_profile(
    "kestrel",
    deadline=None,
    max_examples=8,
    derandomize=True,  # the same examples for everybody
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
)
settings.register_profile("thorough", settings.get_profile("kestrel"), max_examples=24)
settings.register_profile(  # goes looking for new ones
    "soak",
    settings.get_profile("kestrel"),
    max_examples=int(os.environ.get("KESTREL_EXAMPLES", "2000")),
    derandomize=False,
)
settings.register_profile(
    "first",  # finds that something fails, and not the smallest example of it
    settings.get_profile("kestrel"),
    phases=[Phase.explicit, Phase.generate],
)
PROFILE = os.environ.get("KESTREL_PROFILE", "kestrel")
settings.load_profile(PROFILE)
THOROUGH = PROFILE in ("thorough", "soak")
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # hundreds of programs are started, each the same


class Person(io.StringIO):
    """Standard input with somebody at it, who types these lines."""

    def isatty(self) -> bool:
        return True


@dataclass(frozen=True)
class Result:
    code: int
    out: str
    err: str

    @property
    def document(self) -> Any:
        """What was printed, valid by its own schema."""
        assert self.out, f"nothing was printed: {self.err}"
        return valid(json.loads(self.out))

    @property
    def answer(self) -> Any:
        """The document without the moment it was made at."""
        return {key: value for key, value in self.document.items() if key != "made_at"}

    @property
    def error_line(self) -> str:
        lines = self.err.strip().splitlines()
        assert len(lines) == 1, self.err
        assert "Traceback" not in self.err
        return lines[0]


@functools.cache
def schema_of(kind: str) -> Any:
    schema = json.loads(document_schema(kind))
    return jsonschema.Draft202012Validator(schema)


def valid(document: Any) -> Any:
    """A document whose format names a schema that it meets; JSON Schema files have none."""
    if "$schema" not in document:
        schema_of(document["format"].split("/")[1]).validate(document)
    return document


Kestrel = Callable[..., Result]
timed = pytest.mark.timed
"""For tests of measured rates: they run in three rows, beside what only computes.

One that fails while a process beside it, which only sleeps, is woken late, has found nothing but a
busy machine: it is skipped, says so, and is tried once more at the end, when nothing of this run is
beside it. If more than a few find no calm then either, the run fails, or a fault could hide on a
busy machine. No other failure is tried again.
"""
HELD_UP_SECONDS, HELD_UP_SHARE, MOST_HELD_UP = 0.1, 0.03, 3
"""Half of what most tests leave a rate: 5 % would already be the machine's doing alone."""
HELD_UP = "this machine held programs up"
AGAIN = "KESTREL_TESTS_AGAIN"
ROWS = {
    "rehearsals": ("endpoints", "far_end", "gently", "rehearse"),
    "runs": ("measure", "measure_trouble"),
    "streams": ("hostile_peers", "watch_wire"),
}
"""Files of tests that wait for real traffic, about as long in each row."""
OTHER_ROW = "streams"
"""Where tests of other files go that keep time."""
COMPUTES_AT = 15
"""The niceness of a worker that computes: what keeps time goes first."""
SLEEPER = """
import sys, threading, time
done = threading.Event()
threading.Thread(target=lambda: (sys.stdin.read(), done.set()), daemon=True).start()
worst = late = 0.0
first = time.perf_counter()
while not done.is_set():
    began = time.perf_counter()
    time.sleep(0.005)
    gap = time.perf_counter() - began - 0.005
    worst, late = max(worst, gap), late + (gap if gap > 0.01 else 0.0)
print(worst, late / (time.perf_counter() - first))
"""


@pytest.hookimpl(tryfirst=True)  # before xdist looks for groups
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What has to keep time mostly waits: its rows begin first, beside what only computes."""
    for item in items:
        if keeps_time(item):
            item.add_marker(pytest.mark.xdist_group(row_of(item) or OTHER_ROW))
        elif item.path.name == "test_documented.py":  # its tests share a home
            item.add_marker(pytest.mark.xdist_group("documented"))
    items.sort(key=lambda item: not keeps_time(item))


def row_of(item: pytest.Item) -> str | None:
    name = item.path.stem.removeprefix("test_")
    return next((row for row, files in ROWS.items() if name in files), None)


def keeps_time(item: pytest.Item) -> bool:
    return row_of(item) is not None or item.get_closest_marker("timed") is not None


@pytest.hookimpl(wrapper=True)
def pytest_pyfunc_call(pyfuncitem: pytest.Function) -> Generator[None, object, object]:
    if not keeps_time(pyfuncitem):
        make_way()
        return (yield)
    with running([sys.executable, "-S", "-E", "-c", SLEEPER], stdin=subprocess.PIPE) as sleeper:
        try:
            return (yield)
        except AssertionError as error:
            late, share = map(float, sleeper.communicate("", timeout=30)[0].split())
            held = f"for {late:.2f} s, and {share:.1%} of the time"
            if late > HELD_UP_SECONDS or share > HELD_UP_SHARE:
                pytest.skip(f"{HELD_UP} {held}: {pyfuncitem.nodeid}")
            error.add_note(f"{HELD_UP} {held}, which is not enough to excuse this")
            raise


@functools.cache
def make_way() -> None:
    """Let workers that keep time go before this one, which only computes."""
    if "PYTEST_XDIST_WORKER" not in os.environ:
        return
    if hasattr(os, "nice"):
        os.nice(COMPUTES_AT)
    if hasattr(os, "SCHED_BATCH"):  # what wakes up does not wait for it
        os.sched_setscheduler(0, os.SCHED_BATCH, os.sched_param(0))


@pytest.hookimpl(wrapper=True)
def pytest_sessionfinish(session: pytest.Session) -> Generator[None, object, object]:
    """Try again what a busy machine hid, one by one; fail where more than a few stay hidden."""
    reporter = session.config.pluginmanager.get_plugin("terminalreporter")
    if reporter is None:
        return (yield)
    held_up = [
        re.sub(f"@({'|'.join(ROWS)})$", "", one.nodeid)
        for one in reporter.stats.get("skipped", ())
        if HELD_UP in str(one.longrepr)
    ]
    if len(held_up) > MOST_HELD_UP if AGAIN in os.environ else held_up:
        reporter.write_line("")
        if AGAIN in os.environ:
            reporter.write_line(f"{len(held_up)} were held up; {MOST_HELD_UP} may be", red=True)
            session.exitstatus = pytest.ExitCode.TESTS_FAILED
        else:
            reporter.write_line(f"once more, {len(held_up)} that were held up:")
            tried = subprocess.run(
                [sys.executable, "-m", "pytest", "-n0", *held_up],
                cwd=session.config.rootpath,
                env={**os.environ, AGAIN: "1"},
                capture_output=True,
                text=True,
            )
            reporter.write(tried.stdout + tried.stderr)
            if tried.returncode:
                session.exitstatus = pytest.ExitCode.TESTS_FAILED
    return (yield)


if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    # A shell starts what it puts in the background deaf to Ctrl-C, and children inherit that.
    signal.signal(signal.SIGINT, signal.default_int_handler)


@contextmanager
def running(command: Sequence[str], **options: Any) -> Iterator[subprocess.Popen[str]]:
    """A process that talks text through pipes, and is ended whatever happens."""
    process = subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, **options
    )
    try:
        yield process
    finally:
        if process.poll() is None:
            process.kill()
        process.communicate()


@pytest.fixture(autouse=True)
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    folder = tmp_path / "home"
    monkeypatch.setenv("EAGER_KESTREL_HOME", str(folder))
    monkeypatch.setenv("COLUMNS", "100")
    monkeypatch.setenv("PYTHON_KEYRING_BACKEND", "keyring.backends.null.Keyring")
    monkeypatch.delenv("EAGER_KESTREL_STREAM_KEY", raising=False)
    for name in ("http_proxy", "https_proxy", "all_proxy"):
        monkeypatch.delenv(name, raising=False)
        monkeypatch.delenv(name.upper(), raising=False)
    monkeypatch.chdir(tmp_path)
    return folder


@pytest.fixture
def kestrel(capsys: pytest.CaptureFixture[str]) -> Kestrel:
    def call(*arguments: str | Path) -> Result:
        capsys.readouterr()
        code = run([str(argument) for argument in arguments])
        said = capsys.readouterr()
        return Result(code, said.out, said.err)

    return call
