"""Quantities as people write them in TOML, read into numbers with the unit in the field's name.

Each type takes the written string (``"6000 kbit/s"``, ``"2 s"``, ``"1920x1080"``) or, from JSON,
the value itself, so that a model reads both and holds one thing. In a file somebody wrote
(validation context ``WRITTEN``) a bare number is refused.
"""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from typing import Annotated, TypeVar

from pydantic import BeforeValidator, PlainSerializer, ValidationInfo, WithJsonSchema

from eager_kestrel.core import units
from eager_kestrel.core.errors import UnitError
from eager_kestrel.core.resolution import AspectRatio, Resolution, frame_rate_text, parse_frame_rate

T = TypeVar("T")


WRITTEN = {"written": True}


def _reader(
    parse: Callable[[str], T], bare: str | None = None
) -> Callable[[object, ValidationInfo], object]:
    """A validator that reads strings and passes values.

    Args:
        bare: what to write instead of a bare number in a written file; None if one is fine.
    """

    def read(value: object, info: ValidationInfo) -> object:
        if isinstance(value, str):
            try:
                return parse(value)
            except UnitError as error:
                raise ValueError(f"{error.what}; {error.instead}") from None
        if bare is not None and isinstance(value, int | float) and info.context == WRITTEN:
            raise ValueError(f"{value} has no unit; {bare.format(value)}")
        return value

    return read


SampleRate = Annotated[int, BeforeValidator(_reader(units.parse_sample_rate))]
"""Samples a second; ``"48 kHz"`` as people write it, 48000 in a document."""


def _frame_rate(value: object) -> object:
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        return value
    try:
        return parse_frame_rate(str(value))
    except UnitError as error:
        raise ValueError(f"{error.what}; {error.instead}") from None


def _frame_rate_written(rate: Fraction) -> str:
    """As people say it where that reads back to the same rate, else as a fraction."""
    said = frame_rate_text(rate)
    return said if parse_frame_rate(said) == rate else str(rate)


def _written_as(what: str, *examples: str) -> WithJsonSchema:
    return WithJsonSchema({"type": "string", "description": what, "examples": list(examples)})


Rate = Annotated[
    units.Bitrate,
    _written_as("a bitrate with its unit", "6000 kbit/s", "1.5 Mbit/s"),
    BeforeValidator(_reader(units.Bitrate.parse, "write {0} kbit/s or {0} Mbit/s")),
    PlainSerializer(lambda rate: f"{rate.kbps:.15g} kbit/s", return_type=str),
]
Size = Annotated[
    units.DataSize,
    _written_as("an amount of data with its unit", "300 GB"),
    BeforeValidator(_reader(units.DataSize.parse, "write {0} GB")),
    PlainSerializer(lambda size: f"{size.bytes} B", return_type=str),
]
Seconds = Annotated[
    float,
    _written_as("a length of time with its unit", "2 s"),
    BeforeValidator(_reader(units.parse_seconds, "write {0} s")),
    PlainSerializer(lambda seconds: f"{seconds:.15g} s", return_type=str),
]
HoursAMonth = Annotated[
    float,
    WithJsonSchema({"type": ["number", "string"], "examples": [12, "3 h a week"]}),
    BeforeValidator(_reader(units.parse_hours_a_month)),
]
Share = Annotated[
    float,
    _written_as("a share with a per cent sign", "70 %"),
    BeforeValidator(_reader(units.parse_share, "write it with a per cent sign")),
    PlainSerializer(lambda share: f"{share * 100:.12g} %", return_type=str),
]
StutterLimit = Annotated[
    float,
    _written_as("stutter an hour", "20 s/h", "7 s/h"),
    BeforeValidator(_reader(units.parse_stutter, 'write "20 s/h"')),
    PlainSerializer(lambda seconds: f"{seconds:.12g} s/h", return_type=str),
]
Pixels = Annotated[
    float,
    _written_as("a height in pixels", "20 px"),
    BeforeValidator(_reader(units.parse_pixels, 'write "20 px"')),
    PlainSerializer(lambda pixels: f"{pixels:.12g} px", return_type=str),
]
ResolutionSize = Annotated[
    Resolution,
    _written_as("width x height", "1920x1080"),
    BeforeValidator(_reader(Resolution.parse, "write both sides, such as 1920x1080")),
    PlainSerializer(str, return_type=str),
]
ResolutionShape = Annotated[
    AspectRatio,
    _written_as("an aspect ratio", "16:9"),
    BeforeValidator(_reader(AspectRatio.parse, "write it as 16:9")),
    PlainSerializer(str, return_type=str),
]
FrameRate = Annotated[
    Fraction,
    _written_as("frames a second", "60", "29.97"),
    BeforeValidator(_frame_rate),
    PlainSerializer(_frame_rate_written, return_type=str),
]
