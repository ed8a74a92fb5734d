"""Signs that a terminal's encoding may lack, and what stands in their place."""

from __future__ import annotations

import codecs
import sys

PLAIN = {
    "→": "->", "↑": "^", "↓": "v", "█": "#", "░": ".", "·": ".", "✓": "ok", "─": "-", "│": "|",
    "╭": "+", "╮": "+", "╰": "+", "╯": "+", "…": "...", "−": "-", "–": "-", "’": "'", "×": "x",
    "≤": "<=", "≥": ">=", "±": "+-", "▁": "_", "▂": "_", "▃": "-", "▄": "-", "▅": "=", "▆": "=",
    "▇": "#",
}  # fmt: skip
HANDLER = "eager_kestrel.plain"


def _ascii_sign(error: UnicodeError) -> tuple[str | bytes, int]:
    """What is written for signs an encoding lacks."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    lacking = error.object[error.start : error.end]
    return "".join(PLAIN.get(sign, "?") for sign in lacking), error.end


def fall_back() -> None:
    """Let standard output and error write plain signs where they must, rather than fail."""
    codecs.register_error(HANDLER, _ascii_sign)
    for stream in (sys.stdout, sys.stderr):
        reconfigure = getattr(stream, "reconfigure", None)
        encoding = (getattr(stream, "encoding", None) or "utf-8").lower()
        if reconfigure is not None and not encoding.startswith("utf"):
            reconfigure(errors=HANDLER)
