"""Named places on disk: one small file beside the history."""

from __future__ import annotations

from eager_kestrel.core.line.places import NamedEndpoints
from eager_kestrel.files.kept import read_kept, write_kept

ENDPOINTS_FILE = "places.json"


def read_endpoints() -> NamedEndpoints:
    """All that are kept; none when there is no file.

    Raises:
        FormatError: the file is damaged; it is left as it is.
        StorageError: it cannot be read.
    """
    return read_kept(ENDPOINTS_FILE, "places", NamedEndpoints) or NamedEndpoints()


def write_endpoints(places: NamedEndpoints) -> None:
    """Keep them.

    Raises:
        StorageError: the disk would not take it; what stood there before still does.
    """
    write_kept(ENDPOINTS_FILE, places)
