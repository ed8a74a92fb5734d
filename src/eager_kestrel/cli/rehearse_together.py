"""``rehearse`` of a plan with several destinations: all at once."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from eager_kestrel.cli.options import asker

if TYPE_CHECKING:
    from eager_kestrel.actions.rehearsing import RehearseOptions
    from eager_kestrel.core.checks.rehearsal import Rehearsal
    from eager_kestrel.core.plan.plan import Plan


@dataclass(frozen=True, slots=True)
class TogetherOptions:
    """How, as said on the command line."""

    to: tuple[str, ...]
    practice: str | None
    wish: RehearseOptions
    out: Path | None
    figure: Path | None


def rehearse_all(plan: Plan, asked: TogetherOptions, guides: Path | None, *, json: bool) -> None:
    """Send every destination's stand-in at once, and say of each and of all whether it held.

    Raises:
        InputError: what is asked for is of one destination only.
    """
    from eager_kestrel.actions.export import write_plan
    from eager_kestrel.actions.rehearsing_together import (
        parts_at,
        rehearse_together,
        rehearse_together_in_practice,
    )
    from eager_kestrel.actions.reporting import keep_rehearsals
    from eager_kestrel.cli.rehearsal_card import line_of, live
    from eager_kestrel.cli.screen import warn

    _require_all(plan, asked)
    with live(quiet=json) as tell:
        if asked.practice is not None:
            name, rate = line_of(asked.practice)
            found = rehearse_together_in_practice(plan, asked.wish, name, rate, guides, tell)
        else:
            parts = parts_at(plan, asked.to, asker())
            found = rehearse_together(plan, parts, asked.wish, tell)
    keep_rehearsals(found)
    held = all(one.verdict.held for one in found)
    if asked.out is not None and held:
        write_plan(plan, asked.out)
        warn(f"wrote the plan that held to {asked.out}")
    _show_together(found, held=held, json=json)
    raise typer.Exit(0 if held else 1)


def _require_all(plan: Plan, asked: TogetherOptions) -> None:
    """Refuse what would leave destinations out."""
    from eager_kestrel.core.errors import InputError

    names = [there.platform for there in plan.destinations if there.feasible]
    one = f"choose one with --for {names[0]}"
    several = " and ".join(names)
    if asked.wish.settle:
        raise InputError(f"--settle closes in on one destination, and the plan has {several}", one)
    if asked.figure is not None:
        raise InputError(f"a figure shows one destination, and the plan has {several}", one)
    if asked.to and not any("=" in address for address in asked.to):
        raise InputError(
            f"one address, and the plan has {several}",
            f"{one}, or give --to {names[0]}=rtmp://HOST/APP for each",
        )


def _show_together(found: tuple[Rehearsal, ...], *, held: bool, json: bool) -> None:
    from eager_kestrel.cli.rehearsal_card import show_rehearsal
    from eager_kestrel.cli.screen import console, print_json
    from eager_kestrel.core.document import format_name
    from eager_kestrel.core.words.runs import all_together

    if json:
        print_json({
            "format": format_name("rehearsals"), "held": held,
            "rehearsals": [one.model_dump(mode="json") for one in found],
        })  # fmt: skip
        return
    for one in found:
        show_rehearsal(console(), one)
    failed = [one.platform for one in found if not one.verdict.held]
    console().print(all_together([one.platform for one in found], failed), style="bold")
