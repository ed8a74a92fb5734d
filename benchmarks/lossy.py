"""What ``measure --gently`` finds on long ways and beside losses, against a bare sender.

Usage: python -m benchmarks lossy [--quick] [--rates 3,20] [--trips 20,100,300] [--losses 0,0.2,1]

Needs Linux, root and iproute2: the link is a router of ours between two namespaces
(benchmarks/links.py) with a queue of 100 ms. The reference is a bare sender of the same congestion
control on the same link, watched once it is under way. Either the two agree, or the program has to
say that it cannot tell. Prints its table in Markdown, which stands in docs/measurement.md.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from itertools import product

from benchmarks import left_out, options
from benchmarks.links import RECEIVER, RECEIVER_ADDRESS, SENDER, inside, link, run, why_not
from benchmarks.measurement import BARE, SINK

PORT = "8077"
QUEUE_MS = 100.0
WANTED = {"cubic": 0.02, "bbr": 0.1}
"""How far off it may be where it does not say that it cannot tell."""
WATCHED_SECONDS, QUICKLY = 20.0, 6.0
OPENS_SECONDS = {20: 3.0, 100: 8.0, 300: 20.0}
"""After so long the window of a bare sender has opened, by its round trip in ms."""


def bare_mbps(mbps: float, trip_ms: int, seconds: float) -> float:
    """What a bare sender gets."""
    opens = OPENS_SECONDS.get(trip_ms, 8.0)
    code = BARE.replace("+ 3:", f"+ {opens}:").replace("> 3:", f"> {opens}:")
    chunk = max(2896, int(mbps * 1250))
    return (
        float(
            run(
                *inside(SENDER, sys.executable, "-c", code, RECEIVER_ADDRESS, PORT),
                str(seconds),
                str(chunk),
            )
        )
        / 1e6
    )


def gently(home: str) -> tuple[float | None, str]:
    """What was found in Mbit/s, or what was said instead."""
    done = subprocess.run(
        inside(
            SENDER,
            *(sys.executable, "-m", "eager_kestrel", "measure", "--gently", "--no-keep", "--json"),
            f"http://{RECEIVER_ADDRESS}:{PORT}/u",
        ),
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "EAGER_KESTREL_HOME": home},
    )
    if done.returncode:
        return None, done.stderr.strip().splitlines()[-1].removeprefix("eager-kestrel: ")
    document = json.loads(done.stdout)
    took = document["one_connection"]["samples"]["seconds"]
    return document["summary"]["one_connection"][
        "typical_kbps"
    ] / 1000, f"{took[-1]:.0f} s" if took else ""


def main(words: list[str]) -> int:
    """Print the table; 1 when a rate is further off than wanted and nothing was said."""
    parser = options(__doc__)
    parser.add_argument("--rates", default="3,20")
    parser.add_argument("--trips", default="20,100,300")
    parser.add_argument("--losses", default="0,0.2,1", help="in per cent")
    parser.add_argument("--controls", default="cubic,bbr")
    parser.add_argument("--policed", action="store_true", help="what would queue is dropped")
    wish = parser.parse_args(words)
    if reason := why_not():
        return left_out(reason)
    if wish.quick:
        wish.rates, wish.trips, wish.losses, wish.controls = "3", "20", "0", "cubic"
    missed = 0
    print("| control | Mbit/s | round trip ms | loss | bare sender | gently | off | said |")
    print("| --- | " + " | ".join(["---:"] * 6) + " | --- |")
    grid = product(
        wish.controls.split(","),
        map(float, wish.rates.split(",")),
        map(int, wish.trips.split(",")),
        map(float, wish.losses.split(",")),
    )
    for control, mbps, trip_ms, loss in grid:
        figures = {"mbps": mbps, "delay_ms": trip_ms, "loss": loss / 100, "queue_ms": QUEUE_MS}
        figures["policed"] = wish.policed
        with tempfile.TemporaryDirectory() as home, link(seed=7, **figures):
            way = (f"{RECEIVER_ADDRESS}/32", "dev", "ek0", "congctl", control)
            run("ip", "-n", SENDER, "route", "replace", *way)
            there = inside(RECEIVER, sys.executable, "-c", SINK, RECEIVER_ADDRESS, PORT)
            with subprocess.Popen(there, stdout=subprocess.PIPE) as sink:
                assert sink.stdout
                sink.stdout.readline()
                bare = bare_mbps(mbps, trip_ms, QUICKLY if wish.quick else WATCHED_SECONDS)
                found, said = gently(home)
                sink.kill()
        off = "" if found is None else f"{found / bare - 1:+.1%}"
        shown = "" if found is None else f"{found:.2f}"
        print(
            f"| {control} | {mbps:g} | {trip_ms} | {loss:g} % | {bare:.2f} | {shown} | {off} | "
            f"{said} |",
            flush=True,
        )
        missed += found is not None and abs(found / bare - 1) > WANTED[control]
    return int(bool(missed))
