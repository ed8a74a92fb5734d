"""What every document shares: frozen, strict about unknown keys, named by its ``format``."""

from __future__ import annotations

import re
from datetime import datetime
from fractions import Fraction
from typing import Annotated, Any, ClassVar

from pydantic import (
    AfterValidator,
    BaseModel,
    ConfigDict,
    GetJsonSchemaHandler,
    SerializerFunctionWrapHandler,
    ValidationError,
    model_serializer,
    model_validator,
)
from pydantic_core import CoreSchema

from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.resolution import Resolution, frame_rate_text


def _moment(text: str) -> str:
    datetime.fromisoformat(text)
    return text


Moment = Annotated[str, AfterValidator(_moment)]
"""A moment as ISO 8601 has it, with the offset of the place."""


class Frozen(BaseModel):
    """An immutable value; an unknown key is an error, not a surprise later."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)


class Kept(Frozen):
    """An immutable value that is kept for years: a key of a later version is left alone.

    What is stored is the text of the document, so that such a key is not lost either.
    """

    model_config = ConfigDict(extra="ignore")


class Spread(Frozen):
    """A value that holds resolutions and frame rates, spelled out in its document.

    Other programs want ``width``, ``height`` and ``fps``, not ``"1920x1080"``. For a field,
    ``SPREAD`` gives the keys that replace it: two for a resolution; for a frame rate the number
    people say and, if there is a second key, the exact fraction. A number alone is read back as the
    frame rate it stands for: 29.97 is 30000/1001.
    """

    SPREAD: ClassVar[dict[str, tuple[str, ...]]] = {}

    @model_serializer(mode="wrap")
    def _spelled_out(self, plain: SerializerFunctionWrapHandler) -> dict[str, Any]:
        out: dict[str, Any] = {}
        for key, value in plain(self).items():
            if key in self.SPREAD:
                out.update(zip(self.SPREAD[key], _parts(getattr(self, key)), strict=False))
            else:
                out[key] = value
        return out

    @model_validator(mode="before")
    @classmethod
    def _gathered(cls, data: Any) -> Any:
        if not isinstance(data, dict):
            return data
        found = dict(data)
        for key, parts in cls.SPREAD.items():
            said = [found.pop(part) for part in parts if part in found]
            if len(said) == len(parts) and said[0] is not None:
                resolution = not parts[0].endswith("fps")
                found[key] = dict(zip(SIDES, said, strict=True)) if resolution else said[-1]
            elif said and said[0] is not None:  # the value itself, under the last key
                found[key] = said[0]
        return found

    @classmethod
    def __get_pydantic_json_schema__(
        cls, core_schema: CoreSchema, handler: GetJsonSchemaHandler
    ) -> dict[str, Any]:
        """The schema of the document, not of the value."""
        schema = handler.resolve_ref_schema(handler(_model_schema(core_schema)))
        spread = {key: (key,) for key in schema.get("properties", {})} | cls.SPREAD
        schema["properties"] = {
            part: said
            for key, whole in schema.get("properties", {}).items()
            for part, said in (
                {key: whole} if key not in cls.SPREAD else _said(spread[key], whole)
            ).items()
        }
        schema["required"] = [part for key in schema.get("required", ()) for part in spread[key]]
        return schema


SIDES = ("width", "height")


def _parts(value: Resolution | Fraction | None) -> tuple[Any, ...]:
    """A resolution's sides; or a frame rate as people say it and exactly."""
    if value is None:
        return (None, None)
    if isinstance(value, Resolution):
        return value.width, value.height
    return float(frame_rate_text(value)), str(value)


def _model_schema(schema: Any) -> Any:
    """The model inside its validators, without the serializer that hides its fields."""
    while schema["type"] != "model":
        schema = schema["schema"]
    return {key: value for key, value in schema.items() if key != "serialization"}


def _said(parts: tuple[str, ...], whole: dict[str, Any]) -> dict[str, dict[str, Any]]:
    kinds = [("number", "Frames per second, as people say it."), ("string", "An exact fraction.")]
    if not parts[0].endswith("fps"):
        kinds = [("integer", "Luma samples.")] * 2
    null = ["null"] if any(one.get("type") == "null" for one in whole.get("anyOf", ())) else []
    return {
        part: {"type": [kind, *null], "description": what}
        for part, (kind, what) in zip(parts, kinds, strict=False)
    }


PLAIN = {
    "model_type": "a table of its own is meant",
    "dict_type": "a table of its own is meant",
    "list_type": "a list is meant, in square brackets",
    "tuple_type": "a list is meant, in square brackets",
    "string_type": "a text in quotes is meant",
    "float_parsing": "a number is meant",
    "float_type": "a number is meant",
    "int_parsing": "a whole number is meant",
    "int_type": "a whole number is meant",
    "int_from_float": "a whole number is meant",
    "bool_parsing": "true or false is meant",
    "bool_type": "true or false is meant",
    "date_from_datetime_parsing": "a date is meant, such as 2026-11-28",
    "greater_than": "it has to be more than {gt:g}",
    "greater_than_equal": "it has to be at least {ge:g}",
    "less_than": "it has to be less than {lt:g}",
    "less_than_equal": "it has to be at most {le:g}",
    "missing": "it has to be there",
    "extra_forbidden": "no such key is known",
}
"""In place of the library's words, by its name for the fault."""


def first_error(error: ValidationError) -> str:
    """What pydantic found first, as ``key: what`` in one line; unknown keys before all else."""
    first = min(error.errors(), key=lambda found: found["type"] != "extra_forbidden")
    key = ".".join(str(part) for part in first["loc"])
    what = str(first["msg"]).removeprefix("Value error, ")
    if first["type"] in PLAIN:
        what = PLAIN[first["type"]].format_map(first.get("ctx", {}))
    if first["type"] == "literal_error":
        what = f'"{first["input"]}" is not known; choose from {first["ctx"]["expected"]}'
    return f"{key}: {what}" if key else what


FORMAT = 3
"""The version of every document; raised when a key changes its name or meaning."""


def format_name(kind: str) -> str:
    """``eager-kestrel/<kind>/2``."""
    return f"eager-kestrel/{kind}/{FORMAT}"


def require_format(found: object, kind: str, where: str) -> None:
    """Refuse a document of another kind or major version.

    Raises:
        FormatError: says what it is instead and what to do.
    """
    wanted = format_name(kind)
    if found == wanted:
        return
    match = re.fullmatch(r"eager-kestrel/([a-z-]+)/([0-9]+)", str(found))
    if match is None:
        raise FormatError(f"no format line for a {kind}", f'write format = "{wanted}"', where)
    if match[1] != kind:
        raise FormatError(f"this is a {match[1]}, not a {kind}", f"give a {kind} file", where)
    if int(match[2]) > FORMAT:
        raise FormatError(
            f"{kind} format {match[2]} is newer than this program reads ({FORMAT})",
            "update the program",
            where,
        )
    raise FormatError(
        f"{kind} format {match[2]} is from an older version; this program reads {FORMAT}",
        f"make the {kind} again",
        where,
    )
