"""Measure, fit, draw: ``python calibration/run.py``. At most 20 minutes on two cores; resumable.

Writes the points beside this file, the table that ships (``data/quality.toml``) and the figures of
docs/quality-model.md, and prints what the fit came to. ``--fit-only`` leaves the measuring out.
"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import tomlkit

import clip
import figures
import fit
import measure
import practice
from eager_kestrel.core.choice.quality import QualityTable, quality
from eager_kestrel.files.bundled import DATA, quality_table

HERE = Path(__file__).parent
START = HERE / "start.toml"
"""The values the fit starts from, and keeps where nothing can be measured."""
HEAD = """\
# Parameters of the quality model, core/choice/quality.py, as calibration/run.py wrote them:
# fitted to encodes of our own, and moved as far as practice asks. docs/quality-model.md has the
# fit, its error and its limits.
"""
COMMENTS = {
    "viewed_on": "the screen most viewers have",
    "amplitude": "how fast quantisation shows",
    "ordinary_delivery": "where larger pictures are delivered better; not measured",
}


def main() -> None:
    """Run what is asked for."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cache", type=Path, default=HERE / "cache")
    parser.add_argument("--codecs", default="h264,hevc,av1")
    parser.add_argument("--points", type=Path, default=HERE / "points.csv")
    parser.add_argument("--fit-only", action="store_true")
    parser.add_argument("--film", action="store_true", help="hold the shipped table to a real film")
    asked = parser.parse_args()
    if not asked.fit_only and not asked.film:
        asked.cache.mkdir(exist_ok=True, parents=True)
        todo = list(measure.wanted(tuple(measure.START), tuple(asked.codecs.split(","))))
        measure.measure_all(todo, asked.points, asked.cache)
    if asked.film:
        asked.cache.mkdir(exist_ok=True, parents=True)
        measure.measure_all(list(measure.of_film()), HERE / "film.csv", asked.cache)
        said_of_film(measure.read_points(HERE / "film.csv"), quality_table())
        return
    points = measure.read_points(asked.points)
    start = QualityTable.model_validate(tomlkit.parse(START.read_text()).unwrap())
    fitted = fit.fitted(points, start)
    shipped = practice.reconciled(fitted)
    moved = [m for m in fitted.motion if fitted.motion[m] != shipped.motion[m]]
    basis = f"fitted to {len(points)} encodes; {' and '.join(moved)} moved to what practice does"
    write(shipped.model_copy(update={"basis": basis}))
    said(points, fitted, quality_table())
    folder = HERE.parent / "docs" / "quality-model"
    figures.draw_fit(points, fitted, quality_table(), folder / "fit.png")
    figures.draw_crossovers(points, quality_table(), folder / "crossovers.png")


def write(table: QualityTable) -> None:
    """Write the table that ships."""
    document = tomlkit.document()
    for key, value in table.model_dump(mode="json").items():
        item = tomlkit.item(value)
        if key in COMMENTS:
            item.comment(COMMENTS[key])
        document.append(key, item)
    (DATA / "quality.toml").write_text(HEAD + tomlkit.dumps(document))


def said(points: Sequence[measure.Point], fitted: QualityTable, shipped: QualityTable) -> None:
    """Print parameters, residuals and what practice says, as tables for the page."""
    print("\n| motion | | no loss at | picture | frame | detail | smoothness | rms | worst |")
    print("| --- | --- | ---: | ---: | ---: | ---: | ---: | ---: | ---: |")
    for motion in fitted.motion:
        own = [p for p in points if p.motion == motion and p.codec == "h264"]
        for name, table in (("fitted", fitted), ("shipped", shipped)):
            off = np.array([r.measured - r.model for r in fit.residuals(own, table)])
            m = table.motion[motion]
            spread = f"{np.sqrt((off**2).mean()):.3f} | {abs(off).max():.3f}"
            print(
                f"| {motion} | {name} | {m.clean_kbps:,.0f} | {m.size_exponent:.2f} | "
                f"{m.rate_exponent:.2f} | {m.spatial:.2f} | {m.temporal:.2f} | {spread} |"
            )
    print(f"\nsteepness {fitted.amplitude}; codecs {fitted.codec}")
    for codec in ("hevc", "av1"):
        own = [p for p in points if p.codec == codec]
        off = np.array([r.measured - r.model for r in fit.residuals(own, fitted)])
        print(f"{codec}: rms {np.sqrt((off**2).mean()):.3f}, worst {abs(off).max():.3f}")
    print("\n| motion | kbit/s | practice | fitted | shipped |")
    print("| --- | ---: | --- | --- | --- |")
    for row in practice.ROWS:
        low, high = row.lines
        wanted = f"{low}" if low == high else f"{low} to {high}"
        rates = " or ".join(f"{f:g}" for f in row.fps)
        a, b = practice.choice(fitted, row), practice.choice(shipped, row)
        print(f"| {row.motion} | {row.kbps:,.0f} | {wanted} at {rates} | {a[0]} at {a[1]:g} | "
              f"{b[0]} at {b[1]:g} |")  # fmt: skip


def said_of_film(points: Sequence[measure.Point], table: QualityTable) -> None:
    """Print which picture of the film is best at which bitrate, measured and by each motion."""
    rates = np.geomspace(150, 3000, 7)
    lines = [height for _, height in measure.PICTURES]
    small = [i for i, (width, _) in enumerate(measure.PICTURES) if width <= clip.WIDTH]
    best = fit.measured_best(points, clip.FPS, rates, fit.WATCHED_FILM)
    print("\n| kbit/s | measured | " + " | ".join(table.motion) + " |")
    print("| ---: | --- |" + " --- |" * len(table.motion))
    for row, kbps in enumerate(rates):
        picked = []
        for motion in table.motion:
            pixels = np.array([float(w * h) for w, h in measure.PICTURES])[small]
            fps, rate = np.full_like(pixels, clip.FPS), np.full_like(pixels, kbps)
            judged = quality(table, motion, "h264", pixels, fps, rate)
            picked.append(str(lines[small[int(judged.argmax())]]))
        seen = str(lines[best[row]]) if best[row] >= 0 else "-"
        print(f"| {kbps:,.0f} | {seen} | {' | '.join(picked)} |")


if __name__ == "__main__":
    main()
