"""Eager Kestrel: from the upload as a live stream feels it to settings that hold, with reasons.

The way through is ``samples -> Run -> Uplink -> Budget -> (Guide, Show) -> Plan``; each noun is one
module in :mod:`eager_kestrel.core`.

What is imported below is the Python API, and nothing else is promised: one function for each thing
a user does, the options it takes, the documents it returns. Functions print nothing. Each name is
imported when it is first asked for, so that a script pays only for what it uses. docs/python.md
has examples.
"""

from __future__ import annotations

import importlib
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from eager_kestrel.version import __version__ as __version__

if TYPE_CHECKING:
    from eager_kestrel.actions.broadcasts import review as review
    from eager_kestrel.actions.checking import (
        RecordingOptions as RecordingOptions,
        check as check,
        check_recording as check_recording,
        check_tonight as check_tonight,
        settings_from as settings_from,
    )
    from eager_kestrel.actions.demo import demo as demo
    from eager_kestrel.actions.encode_trial import try_clip as try_clip
    from eager_kestrel.actions.encoders import (
        EncoderOptions as EncoderOptions,
        measure_encoders as measure_encoders,
    )
    from eager_kestrel.actions.endpoints import (
        list_endpoints as list_endpoints,
        name_endpoint as name_endpoint,
    )
    from eager_kestrel.actions.export import command_for as command_for, write_plan as write_plan
    from eager_kestrel.actions.far_end import (
        Listening as Listening,
        bounds_of as bounds_of,
        far_end as far_end,
        token_of as token_of,
    )
    from eager_kestrel.actions.forecasting import (
        ForecastOptions as ForecastOptions,
        forecast as forecast,
    )
    from eager_kestrel.actions.guides import (
        check_guides as check_guides,
        compare_guides as compare_guides,
        list_guides as list_guides,
    )
    from eager_kestrel.actions.importing import (
        NewGuide as NewGuide,
        read_guideline as read_guideline,
        write_imported_guide as write_imported_guide,
    )
    from eager_kestrel.actions.ingest_measuring import nearest as nearest
    from eager_kestrel.actions.measuring import (
        MeasureOptions as MeasureOptions,
        keep_run as keep_run,
        measure as measure,
    )
    from eager_kestrel.actions.planning import (
        keep_plan as keep_plan,
        plan as plan,
        uplink_from_history as uplink_from_history,
        uplink_from_number as uplink_from_number,
    )
    from eager_kestrel.actions.practice import (
        SimulatedTrouble as SimulatedTrouble,
        simulated_connection as simulated_connection,
        simulated_uplink as simulated_uplink,
    )
    from eager_kestrel.actions.receiving import receive as receive
    from eager_kestrel.actions.rehearsing import (
        RehearseOptions as RehearseOptions,
        destination_of as destination_of,
        rehearse_at as rehearse_at,
        rehearse_in_practice as rehearse_in_practice,
    )
    from eager_kestrel.actions.relay import (
        RelayOptions as RelayOptions,
        watch_through as watch_through,
    )
    from eager_kestrel.actions.reporting import explain as explain, gather_report as gather_report
    from eager_kestrel.actions.runs import (
        compare_runs as compare_runs,
        export_runs as export_runs,
        find_run as find_run,
        forget_runs as forget_runs,
        import_runs as import_runs,
        list_runs as list_runs,
    )
    from eager_kestrel.actions.schedule import measure_repeatedly as measure_repeatedly
    from eager_kestrel.actions.shows import (
        ShowOptions as ShowOptions,
        new_show as new_show,
        write_show as write_show,
    )
    from eager_kestrel.actions.trial import (
        TrialRequest as TrialRequest,
        prepare_trial as prepare_trial,
    )
    from eager_kestrel.actions.watching import WatchOptions as WatchOptions, watch as watch
    from eager_kestrel.actions.what_if import (
        compare_settings as compare_settings,
        hours as hours,
        need as need,
        sweep as sweep,
    )
    from eager_kestrel.core.checks.findings import (
        Findings as Findings,
        TonightCheck as TonightCheck,
    )
    from eager_kestrel.core.checks.rehearsal import Rehearsal as Rehearsal, Rehearsals as Rehearsals
    from eager_kestrel.core.choice.what_if import (
        Comparison as Comparison,
        Needs as Needs,
        Sweep as Sweep,
    )
    from eager_kestrel.core.connection.broadcast import Broadcast as Broadcast
    from eager_kestrel.core.connection.run import Run as Run
    from eager_kestrel.core.connection.uplink import Uplink as Uplink
    from eager_kestrel.core.errors import KestrelError as KestrelError
    from eager_kestrel.core.footage import Trial as Trial
    from eager_kestrel.core.forecast.forecast import Forecast as Forecast
    from eager_kestrel.core.guide.guide import Guide as Guide
    from eager_kestrel.core.plan.plan import DestinationPlan as DestinationPlan, Plan as Plan
    from eager_kestrel.core.resolution import Resolution as Resolution
    from eager_kestrel.core.settings.values import Settings as Settings
    from eager_kestrel.core.show.machine import MeasuredMachine as MeasuredMachine
    from eager_kestrel.core.show.show import (
        Destination as Destination,
        Reserve as Reserve,
        Show as Show,
    )
    from eager_kestrel.core.units import Bitrate as Bitrate
    from eager_kestrel.core.watching.review import Review as Review
    from eager_kestrel.files.guides import load_guide as load_guide
    from eager_kestrel.files.home import look_for_guides_in as look_for_guides_in
    from eager_kestrel.files.plans import read_plan as read_plan, read_settings as read_settings
    from eager_kestrel.files.schemas import (
        document_kinds as document_kinds,
        document_schema as document_schema,
    )
    from eager_kestrel.files.shows import load_show as load_show
    from eager_kestrel.report.page import write_report as write_report


@cache
def _public() -> dict[str, tuple[str, str]]:
    """By name, the module and what it is called there: the list above, read by the program too."""
    import ast

    guard = next(s for s in ast.parse(Path(__file__).read_bytes()).body if isinstance(s, ast.If))
    return {
        alias.asname or alias.name: (line.module or "", alias.name)
        for line in guard.body
        if isinstance(line, ast.ImportFrom)
        for alias in line.names
    }


def __dir__() -> list[str]:
    """Every public name."""
    return sorted(_public())


def __getattr__(name: str) -> Any:
    """A public name, from its module."""
    if name.startswith("_") or name not in _public():
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    module, inner = _public()[name]
    return getattr(importlib.import_module(module), inner)
