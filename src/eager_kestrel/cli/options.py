"""Options that several commands share, so that they read the same everywhere."""

from __future__ import annotations

import contextlib
import functools
import inspect
import re
import sys
from collections.abc import Callable
from dataclasses import dataclass, fields, is_dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, TypeAlias, TypeVar, get_type_hints

import typer
from typer.core import TyperCommand

from eager_kestrel.core.codecs import CODECS

if TYPE_CHECKING:
    from eager_kestrel.actions.shows import ShowOptions


TYPE = re.compile(r" <\S+>$")
"""Of an argument, whose name says as much: ``RUN <str>``."""
NUMBER = re.compile(r"<(int|float)( range)?>")


class HeadedCommand(TyperCommand):
    """A command whose help lists options under the heading of their group."""

    def collect_usage_pieces(self, ctx: Any) -> list[str]:
        """The pieces of a usage line: NAME must be given, [NAME] may be."""
        pieces = (
            re.sub(r"[{}]|(?<=\.\.\.[]}])\.\.\.", "", p) for p in super().collect_usage_pieces(ctx)
        )
        return [piece if piece.startswith("[OPT") else piece.upper() for piece in pieces]

    def format_options(self, ctx: Any, formatter: Any) -> None:
        """Write arguments, then options by heading."""
        headings: dict[str, str] = getattr(self.callback, "__headings__", {})
        sections: dict[str, list[tuple[str, str]]] = {"Arguments": [], "Options": []}
        for parameter in self.get_params(ctx):
            if (record := parameter.get_help_record(ctx)) is None:
                continue
            name, text = record
            usual = "Options"
            if parameter.param_type_name == "argument":
                name, usual = TYPE.sub("", name).upper(), "Arguments"
            name = NUMBER.sub("N", name).replace("<str>", "TEXT")
            sections.setdefault(headings.get(str(parameter.name), usual), []).append((name, text))
        for heading in [heading for heading, records in sections.items() if records]:
            with formatter.section(heading):
                formatter.write_dl(sections[heading])


def single(name: str, command: Callable[..., None], *, secure: bool = False) -> typer.Typer:
    """A module's only command, built when it is called for.

    Args:
        secure: it speaks TLS; its help says how to trust an authority of one's own.
    """
    app = typer.Typer(rich_markup_mode=None, add_completion=False)
    epilog: str | None = None
    if secure:
        from eager_kestrel.core.words.runs import OWN_AUTHORITY

        epilog = f"Over TLS: {OWN_AUTHORITY}."
    app.command(name, cls=HeadedCommand, epilog=epilog)(command)
    return app


Adds = TypeVar("Adds", bound=Callable[..., Any])


class Family(typer.Typer):
    """Commands under one name, each with headed help."""

    def command(self, name: str | None = None, **options: Any) -> Callable[[Adds], Adds]:
        """Add a command."""
        return super().command(name, cls=HeadedCommand, **options)


def group() -> Family:
    """A module's family of commands; its callback gives the help."""
    return Family(no_args_is_help=True, rich_markup_mode=None, add_completion=False)


WRITTEN = ("out", "figure", "settings_out", "record")
"""Options that name a file to write."""


def keep_inputs(given: dict[str, Any]) -> None:
    """Refuse to write over a file that the same command reads.

    Raises:
        InputError: an output is an input, by that name or another.
    """
    from eager_kestrel.core.errors import InputError

    outputs = [Path(given[name]) for name in WRITTEN if given.get(name) is not None]
    inputs = [
        Path(str(value))
        for name, values in given.items()
        if name not in WRITTEN
        for value in (values if isinstance(values, list | tuple) else [values])
        if isinstance(value, str | Path) and str(value)
    ]
    for target in outputs:
        for source in inputs:
            with contextlib.suppress(OSError, ValueError):
                if target.samefile(source):
                    raise InputError(
                        f"{target} is read by this command", "write to another file"
                    ) from None


