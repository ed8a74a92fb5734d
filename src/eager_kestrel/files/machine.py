"""What was measured of this machine's encoders, on disk."""

from __future__ import annotations

from typing import TYPE_CHECKING

from eager_kestrel.files.home import data_home
from eager_kestrel.files.kept import read_kept, write_kept

if TYPE_CHECKING:
    from eager_kestrel.core.show.measured import MeasuredMachine

MACHINE_FILE = "machine.json"


def is_measured() -> bool:
    """Whether there is a file of figures."""
    return (data_home() / MACHINE_FILE).exists()


def read_machine() -> MeasuredMachine | None:
    """What was measured last; None when nothing was.

    Raises:
        FormatError: the file is damaged; it is left as it is.
        StorageError: it cannot be read.
    """
    from eager_kestrel.core.show.measured import MeasuredMachine

    return read_kept(MACHINE_FILE, "machine", MeasuredMachine)


def write_machine(measured: MeasuredMachine) -> None:
    """Keep it.

    Raises:
        StorageError: the disk would not take it; what stood there before still does.
    """
    write_kept(MACHINE_FILE, measured)
