"""Read TOML files into models, with errors that name file, line and key."""

from __future__ import annotations

import re
import tomllib
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from eager_kestrel.core.document import PLAIN, require_format
from eager_kestrel.core.errors import FormatError, nearest_name, printable_in
from eager_kestrel.core.quantities import WRITTEN

Model = TypeVar("Model", bound=BaseModel)

MOST_BYTES = 64_000
"""Twenty times any real one; the parser takes quadratic time on hostile keys."""
_KEY_FIRST = re.compile(r"((?:tiers|video|segments)\.[\w.-]+): |row (\d+) of the table: ")
_DEEP_KEY = re.compile(r"[\s\[]*(?:[\w\"'-]+\s*\.\s*){12}")
"""No key of ours has so many parts, and the parser takes ever longer over more."""
_LINE = re.compile(r"\(at (?:line (\d+), column \d+|end of document)\)$")


def read_model(raw: bytes, model: type[Model], kind: str, where: str) -> Model:
    """Read TOML into a model.

    Args:
        raw: the file's bytes.
        kind: as in its ``format`` line.

    Raises:
        FormatError: it is not TOML, not of this kind, or a value is wrong; names the line.
    """
    text = _text(raw, kind, where)
    document = _document(text, kind, where)
    require_format(document.get("format"), kind, where)
    try:
        return model.model_validate(document, context=WRITTEN)
    except ValidationError as error:
        raise _field_error(error, model, text, where) from None


def faults_of(raw: bytes, model: type[Model], kind: str, where: str) -> list[FormatError]:
    """Everything that is wrong with a file, in the order of its lines; see :func:`read_model`."""
    try:
        text = _text(raw, kind, where)
        document = _document(text, kind, where)
        require_format(document.get("format"), kind, where)
        model.model_validate(document, context=WRITTEN)
    except FormatError as error:
        return [error]
    except ValidationError as error:
        found = [_one_fault(dict(fault), model, text, where) for fault in error.errors()]
        unlike = {fault.line(): fault for fault in found}
        return sorted(unlike.values(), key=_place)
    return []


def _place(fault: FormatError) -> int:
    """Its line; those of no line come first."""
    _, _, line = fault.where.rpartition(":")
    return int(line) if line.isdigit() else 0


def _text(raw: bytes, kind: str, where: str) -> str:
    if len(raw) > MOST_BYTES:
        raise FormatError(f"{len(raw):,} bytes is too much for a {kind}", "check the file", where)
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = raw[: error.start].count(b"\n") + 1
        raise FormatError("not UTF-8 text", "save it as UTF-8", f"{where}:{line}") from None


def _document(text: str, kind: str, where: str) -> dict[str, Any]:
    for number, line in enumerate(text.splitlines(), 1):
        if _DEEP_KEY.match(line):
            raise FormatError("nested too deeply", f"write a plain {kind}", f"{where}:{number}")
    try:
        return dict(printable_in(tomllib.loads(text)))
    except ValueError as error:  # not TOML, or a number of thousands of digits
        match = _LINE.search(str(error))
        line = match[1] if match and match[1] else str(text.count("\n") + 1)
        what = _LINE.sub("", str(error)).strip().rstrip(":")
        raise FormatError(f"not TOML: {what}", "correct it", f"{where}:{line}") from None
    except RecursionError:
        raise FormatError("nested too deeply", f"write a plain {kind}", where) from None


def _field_error(
    error: ValidationError, model: type[BaseModel], text: str, where: str
) -> FormatError:
    first = min(error.errors(), key=lambda found: found["type"] != "extra_forbidden")
    return _one_fault(dict(first), model, text, where)


def _one_fault(first: dict[str, Any], model: type[BaseModel], text: str, where: str) -> FormatError:
    what = str(first["msg"]).removeprefix("Value error, ")
    path = [str(part) for part in first["loc"]]
    named = _KEY_FIRST.match(what)
    if named and not path:  # a rule over several keys names the one it is about
        path = (named[1] or f"bitrates.{int(named[2] or 0) - 1}").split(".")
        what = what[named.end() :]
    key = ".".join(path)
    line = _line_of(text, path)
    at = f"{where}:{line}" if line else where
    if first["type"] == "extra_forbidden":
        known = _keys_at(model, list(first["loc"][:-1]))
        return FormatError(
            f'no key "{key}" is known', nearest_name(path[-1], known, "remove it"), at
        )
    if first["type"] == "missing":
        return FormatError(f'the key "{key}" is missing', "add it", at)
    what = PLAIN.get(str(first["type"]), what)
    return FormatError(f"{key}: {what}" if key else what, "", at)


def _keys_at(model: type[BaseModel], path: list[int | str]) -> list[str]:
    """The keys a model knows at a path, as far as it can be followed."""
    for part in path:
        if isinstance(part, int):
            continue
        field = model.model_fields.get(part)
        inner = _model_in(field.annotation) if field else None
        if inner is not None:
            model = inner
    return list(model.model_fields)


def _model_in(annotation: object) -> type[BaseModel] | None:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    for part in getattr(annotation, "__args__", ()):
        found = _model_in(part)
        if found is not None:
            return found
    return None


def _line_of(text: str, path: list[str]) -> int | None:
    """The line that sets a key, by its table header and name; None when it cannot be told."""
    keys = [part for part in path if not part.isdigit()]
    index = next((int(part) for part in path if part.isdigit()), 0)
    best: int | None = None
    table: list[str] = []
    seen: dict[str, int] = {}
    for number, line in enumerate(text.splitlines(), 1):
        stripped = line.strip()
        header = re.match(r"(\[\[?)\s*([^\]]+?)\s*\]", stripped)
        if header:
            table = [part.strip().strip("\"'") for part in header[2].split(".")]
            name = ".".join(table)
            seen[name] = seen.get(name, -1) + 1
            right_one = header[1] == "[" or seen[name] == index
            if keys[: len(table)] == table and right_one:
                best = number
            elif not right_one:
                table = ["\0"]
            continue
        name_match = re.match(r"([\w.\-\"']+)\s*=", stripped)
        if name_match:
            named = [*table, *(part.strip("\"'") for part in name_match[1].split("."))]
            if named == keys[: len(named)]:
                return number
    return best
