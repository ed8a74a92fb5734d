"""One rule as judged: what was found, what is wanted, what to do."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from eager_kestrel.core.checks.findings import Severity


class RuleResult(NamedTuple):
    """A rule and how it stands."""

    rule: str
    severity: Severity
    found: object
    wanted: object
    do: str = ""


Rules = Iterator[RuleResult]


def one_of(rule: str, found: object, taken: Iterable[object], do: str) -> RuleResult:
    """One of the values that are taken."""
    known = [str(t) for t in taken]
    severity: Severity = "fine" if str(found) in known else "breach"
    return RuleResult(rule, severity, found, " or ".join(known), do)


def advised(rule: str, found: object, wish: object, taken: Iterable[object], do: str) -> Rules:
    """A wish of the guide's; nothing where it has none or what is set is not taken anyway."""
    if wish is not None and str(found) in [str(t) for t in taken]:
        severity: Severity = "fine" if str(found) == str(wish) else "caution"
        yield RuleResult(rule, severity, found, wish, do.format(wish))
