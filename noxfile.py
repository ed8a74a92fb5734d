"""The matrix: what users get, on every Python there is, with the oldest and newest dependencies.

``nox`` runs all of it, ``nox -l`` lists it. A Python that is not on this machine is skipped loudly.
"""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import nox

nox.options.default_venv_backend = "uv"
PYTHONS = ("3.12", "3.13", "3.14")
"""Beside the one that everything else runs on."""
NAMES = "check damaged encoders guides history plan quality reading report throughput units wire"
FAST = ("-n", "2", *(f"tests/test_{name}.py" for name in NAMES.split()))
"""They compute: more rows than cores only cost start-ups."""


def interpreter(version: str) -> str | None:
    """A Python of a version: on the path, or where pyenv keeps them."""
    kept = sorted(Path.home().glob(f".pyenv/versions/{version}.*/bin/python"))
    return str(kept[-1]) if kept else shutil.which(f"python{version}")


def fast_tests(session: nox.Session) -> None:
    """A dozen fast test files, against what is installed."""
    session.run("python", "-m", "pytest", "-q", *(session.posargs or FAST))


@nox.session
def wheel(session: nox.Session) -> None:
    """The wheel, in an environment of its own: its demo runs."""
    out = Path(session.create_tmp())
    session.run_install("uv", "build", "--wheel", "--out-dir", str(out), external=True)
    session.install(str(max(out.glob("*.whl"), key=os.path.getmtime)))
    with session.chdir(out):
        session.run("eager-kestrel", "demo", env={"EAGER_KESTREL_HOME": str(out / "home")})


@nox.session
def sdist(session: nox.Session) -> None:
    """The source distribution passes its own tests."""
    out = Path(session.create_tmp())
    session.run_install("uv", "build", "--sdist", "--out-dir", str(out), external=True)
    made = max(out.glob("*.tar.gz"), key=os.path.getmtime)
    shutil.unpack_archive(made, out, filter="data")
    with session.chdir(out / made.name.removesuffix(".tar.gz")):
        session.install("-e", ".[test]")
        session.run("python", "-m", "pytest", "-q", *(session.posargs or ("tests/test_house.py",)))


@nox.session
def lowest(session: nox.Session) -> None:
    """The lowest versions that pyproject.toml declares."""
    session.install("--resolution", "lowest-direct", "-e", ".[test]")
    fast_tests(session)


COVERED = 61
"""Per cent of the lines that the fast files alone reach; no fewer may be. The whole suite reaches
more, and the command line in processes of its own is not counted."""
COVERAGE = ("--cov=eager_kestrel", "--cov-report=", f"--cov-fail-under={COVERED}")


@nox.session(venv_backend="none")
def others(session: nox.Session) -> None:
    """The newest versions, on every other Python of this machine; lines covered, on the first."""
    measured = False
    for version in PYTHONS:
        found = interpreter(version)
        if found is None:
            session.warn(f"SKIPPED: there is no Python {version} on this machine")
            continue
        home = Path(session.create_tmp()) / version
        session.run("uv", "venv", "-q", "--clear", "-p", found, str(home), external=True)
        python = str(home / ("Scripts/python.exe" if os.name == "nt" else "bin/python"))
        extra = () if measured else ("pytest-cov",)
        wanted = ("-e", ".[test]", *extra)
        session.run("uv", "pip", "install", "-q", "-p", python, *wanted, external=True)
        session.run(
            python,
            "-m",
            "pytest",
            "-q",
            *(session.posargs or FAST),
            *(() if measured or session.posargs else COVERAGE),
            env={"COVERAGE_CORE": "sysmon"},  # next to no cost, from Python 3.12 on
            external=True,
        )
        measured = True
