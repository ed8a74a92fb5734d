"""The errors a user can meet, one tree; Ctrl-C; texts made printable; names nearly right."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

_CODES = re.compile("[\x00-\x1f\x7f-\x9f\u2028\u2029]")
_UNSEEN = re.compile(
    "[\u00ad\u061c\u200b\u200e\u200f\u202a-\u202e\u2060-\u2064\u2066-\u206f\ufeff]"
)
_IN_JSON = re.compile(
    rb"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]|\xc2[\x80-\x9f\xad]|\xd8\x9c|\xe2\x80[\x8b\x8e\x8f\xa8-\xae]"
    rb"|\xe2\x81[\xa0-\xaf]|\xef\xbb\xbf|\\[bfnrt]|\\u(?:00|061|20[0-6]|[fF][eE])"
)

_CONTROLS = bytes([*range(0x09), 0x0B, 0x0C, *range(0x0E, 0x20), 0x7F])
"""Those of the ASCII that JSON cannot have between its values either."""


def printable(text: str, *, lines: bool = False) -> str:
    """A text without control codes, a space for each, and without what cannot be seen.

    Args:
        lines: leave line breaks and tabs as they are.
    """
    seen = _UNSEEN.sub("", text)
    if not lines:
        return _CODES.sub(" ", seen)
    return _CODES.sub(lambda found: found[0] if found[0] in "\n\r\t" else " ", seen)


def printable_in(document: Any) -> Any:
    """A document, its keys and texts made printable."""
    if isinstance(document, str):
        return printable(document)
    if isinstance(document, list):
        return [printable_in(one) for one in document]
    if isinstance(document, dict):
        return {printable(str(key)): printable_in(one) for key, one in document.items()}
    return document


def may_hide(raw: bytes) -> bool:
    """Whether the bytes of a JSON document may hold what is not printable: a quick look."""
    plain = raw.isascii() and b"\\" not in raw and len(raw.translate(None, _CONTROLS)) == len(raw)
    return not plain and _IN_JSON.search(raw) is not None


@dataclass(slots=True)
class Interruption:
    """Whether Ctrl-C came."""

    stopped: bool = False


@contextmanager
def interruptible() -> Iterator[Interruption]:
    """A block that Ctrl-C ends early; what was learned until then counts.

    Where nothing was, and anywhere else, Ctrl-C ends the program (``cli/main.py``).
    """
    interruption = Interruption()
    try:
        yield interruption
    except KeyboardInterrupt:
        interruption.stopped = True


class KestrelError(Exception):
    """Something a user can act on."""

    def __init__(self, what: str, instead: str = "", where: str = "") -> None:
        self.what = what
        self.instead = instead
        self.where = where
        super().__init__(self.line())

    def line(self) -> str:
        """Everything in one line: where, what, what to do instead."""
        start = f"{self.where}: " if self.where else ""
        end = f"; {self.instead}" if self.instead else ""
        return " ".join(printable(f"{start}{self.what}{end}").split())


class InputError(KestrelError):
    """What was written cannot be used as it is."""


class UnitError(InputError):
    """A quantity without a unit, with an ambiguous one, or out of range."""


class FormatError(InputError):
    """A file is not of the kind or version it should be, or not well formed."""


class NotFoundError(InputError):
    """A name (guide, tier, practice connection, run) that is not known here."""


class StorageError(KestrelError):
    """The disk would not take or give something: full, read-only, locked, damaged."""


class MissingError(StorageError):
    """A file that was named is not there, or is no file."""


class NetworkError(KestrelError):
    """The network or an endpoint failed."""


class EndpointError(NetworkError):
    """The endpoint was reached and refused, broke off, or answered what it should not."""


class OutputError(KestrelError):
    """Standard output does not take what is printed."""


class NoPlanError(KestrelError):
    """No settings satisfy the guide within the budget; names the rule that cannot be met."""


class StoppedError(KestrelError):
    """The user stopped it before anything was learned."""


def nearest_name(written: str, known: list[str], none: str) -> str:
    """An imperative that offers the nearest known name, or all of them, or says there are none."""
    if not known:
        return none
    import difflib

    plain = written.lower()
    alike = [name for name in known if name[:1].lower() == plain[:1]]
    near = difflib.get_close_matches
    close = near(plain, known, 1, cutoff=0.75) or near(plain, alike, 1, cutoff=0.6)
    return f'write "{close[0]}"' if close else f"choose from {', '.join(sorted(known))}"


class ProtocolError(Exception):
    """Bytes that the protocol does not allow, or more of them than is sane."""
