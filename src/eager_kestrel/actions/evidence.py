"""The evidence a plan rests on, as it is kept."""

from __future__ import annotations

from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.units import near_moment, parse_time_of_day


def evidence_behind(uplink: Uplink) -> Evidence:
    """What was observed in the runs and broadcasts an uplink rests on, as far as they are kept.

    Of a bare number there is none, and readings from elsewhere say nothing of seconds.
    """
    if not uplink.runs and not uplink.broadcasts:
        return Evidence.of(())
    from eager_kestrel.files.history import History, HistoryFilter

    with History() as history:
        runs = history.evidence(HistoryFilter(ids=uplink.runs))
        evidence = Evidence.of(
            runs, history.broadcast_evidence(HistoryFilter(ids=uplink.broadcasts))
        )
    return near_hour(evidence, uplink.around)


def near_hour(evidence: Evidence, around: str | None) -> Evidence:
    """Return what was observed within an hour and a half of a time of day, or all of it.

    Args:
        around: ``"20:00"``; None for any hour.

    Raises:
        InputError: it is no time of day.
    """
    if around is None:
        return evidence
    wanted = parse_time_of_day(around)
    return evidence.where(lambda stretch: near_moment(stretch.began, wanted))
