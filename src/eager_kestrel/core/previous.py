"""Documents of format 1, read once more and converted to format 2.

Runs, broadcasts and guides of format 1 may hold months of work, so they are converted when they are
read. Every other document of format 1 is refused, because it can be made again.
"""

from __future__ import annotations

import json
import re
from typing import Any

RENAMED_KEYS = {
    "picture": "resolution",
    "pictures": "resolutions",
    "standing": "tier",
    "standings": "tiers",
    "advised": "recommended",
    "airings": "broadcasts",
    "worst_wait_seconds": "worst_queue_seconds",
    "waiting_ms": "queued_ms",
}
FREE_KEYS = frozenset({"standings"})
"""Tables whose keys a person chose."""
OLD_FORMAT = re.compile(r"eager-kestrel/(run|runs|airing|guide)/1")


def is_previous(format_line: object) -> bool:
    """Whether a ``format`` names a document of format 1 that is still read."""
    return OLD_FORMAT.fullmatch(str(format_line)) is not None


def converted(document: Any, *, free: bool = False) -> Any:
    """Return a document of format 1 as format 2 has it; anything else comes back unchanged."""
    if isinstance(document, list):
        return [converted(item) for item in document]
    if not isinstance(document, dict):
        return document
    new = {
        key if free else RENAMED_KEYS.get(key, key): converted(value, free=key in FREE_KEYS)
        for key, value in document.items()
    }
    if is_previous(new.get("format")):
        new["format"] = str(new["format"]).replace("/airing/", "/broadcast/")[:-1] + "2"
    if new.get("cause") == "line":
        new["cause"] = "upload"
    if set(new) == {"url", "place"}:
        new["name"] = new.pop("place")
    return new


def converted_text(text: str) -> str:
    """The same for JSON text; text of format 2 comes back as it is."""
    if not OLD_FORMAT.search(text[:200]):
        return text
    return json.dumps(converted(json.loads(text)), ensure_ascii=False, separators=(",", ":"))
