"""The opening of an RTMP connection, as bytes.

The published RTMP 1.0 specification, section 5.2: the client sends C0 (one byte, the version) and
C1 (time, zero, 1,528 random bytes); the server answers S0, S1 in the same form and S2, an echo of
C1. Pure: no socket, no clock, no randomness of its own.
"""

from __future__ import annotations

VERSION = 3
RANDOM_BYTES = 1528
OPENING_BYTES = 1 + 8 + RANDOM_BYTES
"""C0 and C1 together."""


def opening(milliseconds: int, random: bytes) -> bytes:
    """C0 and C1.

    Args:
        milliseconds: the sender's epoch, modulo 2**32.
        random: exactly 1,528 bytes.

    Raises:
        ValueError: ``random`` has another length.
    """
    if len(random) != RANDOM_BYTES:
        raise ValueError(f"{RANDOM_BYTES} random bytes are needed, not {len(random)}")
    return bytes([VERSION]) + (milliseconds % 2**32).to_bytes(4, "big") + bytes(4) + random


def opening_answer(client_opening: bytes) -> bytes:
    """S0, S1 and S2 for a client's C0 and C1; S1 carries the client's own random bytes back."""
    hello = client_opening[1:OPENING_BYTES]
    return bytes([VERSION]) + bytes(8) + hello[8:] + hello


def is_opening_answer(first_byte: bytes) -> bool:
    """Whether an answer begins as S0 does."""
    return first_byte == bytes([VERSION])
