"""AMF 0 values as bytes, for RTMP commands and FLV metadata.

The published Action Message Format specification, AMF 0, sections 2.2 to 2.14. Only what commands
use: numbers, booleans, strings, objects, ECMA and strict arrays, dates, null and undefined. Every
length, count and depth read is bounded.
"""

from __future__ import annotations

import struct
from typing import TypeAlias

from eager_kestrel.core.errors import ProtocolError

Value: TypeAlias = "float | bool | str | dict[str, Value] | list[Value] | None"

NUMBER, BOOLEAN, STRING, OBJECT, NULL, UNDEFINED = 0, 1, 2, 3, 5, 6
ECMA_ARRAY, OBJECT_END, STRICT_ARRAY, DATE, LONG_STRING = 8, 9, 10, 11, 12
MOST_ITEMS = 512
MOST_DEPTH = 8
MOST_STRING = 65_536


def encode(*values: Value) -> bytes:
    """Values one after another.

    Raises:
        ValueError: a string is longer than the format holds.
    """
    return b"".join(_encode(value) for value in values)


def _encode(value: Value) -> bytes:
    if value is None:
        return bytes([NULL])
    if isinstance(value, bool):
        return bytes([BOOLEAN, value])
    if isinstance(value, int | float):
        return struct.pack(">Bd", NUMBER, value)
    if isinstance(value, str):
        raw = value.encode()
        if len(raw) > 0xFFFF:
            return struct.pack(">BI", LONG_STRING, len(raw)) + raw
        return struct.pack(">BH", STRING, len(raw)) + raw
    if isinstance(value, list):
        return struct.pack(">BI", STRICT_ARRAY, len(value)) + b"".join(map(_encode, value))
    inner = b"".join(_name(key) + _encode(item) for key, item in value.items())
    return bytes([OBJECT]) + inner + bytes([0, 0, OBJECT_END])


def _name(key: str) -> bytes:
    raw = key.encode()
    if len(raw) > 0xFFFF:
        raise ValueError("a name is longer than AMF 0 holds")
    return struct.pack(">H", len(raw)) + raw


def decode(data: bytes) -> list[Value]:
    """All values of a message.

    Raises:
        ProtocolError: it is cut off, too deep, too long, or of a kind commands do not use.
    """
    reader, found = _Reader(data), []
    while reader.at < len(data):
        found.append(reader.value(0))
        if len(found) > MOST_ITEMS:
            raise ProtocolError("a command has too many values")
    return found


class _Reader:
    def __init__(self, data: bytes) -> None:
        self._data = data
        self.at = 0

    def _take(self, count: int) -> bytes:
        part = self._data[self.at : self.at + count]
        if len(part) < count:
            raise ProtocolError("a value is cut off")
        self.at += count
        return part

    def _text(self, length: int) -> str:
        if length > MOST_STRING:
            raise ProtocolError("a string is too long")
        return self._take(length).decode("utf-8", "replace")

    def value(self, depth: int) -> Value:
        if depth > MOST_DEPTH:
            raise ProtocolError("values are nested too deeply")
        kind = self._take(1)[0]
        if kind in (NULL, UNDEFINED):
            return None
        if kind == NUMBER:
            return float(struct.unpack(">d", self._take(8))[0])
        if kind == BOOLEAN:
            return self._take(1) != b"\x00"
        if kind == STRING:
            return self._text(int.from_bytes(self._take(2), "big"))
        if kind == LONG_STRING:
            return self._text(int.from_bytes(self._take(4), "big"))
        if kind == DATE:
            return float(struct.unpack(">dh", self._take(10))[0])
        return self._many(kind, depth)

    def _many(self, kind: int, depth: int) -> Value:
        if kind == STRICT_ARRAY:
            count = int.from_bytes(self._take(4), "big")
            if count > MOST_ITEMS:
                raise ProtocolError("an array is too long")
            return [self.value(depth + 1) for _ in range(count)]
        if kind == ECMA_ARRAY:
            self._take(4)  # its count is a hint; the end marker counts
        elif kind != OBJECT:
            raise ProtocolError(f"value kind {kind} is not used by commands")
        found: dict[str, Value] = {}
        while True:
            key = self._text(int.from_bytes(self._take(2), "big"))
            if not key and self._data[self.at : self.at + 1] == bytes([OBJECT_END]):
                self.at += 1
                return found
            if len(found) >= MOST_ITEMS:
                raise ProtocolError("an object has too many names")
            found[key] = self.value(depth + 1)
