"""Places that are measured towards, by a name of one's own."""

from __future__ import annotations

import difflib
import re

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import InputError, NotFoundError
from eager_kestrel.core.names import nearest_name

NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,39}")


class NamedEndpoint(Frozen):
    """An address that takes uploads, under a name."""

    name: str
    url: str


class NamedEndpoints(Frozen):
    """All of them, and which was measured towards last."""

    format: str = format_name("places")
    places: tuple[NamedEndpoint, ...] = ()
    last: str | None = None
    """The name, or the address of one without a name."""

    def find(self, name: str) -> NamedEndpoint:
        """A place by name.

        Raises:
            NotFoundError: there is none; suggests one.
        """
        for place in self.places:
            if place.name == name:
                return place
        known = [place.name for place in self.places]
        instead = "" if known else "places add NAME URL makes one"
        raise NotFoundError(f'no place is called "{name}"', nearest_name(name, known, instead))

    def is_like(self, name: str) -> bool:
        """Whether it is a name, or nearly one."""
        known = [place.name for place in self.places]
        return bool(difflib.get_close_matches(name.lower(), known, n=1, cutoff=0.5))

    def with_(self, place: NamedEndpoint) -> NamedEndpoints:
        """With one more, or with another address for a name there is."""
        others = [p for p in self.places if p.name != place.name]
        ordered = sorted((*others, place), key=lambda p: p.name)
        return self.model_copy(update={"places": tuple(ordered)})

    def without(self, name: str) -> NamedEndpoints:
        """Without one of them.

        Raises:
            NotFoundError: there is none.
        """
        gone = self.find(name)
        rest = tuple(p for p in self.places if p is not gone)
        last = None if self.last == name else self.last
        return self.model_copy(update={"places": rest, "last": last})


def require_name(text: str) -> str:
    """A name for a place.

    Raises:
        InputError: it is none.
    """
    if not NAME.fullmatch(text):
        raise InputError(
            f'"{text}" is no name for a place', "write small letters, digits and hyphens"
        )
    return text
