"""A finding: one rule, how it stands, and what to do.

A *breach* is what the platform refuses or the upload cannot hold. A *caution* works but is unwise.
*Fine* says that a rule was checked and holds.
"""

from __future__ import annotations

from typing import Literal

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
