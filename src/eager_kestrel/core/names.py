"""Names that were nearly right: what somebody probably meant."""

from __future__ import annotations


def nearest_name(written: str, known: list[str], none: str) -> str:
    """An imperative that offers the nearest known name, or all of them, or says there are none."""
    if not known:
        return none
    import difflib

    close = difflib.get_close_matches(written.lower(), known, n=1, cutoff=0.6)
    return f'write "{close[0]}"' if close else f"choose from {', '.join(sorted(known))}"
