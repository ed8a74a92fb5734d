"""``python -m eager_kestrel`` is the command line."""

import contextlib
import signal


def main() -> None:
    """The console script: until the program is ready, Ctrl-C ends it as the system does."""
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        with contextlib.suppress(ValueError):
            signal.signal(signal.SIGINT, signal.SIG_DFL)
    from eager_kestrel.cli.main import main as program

    program()


if __name__ == "__main__":
    main()
