"""Named endpoints: add, list, forget, and which one ``measure`` means."""

from __future__ import annotations

import contextlib
from collections.abc import Collection
from pathlib import Path
from typing import NamedTuple

from eager_kestrel.core.connection.endpoints import NamedEndpoint, NamedEndpoints, require_name
from eager_kestrel.core.errors import InputError, KestrelError
from eager_kestrel.files.documents import read_kept, write_kept
from eager_kestrel.files.guides import guide_names
from eager_kestrel.net.addresses import RTMP_SCHEMES, is_ingest, parse_address

SCHEMES = ("http", "https", *RTMP_SCHEMES)
EXAMPLE = "https://HOST/PATH, an address that takes uploads by POST, or rtmps://HOST/APP"


class Towards(NamedTuple):
    """Where a measurement goes."""

    url: str
    name: str
    """Its name; empty where it has none."""
    platform: str = ""
    """Whose ingest it is, where that is what was asked for."""


def goes_to_ingest(where: Towards) -> bool:
    """Whether a measurement goes to an ingest server."""
    return is_ingest(where.url)


ENDPOINTS_FILE = "endpoints.json"


def list_endpoints() -> NamedEndpoints:
    """All that are kept; none when there is no file.

    Raises:
        FormatError: the file is damaged; it is left as it is.
        StorageError: it cannot be read.
    """
    return read_kept(ENDPOINTS_FILE, "endpoints", NamedEndpoints) or NamedEndpoints()


def name_endpoint(name: str, url: str) -> NamedEndpoints:
    """Give an address a name, or a name another address.

    Raises:
        InputError: the name or the address is none, or the address holds a secret.
        StorageError: it cannot be kept.
    """
    address = parse_address(url, SCHEMES, EXAMPLE)
    if is_ingest(url):
        from eager_kestrel.net.publishing import PublishTarget

        PublishTarget.parse(url)  # it may not end in a key
    if address.user is not None or address.query:
        raise InputError(
            "that address has user information or a query, which may be secret, so it is not kept",
            "give an endpoint without them",
        )
    endpoints = list_endpoints().with_(NamedEndpoint(name=require_name(name), url=address.url))
    write_kept(ENDPOINTS_FILE, endpoints)
    return endpoints


def forget(name: str) -> NamedEndpoints:
    """Take a name away; runs towards it stay.

    Raises:
        NotFoundError: there is none.
    """
    endpoints = list_endpoints().without(name)
    write_kept(ENDPOINTS_FILE, endpoints)
    return endpoints


def towards(written: str | None) -> Towards:
    """The endpoint that is meant: an address, a name, the last one used, or this folder's show.

    Raises:
        NotFoundError: no endpoint has that name.
        InputError: nothing was given, nothing was used before, and no show is here.
    """
    if written is not None and "://" in written:
        known = next((p for p in _known().endpoints if p.url == written), None)
        return Towards(written, "" if known is None else known.name)
    endpoints = list_endpoints()
    if written is not None:
        if written not in names() and written.partition(":")[0] in guide_names():
            return Towards("", "", written)
        if not endpoints.is_like(written):
            raise InputError(
                f'"{written}" is not an address, an endpoint of yours or a platform',
                f"write {EXAMPLE}",
            )
        return Towards(endpoints.find(written).url, written)
    if endpoints.last is not None:
        return towards(endpoints.last)
    platform = _platform_here()
    if platform is None:
        raise InputError(
            "no endpoint given",
            "pass a URL, --to PLATFORM, or --practice CONNECTION; the last endpoint is remembered",
        )
    return Towards("", "", platform)


def _platform_here() -> str | None:
    """The first platform of the show in this folder, if there is one."""
    from eager_kestrel.files.shows import USUAL, load_show

    if not Path(USUAL).is_file():
        return None
    return load_show(USUAL).destinations[0].name


def measure_command(platforms: Collection[str] = ()) -> str:
    """The command line that measures, as it works here: to where it last went, or to a platform."""
    with contextlib.suppress(KestrelError):
        if list_endpoints().last is not None or _platform_here() is not None:
            return "eager-kestrel measure"
    return f"eager-kestrel measure --to {next(iter(platforms), 'PLATFORM')}"


def used(where: Towards) -> None:
    """Remember it as the last one used; an address that may hold a secret is not.

    A disk that does not take it is no reason to fail.
    """
    with contextlib.suppress(KestrelError):
        address = parse_address(where.url, SCHEMES, EXAMPLE)
        if where.name or (address.user is None and not address.query):
            endpoints = list_endpoints()
            write_kept(
                ENDPOINTS_FILE, endpoints.model_copy(update={"last": where.name or where.url})
            )


def names() -> list[str]:
    """For completion."""
    return [endpoint.name for endpoint in _known().endpoints]


def _known() -> NamedEndpoints:
    """All, or none where they cannot be read."""
    try:
        return list_endpoints()
    except KestrelError:
        return NamedEndpoints()
