"""Connections of other programs on this machine, seen from outside.

Which there are, and whose, comes from psutil; how one stands from the kernel's socket diagnostics
over netlink (sock_diag(7), linux/inet_diag.h, ``struct tcp_info`` of linux/tcp.h). Both answer for
the user's own programs without a privilege, and no packet is captured.
"""

from __future__ import annotations

import contextlib
import os
import socket
import struct
import sys
import threading
import time
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, Self, TypeAlias

import psutil

from eager_kestrel.core.connection.run import Background

LIVE_STATES = (1,)
"""TCP_ESTABLISHED."""
ANY_STATE, INFO_EXTENSION, ANY_COOKIE = 0xFFF, 1 << 1, 2**64 - 1
SYN = 1
"""Kernels count it as a byte that was acknowledged."""
PROBE_PORT = 9
RESOLVE_SECONDS = 3.0

Ends: TypeAlias = tuple[str, int]


@dataclass(frozen=True, slots=True)
class Connection:
    """One connection from this machine."""

    pid: int
    program: str
    local: Ends
    remote: Ends

    @property
    def to(self) -> str:
        """``203.0.113.7:1935``."""
        host, port = self.remote
        return f"[{host}]:{port}" if ":" in host else f"{host}:{port}"


@dataclass(frozen=True, slots=True)
class ConnectionState:
    """How a connection stands."""

    carried_bytes: int
    """Acknowledged by the other end."""
    queued_bytes: int
    """Handed over and not acknowledged, sent or not."""
    unsent_bytes: int
    round_trip_ms: float
    min_round_trip_ms: float
    resent_bytes: int
    window_closed_seconds: float
    """How long in all the other end's receive window kept it from sending."""


class Diagnostics:
    """Asks the kernel how connections stand, within its ``with`` block. Linux."""

    def __enter__(self) -> Self:
        """Open the netlink socket.

        Raises:
            OSError: this system has none, or does not let it be used.
        """
        if sys.platform != "linux":
            raise OSError("no socket diagnostics on this system")
        from pyroute2 import DiagSocket

        self._diag: Any = DiagSocket()
        self._diag.bind()
        return self

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(OSError):
            self._diag.close()

    def standing(self, of: Connection) -> ConnectionState | None:
        """How a connection stands; None when it is not open any more."""
        from pyroute2.netlink import NLM_F_REQUEST
        from pyroute2.netlink.diag import SOCK_DIAG_BY_FAMILY, inet_diag_req

        asked = inet_diag_req()
        asked["sdiag_family"] = socket.AF_INET6 if ":" in of.local[0] else socket.AF_INET
        asked["sdiag_protocol"], asked["idiag_ext"] = socket.IPPROTO_TCP, INFO_EXTENSION
        asked["idiag_states"], asked["idiag_cookie"] = ANY_STATE, ANY_COOKIE
        asked["idiag_sport"], asked["idiag_dport"] = of.local[1], of.remote[1]
        asked["idiag_src"], asked["idiag_dst"] = _words(of.local[0]), _words(of.remote[0])
        for answer in self._diag.nlm_request(asked, SOCK_DIAG_BY_FAMILY, NLM_F_REQUEST):
            info = answer.get_attr("INET_DIAG_INFO") if "idiag_state" in answer else None
            if info is not None and answer["idiag_state"] in LIVE_STATES:
                return _standing(answer, info)
        return None


def _standing(answer: Any, info: Any) -> ConnectionState:
    return ConnectionState(
        carried_bytes=max(0, info["tcpi_bytes_acked"] - SYN),
        queued_bytes=answer["idiag_wqueue"],
        unsent_bytes=info["tcpi_notsent_bytes"],
        round_trip_ms=info["tcpi_rtt"] / 1000,
        min_round_trip_ms=info["tcpi_min_rtt"] / 1000,
        resent_bytes=info["tcpi_bytes_retrans"],
        window_closed_seconds=info["tcpi_rwnd_limited"] / 1e6,
    )


def _words(host: str) -> tuple[int, ...]:
    """An address as four words, as the kernel takes it."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    host = host.partition("%")[0]  # without the zone
    return struct.unpack(">4I", socket.inet_pton(family, host).ljust(16, b"\0"))


def sees_connections() -> bool:
    """Whether this system tells how other programs' connections stand."""
    try:
        with Diagnostics() as diagnostics:
            diagnostics.standing(Connection(0, "", ("127.0.0.1", PROBE_PORT), ("127.0.0.1", 9)))
    except Exception:  # noqa: BLE001 - whatever is missing here, the answer is no
        return False
    return True


def open_connections() -> list[Connection]:
    """Every connection of other programs whose owner is told, oldest process first."""
    found = []
    for one in psutil.net_connections("tcp"):
        if one.status != psutil.CONN_ESTABLISHED or not one.raddr or one.pid in (None, os.getpid()):
            continue
        with contextlib.suppress(psutil.Error):
            name = psutil.Process(one.pid).name()
            found.append(Connection(one.pid, name, tuple(one.laddr), tuple(one.raddr)))
    return sorted(found, key=lambda c: (c.pid, c.local[1]))


def resolved(hosts: Iterable[str], within_seconds: float = RESOLVE_SECONDS) -> set[str]:
    """Addresses of hosts, as far as they have any now and name servers answer in time."""
    found: set[str] = set()

    def ask(host: str) -> None:
        with contextlib.suppress(OSError, UnicodeError):
            for answer in socket.getaddrinfo(host, None, type=socket.SOCK_STREAM):
                found.add(str(answer[4][0]))

    threads = [threading.Thread(target=ask, args=(host,), daemon=True) for host in hosts]
    until = time.perf_counter() + within_seconds
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(max(0.0, until - time.perf_counter()))
    known = set(found)
    return known | {f"::ffff:{one}" for one in known if ":" not in one}


@dataclass
class Program:
    """A process: whether it runs, and what it takes."""

    pid: int

    def __post_init__(self) -> None:
        """Begin to count its time."""
        self._process: psutil.Process | None = None
        with contextlib.suppress(psutil.Error):
            self._process = psutil.Process(self.pid)
            self._process.cpu_percent(None)

    @property
    def runs(self) -> bool:
        """Whether it still does."""
        with contextlib.suppress(psutil.Error):
            return self._process is not None and (
                self._process.is_running() and self._process.status() != psutil.STATUS_ZOMBIE
            )
        return False

    def takes(self) -> tuple[float | None, float | None]:
        """Cores since the last time it was asked, and MB; None where it is not told."""
        with contextlib.suppress(psutil.Error):
            if self._process is not None:
                cores = self._process.cpu_percent(None) / 100
                return cores, self._process.memory_info().rss / 1e6
        return None, None


def sent_bytes() -> int:
    """By every interface but loopback, since it is up."""
    counters = psutil.net_io_counters(pernic=True)
    stats = psutil.net_if_stats()
    loopback = {n for n, s in stats.items() if "loopback" in s.flags.split(",")} | {"lo", "lo0"}
    return sum(count.bytes_sent for name, count in counters.items() if name not in loopback)


class BackgroundWatch:
    """Begins watching when made."""

    def __init__(self) -> None:
        self._sent = sent_bytes()
        self._began = time.perf_counter()

    def so_far(self) -> Background:
        """Mean upload since it was made."""
        seconds = max(time.perf_counter() - self._began, 1e-3)
        gained = max(0, sent_bytes() - self._sent)
        return Background(
            upload_kbps=round(gained / seconds / 125, 1), watched_seconds=round(seconds, 2)
        )
