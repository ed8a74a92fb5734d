"""What ``measure`` finds on a computer that does something else, too, and whether it says so.

Usage: python -m benchmarks busy [--quick] [--only idle|loaded|stopped] [--count 5] [--seed 1]

Needs Linux, root and iproute2. On a kernel-shaped link of 8 and of 100 Mbit/s, flooding and gently:
beside nothing, beside two processes that never rest, and stopped and continued (30 to 160 ms, every
30 to 120 ms). Wanted: nothing further off than 5 % without a word of the busy computer.
"""

from __future__ import annotations

import contextlib
import json
import os
import random
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from functools import partial

import psutil

from benchmarks import left_out, run_parts
from benchmarks.measurement import (
    GOODPUT,
    PORT,
    RECEIVER_ADDRESS,
    SENDER,
    make_link,
    may_shape,
    remove_link,
    shape,
    sink,
)

RATES = 8.0, 100.0
WORST = 0.05
WORD = "busy"
Beside = Callable[[psutil.Process, random.Random], contextlib.AbstractContextManager[None]]


@contextlib.contextmanager
def idle(_: psutil.Process, __: random.Random) -> Iterator[None]:
    """Nothing else runs."""
    yield


@contextlib.contextmanager
def loaded(_: psutil.Process, __: random.Random) -> Iterator[None]:
    """Two processes never rest."""
    never = [sys.executable, "-c", "while True: pass"]
    with subprocess.Popen(never) as one, subprocess.Popen(never) as other:
        try:
            yield
        finally:
            one.kill()
            other.kill()


@contextlib.contextmanager
def stopped(measuring: psutil.Process, chance: random.Random) -> Iterator[None]:
    """The program itself is stopped and continued."""
    over = threading.Event()

    def take_turns() -> None:
        with contextlib.suppress(psutil.NoSuchProcess):
            while not over.wait(chance.uniform(0.03, 0.12)):
                measuring.suspend()
                time.sleep(chance.uniform(0.03, 0.16))
                measuring.resume()

    turns = threading.Thread(target=take_turns)
    turns.start()
    try:
        yield
    finally:
        over.set()
        turns.join()


def measured(mbps: float, beside: Beside, chance: random.Random, *way: str) -> tuple[float, bool]:
    """How far off the typical rate is, NaN without one; and whether the computer is named."""
    program = [sys.executable, "-m", "eager_kestrel", "measure", "--json", "--no-keep"]
    url = f"http://{RECEIVER_ADDRESS}:{PORT}/u"
    with tempfile.TemporaryDirectory() as home:
        process = subprocess.Popen(
            ["ip", "netns", "exec", SENDER, *program, *way, "--seconds", "8 s", url],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            env={**os.environ, "EAGER_KESTREL_HOME": home},
        )
        time.sleep(1.5)  # until it is under way
        with beside(psutil.Process(process.pid), chance):
            out, said = process.communicate(timeout=180)
    if process.returncode:
        return float("nan"), WORD in said
    summary = json.loads(out)["summary"]
    named, one = any(WORD in text for text in summary["verdicts"]), summary["one_connection"]
    return one["typical_kbps"] / (mbps * GOODPUT * 1000) - 1 if one else float("nan"), named


def part(beside: Beside, rates: Sequence[float], count: int, seed: int) -> bool:
    """Print its rows; whether nothing was far off without a word."""
    chance, fine = random.Random(seed), True
    for mbps in rates:
        shape(mbps)
        for way in (("--connections", "1"), ("--gently",)):
            found = [measured(mbps, beside, chance, *way) for _ in range(count)]
            known = [off for off, _ in found if off == off]
            silent = sum(not named and not abs(off) <= WORST for off, named in found)
            off = f"{min(known):+.1%} to {max(known):+.1%}" if known else "no figure"
            told = f"named {sum(named for _, named in found)} times, off without a word {silent}"
            what = f"{beside.__name__}, {mbps:g} Mbit/s, {way[0].strip('-')}"  # type: ignore[attr-defined]
            print(f"| {what} | {count} | {off}; {told} |", flush=True)
            fine &= silent == 0
    return fine


def main(words: list[str]) -> int:
    """Run what is asked for; 1 when something was off without a word."""
    if reason := may_shape():
        return left_out(f"the kernel-shaped link: {reason}")
    rates = RATES[:1] if "--quick" in words else RATES
    parts = {one.__name__: partial(part, one, rates) for one in (idle, loaded, stopped)}
    try:
        make_link()
        with sink():
            counts = dict.fromkeys(parts, 5)
            return run_parts(words, __doc__, parts, counts, {"idle": 0, "loaded": 0, "stopped": 1})
    finally:
        remove_link()
