"""The command line: commands by the step they belong to, errors as one line, exit codes.

Nothing heavy is imported here: each command imports what it needs when it runs.
"""

from __future__ import annotations

import gc
import os
import sys
from typing import Annotated, Any

import typer
from typer.core import TyperGroup

from eager_kestrel import __version__
from eager_kestrel.cli import check, demo, guides, measure, nearest, plan, practice, runs
from eager_kestrel.core.errors import (
    InputError,
    KestrelError,
    NetworkError,
    NoPlanError,
    StorageError,
)

EXIT_FINE = 0
EXIT_BREACH = 1
EXIT_INPUT = 2
EXIT_NETWORK = 3
EXIT_NO_PLAN = 4
EXIT_STOPPED = 130
"""Ctrl-C before anything was learned, as shells have it."""

PROGRAM = "eager-kestrel"


class StepGroup(TyperGroup):
    """Lists commands under the step of the work they belong to."""

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write one section a step, in the order people work."""
        steps: dict[str, list[Any]] = {}
        for name in self.list_commands(ctx):
            command = self.get_command(ctx, name)
            if command is not None and not command.hidden:
                steps.setdefault(getattr(command, "rich_help_panel", None) or "", []).append(
                    command
                )
        longest = max((len(c.name) for commands in steps.values() for c in commands), default=0)
        for step, commands in steps.items():
            limit = formatter.width - 6 - longest
            with formatter.section(step or "Commands"):
                formatter.write_dl(
                    [(c.name.ljust(longest), c.get_short_help_str(limit)) for c in commands]
                )


app = typer.Typer(
    name=PROGRAM,
    cls=StepGroup,
    no_args_is_help=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)


def _version(asked: bool) -> None:
    if asked:
        typer.echo(f"{PROGRAM} {__version__}")
        raise typer.Exit


@app.callback()
def root(
    _: Annotated[
        bool,
        typer.Option("--version", callback=_version, is_eager=True, help="Show the version."),
    ] = False,
) -> None:
    """Measure your upload as a live stream feels it, and get settings that hold, with reasons.

    Begin with: eager-kestrel demo
    """


demo.register(app)
measure.register(app)
runs.register(app)
nearest.register(app)
plan.register(app)
guides.register(app)
check.register(app)
practice.register(app)


def exit_code(error: KestrelError) -> int:
    """The exit code of an error."""
    if isinstance(error, NetworkError):
        return EXIT_NETWORK
    if isinstance(error, NoPlanError):
        return EXIT_NO_PLAN
    if isinstance(error, StorageError):
        return EXIT_BREACH
    return EXIT_INPUT if isinstance(error, InputError) else EXIT_STOPPED


def run(arguments: list[str]) -> int:
    """Run the program with these arguments; returns its exit code."""
    try:
        return int(app(arguments, prog_name=PROGRAM, standalone_mode=False) or 0)
    except KestrelError as error:
        return _fail(error.line(), exit_code(error))
    except typer.TyperException as error:
        message = " ".join(error.format_message().split())
        if not message:  # a group without a command has shown its help
            return EXIT_INPUT
        context = getattr(error, "ctx", None)
        where = context.command_path if context else PROGRAM
        return _fail(f"{message.rstrip('.')}; see {where} --help", EXIT_INPUT)
    except (KeyboardInterrupt, typer.Abort):
        return _fail("stopped; nothing was kept", EXIT_STOPPED)
    except BrokenPipeError:
        sys.stderr.close()
        return EXIT_BREACH
    except Exception as error:
        if os.environ.get("EAGER_KESTREL_TRACEBACK"):
            raise
        return _fail(
            f"a defect of this program ({type(error).__name__}: {error}); "
            "please report it, with what EAGER_KESTREL_TRACEBACK=1 prints",
            EXIT_BREACH,
        )


def _fail(line: str, code: int) -> int:
    sys.stderr.write(f"{PROGRAM}: {line}\n")
    return code


def main() -> None:
    """The console script.

    It lives for one command, so it collects garbage rarely, and pydantic need not read the metadata
    of every installed package in search of plugins.
    """
    gc.set_threshold(50_000)
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    sys.exit(run(sys.argv[1:]))
