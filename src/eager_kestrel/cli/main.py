"""The command line: commands by the step they belong to, errors as one line, exit codes.

Nothing heavy is imported here: each command imports what it needs when it runs.
"""

from __future__ import annotations

import contextlib
import gc
import importlib
import os
import re
import signal
import sys
from typing import Annotated, Any

import typer
import typer.main
from typer.core import TyperGroup

from eager_kestrel.cli.terminal import fall_back
from eager_kestrel.core import errors
from eager_kestrel.version import __version__

EXIT_BREACH = 1
EXIT_INPUT = 2
EXIT_NETWORK = 3
EXIT_NO_PLAN = 4
EXIT_DEFECT = 70
"""The program itself is at fault (EX_SOFTWARE of BSD's sysexits)."""
EXIT_STOPPED = 130
"""Ctrl-C before anything was learned, as shells have it."""

PROGRAM = "eager-kestrel"


COMMANDS: dict[str, dict[str, str]] = {
    "Start": {
        "start": "Answer a few questions and get a show file, and the plan it leads to.",
        "demo": "See it all work on a simulated wet evening: measure, plan, rehearse, check.",
    },
    "Measure": {
        "measure": "Measure what your upload carries on one connection, as a live stream uses it.",
        "endpoints": "Named endpoints to measure towards: list, add, forget.",
        "runs": "What you measured before: list, show, compare, by hour, import, export, "
        "forget, repair.",
        "far-end": "Be an endpoint to measure towards, on a machine of your own.",
        "encoders": "Measure what this machine encodes in time; later plans use it.",
    },
    "Plan": {
        "guides": "Platform guidelines as files: list, show, write, import, check, compare.",
        "plan": "Derive settings for your platforms from your upload, and say what limited each.",
        "trial": "Encode your own clip around a plan: the best resolution at each bitrate.",
        "need": "Say what upload a resolution on a platform needs: the inverse of a plan.",
    },
    "Prove": {
        "forecast": "Say how much a plan would have stuttered on your connection so far.",
        "check": "Check settings or a recording against guides and your upload.",
        "rehearse": "Send a stand-in stream exactly as planned and see whether it holds.",
        "receive": "Be a private ingest server: take a stream from any program and report on it.",
    },
    "Air": {
        "watch": "Watch the stream a program sends: does it arrive, what is at fault, what to do.",
        "review": "After a show: what went wrong, when and why, and what to plan next.",
    },
    "Keep": {
        "report": "Write one page to keep: settings, reasons, fallbacks, the upload, every proof.",
        "explain": "Explain a word or a sum of the trade, with the numbers of your latest plan.",
        "practice": "Simulated connections and platforms on this machine.",
        "schema": "Print the JSON Schema of a kind of document, such as a plan.",
    },
}
"""By the step of the work; each is a module of this package, imported when it is called."""


class StepGroup(TyperGroup):
    """Lists commands under the step they belong to and builds only the one that is called."""

    def list_commands(self, ctx: Any) -> list[str]:  # noqa: ARG002 - the parser's signature
        """Every command, in the order people work."""
        return [name for commands in COMMANDS.values() for name in commands]

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """The command of that name, from its module.

        Raises:
            InputError: there is none; suggests one.
        """
        names = self.list_commands(ctx)
        if cmd_name in names:
            module = importlib.import_module(f"eager_kestrel.cli.{cmd_name.replace('-', '_')}")
            return typer.main.get_command(module.app)
        if ctx.resilient_parsing:
            return None
        raise errors.InputError(
            f'no command "{cmd_name}"', errors.nearest_name(cmd_name, names, "")
        )

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write one section a step."""
        longest = max(len(name) for name in self.list_commands(ctx))
        for step, commands in COMMANDS.items():
            with formatter.section(step):
                formatter.write_dl([(name.ljust(longest), said) for name, said in commands.items()])


LIBRARIES = {"bs4": "beautifulsoup4", "markdown_it": "markdown-it-py", "PIL": "pillow"}
"""Names to install, where they differ from the names to import."""

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
    """Measure your upload as a live stream uses it, and get settings that hold, with reasons.

    Begin with: eager-kestrel demo
    """


def exit_code(error: errors.KestrelError) -> int:
    """The exit code of an error."""
    if isinstance(error, errors.NetworkError | errors.OutputError):
        return EXIT_NETWORK
    if isinstance(error, errors.NoPlanError):
        return EXIT_NO_PLAN
    if isinstance(error, errors.StorageError) and not isinstance(error, errors.MissingError):
        return EXIT_BREACH
    return (
        EXIT_INPUT if isinstance(error, errors.InputError | errors.MissingError) else EXIT_STOPPED
    )


PLAIN = (
    (
        r"Input should be a valid integer.*|'?[^' ]*'? is not a valid int\w*",
        "a whole number is meant",
    ),
    (r"Input should be a valid number.*|'?[^' ]*'? is not a valid float\w*", "a number is meant"),
    (r"Input should be less than or equal to (\S+)", r"it has to be at most \1"),
    (r"Input should be greater than or equal to (\S+)", r"it has to be at least \1"),
)
"""The parser's words for what is wrong with a value, of newer and older versions, and ours."""


