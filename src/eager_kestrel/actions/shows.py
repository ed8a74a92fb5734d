"""Which show is meant: a file, a bundled one, the one in this folder, or what flags describe."""

from __future__ import annotations

from collections.abc import Callable, Collection
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from eager_kestrel.core import units
from eager_kestrel.core.codecs import codec_named
from eager_kestrel.core.errors import InputError, KestrelError, nearest_name
from eager_kestrel.core.resolution import (
    AspectRatio,
    Resolution,
    of_fields,
    parse_frame_rate,
    with_frame_rate,
)
from eager_kestrel.core.show.show import (
    FITS,
    MOTIONS,
    PREFERENCES,
    WEEKDAYS,
    Destination,
    Motion,
    Reserve,
    Show,
    Weekday,
    has_square_pixels,
    unclear_shape,
)
from eager_kestrel.core.units import parse_time_of_day
from eager_kestrel.files.documents import is_measured, write_text
from eager_kestrel.files.guides import guide_for, guide_named, guide_names
from eager_kestrel.files.shows import USUAL, load_show, show_names, show_toml

SOURCE, FRAME_RATE, MOTION = "1920x1080", "60", "lively"
"""Of a show nobody described: what most cameras give."""
AUDIO = ("voice", "music")


@dataclass(frozen=True, slots=True)
class ShowOptions:
    """What flags say, as written; it stands over a show file. None where nothing was said."""

    platforms: tuple[str, ...] = ()
    codec: str | None = None
    source: str | None = None
    shape: str | None = None
    source_fps: str | None = None
    motion: str | None = None
    prefer: str | None = None
    audio: str | None = None
    share: str | None = None
    stutter: str | None = None
    reserves: tuple[str, ...] = ()
    viewers: str | None = None
    hours: str | None = None
    footage: str | None = None
    at: str | None = None
    resolution: str | None = None
    fps: str | None = None
    fit: str | None = None
    smallest_text: str | None = None
    interlaced: bool = False
    cap: str | None = None
    days: tuple[str, ...] = ()
    ignore_machine: bool = False
    """Not to go by what was measured of this machine."""


@dataclass(frozen=True, slots=True)
class RequestedShow:
    """The show that is meant, and what has to be said about where it came from."""

    show: Show
    note: str | None = None


def show_here() -> str | None:
    """The show of this folder, if there is one."""
    return f"./{USUAL}" if Path(USUAL).is_file() else None


def asked_show(name: str | None, wishes: ShowOptions) -> RequestedShow:
    """The show of that name or file with the wishes over it.

    Without a name, and without a platform among the wishes, ``show.toml`` of this folder is taken.

    Raises:
        InputError: no platform given, or a wish cannot be read.
        NotFoundError: no such show.
        FormatError: its file is broken.
    """
    wishes = _parted(wishes)
    commas = (part.strip() for written in wishes.platforms for part in written.split(","))
    wishes = replace(wishes, platforms=tuple(part for part in commas if part))
    note = None
    if name is None and not wishes.platforms and (name := show_here()):
        note = f"the show is that of {name}"
    if name is not None and _names_platforms(name):
        parts = tuple(part.strip() for part in name.split(","))
        wishes, name = replace(wishes, platforms=(*parts, *wishes.platforms)), None
    if name is not None:
        return _here(RequestedShow(over(load_show(name), wishes), note), wishes)
    if not wishes.platforms:
        raise InputError(
            f"no platform given, and there is no {USUAL} here",
            "give --for PLATFORM, or write a show with eager-kestrel start",
        )
    bare = Show(
        source=Resolution.parse(SOURCE),
        source_fps=parse_frame_rate(FRAME_RATE),
        motion=MOTION,
        destinations=tuple(destination(name) for name in wishes.platforms),
    )
    return _here(RequestedShow(over(bare, wishes), note), wishes)


def _names_platforms(written: str) -> bool:
    """Whether every part of it, with commas between, is a platform there is a guide for."""
    known = guide_names()
    parts = [part.strip().partition(":")[0] for part in written.split(",")]
    return not is_show(written) and all(part in known for part in parts)


def _here(asked: RequestedShow, wishes: ShowOptions) -> RequestedShow:
    """With what was measured of this machine, unless that is not wished for."""
    if wishes.ignore_machine:
        return asked
    show, said = on_this_machine(asked.show)
    notes = [note for note in (asked.note, said) if note]
    return RequestedShow(show, "; ".join(notes) or None)


def on_this_machine(show: Show) -> tuple[Show, str | None]:
    """A show with what was measured of this machine, where it says nothing of its own.

    Returns:
        The show, and what has to be said of the figures; nothing where they count, or are none.

    Raises:
        FormatError: the file of figures is damaged.
    """
    if show.machine.encoders or not is_measured():
        return show, None
    from eager_kestrel.actions.encoders import this_machine

    machine, said = this_machine()
    if machine is None:
        return show, said
    share = show.machine.share if "share" in show.machine.model_fields_set else machine.share
    machine = machine.model_copy(update={"share": share})
    return show.model_copy(update={"machine": machine}), said


