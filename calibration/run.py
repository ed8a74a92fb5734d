"""Measure, fit, judge, draw: ``python calibration/run.py``. About three hours on two cores.

Writes the points beside this file, the table that ships (``data/quality.toml``) and the figures of
docs/quality-model.md, and prints the tables of that page. It goes on where it was stopped.
``--fit-only`` leaves the measuring out.
"""

from __future__ import annotations

import argparse
from pathlib import Path

import numpy as np
import tomlkit

import figures
import fit
import judge
import measure
import practice
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.show.show import MOTIONS
from eager_kestrel.files.home import DATA
from scenes import SCENES

HERE = Path(__file__).parent
START = HERE / "start.toml"
"""The values the fit starts from, and keeps where nothing can be measured."""
HEAD = """\
# Parameters of the quality model, core/choice/quality.py, as calibration/run.py wrote them: of
# every scene, fitted to VMAF of its encodes. docs/quality-model.md has the fit, error and limits.
"""
COMMENTS = {
    "viewed_on": "the screen most viewers have",
    "tie": "candidates that differ by less on average are about the same",
    "flat": "of what is within this of the best on average, the largest is taken",
    "noticeable": "and by less than this on every scene: one just noticeable difference of VMAF",
    "ordinary_delivery": "where larger pictures are delivered better; not measured",
}


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
    found = fit.of_kinds(points)
    basis = f"fitted to VMAF of {len(points):,} encodes of {len({p.scene for p in points})} scenes"
    table = fit.table_of(points, start).model_copy(update={"basis": basis})
    write(table)
    said_of_fit(points, found)
    judged = [*judge.left_out(points, table)]
    judge.said(judged)
    judge.said_of_flat(points, table)
    practice.said(table)
    print(f"codecs {table.codec}\npresets {table.preset}")
    folder = HERE.parent / "docs" / "quality-model"
    figures.draw_fit(points, found, folder / "fit.png")
    figures.draw_crossovers(table, folder / "crossovers.png")
    figures.draw_judged(judged, folder / "regret.png")


def write(table: QualityTable) -> None:
    """Write the table that ships."""
    document = tomlkit.document()
    for key, value in table.model_dump(mode="json", exclude_none=True).items():
        item = tomlkit.item(value)
        if key in COMMENTS:
            item.comment(COMMENTS[key])
        document.append(key, item)
    (DATA / "quality.toml").write_text(HEAD + tomlkit.dumps(document))


def said_of_fit(points: list[measure.Point], found: dict[str, fit.Fitted]) -> None:
    """Print parameters and residuals of every scene, as a table for the page."""
    print(
        "\n| scene | half at, kbit/s | steepness | pixels | frames | half of detail, lines "
        "| steepness | points | rms | worst |"
    )
    print("| --- |" + " ---: |" * 9)
    for motion in MOTIONS:
        for scene, own in found[motion].scenes.items():
            here = [p for p in fit.usual(points) if p.scene == scene]
            off = 100 * fit.residuals(here, found[motion])
            lines = np.sqrt(own["half_pixels"] * 9 / 16)
            cells = (
                f"{own['half_kbps']:,.0f}",
                f"{own['steepness']:.2f}",
                f"{own['size_exponent']:.2f}",
                f"{own['rate_exponent']:.2f}",
                f"{lines:,.0f}",
                f"{own['detail_steepness']:.2f}",
                f"{len(here)}",
                f"{np.sqrt((off**2).mean()):.1f}",
                f"{abs(off).max():.1f}",
            )
            print(f"| {motion}: {scene} | {' | '.join(cells)} |")


if __name__ == "__main__":
    main()
