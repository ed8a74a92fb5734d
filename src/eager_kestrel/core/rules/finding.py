"""A finding: one rule, how it stands, and what to do.

A *breach* is what the platform refuses or the upload cannot hold. A *caution* works but is unwise.
*Fine* says that a rule was checked and holds.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Literal, NamedTuple

from eager_kestrel.core.document import Frozen

Severity = Literal["breach", "caution", "fine"]


class Finding(Frozen):
    """One rule and how it stands."""

    platform: str
    """The guide it is of, or ``upload``."""
    tier: str | None = None
    """Of the account the guide was read for."""
    rule: str
    """The guide's key, or the name of a general rule."""
    severity: Severity
    found: str
    wanted: str
    do: str = ""
    """What to do; empty when fine."""

    @property
    def label(self) -> str:
        """``oxbow`` or ``oxbow:hearth``: which guide, and for whom."""
        return f"{self.platform}:{self.tier}" if self.tier else self.platform


class RuleResult(NamedTuple):
    """A rule and how it stands."""

    rule: str
    severity: Severity
    found: object
    wanted: object


Rules = Iterator[RuleResult]


def one_of(rule: str, found: object, taken: Iterable[object]) -> RuleResult:
    """One of the values that are taken."""
    known = [str(t) for t in taken]
    severity: Severity = "fine" if str(found) in known else "breach"
    return RuleResult(rule, severity, found, " or ".join(known))


def recommended(rule: str, found: object, wish: object, taken: Iterable[object] = ()) -> Rules:
    """A wish of the guide's; nothing where it has none, or either of both is not taken anyway.

    Args:
        taken: values that do not break a rule; all where none are given.
    """
    known = [str(t) for t in taken]
    if wish is not None and (not known or {str(found), str(wish)} <= {*known}):
        yield RuleResult(rule, "fine" if str(found) == str(wish) else "caution", found, wish)
