"""Write the bundled traces of the scenario's line: day, wet evening, bad night.

Usage: python scripts/make_traces.py [FOLDER]   (default: the package's data/traces)

Rates in half-second steps for five minutes. Around a mean, the logarithm of the rate wanders as a
first-order autoregression, as fixed wireless does over seconds; dips of several seconds come at
exponential distances. The seed is fixed, so the files are the same each time.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path

import numpy as np

STEP_SECONDS = 0.5
LENGTH_SECONDS = 300.0
SEED = 20261102


@dataclass(frozen=True)
class Weather:
    """What makes one trace."""

    name: str
    mean_kbps: float
    wander: float
    memory: float
    dip_every_seconds: float
    dip_seconds: tuple[float, float]
    dip_kbps: tuple[float, float]
    first_dip_seconds: float | None = None


WEATHERS = (
    Weather("day", 12_000, 0.05, 0.85, 90, (1, 2), (7_500, 9_500)),
    Weather("wet-evening", 8_000, 0.08, 0.85, 30, (3, 7), (3_600, 4_900), first_dip_seconds=3.5),
    Weather("bad-night", 2_500, 0.12, 0.90, 45, (2, 5), (1_100, 1_700)),
)


def rates(weather: Weather, rng: np.random.Generator) -> np.ndarray:
    """The rate of each step in kbit/s."""
    count = round(LENGTH_SECONDS / STEP_SECONDS)
    noise = rng.normal(0, weather.wander * np.sqrt(1 - weather.memory**2), count)
    wander = np.empty(count)
    wander[0] = rng.normal(0, weather.wander)
    for step in range(1, count):
        wander[step] = weather.memory * wander[step - 1] + noise[step]
    kbps = weather.mean_kbps * np.exp(wander)
    at = weather.first_dip_seconds or rng.exponential(weather.dip_every_seconds)
    while at < LENGTH_SECONDS:
        lasts = rng.uniform(*weather.dip_seconds)
        inside = slice(round(at / STEP_SECONDS), round((at + lasts) / STEP_SECONDS))
        kbps[inside] = rng.uniform(*weather.dip_kbps) * np.exp(wander[inside] / 2)
        at += lasts + rng.exponential(weather.dip_every_seconds)
    return np.round(kbps, -1)


def main() -> None:
    """Write all of them."""
    default = Path(__file__).parent.parent / "src" / "eager_kestrel" / "data" / "traces"
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else default
    folder.mkdir(parents=True, exist_ok=True)
    for number, weather in enumerate(WEATHERS):
        kbps = rates(weather, np.random.default_rng([SEED, number]))
        rows = [f"{step * STEP_SECONDS:g},{rate:.0f}" for step, rate in enumerate(kbps)]
        rows.append(f"{LENGTH_SECONDS:g},{kbps[-1]:.0f}")
        head = f"# {weather.name}: made by scripts/make_traces.py, seed {SEED}\nseconds,kbps\n"
        (folder / f"{weather.name}.csv").write_text(head + "\n".join(rows) + "\n")
        low, middle = np.percentile(kbps, [10, 50])
        print(f"{weather.name}: median {middle:,.0f} kbit/s, tenth percentile {low:,.0f}")


if __name__ == "__main__":
    main()
