"""The command line as tests drive it: in this process, on a home of its own."""

from __future__ import annotations

import functools
import json
import os
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
from eager_kestrel.files.schemas import schema_text

settings.register_profile(
    "kestrel",
    deadline=None,
    max_examples=24,
    derandomize=True,  # the same examples for everybody; "thorough" goes looking for new ones
    suppress_health_check=[HealthCheck.too_slow],
)
settings.register_profile(
    "thorough", settings.get_profile("kestrel"), max_examples=2000, derandomize=False
)
settings.register_profile(
    "first",  # finds that something fails, and not the smallest example of it
    settings.get_profile("kestrel"),
    phases=[Phase.explicit, Phase.generate],
)
settings.load_profile(os.environ.get("KESTREL_PROFILE", "kestrel"))


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
    schema = json.loads(schema_text(kind))
    return jsonschema.Draft202012Validator(schema)


def valid(document: Any) -> Any:
    """A document whose format names a schema that it meets; JSON Schema files have none."""
    if "$schema" not in document:
        schema_of(document["format"].split("/")[1]).validate(document)
    return document


Kestrel = Callable[..., Result]
timed = pytest.mark.timed
"""For tests of measured rates: they run in two rows, beside what only computes.

None is tried twice. One that fails while a process beside it, which only sleeps, is woken late, has
found nothing but a busy machine: it is skipped, and says so.
"""
HELD_UP_SECONDS, HELD_UP_SHARE = 0.15, 0.1
ROWS = {
    "streams": ("endpoints", "far_end", "hostile_peers", "rehearse", "watch_wire"),
    "runs": ("gently", "measure", "measure_trouble"),
}
"""Files of tests that wait for real traffic, about as long in each row."""
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
    """What has to keep time mostly waits: it runs in two rows, beside what only computes."""
    for item in items:
        if keeps_time(item):
            item.add_marker(pytest.mark.xdist_group(row_of(item) or "runs"))


def row_of(item: pytest.Item) -> str | None:
    name = item.path.stem.removeprefix("test_")
    return next((row for row, files in ROWS.items() if name in files), None)


def keeps_time(item: pytest.Item) -> bool:
    return row_of(item) is not None or item.get_closest_marker("timed") is not None


@pytest.hookimpl(wrapper=True)
def pytest_pyfunc_call(pyfuncitem: pytest.Function) -> Generator[None, object, object]:
    if not keeps_time(pyfuncitem):
        return (yield)
    with running([sys.executable, "-c", SLEEPER], stdin=subprocess.PIPE) as sleeper:
        try:
            return (yield)
        except AssertionError:
            late, share = map(float, sleeper.communicate("", timeout=30)[0].split())
            if late > HELD_UP_SECONDS or share > HELD_UP_SHARE:
                pytest.skip(
                    f"this machine held programs up for {late:.2f} s, and {share:.0%} of the time: "
                    "nothing to judge"
                )
            raise


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
