"""A whole guideline page: its tables and the lines around them, as one understanding."""

from __future__ import annotations

import re
from fractions import Fraction

from eager_kestrel.core.guide.page import Answers, Page, TableRung, Understood
from eager_kestrel.core.guide.page_lines import take_lines
from eager_kestrel.core.guide.page_table import ORDINARY, take_grid


def understand(page: Page, answers: Answers) -> Understood:
    """What a page says; whatever is not understood whole is told, and what is silent is asked.

    Args:
        page: tables and lines.
        answers: what to take where the page is silent.
    """
    done = Understood(notes=dict(filter(None, map(_note, page.lines))))
    before = Understood()
    take_lines(page.lines, answers, before)  # audio first: totals in tables may include it
    done.taken = [taken for taken in before.taken if taken.key.startswith("audio.")]
    for grid in page.grids:
        take_grid(grid, answers, done)
    take_lines(page.lines, answers, done)
    _ask_standing(done, answers)
    if any(rung.frame_rate is None for rung in done.rungs) and fastest(done, answers) is None:
        done.ask("frame_rate")
    return done


def _note(line: str) -> tuple[str, str] | None:
    """A footnote by its mark, where a line is one."""
    match = re.match(r"\[\^([0-9a-z]{1,2})\]:?\s*(.+)|([*†‡§]+|[¹²³⁴⁵⁶⁷⁸⁹]+)\s*(.+)", line)
    return None if match is None else (match[1] or match[3], match[2] or match[4])


def fastest(done: Understood, answers: Answers) -> Fraction | None:
    """The fastest rate a page speaks of, or the one that was answered."""
    said = done.said("video.fastest") or max(done.said("video.frame_rates", ()), default=None)
    rates = [rung.frame_rate for rung in done.rungs if rung.frame_rate is not None]
    answered = [Fraction(answers.frame_rate)] if answers.frame_rate else []
    return max([*rates, *answered, *([said] if said else [])], default=None)


def standings(done: Understood) -> list[str]:
    """Standings the rungs speak of, in order."""
    return list(dict.fromkeys(r.standing for r in done.rungs if r.standing is not None))


def ordinary(done: Understood, answers: Answers) -> str | None:
    """The standing every account has, by its name or by answer."""
    if answers.ordinary is not None:
        return answers.ordinary
    return next((name for name in standings(done) if name.split("-")[0] in ORDINARY), None)


def _ask_standing(done: Understood, answers: Answers) -> None:
    """Rows of several standings, and none of them is known to be everybody's."""
    found = standings(done)
    if found and ordinary(done, answers) is None and all(r.standing for r in done.rungs):
        done.ask("ordinary")


def rungs_of(done: Understood, answers: Answers, standing: str | None) -> list[TableRung]:
    """The rungs of a standing; None for those every account has."""
    every = ordinary(done, answers)
    if standing is None:
        return [rung for rung in done.rungs if rung.standing in (None, every)]
    return [rung for rung in done.rungs if rung.standing == standing]
