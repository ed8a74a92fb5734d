"""What a peer that breaks a protocol raises; rooms above turn it into an error for people."""

from __future__ import annotations


class ProtocolError(Exception):
    """Bytes that the protocol does not allow, or more of them than is sane."""
