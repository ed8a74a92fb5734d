"""Every sentence, rendered with sample values: agreement, separators, and nothing left unfilled."""

from __future__ import annotations

import inspect
import itertools
import re
import string
import typing
from collections.abc import Iterator
from datetime import date
from fractions import Fraction
from types import ModuleType
from typing import Any, Literal

import pytest

from eager_kestrel.core.resolution import AspectRatio, Resolution
from eager_kestrel.core.stutter import StutterSeen
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import broadcasts, facts, plans, runs
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
SPECIAL: dict[str, tuple[Any, ...]] = {
    "codec": ("h264", "hevc", "av1"),
    "kbps": (
        4321.0,
        dict.fromkeys(("safe", "budget", "ceiling", "clean", "level", "viewers"), 4321.0),
    ),
    "tied": (facts.Tied(Resolution(1152, 648), Resolution(1280, 720), "safest"),),
}
"""Of facts, by the name of what they are made from."""
BY_FORMAT: dict[str, tuple[Any, ...]] = {
    "kbit": (4321.0,),
    "down": (4321.9,),
    "rate": (4321.0,),
    "both": (4321.0,),
    "fps": (Fraction(30000, 1001),),
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


def chosen(key: str, kind: Any) -> tuple[Any, ...]:
    """Values of what a fact is made from."""
    if key in SPECIAL:
        return tuple(v for v in SPECIAL[key] if isinstance(v, dict) == (kind == dict[str, float]))
    return samples(kind)


def test_every_fact_is_whole() -> None:
    kinds = {
        name: kind
        for name, kind in vars(facts).items()
        if inspect.isfunction(kind) and kind.__module__ == facts.__name__ and name[0] != "_"
    }
    assert len(kinds) > 20
    for name, kind in kinds.items():
        hints = typing.get_type_hints(kind, {**vars(facts), **vars(typing)})
        assert hints.pop("return") is facts.Fact
        choices = {key: chosen(key, hint) for key, hint in hints.items()}
        for values in itertools.islice(itertools.product(*choices.values()), 60):
            fact = kind(**dict(zip(choices, values, strict=True)))
            require_plain(name, fact.text)
            assert fact.limited_by in typing.get_args(facts.Bound)
            assert None not in fact.figures.values()


def test_a_subject_and_its_verb_agree() -> None:
    assert facts.rate_recommended("Oxbow").text == "what Oxbow recommends"
    assert facts.rate_recommended("Oxbow and Gatepost").text == "what Oxbow and Gatepost recommend"
