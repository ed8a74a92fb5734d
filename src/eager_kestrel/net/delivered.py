"""Delivered bytes of a TCP connection: what the peer has acknowledged, as the system tells it.

Bytes handed to a socket sit in its send buffer, megabytes of it, so counting writes measures the
memory of this machine. Each counter here reads a connected socket and says by its ``kind`` how
good it is:

- Linux: ``TCP_INFO`` (linux/tcp.h, ``struct tcp_info``): ``tcpi_bytes_acked`` (RFC 4898
  tcpEStatsAppHCThruOctetsAcked) plus what was acknowledged selectively beyond it
  (``tcpi_sacked`` segments of ``tcpi_snd_mss``), so that a hole being repaired does not look like
  a pause followed by a leap;
- macOS: ``TCP_CONNECTION_INFO`` (netinet/tcp.h): bytes written less ``tcpi_snd_sbbytes``, which
  counts unsent and unacknowledged data;
- Windows: ``SIO_TCP_INFO`` (mstcpip.h, ``TCP_INFO_v0``): ``BytesOut`` less retransmitted bytes and
  bytes in flight;
- anywhere: bytes written less a small, fixed send buffer, an estimate off by that buffer at most;
  at the end of a phase the endpoint's answer confirms the total.
"""

from __future__ import annotations

import contextlib
import socket
import struct
import sys
from collections.abc import Callable
from typing import Literal, Protocol

from eager_kestrel.net.addresses import set_option

WrittenBytes = Callable[[], int]

FALLBACK_SEND_BUFFER = 131_072


class DeliveredCounter(Protocol):
    """Counts the bytes of one connection that the peer has received."""

    kind: str

    def delivered_bytes(self) -> int:
        """Since the connection began; raises OSError once the socket is closed."""

    def handed_bytes(self) -> int:
        """Handed over so far, delivered or not; raises OSError once the socket is closed."""


LINUX_TCP_INFO = 11
READINGS = 5
LINUX_LEAST_BYTES = 128  # bytes_acked is there since Linux 4.1
LINUX_FIELDS = {
    "rtt": ("=I", 68, 1e-6),
    "total_retrans": ("=I", 100, 1.0),
    "min_rtt": ("=I", 148, 1e-6),
    "rwnd_limited": ("=Q", 176, 1e-6),
}
"""Where, and in what unit: seconds, or packets. Times of limits are there since Linux 4.9."""
LINUX_TCP_CONGESTION = 13

MACOS_TCP_CONNECTION_INFO = 0x106

WINDOWS_SIO_TCP_INFO = 0xD8000027
WINDOWS_TCP_INFO_BYTES = 88


def linux_figure(
    connection: socket.socket,
    field: Literal["rtt", "min_rtt", "total_retrans", "rwnd_limited"],
) -> float | None:
    """A figure of a connection's ``struct tcp_info``; None on other systems and old kernels."""
    layout, offset, unit = LINUX_FIELDS[field]
    if sys.platform != "linux":
        return None
    with contextlib.suppress(OSError, struct.error):
        info = connection.getsockopt(socket.IPPROTO_TCP, LINUX_TCP_INFO, 256)
        (count,) = struct.unpack_from(layout, info, offset)
        return float(count) * unit
    return None


def is_loss_based(connection: socket.socket) -> bool:
    """Whether its congestion control sends less after a loss, as all but BBR do."""
    if sys.platform != "linux":
        return True
    with contextlib.suppress(OSError):
        name = connection.getsockopt(socket.IPPROTO_TCP, LINUX_TCP_CONGESTION, 16)
        return not name.startswith(b"bbr")
    return True


def linux_delivered(info: bytes) -> int:
    """Delivered bytes in a ``struct tcp_info`` of at least ``LINUX_LEAST_BYTES``."""
    (segment_bytes,) = struct.unpack_from("=I", info, 16)
    (sacked_segments,) = struct.unpack_from("=I", info, 28)
    (acked,) = struct.unpack_from("=Q", info, 120)
    return int(acked + sacked_segments * segment_bytes)


def macos_unacknowledged(info: bytes) -> int:
    """Bytes written but not acknowledged in a ``struct tcp_connection_info``."""
    (in_send_buffer,) = struct.unpack_from("=I", info, 32)
    return int(in_send_buffer)


def windows_delivered(info: bytes) -> int:
    """Delivered bytes in a ``TCP_INFO_v0``."""
    (in_flight,) = struct.unpack_from("=I", info, 28)
    (sent,) = struct.unpack_from("=Q", info, 48)
    (resent,) = struct.unpack_from("=I", info, 68)
    return max(0, int(sent) - int(resent) - int(in_flight))


