"""The Python API: what a script would call, one function a thing a user does. Prints nothing.

Each is imported when it is first asked for, so that a script pays only for what it uses.
docs/python.md has examples.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from eager_kestrel.actions.broadcasts import review
    from eager_kestrel.actions.checking import check, check_recording, settings_from
    from eager_kestrel.actions.export import write_plan
    from eager_kestrel.actions.forecasting import forecast
    from eager_kestrel.actions.guides import listed as list_guides
    from eager_kestrel.actions.ingests import nearest
    from eager_kestrel.actions.measuring import measure
    from eager_kestrel.actions.planning import plan, uplink_from_history, uplink_from_number
    from eager_kestrel.actions.receiving import reception as receive
    from eager_kestrel.actions.rehearsing import destination_of, rehearse_at, rehearse_in_practice
    from eager_kestrel.actions.relay import watch_through
    from eager_kestrel.actions.schedule import measure_repeatedly
    from eager_kestrel.actions.watching import watch
    from eager_kestrel.actions.what_if import need, sweep
    from eager_kestrel.files.guides import load_guide
    from eager_kestrel.files.home import look_for_guides_in
    from eager_kestrel.files.plans import read_plan, read_settings
    from eager_kestrel.files.schemas import kinds as document_kinds
    from eager_kestrel.files.schemas import schema_text as document_schema
    from eager_kestrel.files.shows import load_show

_WHERE = {
    "check": "actions.checking",
    "check_recording": "actions.checking",
    "destination_of": "actions.rehearsing",
    "document_kinds": "files.schemas:kinds",
    "document_schema": "files.schemas:schema_text",
    "forecast": "actions.forecasting",
    "list_guides": "actions.guides:listed",
    "load_guide": "files.guides",
    "load_show": "files.shows",
    "look_for_guides_in": "files.home",
    "measure": "actions.measuring",
    "measure_repeatedly": "actions.schedule",
    "nearest": "actions.ingests",
    "need": "actions.what_if",
    "plan": "actions.planning",
    "read_plan": "files.plans",
    "read_settings": "files.plans",
    "receive": "actions.receiving:reception",
    "rehearse_at": "actions.rehearsing",
    "rehearse_in_practice": "actions.rehearsing",
    "review": "actions.broadcasts",
    "settings_from": "actions.checking",
    "sweep": "actions.what_if",
    "uplink_from_history": "actions.planning",
    "uplink_from_number": "actions.planning",
    "watch": "actions.watching",
    "watch_through": "actions.relay",
    "write_plan": "actions.export",
}
"""By name, the module, and what it is called there where that differs."""

__all__ = [
    "check",
    "check_recording",
    "destination_of",
    "document_kinds",
    "document_schema",
    "forecast",
    "list_guides",
    "load_guide",
    "load_show",
    "look_for_guides_in",
    "measure",
    "measure_repeatedly",
    "nearest",
    "need",
    "plan",
    "read_plan",
    "read_settings",
    "receive",
    "rehearse_at",
    "rehearse_in_practice",
    "review",
    "settings_from",
    "sweep",
    "uplink_from_history",
    "uplink_from_number",
    "watch",
    "watch_through",
    "write_plan",
]


def __getattr__(name: str) -> Any:
    """The function of that name, from its module."""
    if name not in _WHERE:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    module, _, inner = _WHERE[name].partition(":")
    return getattr(importlib.import_module(f"eager_kestrel.{module}"), inner or name)
