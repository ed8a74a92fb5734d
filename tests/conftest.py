"""The command line as tests drive it: in this process, on a home of its own."""

from __future__ import annotations

import functools
import json
import os
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

import pytest
from hypothesis import HealthCheck, settings

from eager_kestrel.cli.main import run

settings.register_profile(
    "kestrel", deadline=None, max_examples=60, suppress_health_check=[HealthCheck.too_slow]
)
settings.register_profile("thorough", settings.get_profile("kestrel"), max_examples=2000)
settings.load_profile(os.environ.get("KESTREL_PROFILE", "kestrel"))


@dataclass(frozen=True)
class Result:
    code: int
    out: str
    err: str

    @property
    def document(self) -> Any:
        return json.loads(self.out)

    @property
    def error_line(self) -> str:
        lines = self.err.strip().splitlines()
        assert len(lines) == 1, self.err
        assert "Traceback" not in self.err
        return lines[0]


Kestrel = Callable[..., Result]
Test = TypeVar("Test", bound=Callable[..., None])
TRIES = 3


def on_a_busy_machine(test: Test) -> Test:
    """For tests of measured rates: a busy machine may spoil a run or two, a defect spoils three."""

    @functools.wraps(test)
    def tried(*arguments: Any, **named: Any) -> None:
        for left in reversed(range(TRIES)):
            try:
                test(*arguments, **named)
            except AssertionError:
                if not left:
                    raise
                time.sleep(1)
            else:
                return

    return tried  # type: ignore[return-value]


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
