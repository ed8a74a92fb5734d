"""Stream keys: from the environment or the system's keyring, never from an argument or a file."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable

from eager_kestrel.core.errors import InputError

VARIABLE = "EAGER_KESTREL_STREAM_KEY"
SERVICE = "eager-kestrel"


def known_key(platform: str) -> str | None:
    """The key of a platform, where one is kept; None otherwise.

    The environment variable counts first. The keyring is asked when the ``keyring`` package is
    there: ``keyring set eager-kestrel PLATFORM`` puts a key in.

    Raises:
        InputError: the one in the environment is no text.
    """
    key = os.environ.get(VARIABLE, "").strip()
    if key:
        return require_key(key)
    with contextlib.suppress(Exception):  # no keyring, a locked one, none of this system's
        import keyring

        return keyring.get_password(SERVICE, platform) or None
    return None


def needed_key(platform: str, ask: Callable[[str], str] | None) -> str:
    """The key of a platform: kept, or asked for.

    Args:
        platform: whose.
        ask: somebody who is there; None when nobody is.

    Raises:
        InputError: there is none.
    """
    key = known_key(platform)
    if key is None and ask is not None:
        key = ask(platform)
    if not key:
        raise InputError(f"no stream key for {platform}", f"set {VARIABLE}, or run on a terminal")
    return key


def require_key(key: str) -> str:
    """A key that can be sent; it is not repeated.

    Raises:
        InputError: it holds what no text can.
    """
    try:
        key.encode()
    except UnicodeEncodeError:
        raise InputError(
            f"the stream key in {VARIABLE} is not text", "copy it from the platform again"
        ) from None
    return key