class LinuxCounter:
    """From the kernel's ``TCP_INFO``."""

    kind = "kernel: TCP_INFO bytes_acked"

    def __init__(self, connection: socket.socket, _: WrittenBytes) -> None:
        self._connection = connection
        if len(self._info()) < LINUX_LEAST_BYTES:
            raise OSError("this kernel does not count acknowledged bytes")

    def _info(self) -> bytes:
        return self._connection.getsockopt(socket.IPPROTO_TCP, LINUX_TCP_INFO, 256)

    def delivered_bytes(self) -> int:
        """Acknowledged bytes."""
        return linux_delivered(self._info())

    def handed_bytes(self) -> int:
        """Acknowledged in sequence, plus ``SIOCOUTQ``: not sent, or not acknowledged so.

        Two readings; what is acknowledged between them must not be missed, or a piece that has just
        been handed over would seem to have arrived.
        """
        import fcntl
        import termios

        for _ in range(READINGS):
            before = self._info()[120:128]
            answer = fcntl.ioctl(self._connection.fileno(), termios.TIOCOUTQ, bytes(4))
            after = self._info()[120:128]
            if after == before:
                break
        return int.from_bytes(after, sys.byteorder) + int.from_bytes(answer, sys.byteorder)


class MacCounter:
    """From the kernel's ``TCP_CONNECTION_INFO``."""

    kind = "kernel: written less TCP_CONNECTION_INFO snd_sbbytes"

    def __init__(self, connection: socket.socket, written: WrittenBytes) -> None:
        self._connection = connection
        self._written = written
        self.delivered_bytes()

    def delivered_bytes(self) -> int:
        """Written bytes that have left the send buffer, as they do when acknowledged."""
        written = self._written()
        info = self._connection.getsockopt(socket.IPPROTO_TCP, MACOS_TCP_CONNECTION_INFO, 112)
        return max(0, written - macos_unacknowledged(info))

    def handed_bytes(self) -> int:
        """What was written."""
        return self._written()


class WindowsCounter:
    """From ``SIO_TCP_INFO``."""

    kind = "kernel: SIO_TCP_INFO bytes out"

    def __init__(self, connection: socket.socket, written: WrittenBytes) -> None:
        self._connection = connection
        self._written = written
        self.delivered_bytes()

    def delivered_bytes(self) -> int:
        """Bytes out, less those sent again or still in flight."""
        return windows_delivered(_windows_tcp_info(self._connection))

    def handed_bytes(self) -> int:
        """What was written."""
        return self._written()


def _windows_tcp_info(connection: socket.socket) -> bytes:
    """``WSAIoctl(SIO_TCP_INFO, version 0)``; Python's own ``ioctl`` does not know the code."""
    import ctypes

    version, returned = ctypes.c_uint32(0), ctypes.c_uint32(0)
    answer = ctypes.create_string_buffer(WINDOWS_TCP_INFO_BYTES)
    failed = ctypes.WinDLL("ws2_32").WSAIoctl(  # type: ignore[attr-defined,unused-ignore]
        ctypes.c_size_t(connection.fileno()),
        ctypes.c_uint32(WINDOWS_SIO_TCP_INFO),
        ctypes.byref(version),
        ctypes.sizeof(version),
        answer,
        len(answer),
        ctypes.byref(returned),
        None,
        None,
    )
    if failed:
        raise OSError("SIO_TCP_INFO is not to be had")
    return answer.raw


class WrittenCounter:
    """Bytes written less a fixed send buffer, where the system tells nothing."""

    kind = "estimate: written less a fixed send buffer"

    def __init__(self, connection: socket.socket, written: WrittenBytes) -> None:
        set_option(connection, socket.SOL_SOCKET, socket.SO_SNDBUF, FALLBACK_SEND_BUFFER)
        self._connection = connection
        self._written = written

    def delivered_bytes(self) -> int:
        """What must have left the send buffer by now."""
        if self._connection.fileno() < 0:
            raise OSError("the connection is closed")
        return max(0, self._written() - FALLBACK_SEND_BUFFER)

    def handed_bytes(self) -> int:
        """What was written."""
        return self._written()


_OF_PLATFORM: dict[str, type[LinuxCounter] | type[MacCounter] | type[WindowsCounter]] = {
    "linux": LinuxCounter,
    "darwin": MacCounter,
    "win32": WindowsCounter,
}


def delivered_counter(
    connection: socket.socket, written: WrittenBytes, *, estimate: bool = False
) -> DeliveredCounter:
    """The best counter this system has for a connected socket.

    Args:
        written: tells how many bytes the program has handed to it so far.
        estimate: use the portable estimate even where the kernel counts.
    """
    kernel = _OF_PLATFORM.get(sys.platform)
    if kernel is not None and not estimate:
        try:
            return kernel(connection, written)
        except (OSError, struct.error):
            pass  # an older system: estimate
    return WrittenCounter(connection, written)