def compared_show(name: str | None, platform: str, wishes: ShowOptions) -> Show:
    """The show to compare plans with: the one named, the one in this folder, or a bare one.

    Raises:
        NotFoundError: no such show.
        FormatError: its file is broken.
    """
    if name is None and not Path(USUAL).is_file():
        wishes = replace(wishes, platforms=(platform,))
    return asked_show(name, wishes).show


def _parted(wishes: ShowOptions) -> ShowOptions:
    """Frame rates that were written behind a resolution, in their place."""
    size, fps = with_frame_rate(wishes.source or "")
    if fps is not None and wishes.source_fps is None:
        wishes = replace(wishes, source=size, source_fps=fps)
    if wishes.source_fps is not None and (fields := of_fields(wishes.source_fps)) is not None:
        wishes = replace(wishes, source_fps=fields, interlaced=True)
    size, fps = with_frame_rate(wishes.resolution or "")
    if fps is not None and wishes.fps is None:
        wishes = replace(wishes, resolution=size, fps=fps)
    return wishes


def over(show: Show, wishes: ShowOptions) -> Show:
    """A show with what was wished for in place of what it says.

    Reserves are added; those of a name the show knows take the place of what it says of it.

    Raises:
        InputError: a wish cannot be read.
    """
    readers: dict[str, tuple[str | None, Callable[[str], Any]]] = {
        "source": (wishes.source, Resolution.parse),
        "shape": (wishes.shape, AspectRatio.parse),
        "source_fps": (wishes.source_fps, parse_frame_rate),
        "motion": (wishes.motion, lambda said: _one_of(said, MOTIONS, "a kind of motion")),
        "prefer": (wishes.prefer, lambda said: _one_of(said, PREFERENCES, "a preference")),
        "audio": (wishes.audio, lambda said: _one_of(said, AUDIO, "a kind of audio")),
        "safe_share": (wishes.share, units.parse_share),
        "footage": (wishes.footage, str),
        "at": (wishes.at, lambda said: f"{parse_time_of_day(said):%H:%M}"),
        "stutter": (wishes.stutter, units.parse_stutter),
        "viewers": (wishes.viewers, units.Bitrate.parse),
        "resolution": (wishes.resolution, Resolution.parse),
        "fps": (wishes.fps, parse_frame_rate),
        "fit": (wishes.fit, lambda said: _one_of(said, FITS, "a way to fit")),
        "smallest_text": (wishes.smallest_text, units.parse_pixels),
        "cap": (wishes.cap, units.DataSize.parse),
        "hours_a_month": (wishes.hours, units.parse_hours_a_month),
    }
    changed = {key: read(said) for key, (said, read) in readers.items() if said is not None}
    if wishes.source_fps is not None:
        changed["interlaced"] = wishes.interlaced
    changed["destinations"] = _destinations(show, wishes)
    wished = tuple(map(reserve, wishes.reserves))
    names = {r.name for r in wished}
    changed["reserves"] = (*(r for r in show.reserves if r.name not in names), *wished)
    if wishes.days:
        changed["days"] = tuple(weekday(written) for written in wishes.days)
    changed_show = show.model_copy(update=changed)
    error = unclear_shape(changed_show)
    if error is not None:
        raise error
    return changed_show


def _destinations(show: Show, wishes: ShowOptions) -> tuple[Destination, ...]:
    """Those wished for, with all the show says of them; else the show's own."""
    known = {d.name: d for d in show.destinations}
    names = wishes.platforms or tuple(known)
    places = [known.get(name) or destination(name) for name in dict.fromkeys(names)]
    if wishes.codec is None:
        return tuple(places)
    codec = codec_named(wishes.codec)
    return tuple(place.model_copy(update={"codec": codec}) for place in places)


def _one_of(written: str, known: tuple[str, ...], what: str) -> str:
    found = next((name for name in known if name == written.lower()), None)
    if found is None:
        raise InputError(f'"{written}" is not {what}', nearest_name(written, [*known], ""))
    return found


def weekday(written: str) -> Weekday:
    """A day of the week, or its first three letters and more.

    Raises:
        InputError: it is none.
    """
    plain = written.strip().lower()
    found = [day for day in WEEKDAYS if len(plain) >= 3 and day.lower().startswith(plain)]
    if not found:
        raise InputError(f'"{written}" is not a day of the week', "write Thursday, or Thu")
    return found[0]


def reserve(written: str) -> Reserve:
    """A reserve as written on the command line: ``video call=1.5 Mbit/s``.

    Raises:
        InputError: it is none.
    """
    name, equals, rate = written.partition("=")
    if not equals or not name.strip():
        raise InputError(f'"{written}" is not a reserve', 'write "video call=1.5 Mbit/s"')
    return Reserve(name=name.strip(), rate=units.Bitrate.parse(rate))


