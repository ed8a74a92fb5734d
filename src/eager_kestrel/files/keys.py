"""Stream keys: from the environment or the system's keyring, never from an argument or a file."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable

from eager_kestrel.core.errors import InputError

VARIABLE = "EAGER_KESTREL_STREAM_KEY"
TOKEN_VARIABLE = "EAGER_KESTREL_TOKEN"  # noqa: S105 - its name, not a token
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
    return _kept(platform)


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


def known_token(host: str) -> str | None:
    """The token of a far end: from the environment, else from the keyring; None otherwise.

    ``keyring set eager-kestrel "token HOST"`` puts one in.

    Raises:
        InputError: the one in the environment is no text.
    """
    token = os.environ.get(TOKEN_VARIABLE, "").strip()
    if token:
        return require_key(token, f"the token in {TOKEN_VARIABLE}")
    return _kept(f"token {host}")


def needed_token(host: str, ask: Callable[[str], str] | None) -> str:
    """The token of a far end: kept, or asked for.

    Raises:
        InputError: there is none.
    """
    token = known_token(host)
    if token is None and ask is not None:
        token = ask(host)
    if not token:
        raise InputError(f"no token for {host}", f"set {TOKEN_VARIABLE}, or run on a terminal")
    return token


def _kept(name: str) -> str | None:
    """What the system's keyring has under a name."""
    with contextlib.suppress(Exception):  # no keyring, a locked one, none of this system's
        import keyring

        return keyring.get_password(SERVICE, name) or None
    return None


def require_key(key: str, what: str = f"the stream key in {VARIABLE}") -> str:
    """A key or token that can be sent; it is not repeated.

    Raises:
        InputError: it holds what no text can.
    """
    try:
        key.encode()
    except UnicodeEncodeError:
        raise InputError(f"{what} is not text", "copy it again from where it was given") from None
    return key