SHELLS = ("bash", "zsh", "fish", "powershell", "pwsh")


def _completion(arguments: list[str]) -> bool:
    """Install or show completion for a shell that is named; whether that was asked for.

    Raises:
        InputError: there is none for that shell.
    """
    match arguments:
        case ["--install-completion" | "--show-completion" as what, shell]:
            if shell not in SHELLS:
                raise errors.InputError(
                    f'no completion for "{shell}"', f"write {', '.join(SHELLS)}"
                )
        case _:
            return False
    completion: Any = importlib.import_module("typer.completion")
    variable = f"_{PROGRAM.replace('-', '_').upper()}_COMPLETE"
    asked = {"shell": shell, "prog_name": PROGRAM, "complete_var": variable}
    if what == "--show-completion":
        sys.stdout.write(completion.get_completion_script(**asked) + "\n")
    else:
        _, path = completion.install(**asked)
        sys.stdout.write(f"{shell} completes from now on, by {path}; open a new terminal\n")
    return True


def _called(arguments: list[str]) -> int:
    if _completion(arguments):
        return 0
    return int(app(arguments, prog_name=PROGRAM, standalone_mode=False) or 0)


def run(arguments: list[str]) -> int:
    """Run the program with these arguments; returns its exit code."""
    try:
        return _called(arguments)
    except errors.KestrelError as error:
        return _fail(error.line(), exit_code(error))
    except typer.TyperException as error:
        said = error.format_message()
        if said.startswith("Usage:"):  # a family of commands called without one: its help
            sys.stdout.write(f"{said}\n")
            return EXIT_INPUT
        message = " ".join(said.split())
        for theirs, ours in PLAIN:
            message = re.sub(theirs, ours, message)
        context = getattr(error, "ctx", None)
        where = context.command_path if context else PROGRAM
        return _fail(f"{message.rstrip('.')}; see {where} --help", EXIT_INPUT)
    except (KeyboardInterrupt, typer.Abort):
        return _fail("stopped; nothing was kept", EXIT_STOPPED)
    except Exception as error:
        if os.environ.get("EAGER_KESTREL_TRACEBACK"):
            raise
        if isinstance(error, ImportError) and not str(error.name).startswith("eager_kestrel"):
            library = LIBRARIES.get(str(error.name).partition(".")[0], str(error.name))
            return _fail(
                f"the library {library} is missing or broken ({error}): "
                f"pip install --force-reinstall {library}",
                EXIT_BREACH,
            )
        return _fail(
            f"a defect of this program ({type(error).__name__}: {error}); "
            "please report it, with what EAGER_KESTREL_TRACEBACK=1 prints",
            EXIT_DEFECT,
        )


def _fail(line: str, code: int) -> int:
    sys.stderr.write(f"{PROGRAM}: {line}\n")
    return code


def main() -> None:
    """The console script.

    It lives for one command, so it collects garbage rarely (those that serve do so as usual), and
    pydantic need not read the metadata of every installed package in search of plugins. Being told
    to end, or losing the terminal, is the same as Ctrl-C.
    """
    gc.set_threshold(500_000)
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    fall_back()
    try:
        for name in ("SIGINT", "SIGTERM", "SIGHUP"):
            known = getattr(signal, name, None)
            if known is not None and signal.getsignal(known) != signal.SIG_IGN:
                signal.signal(known, signal.default_int_handler)
        code = run(sys.argv[1:])
        sys.stdout.flush()
    except KeyboardInterrupt:
        code = EXIT_STOPPED
    except errors.OutputError as error:
        code = _fail(error.line(), EXIT_NETWORK)
    with contextlib.suppress(ValueError):  # a second Ctrl-C while all is being put away
        signal.signal(signal.SIGINT, signal.SIG_IGN)
    sys.exit(code)
