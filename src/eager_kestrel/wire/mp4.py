"""The index of an MP4 file, checked before a media library reads it.

ISO/IEC 14496-12: boxes (4.2), sample tables (8.6, 8.7). A table that claims more entries than its
box holds, or more samples than the file has bytes, makes readers fill memory with nothing.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

MOST_INDEX_BYTES = 64_000_000
INSIDE = (b"moov", b"trak", b"mdia", b"minf", b"stbl")
ENTRY_BYTES = {b"stts": 8, b"ctts": 8, b"stsc": 12, b"stco": 4, b"co64": 8, b"stss": 4}
MOST_SAMPLES = 20_000_000
"""A day at 200 frames a second."""


def plausible(path: Path) -> bool:
    """Whether no table of the index claims more than there can be."""
    size = path.stat().st_size
    movie = index(path)
    return movie is None or _holds(movie, size)


def index(path: Path) -> bytes | None:
    """The movie box's content; None where there is none to be found."""
    size = path.stat().st_size
    with path.open("rb") as file:
        while len(head := file.read(16)) >= 8:
            length, begin = int.from_bytes(head[:4], "big"), 8
            if length == 1 and len(head) == 16:
                length, begin = int.from_bytes(head[8:], "big"), 16
            if head[4:8] == b"moov":
                file.seek(begin - len(head), 1)
                return file.read(min(max(length - begin, 0) or MOST_INDEX_BYTES, MOST_INDEX_BYTES))
            if length < begin or length > size:
                return None
            file.seek(length - len(head), 1)
    return None


def _boxes(data: bytes) -> Iterator[tuple[bytes, bytes]]:
    at = 0
    while at + 8 <= len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        if length < 8:
            return
        yield data[at + 4 : at + 8], data[at + 8 : at + length]
        at += length


def _holds(data: bytes, file_bytes: int) -> bool:
    return all(
        _holds(body, file_bytes) if kind in INSIDE else _table_holds(kind, body, file_bytes)
        for kind, body in _boxes(data)
    )


def _table_holds(kind: bytes, body: bytes, file_bytes: int) -> bool:
    if kind == b"stsz":
        each, count = (int.from_bytes(body[at : at + 4], "big") for at in (4, 8))
        return count <= min(file_bytes, MOST_SAMPLES) and (each > 0 or 4 * count <= len(body) - 12)
    if kind not in ENTRY_BYTES:
        return True
    count = int.from_bytes(body[4:8], "big")
    if count * ENTRY_BYTES[kind] > max(0, len(body) - 8):
        return False
    if kind not in (b"stts", b"ctts"):
        return True
    samples = sum(int.from_bytes(body[at : at + 4], "big") for at in range(8, 8 + 8 * count, 8))
    return samples <= min(file_bytes, MOST_SAMPLES)
