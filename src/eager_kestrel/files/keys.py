"""Stream keys, from the environment or the keyring, never from an argument or a file."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Callable
from typing import TypeAlias

from eager_kestrel.core.errors import InputError

VARIABLE = "EAGER_KESTREL_STREAM_KEY"
TOKEN_VARIABLE = "EAGER_KESTREL_TOKEN"  # noqa: S105 - its name, not a token
LOCAL_VARIABLE = "EAGER_KESTREL_LOCAL_KEY"
SERVICE = "eager-kestrel"

Asker: TypeAlias = Callable[[str], str]
"""Asks a person for what is kept nowhere, by whose it is."""


def known_key(platform: str) -> str | None:
    """The key of a platform, where one is kept; None otherwise.

    The environment variable with the platform's name in it counts first (for ``oxbow``
    ``EAGER_KESTREL_STREAM_KEY_OXBOW``), then the one without. Else the system's keyring:
    ``keyring set eager-kestrel PLATFORM`` puts a key in.

    Raises:
        InputError: the one in the environment is no text.
    """
    own = f"{VARIABLE}_{re.sub(r'[^A-Z0-9]', '_', platform.upper())}"
    if os.environ.get(own, "").strip():
        return _known(own, "the stream key", platform)
    return _known(VARIABLE, "the stream key", platform)


def local_key() -> str | None:
    """The key programs of this machine send to us with, where one is kept; None otherwise.

    ``keyring set eager-kestrel local`` puts one in.

    Raises:
        InputError: the one in the environment is no text.
    """
    return _known(LOCAL_VARIABLE, "the local key", "local")


def needed_key(platform: str, ask: Asker | None) -> str:
    """The key of a platform: kept, or asked for.

    Args:
        ask: somebody who is there; None when nobody is.

    Raises:
        InputError: there is none.
    """
    return _needed(known_key(platform), platform, ask, "stream key", VARIABLE)


def known_token(host: str) -> str | None:
    """The token of an endpoint: from the environment, else from the keyring; None otherwise.

    ``keyring set eager-kestrel "token HOST"`` puts one in.

    Raises:
        InputError: it holds what a header of HTTP cannot carry.
    """
    token = _known(TOKEN_VARIABLE, "the token", f"token {host}")
    return None if token is None else _require_header(token, host)


def needed_token(host: str, ask: Asker | None) -> str:
    """The token of an endpoint: kept, or asked for; raises as :func:`needed_key` does."""
    return _require_header(_needed(known_token(host), host, ask, "token", TOKEN_VARIABLE), host)


def _require_header(token: str, host: str) -> str:
    if not (token.isascii() and token.isprintable()):
        raise InputError(
            f"the token for {host} has signs that HTTP cannot carry",
            "take one of letters and digits without accents",
        )
    return token


def _known(variable: str, what: str, name: str) -> str | None:
    """From an environment variable, else from the keyring under a name."""
    secret = os.environ.get(variable, "").strip()
    return require_key(secret, f"{what} in {variable}") if secret else _kept(name)


def _needed(known: str | None, whose: str, ask: Asker | None, what: str, variable: str) -> str:
    secret = ask(whose) if known is None and ask is not None else known
    if not secret:
        raise InputError(f"no {what} for {whose}", f"set {variable}, or run on a terminal")
    return secret


def _kept(name: str) -> str | None:
    """What the system's keyring has under a name."""
    with contextlib.suppress(Exception):  # no keyring, a locked one, none of this system's
        import keyring

        return keyring.get_password(SERVICE, name) or None
    return None


def require_key(key: str, what: str) -> str:
    """A key or token that can be sent; it is not repeated.

    Raises:
        InputError: it holds what no text can.
    """
    try:
        key.encode()
    except UnicodeEncodeError:
        raise InputError(f"{what} is not text", "copy it again from where it was given") from None
    return key