def grouped(command: Callable[..., None]) -> Callable[..., None]:
    """A command whose dataclass parameters are given as one option for each field.

    So options that belong together are declared once, travel together and have names.
    """
    hints = get_type_hints(command, include_extras=True)
    groups: dict[str, Any] = {}
    parameters: list[inspect.Parameter] = []
    for parameter in inspect.signature(command).parameters.values():
        kind = hints[parameter.name]
        if not is_dataclass(kind):
            parameters.append(
                parameter.replace(annotation=kind, kind=inspect.Parameter.KEYWORD_ONLY)
            )
            continue
        groups[parameter.name] = kind
        inner = get_type_hints(kind, include_extras=True)
        parameters += [
            inspect.Parameter(
                field.name,
                inspect.Parameter.KEYWORD_ONLY,
                default=field.default,
                annotation=inner[field.name],
            )
            for field in fields(kind)
        ]

    @functools.wraps(command)
    def called(**given: Any) -> None:
        keep_inputs(given)
        for name, kind in groups.items():
            given[name] = kind(**{field.name: given.pop(field.name) for field in fields(kind)})
        command(**given)

    called.__headings__ = {  # type: ignore[attr-defined]
        field.name: kind.HEADING
        for kind in groups.values()
        for field in fields(kind)
        if hasattr(kind, "HEADING")
    }
    called.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    called.__annotations__ = {parameter.name: parameter.annotation for parameter in parameters}
    return called


def among(*names: str) -> Callable[[str], list[str]]:
    """Completion of one of a few names."""

    def complete(incomplete: str) -> list[str]:
        return [name for name in names if name.startswith(incomplete.lower())]

    return complete


MOTION_NAMES = ("still", "calm", "lively", "hectic")


def with_unit(written: str) -> str:
    """An upload as written; of a bare number a person is asked whether Mbit/s are meant."""
    plain = written.strip()
    if not plain.replace(".", "", 1).isdigit() or not sys.stdin.isatty():
        return written
    if typer.confirm(f"{plain} Mbit/s?", default=True, err=True):
        return f"{plain} Mbit/s"
    return written


def complete_run(incomplete: str) -> list[str]:
    """Ids of the newest runs for shell completion."""
    from eager_kestrel.actions.runs import newest_ids

    return [name for name in newest_ids() if name.startswith(incomplete)]


def complete_endpoint(incomplete: str) -> list[str]:
    """Names of endpoints for shell completion."""
    from eager_kestrel.actions.endpoints import names

    return [name for name in names() if name.startswith(incomplete)]


def complete_platform(incomplete: str) -> list[str]:
    """Platform names for shell completion."""
    from eager_kestrel.actions.planning import known_platforms

    return [name for names in known_platforms() for name in names if name.startswith(incomplete)]


def complete_show(incomplete: str) -> list[str]:
    """Bundled shows and TOML files of this folder for shell completion."""
    from eager_kestrel.actions.shows import known_shows

    return [name for name in known_shows() if name.startswith(incomplete)]


def complete_show_or_platform(incomplete: str) -> list[str]:
    """Either, for commands that take both."""
    return [*complete_show(incomplete), *complete_platform(incomplete)]


def complete_footage(incomplete: str) -> list[str]:
    """Names of kept footage for shell completion."""
    from eager_kestrel.actions.trial import names

    return [name for name in names() if name.startswith(incomplete)]


def complete_term(incomplete: str) -> list[str]:
    """Words that are explained, for shell completion."""
    from eager_kestrel.actions.reporting import glossary

    return [name for name in glossary().terms if name.startswith(incomplete)]


def complete_practice(incomplete: str) -> list[str]:
    """Practice connections for shell completion."""
    from eager_kestrel.actions.practice import practice_names

    return [name for name in practice_names() if name.startswith(incomplete)]


Json: TypeAlias = Annotated[
    bool, typer.Option("--json", "-j", help="Print one JSON document on standard output.")
]


