"""A link with a rate, a queue, a delay and losses between two network namespaces.

The kernel's own shaper knows no delay and no loss, so a small router of ours carries the packets:
two TUN devices, one in each namespace, and one process between them. From the sender to the
receiver a packet waits its turn at the bottleneck (or is dropped where its queue is full, or by
chance), then half the delay passes; from the receiver back only the delay does. Every figure can
change while the link is up. Takes Linux and root.
"""

from __future__ import annotations

import contextlib
import ctypes
import fcntl
import heapq
import json
import os
import random
import select
import shutil
import struct
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

SENDER, RECEIVER = "ek-link-a", "ek-link-b"
SENDER_ADDRESS, RECEIVER_ADDRESS = "10.213.79.1", "10.213.79.2"
TUNSETIFF, IFF_TUN, IFF_NO_PI = 0x400454CA, 0x0001, 0x1000
CLONE_NEWNET = 0x40000000
DEFAULTS = {
    "mbps": 1000.0,
    "queue_ms": 100.0,
    "delay_ms": 0.0,
    "loss": 0.0,
    "up": True,
    "policed": False,
}
"""Policed, nothing waits: what would wait for longer than the queue is dropped, the rest passes."""


def why_not() -> str:
    """Why no link can be made here; empty when it can."""
    if sys.platform != "linux" or os.geteuid() != 0:
        return "it takes Linux and root"
    if not (shutil.which("ip") and Path("/dev/net/tun").exists()):
        return "it takes iproute2 and /dev/net/tun"
    return ""


def inside(namespace: str, *command: str) -> list[str]:
    """The command as one that runs there."""
    return ["ip", "netns", "exec", namespace, *command]


def run(*command: str) -> str:
    """What it printed."""
    return subprocess.run(command, check=True, capture_output=True, text=True).stdout


class Link:
    """The link; its figures change with :meth:`set`."""

    def __init__(self, seed: int, **figures: float) -> None:
        here = str(Path(__file__).resolve())
        self._router = subprocess.Popen(
            [sys.executable, here, str(seed)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        assert self._router.stdout is not None
        self._router.stdout.readline()
        self.set(**figures)

    def set(self, **figures: float) -> None:
        """From now on, any of :data:`DEFAULTS`; the delay is that of a round trip."""
        assert self._router.stdin is not None
        print(json.dumps(figures), file=self._router.stdin, flush=True)

    def close(self) -> None:
        """End the router."""
        self._router.kill()
        self._router.wait()


@contextlib.contextmanager
def link(seed: int = 1, **figures: float) -> Iterator[Link]:
    """Two namespaces and the link between them, gone again at the end."""
    remove()
    for name in (SENDER, RECEIVER):
        run("ip", "netns", "add", name)
        run("ip", "-n", name, "link", "set", "lo", "up")
    made = Link(seed, **figures)
    try:
        yield made
    finally:
        made.close()
        remove()


def remove() -> None:
    """Take the namespaces away, if they are there."""
    for name in (SENDER, RECEIVER):
        subprocess.run(["ip", "netns", "del", name], capture_output=True, check=False)


def _device(namespace: str, address: str) -> int:
    """A TUN device in a namespace; returns what carries its packets."""
    libc = ctypes.CDLL(None, use_errno=True)
    home, there = (
        os.open("/proc/self/ns/net", os.O_RDONLY),
        os.open(f"/run/netns/{namespace}", os.O_RDONLY),
    )
    if libc.setns(there, CLONE_NEWNET):
        raise OSError(ctypes.get_errno(), "setns")
    device = os.open("/dev/net/tun", os.O_RDWR | os.O_NONBLOCK)
    fcntl.ioctl(device, TUNSETIFF, struct.pack("16sH22x", b"ek0", IFF_TUN | IFF_NO_PI))
    libc.setns(home, CLONE_NEWNET)
    os.close(there)
    os.close(home)
    run("ip", "-n", namespace, "addr", "add", f"{address}/24", "dev", "ek0")
    run("ip", "-n", namespace, "link", "set", "ek0", "txqueuelen", "5000", "up")
    return device


class Router:
    """Carries the packets."""

    def __init__(self, seed: int) -> None:
        self._chance, self._figures = random.Random(seed), dict(DEFAULTS)
        self._near = _device(SENDER, SENDER_ADDRESS)
        self._far = _device(RECEIVER, RECEIVER_ADDRESS)
        self._due: list[tuple[float, int, int, bytes]] = []
        self._free_at, self._count = 0.0, 0

    def run(self) -> None:
        """Until the input ends."""
        while True:
            left = self._due[0][0] - time.perf_counter() if self._due else 1.0
            ready, _, _ = select.select([self._near, self._far, 0], [], [], max(0.0, left))
            if 0 in ready:
                line = sys.stdin.readline()
                if not line:
                    return
                self._figures.update(json.loads(line))
            for device in ready:
                if device:
                    self._take(device)
            now = time.perf_counter()
            while self._due and self._due[0][0] <= now:
                _, _, device, packet = heapq.heappop(self._due)
                with contextlib.suppress(OSError):
                    os.write(device, packet)

    def _take(self, device: int) -> None:
        """What has come to one end."""
        figures, other = self._figures, self._far if device == self._near else self._near
        for _ in range(64):
            try:
                packet = os.read(device, 65_536)
            except BlockingIOError:
                return
            if not figures["up"]:
                continue
            self._count += 1
            at = time.perf_counter()
            if device == self._near:
                self._free_at = max(self._free_at, at)
                full = self._free_at - at > figures["queue_ms"] / 1000
                if full or self._chance.random() < figures["loss"]:
                    continue
                self._free_at += len(packet) * 8e-6 / figures["mbps"]
                at = at if figures["policed"] else self._free_at
            at += figures["delay_ms"] / 2000
            heapq.heappush(self._due, (at, self._count, other, packet))


if __name__ == "__main__":
    router = Router(int(sys.argv[1]))
    print("ready", flush=True)
    with contextlib.suppress(OSError):
        os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(1))
    router.run()