def destination(written: str) -> Destination:
    """A destination as written on the command line: ``PLATFORM`` or ``PLATFORM:TIER``.

    Raises:
        InputError: one of the two is empty.
    """
    platform, colon, tier = written.partition(":")
    if not platform or (colon and not tier):
        raise InputError(f'"{written}" is not a destination', "write PLATFORM or PLATFORM:TIER")
    if not platform.endswith(".toml") and "/" not in platform:
        platform = guide_named(platform) or platform
    return Destination(platform=platform, tier=tier or None)


def is_show(written: str) -> bool:
    """Whether a word names a show rather than a platform."""
    return written.endswith(".toml") or written in show_names()


def platforms_of(written: str) -> list[str]:
    """The platforms of a show, or the one platform that was named.

    Raises:
        NotFoundError: no such show.
        FormatError: its file is broken.
    """
    if not is_show(written):
        return [written]
    return list(dict.fromkeys(place.platform for place in load_show(written).destinations))


def known_shows() -> list[str]:
    """Shows that could be meant: the bundled ones and TOML files of this folder."""
    return [*show_names(), *_tables_here()]


def _tables_here() -> list[str]:
    return sorted(str(path) for path in Path().glob("*.toml"))


def shows_on(platforms: Collection[str]) -> tuple[str, ...]:
    """Files of this folder whose show goes to one of these platforms."""
    found = []
    for name in _tables_here():
        with suppress(KestrelError):  # a guide, settings, or another program's
            if any(place.platform in platforms for place in load_show(name).destinations):
                found.append(name)
    return tuple(found)


MOTION_CHOICES: dict[Motion, str] = {
    "still": "hardly anything moves: a kiln, slides, a page",
    "calm": "a person at a table who talks",
    "lively": "hands at work, a board game, a concert from the front",
    "hectic": "a walk, sports, the camera in the hand",
}
CARE: dict[str, str] = {
    "80 %": "daring: nobody else uses the connection",
    "70 %": "usual",
    "60 %": "careful: other people are at home",
    "50 %": "very careful: the connection comes and goes",
}


@dataclass(frozen=True, slots=True)
class Usual:
    """A use of the connection that many homes have."""

    name: str
    rate: str


RESERVES = (
    Usual("a video call", "1.5 Mbit/s"),
    Usual("somebody who plays online", "0.3 Mbit/s"),
    Usual("a camera that backs itself up", "0.4 Mbit/s"),
    Usual("a backup of files or photos", "2 Mbit/s"),
)


def reserves_from(answer: str) -> tuple[str, ...]:
    """Reserves from an answer: numbers of usual ones, or ``name=rate``, with commas between.

    Raises:
        InputError: neither.
    """
    found = []
    for part in filter(None, (piece.strip() for piece in answer.split(","))):
        if part.isdigit():
            if not 1 <= int(part) <= len(RESERVES):
                raise InputError(f"there is no number {part}", f"write 1 to {len(RESERVES)}")
            usual = RESERVES[int(part) - 1]
            found.append(f"{usual.name}={usual.rate}")
        else:
            reserve(part)
            found.append(part)
    return tuple(found)


def new_show(wishes: ShowOptions, title: str = "") -> Show:
    """The show that answers describe; every platform must be known.

    Raises:
        InputError: an answer cannot be read.
        NotFoundError: a platform or tier is not known.
    """
    if not wishes.platforms:
        raise InputError("no platform given", "give --for PLATFORM")
    show = asked_show(None, replace(wishes, ignore_machine=True)).show
    for place in show.destinations:
        guide_for(place).codec(place.codec)
    return show.model_copy(update={"title": title})


def has_unclear_shape(wishes: ShowOptions) -> bool:
    """Whether the shape of a source's picture has to be asked for."""
    source = Resolution.parse(_parted(wishes).source or SOURCE)
    return wishes.shape is None and not has_square_pixels(source)


def is_unknown(platform: str) -> bool:
    """Whether no guide is of that name or title, nor of one that was probably meant."""
    if not platform or guide_named(platform) is not None:
        return False
    return not nearest_name(platform, guide_names(), "").startswith("write")


def usual_path(out: Path | None) -> Path:
    """Where a show goes: the file that was named, else ``show.toml`` here."""
    return out or Path(USUAL)


def show_path(out: Path | None, *, replace: bool = False) -> Path:
    """Where the file goes; over one that is there only when it may be replaced.

    Raises:
        InputError: a file already exists, or it would be no TOML.
    """
    path = usual_path(out)
    if path.suffix != ".toml":
        raise InputError(f'"{path}" is not a TOML file', "name it .toml")
    if path.exists() and not replace:
        raise InputError(f"{path} already exists", "move it, or give --out another name")
    return path


def write_show(show: Show, path: Path) -> None:
    """Write a show file.

    Raises:
        StorageError: the disk would not take it.
    """
    write_text(path, show_toml(show))
