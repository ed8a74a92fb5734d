"""Measure, fit, draw: ``python calibration/run.py``. About an hour on two cores; resumable.

Writes the points beside this file, the table that ships (``data/quality.toml``) and the figures of
docs/quality-model.md, and prints the tables of that page. ``--fit-only`` leaves the measuring out.
"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import tomlkit

import figures
import fit
import measure
import practice
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.show.show import MOTIONS
from eager_kestrel.files.bundled import DATA
from scenes import SCENES

HERE = Path(__file__).parent
START = HERE / "start.toml"
"""The values the fit starts from, and keeps where nothing can be measured."""
HEAD = """\
# Parameters of the quality model, core/choice/quality.py, as calibration/run.py wrote them:
# fitted to VMAF of encodes of our own, and moved as far as practice asks. docs/quality-model.md has
# the fit, its error and its limits.
"""
COMMENTS = {
    "viewed_on": "the screen most viewers have",
    "alike": "differences up to this are none: from footage left out of the fit",
    "ordinary_delivery": "where larger pictures are delivered better; not measured",
}
CELLS = (("hectic", 4000), ("hectic", 5000), ("hectic", 6000), ("lively", 600), ("lively", 1200),
         ("lively", 3000), ("lively", 6000), ("calm", 600), ("calm", 5000), ("still", 400),
         ("still", 2000))  # fmt: skip


def main() -> None:
    """Run what is asked for."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cache", type=Path, default=HERE / "cache")
    parser.add_argument("--points", type=Path, default=HERE / "points.csv")
    parser.add_argument("--fit-only", action="store_true")
    asked = parser.parse_args()
    if not asked.fit_only:
        asked.cache.mkdir(exist_ok=True, parents=True)
        todo = [w for scene in SCENES for w in measure.wanted(scene)]
        todo += [w for scene in measure.PRESET_SCENES for w in measure.wanted_of_presets(scene)]
        todo += [w for scene in measure.CODEC_SCENES for w in measure.wanted_of_codecs(scene)]
        measure.measure_all(todo, asked.points, asked.cache)
    points = measure.read_points(asked.points)
    start = QualityTable.model_validate(tomlkit.parse(START.read_text()).unwrap())
    kinds = fit.without(points)
    fitted = fit.table_of(points, start)
    found_bands = fit.bands(points, fitted, kinds)
    fitted = with_alike(fitted, found_bands)
    shipped = practice.reconciled(fitted)
    moved = [m for m in MOTIONS if fitted.motion[m] != shipped.motion[m]]
    basis = f"fitted to VMAF of {len(points)} encodes of {len(SCENES)} scenes"
    if moved:
        basis += f"; {' and '.join(moved)} moved to what practice does"
    shipped = shipped.model_copy(update={"basis": basis})
    write(shipped)
    found = fit.of_kinds(points)
    regrets = fit.left_out(points, fitted, kinds)
    said_of_fit(points, found, fitted, shipped)
    said_of_regret(points, regrets, shipped)
    said_of_practice(fitted, shipped)
    print("\n| band | mean regret of the best | of what is taken |\n| ---: | ---: | ---: |")
    for band, (best, taken) in found_bands.items():
        print(f"| {band} | {best:.2f} | {taken:.2f} |")
    print(f"codecs {fitted.codec}\npresets {fitted.preset}")
    folder = HERE.parent / "docs" / "quality-model"
    figures.draw_fit(points, found, folder / "fit.png")
    figures.draw_crossovers(points, shipped, folder / "crossovers.png")
    figures.draw_regret(points, regrets, folder / "regret.png")


def write(table: QualityTable) -> None:
    """Write the table that ships."""
    document = tomlkit.document()
    for key, value in table.model_dump(mode="json").items():
        item = tomlkit.item(value)
        if key in COMMENTS:
            item.comment(COMMENTS[key])
        document.append(key, item)
    (DATA / "quality.toml").write_text(HEAD + tomlkit.dumps(document))


def with_alike(table: QualityTable, found: dict[float, tuple[float, float]]) -> QualityTable:
    """The band within which choosing costs least, on footage left out."""
    return table.model_copy(update={"alike": min(found, key=lambda band: found[band][1])})