def _be_quiet(quiet: bool) -> None:
    """Say nothing beside results and errors from now on, or again."""
    from eager_kestrel.cli import terminal as screen

    screen.be_quiet(quiet)


Quiet: TypeAlias = Annotated[
    bool,
    typer.Option("--quiet", "-q", callback=_be_quiet, help="Print only the result and errors."),
]
PracticeName: TypeAlias = Annotated[
    str | None,
    typer.Option(
        "--practice",
        metavar="CONNECTION",
        autocompletion=complete_practice,
        help='A simulated connection on this machine: day, wet-evening, bad-night, "8 Mbit/s".',
    ),
]


def _look_there(folder: Path | None) -> Path | None:
    """Guides of this folder come first from now on."""
    import eager_kestrel

    eager_kestrel.look_for_guides_in(folder)
    return folder


GuideFolder: TypeAlias = Annotated[
    Path | None,
    typer.Option(
        "--guides", metavar="DIR", callback=_look_there, help="A folder whose guides come first."
    ),
]
Figure: TypeAlias = Annotated[
    Path | None, typer.Option(metavar="FILE", help="Draw it into a .png, .svg or .pdf file.")
]
Platforms: TypeAlias = Annotated[
    list[str] | None,
    typer.Option(
        "--for",
        metavar="PLATFORM[:TIER]",
        autocompletion=complete_platform,
        help="Where the stream goes, such as oxbow or oxbow:hearth; repeat for several.",
    ),
]
Codec: TypeAlias = Annotated[
    str | None,
    typer.Option(
        metavar="NAME",
        autocompletion=among(*CODECS),
        help="h264, hevc or av1, if the guide takes it.",
    ),
]
Source: TypeAlias = Annotated[
    str | None,
    typer.Option(
        metavar="WIDTHxHEIGHT", help="The resolution of your camera or screen; default: 1920x1080."
    ),
]
SourceRate: TypeAlias = Annotated[
    str | None, typer.Option(metavar="RATE", help="Its frame rate, such as 29.97; default: 60.")
]
Motion: TypeAlias = Annotated[
    str | None,
    typer.Option(
        metavar="KIND",
        autocompletion=among(*MOTION_NAMES),
        help="still, calm, lively or hectic; default: lively.",
    ),
]
Share: TypeAlias = Annotated[
    str | None,
    typer.Option(
        metavar="PERCENT", help="The share of the upload a stream may use; default: 70 %."
    ),
]
StutterLimit: TypeAlias = Annotated[
    str | None,
    typer.Option(metavar="TIME/h", help='Stutter you accept, "20 s/h"; default: 7 s an hour.'),
]
Reserves: TypeAlias = Annotated[
    list[str] | None,
    typer.Option(
        "--reserve", metavar='"NAME=RATE"', help='Reserve upload: "video call=1.5 Mbit/s".'
    ),
]
At: TypeAlias = Annotated[
    str | None, typer.Option("--at", metavar="HH:MM", help="Plan from runs near this time of day.")
]
Endpoints: TypeAlias = Annotated[
    list[str] | None,
    typer.Option(
        "--endpoint",
        metavar="ENDPOINT",
        autocompletion=complete_endpoint,
        help="Runs towards this endpoint; repeat for several; default: the last one used.",
    ),
]
Days: TypeAlias = Annotated[
    int, typer.Option(min=1, max=3650, help="Plan from runs of this many days.")
]
Everything: TypeAlias = Annotated[
    bool, typer.Option("--all", help="Show the rules that hold as well.")
]


