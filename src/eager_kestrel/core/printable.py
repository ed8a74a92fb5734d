"""Make text from files and from the network fit to be shown: no control codes, nothing unseen.

A terminal obeys escape codes, and turns text around at bidirectional controls (Unicode Standard
Annex 9); a space of no width hides one word in another. Whatever comes from outside passes here as
it comes in.
"""

from __future__ import annotations

import re
from typing import Any

_CODES = re.compile("[\x00-\x1f\x7f-\x9f\u2028\u2029]")
_UNSEEN = re.compile(
    "[\u00ad\u061c\u200b\u200e\u200f\u202a-\u202e\u2060-\u2064\u2066-\u206f\ufeff]"
)
_IN_JSON = re.compile(
    rb"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]|\xc2[\x80-\x9f\xad]|\xd8\x9c|\xe2\x80[\x8b\x8e\x8f\xa8-\xae]"
    rb"|\xe2\x81[\xa0-\xaf]|\xef\xbb\xbf|\\[bfnrt]|\\u(?:00|061|20[0-6]|[fF][eE])"
)


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
    return _IN_JSON.search(raw) is not None