def said_of_fit(
    points: Sequence[measure.Point], found: dict[str, fit.Fitted], fitted: QualityTable,
    shipped: QualityTable,
) -> None:  # fmt: skip
    """Print parameters and residuals, as tables for the page."""
    names = ("half_kbps", "steepness", "size_exponent", "rate_exponent", "half_pixels",
             "detail_steepness", "temporal")  # fmt: skip
    print("\n| | half at, kbit/s | steepness | picture | frame | half of detail, lines "
          "| steepness | smoothness | rms | worst |")  # fmt: skip
    print("| --- |" + " ---: |" * 9)

    def row(name: str, values: dict[str, float], off: np.ndarray | None) -> None:
        cells = []
        for key in names:
            value = values.get(key)
            if value is None:
                cells.append("")
            elif key == "half_pixels":
                cells.append(f"{np.sqrt(value * 9 / 16):,.0f}")
            else:
                cells.append(f"{value:,.0f}" if key == "half_kbps" else f"{value:.2f}")
        cells += ["", ""] if off is None else [f"{100 * np.sqrt((off**2).mean()):.1f}",
                                               f"{100 * abs(off).max():.1f}"]  # fmt: skip
        print(f"| {name} | {' | '.join(cells)} |")

    for motion in MOTIONS:
        for scene in found[motion].scenes:
            own = [p for p in fit.usual(points) if p.scene == scene]
            row(f"{motion}: {scene}", found[motion].of(scene), fit.residuals(own, found[motion]))
        row(f"**{motion}**, fitted", fitted.motion[motion].model_dump(), None)
        if fitted.motion[motion] != shipped.motion[motion]:
            row(f"**{motion}**, shipped", shipped.motion[motion].model_dump(), None)


def said_of_regret(
    points: Sequence[measure.Point], regrets: Sequence[fit.Regret], shipped: QualityTable
) -> None:
    """Print what choosing costs: left out of the fit, and by the table that ships."""
    print("\n| motion | scene | fps | best: mean | worst | taken: mean | worst "
          "| shipped, taken: mean | worst |")  # fmt: skip
    print("| --- | --- |" + " ---: |" * 7)
    motion_of = {p.scene: p.motion for p in points}
    for each in regrets:
        own = [p for p in fit.usual(points) if p.scene == each.scene]
        ship = fit.regret(own, shipped, motion_of[each.scene], each.fps)  # type: ignore[arg-type]
        costs = (each.best, each.taken, ship.taken)
        cells = [f"{x:.1f}" for cost in costs for x in (cost.mean(), cost.max())]
        print(f"| {motion_of[each.scene]} | {each.scene} | {each.fps} | {' | '.join(cells)} |")
    for motion in MOTIONS:
        own_regrets = [r for r in regrets if motion_of[r.scene] == motion]
        for name in ("best", "taken"):
            each_ = np.concatenate([getattr(r, name) for r in own_regrets])
            print(f"{motion} {name}: mean {each_.mean():.2f}, worst {each_.max():.1f}")


def said_of_practice(fitted: QualityTable, shipped: QualityTable) -> None:
    """Print what practice says and what is chosen, as tables for the page."""
    print("\n| motion | kbit/s | practice | fitted | shipped |")
    print("| --- | ---: | --- | --- | --- |")
    for row in practice.ROWS:
        low, high = row.lines
        wanted = f"{low}" if low == high else f"{low} to {high}"
        rates = " or ".join(f"{f:g}" for f in row.fps)
        cells = []
        for table in (fitted, shipped):
            lines, fps = practice.choice(table, row.motion, row.kbps)
            least, most = practice.alike(table, row.motion, row.kbps)
            mark = "" if practice.lead(table, row) >= 0 else "**"
            cells.append(f"{mark}{lines} at {fps:g}{mark} ({least} to {most})")
        print(f"| {row.motion} | {row.kbps:,.0f} | {wanted} at {rates} | {' | '.join(cells)} |")
    print("\n| motion | kbit/s | best | look alike |")
    print("| --- | ---: | --- | --- |")
    for motion, kbps in CELLS:
        lines, fps = practice.choice(shipped, motion, kbps)  # type: ignore[arg-type]
        least, most = practice.alike(shipped, motion, kbps)  # type: ignore[arg-type]
        print(f"| {motion} | {kbps:,} | {lines} at {fps:g} | {least} to {most} lines |")


if __name__ == "__main__":
    main()