@dataclass(frozen=True, slots=True)
class OutputFlags:
    """Where a result goes."""

    HEADING: ClassVar = "Output"

    out: Annotated[
        Path | None,
        typer.Option("--out", "-o", metavar="FILE", help="Also write it: .md, .html or .json."),
    ] = None
    json: Json = False
    quiet: Quiet = False

    def require(self, *kinds: str) -> None:
        """Refuse names of files that cannot be written, before any work is done."""
        from eager_kestrel.core.errors import InputError

        figure: Path | None = getattr(self, "figure", None)
        if figure is not None:
            from eager_kestrel.report.figures import require_kind

            require_kind(figure)
        known = list(dict.fromkeys([*kinds, ".json", ".md", ".html"]))
        if self.out is not None and self.out.suffix.lower() not in [*known, ".htm"]:
            instead = f"name it {', '.join(known[:-1])} or {known[-1]}"
            raise InputError(f'"{self.out.name}" has no known kind', instead)


@dataclass(frozen=True, slots=True)
class DrawnFlags(OutputFlags):
    """Where a result goes that can be drawn."""

    figure: Figure = None


@dataclass(frozen=True, slots=True)
class ShowFlags:
    """What is streamed."""

    HEADING: ClassVar = "The show"

    source: Source = None
    shape: Annotated[
        str | None,
        typer.Option(metavar="SHAPE", help="Its picture's, if its pixels are not square: 16:9."),
    ] = None
    source_fps: SourceRate = None
    motion: Motion = None
    audio: Annotated[
        str | None,
        typer.Option(
            metavar="KIND",
            autocompletion=among("voice", "music"),
            help="voice or music; default: music.",
        ),
    ] = None
    prefer: Annotated[
        str | None,
        typer.Option(
            metavar="WHICH",
            autocompletion=among("smooth", "sharp"),
            help="smooth (more frames) or sharp (clearer ones); default: by motion.",
        ),
    ] = None
    share: Share = None
    stutter: StutterLimit = None
    reserves: Reserves = None
    viewers: Annotated[
        str | None, typer.Option(metavar="RATE", help="The slowest viewers' download.")
    ] = None

    resolution: Annotated[
        str | None,
        typer.Option(metavar="WIDTHxHEIGHT", help="Force this resolution."),
    ] = None
    fps: Annotated[
        str | None,
        typer.Option(metavar="RATE", help="Force this frame rate."),
    ] = None
    fit: Annotated[
        str | None,
        typer.Option(
            metavar="WAY",
            autocompletion=among("crop", "pad"),
            help="Into another shape: crop or pad; default: crop.",
        ),
    ] = None
    smallest_text: Annotated[
        str | None,
        typer.Option(metavar="SIZE", help='Keep letters legible that are "20 px" high.'),
    ] = None
    cap: Annotated[
        str | None,
        typer.Option(metavar="SIZE", help='Data a month: "300 GB"; bounds a plan with --hours.'),
    ] = None
    footage: Annotated[
        str | None,
        typer.Option(
            metavar="CLIP",
            autocompletion=complete_footage,
            help="Plan for your own footage: a clip of it, or what trial --save-as named.",
        ),
    ] = None
    ignore_machine: Annotated[
        bool,
        typer.Option("--ignore-machine", help="Do not use what encoders measured here."),
    ] = False
    codec: Codec = None
    hours: Annotated[
        str | None,
        typer.Option(
            metavar="HOURS",
            help='How long you stream: "12 h a month" (or 12), "3 h a week"; default: 20 a month.',
        ),
    ] = None

    def options(self, platforms: list[str] | None) -> ShowOptions:
        """The same as the actions take it, with where it goes."""
        from eager_kestrel.actions.shows import ShowOptions

        given = {field.name: getattr(self, field.name) for field in fields(self)}
        given |= {"platforms": tuple(platforms or ()), "reserves": tuple(self.reserves or ())}
        return ShowOptions(**given)


def asker() -> Callable[[str], str] | None:
    """Asks for a platform's stream key, typed unseen; None where nobody is there to ask."""

    def ask(platform: str) -> str:
        return str(typer.prompt(f"Stream key for {platform}", hide_input=True, err=True)).strip()

    return ask if sys.stdin.isatty() else None
