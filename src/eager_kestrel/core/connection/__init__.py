"""What a connection carries is decided here."""

from __future__ import annotations
