"""What measuring came to: a run, or a schedule of them, kept and told of."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Iterator

    from eager_kestrel.actions.evening import Evening
    from eager_kestrel.actions.schedule import ScheduleOutcome
    from eager_kestrel.core.line.run import Run


def _kept(run: Run) -> bool:
    """Keep a run; a disk that will not take it gets a line, and the run is still shown."""
    from eager_kestrel.actions.measuring import keep
    from eager_kestrel.cli.screen import uninterrupted, warn
    from eager_kestrel.core.errors import StorageError

    try:
        with uninterrupted():
            keep(run)
    except StorageError as error:
        warn(f"the run could not be kept: {error.line()}")
        return False
    return True


def one_run(run: Run, keep: bool, figure: Path | None, *, json: bool, samples: bool) -> int:
    """Keep and show a run; returns the exit code."""
    from eager_kestrel.actions.runs import document, summary
    from eager_kestrel.cli.run_card import show_run
    from eager_kestrel.cli.screen import console, print_json

    stored = _kept(run) if keep else True
    if json:
        print_json(document(run, samples=samples))
    else:
        show_run(console(), run, summary(run))
    ended = _told_how_it_ended(run)
    if figure is not None:
        from eager_kestrel.report.run_figure import save_run_figure

        save_run_figure(run, figure)
    return ended or (0 if stored else 1)


def _told_how_it_ended(run: Run) -> int:
    """Say on standard error what cut a run short; returns the exit code that goes with it."""
    from eager_kestrel.cli.screen import warn

    for phase in (run.one_connection, run.several_connections):
        if phase is not None and phase.ended == "failed":
            warn(f"{phase.ended_why}; what was learned before is marked partial")
            return 3
    if run.partial:
        warn("stopped; what was learned so far is marked partial")
        return 1
    return 0


def told(outcomes: Iterator[ScheduleOutcome], keep: bool) -> Iterator[ScheduleOutcome]:
    """Keep and tell of each run of a schedule as it ends, so that nothing waits for the last."""
    from eager_kestrel.actions.runs import summary
    from eager_kestrel.cli.screen import rate, warn

    for outcome in outcomes:
        uplink = summary(outcome.run).uplink
        if keep:
            _kept(outcome.run)
        if outcome.error is not None:
            warn(f"run {outcome.number} failed: {outcome.error.line()}")
        elif uplink is not None:
            typical, floor = rate(uplink.typical_kbps), rate(uplink.floor_kbps)
            warn(f"run {outcome.number}: typical {typical}, floor {floor}")
        yield outcome


def several_runs(
    outcomes: list[ScheduleOutcome], wanted: int | None, platform: str, guides: Path | None, *, json: bool,
    samples: bool,
) -> int:  # fmt: skip
    """The runs of a schedule together; 0 when all went well, 1 when some did, 3 when none."""
    from eager_kestrel.actions.evening import learned
    from eager_kestrel.actions.runs import document
    from eager_kestrel.cli.screen import print_json
    from eager_kestrel.core.document import format_name
    from eager_kestrel.core.errors import NetworkError, StoppedError

    runs = [outcome.run for outcome in outcomes if not outcome.run.failed]
    errors = [outcome.error.line() for outcome in outcomes if outcome.error is not None]
    if not runs:
        if errors:
            raise NetworkError(f"none of {len(errors)} runs went through", errors[-1])
        raise StoppedError("stopped before anything was learned", "nothing was kept")
    evening = learned([outcome.run for outcome in outcomes], platform, guides)
    if json:
        print_json(
            {
                "format": format_name("runs"),
                "runs": [document(run, samples=samples) for run in runs],
                "uplink": evening.uplink.model_dump(mode="json"),
                "failed": errors,
                "quarters": [quarter.model_dump(mode="json") for quarter in evening.quarters],
                "safe_kbps": evening.budget.safe_kbps,
                "leads_to": list(evening.leads_to),
            }
        )
    else:
        _show_evening(evening, len(errors), len(outcomes))
    whole = len(runs) == (wanted or len(outcomes)) and not any(run.partial for run in runs)
    return 0 if whole else 1


def _show_evening(evening: Evening, failed: int, count: int) -> None:
    """By quarter of an hour, all together, and what that leads to."""
    from eager_kestrel.cli.run_card import show_quarters, show_uplink
    from eager_kestrel.cli.screen import console
    from eager_kestrel.core.words import runs as words

    screen = console()
    if len(evening.quarters) > 1:
        show_quarters(screen, evening.quarters)
    show_uplink(screen, evening.uplink)
    if failed:
        screen.print(f"{failed} of {count} runs failed")
    bound = evening.budget
    screen.print(words.safe_to_send(bound.safe_kbps, bound.bound_by), markup=False)
    for line in evening.leads_to:
        screen.print(line, markup=False)
