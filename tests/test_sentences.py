"""Every sentence, rendered with sample values: agreement, separators, and nothing left unfilled."""

from __future__ import annotations

import importlib
import inspect
import itertools
import pkgutil
import re
import string
import typing
from collections.abc import Iterator
from datetime import date
from fractions import Fraction
from types import ModuleType
from typing import Any, Literal

import pytest

from eager_kestrel.core import settings
from eager_kestrel.core.resolution import AspectRatio, Resolution
from eager_kestrel.core.settings.frame_rate import RECOMMENDED
from eager_kestrel.core.settings.setting import Because, Bound
from eager_kestrel.core.stutter import StutterSeen
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import broadcasts, plans, runs
from eager_kestrel.core.words.numbers import Sentence
from eager_kestrel.core.words.plans import SettingsAt

MODULES = (broadcasts, plans, runs)
SEEN = StutterSeen(
    observed_seconds=1234,
    seconds=3.2,
    number=2,
    seconds_per_hour=9.3,
    low_seconds_per_hour=1.0,
    high_seconds_per_hour=30.0,
    number_per_hour=5.8,
    unseen_per_hour=2.9,
    worst_queue_seconds=1.4,
)
SAMPLES: dict[Any, tuple[Any, ...]] = {
    str: ("Oxbow",),
    float: (0.78,),
    int: (1, 2345),
    bool: (True, False),
    date: (date(2026, 11, 2),),
    Fraction: (Fraction(30), Fraction(60000, 1001)),
    Resolution: (Resolution(1280, 720),),
    Bitrate: (Bitrate.from_kbps(5400),),
    StutterSeen: (SEEN,),
    SettingsAt: (SettingsAt(3470, "1280x720 at 60, 2,300 kbit/s", 2300, 0.82),),
    type(None): (None,),
}
BY_FORMAT: dict[str, tuple[Any, ...]] = {
    "kbit": (4321.0,),
    "down": (4321.9,),
    "rate": (4321.0,),
    "both": (4321.0,),
    "fps": (Fraction(30000, 1001),),
    "looks": (0.78,),
    "points": (0.78,),
    "and": (["A", "B"],),
    "or": (["A", "B"],),
    "list": (["A", "B"],),
    "": ("Oxbow",),
}


def samples(kind: Any) -> tuple[Any, ...]:
    """Values of a type."""
    if kind in SAMPLES:
        return SAMPLES[kind]
    origin, inner = typing.get_origin(kind), typing.get_args(kind)
    if origin is Literal:
        return inner
    if origin is tuple and inner[-1] is not Ellipsis:
        return tuple(itertools.product(*(samples(one) for one in inner)))[:2]
    if origin is not None and issubclass(origin, typing.Iterable):
        return ([samples(inner[0])[0]], [samples(inner[0])[-1]] * 2)
    if inner:
        return tuple(value for one in inner for value in samples(one))
    if kind is AspectRatio:
        return (AspectRatio(16, 9),)
    raise AssertionError(kind)


def rendered(module: ModuleType) -> Iterator[tuple[str, str]]:
    """Every sentence of a module, by name."""
    for name, said in vars(module).items():
        if isinstance(said, Sentence):
            fields = {f: spec or "" for _, f, spec, _ in string.Formatter().parse(said.text) if f}
            assert set(fields) <= set(said.gaps), name
            choices = [
                (1, 2345) if spec.startswith("count") else BY_FORMAT.get(spec, (0.78,))
                for spec in (fields.get(f, "") for f in said.gaps)
            ]
            choices = [
                ("Oxbow",) if fields.get(f, "").startswith("verb") else c
                for f, c in zip(said.gaps, choices, strict=True)
            ]
            for values in itertools.product(*choices):
                yield name, said(*values)
        elif inspect.isfunction(said) and said.__module__ == module.__name__:
            if name.startswith("_"):
                continue
            hints = typing.get_type_hints(
                said, localns={"StutterSeen": StutterSeen, "Bitrate": Bitrate}
            )
            kinds = {key: samples(kind) for key, kind in hints.items() if key != "return"}
            for values in itertools.islice(itertools.product(*kinds.values()), 60):
                text = said(**dict(zip(kinds, values, strict=True)))
                for line in (text,) if isinstance(text, str) else text or ():
                    yield name, line
        elif isinstance(said, str) and name.isupper():
            yield name, said


def require_plain(name: str, text: str) -> None:
    assert "None" not in text, (name, text)
    assert "{" not in text, (name, text)
    assert name in ("going", "bars") or "  " not in text.strip(), (name, text)
    assert not re.search(r"(?<![\d.,:x-])\d{5,}(?![\d:]|\.\d+%)", text), (name, text)
    assert not re.search(r"(?<![\d.,])1 (runs|readings|frames|stutters|encodes|days|rows)\b", text)
    assert not re.search(r"(?<!\d)2,345 (run|reading|frame|stutter|encode|day|row)\b", text)


@pytest.mark.parametrize("module", MODULES, ids=lambda m: m.__name__.rpartition(".")[2])
def test_every_sentence_is_whole(module: ModuleType) -> None:
    said = list(rendered(module))
    assert len(said) > 60
    for name, text in said:
        require_plain(name, text)


def kinds_of_reasons() -> dict[str, Because]:
    """Every kind of reason of every setting, by where it stands."""
    found: dict[str, Because] = {}
    for module in pkgutil.iter_modules(settings.__path__):
        known = vars(importlib.import_module(f"{settings.__name__}.{module.name}"))
        for name, value in known.items():
            inside = value.values() if isinstance(value, dict) else [value]
            for kind in _flat(inside):
                found[f"{module.name}.{name}: {kind.text}"] = kind
    return found


def _flat(values: typing.Iterable[Any]) -> Iterator[Because]:
    for value in values:
        if isinstance(value, Because):
            yield value
        elif isinstance(value, tuple):
            yield from _flat(value)


def test_every_reason_is_whole() -> None:
    kinds = kinds_of_reasons()
    assert len(kinds) > 40
    assert {kind.setting for kind in kinds.values()} >= {"bitrate", "b_frames", "preset", "audio"}
    for name, kind in kinds.items():
        gaps = {f: spec or "" for _, f, spec, _ in string.Formatter().parse(kind.text) if f}
        sample = {"frames": 120} | {
            gap.partition(".")[0]: Resolution(1152, 648)
            if gap.endswith(".lines")
            else (BY_FORMAT.get(spec, (0.78,)) if "verb" not in spec else ("Oxbow",))[0]
            for gap, spec in gaps.items()
            if not spec.startswith("count")
        }
        reason = kind("2 s", **sample)
        require_plain(name, reason.text)
        assert reason.limited_by in typing.get_args(Bound)
        assert None not in reason.facts.values()


def test_a_subject_and_its_verb_agree() -> None:
    assert RECOMMENDED("60", platform="Oxbow").text == "what Oxbow recommends"
    both = "Oxbow and Gatepost"
    assert RECOMMENDED("60", platform=both).text == f"what {both} recommend"
