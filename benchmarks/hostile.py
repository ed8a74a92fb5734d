"""What hostile peers do: the harness behind docs/security.md, with ``keeping`` and ``damaged``.

Usage: python -m benchmarks hostile [--quick] [--only PART] [--seed 1] [--count N]

PART: sessions, churn, silent or pipelined.

Sessions: a real publisher's bytes with some flipped, cut, repeated or made up, against a private
ingest. Churn: connections over TLS that ask for /health and go, and some that never finish the
handshake, against a far end; its memory. Silent: strangers that say nothing, over TLS, beside an
upload and a new owner. Pipelined: a stranger's requests, 64 kB a second of them, beside an upload.
"""

from __future__ import annotations

import contextlib
import os
import random
import socket
import ssl
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import psutil
import trustme

from benchmarks import run_parts
from eager_kestrel.net.receiving import IngestServer, ReceivedTag
from eager_kestrel.wire import flv
from eager_kestrel.wire.publishing import RANDOM_BYTES, Publisher

PROGRAM = [sys.executable, "-m", "eager_kestrel"]
TOKEN = "benchmark-token-of-some-length"
COUNTS = {
    "sessions": 5000,
    "churn": 20_000,
    "silent": 1100,
    "pipelined": 10,
}
QUICK = {"sessions": 200, "churn": 400, "silent": 300, "pipelined": 2}
MOST_MB = 150.0


class Counts:
    """Takes any stream."""

    def __init__(self) -> None:
        self.frames = 0

    def asked(self, app: str, key: str, address: str) -> str | None:
        """Only the right key."""
        del app, address
        return None if key == "right" else "no"

    def heard(self, count: int) -> str | None:
        """No limit."""
        del count
        return None

    def arrived(self, piece: ReceivedTag) -> str | None:
        """Counted."""
        self.frames += piece.kind == "video"
        return None

    def besides(self, kind: int, milliseconds: int, payload: bytes) -> None:
        """Nothing to do."""

    def left(self, why: str) -> None:
        """Nothing to do."""


def a_session(port: int) -> list[bytes]:
    """What an honest publisher writes, write by write."""
    said: list[bytes] = []
    publisher = Publisher("live", f"rtmp://127.0.0.1:{port}/live", "right", bytes(RANDOM_BYTES))
    with socket.create_connection(("127.0.0.1", port), 5) as there:
        there.settimeout(2)
        ready = False
        while not ready:
            data = bytes(publisher.outgoing)
            publisher.outgoing.clear()
            if data:
                said.append(data)
                there.sendall(data)
            ready = any(type(e).__name__ == "Ready" for e in publisher.receive(there.recv(65_536)))
        media = [publisher.send(9, 0, flv.video_header("h264", b"\x01\x64\x00\x1f\xff"))]
        for number in range(30):
            frame = flv.video_frame("h264", bytes(400), keyframe=number % 10 == 0)
            media.append(publisher.send(9, number * 33, frame))
        said += [*media, publisher.end()]
        for part in said[-len(media) - 1 :]:
            there.sendall(part)
    return said


def mutated(said: list[bytes], chance: random.Random) -> bytes:
    """The session with something wrong."""
    data = bytearray(b"".join(said[: chance.randint(1, len(said))]))
    for _ in range(chance.choice((1, 2, 5, 20, 200))):
        at = chance.randrange(len(data))
        kind = chance.choice(("flip", "cut", "repeat", "made up", "blank"))
        if kind == "flip":
            data[at] = chance.randrange(256)
        elif kind == "cut":
            del data[at : at + chance.randint(1, 300)]
        elif kind == "repeat":
            data[at:at] = data[at : at + chance.randint(1, 300)]
        elif kind == "made up":
            data[at:at] = chance.randbytes(chance.randint(1, 300))
        else:
            data[at : at + 50] = bytes(min(50, len(data) - at))
        if not data:
            return b"\x03"
    return bytes(data)


def sessions(count: int, seed: int) -> bool:
    """Mutated sessions; afterwards an honest one has to be taken."""
    problems: Counter[str] = Counter()
    threading.excepthook = lambda args: problems.update([f"{args.exc_type.__name__}"])
    visitor, me = Counts(), psutil.Process()
    with IngestServer(visitor) as server:
        said = a_session(server.port)
        before, worst = me.memory_info().rss / 1e6, 0.0
        for number in range(count):
            data = mutated(said, random.Random(f"{seed}/{number}"))
            to = ("127.0.0.1", server.port)
            with contextlib.suppress(OSError), socket.create_connection(to, 5) as guest:
                guest.sendall(data)
            if number % 100 == 0:
                worst = max(worst, me.memory_info().rss / 1e6)
        time.sleep(1)
        frames = visitor.frames
        a_session(server.port)
        time.sleep(1)
        taken = visitor.frames > frames
    grew = worst - before
    fine = taken and not problems
    print(
        f"| mutated RTMP sessions | {count:,} | {sum(problems.values())} tracebacks, memory "
        f"{grew:+.0f} MB, an honest stream is {'taken' if taken else 'NOT TAKEN'} |"
    )
    return fine


@contextlib.contextmanager
def far_end(*options: str) -> Iterator[tuple[psutil.Process, int]]:
    """A far end in a process of its own."""
    env = os.environ | {"EAGER_KESTREL_TOKEN": TOKEN}
    command = [*PROGRAM, "far-end", "--bind", "127.0.0.1", "--port", "0", "--no-rtmp", "--json"]
    there = subprocess.Popen(
        [*command, *options], env=env, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    try:
        assert there.stdout is not None
        text = ""
        while '"port"' not in text or "}" not in text:
            text += there.stdout.readline()
        port = int(text.split('"port":')[1].split(",")[0])
        yield psutil.Process(there.pid), port
    finally:
        there.terminate()
        told = there.communicate(timeout=10)[1]
        if "Traceback" in told:
            print(told[-2000:])


@contextlib.contextmanager
def secure_far_end() -> Iterator[tuple[psutil.Process, int, ssl.SSLContext]]:
    """One that speaks TLS, and a context that trusts it."""
    authority, context = trustme.CA(), ssl.create_default_context()
    authority.configure_trust(context)
    with tempfile.TemporaryDirectory() as folder:
        cert, key = Path(folder, "cert.pem"), Path(folder, "key.pem")
        issued = authority.issue_cert("127.0.0.1")
        issued.cert_chain_pems[0].write_to_path(str(cert))
        issued.private_key_pem.write_to_path(str(key))
        with far_end("--certificate", str(cert), "--private-key", str(key)) as (there, port):
            yield there, port, context


def churn(count: int, seed: int) -> bool:
    """Strangers over TLS."""
    chance = random.Random(seed)
    with secure_far_end() as (there, port, context):
        before, worst, half = there.memory_info().rss / 1e6, 0.0, []
        for number in range(count):
            with contextlib.suppress(OSError):
                raw = socket.create_connection(("127.0.0.1", port), 5)
                if chance.random() < 0.05:  # never finishes its handshake
                    raw.sendall(b"\x16\x03\x01")
                    half = [*half[-900:], raw]
                    continue
                with context.wrap_socket(raw, server_hostname="127.0.0.1") as guest:
                    guest.sendall(b"GET /health HTTP/1.1\r\nHost: x\r\n\r\n")
                    guest.recv(1000)
            if number % 200 == 0:
                worst = max(worst, there.memory_info().rss / 1e6)
        worst = max(worst, there.memory_info().rss / 1e6)
        for raw in half:
            raw.close()
    print(
        f"| TLS connections that ask for /health, one in 20 never ends its handshake | {count:,} | "
        f"memory {before:.0f} to {worst:.0f} MB (wanted: under {MOST_MB:.0f}) |"
    )
    return worst < MOST_MB


def owner(port: int, context: ssl.SSLContext, size: int) -> socket.socket:
    """Somebody with the token, who begins to upload."""
    up = context.wrap_socket(
        socket.create_connection(("127.0.0.1", port), 10), server_hostname="127.0.0.1"
    )
    head = f"POST /up HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {TOKEN}\r\n"
    up.sendall(f"{head}Content-Length: {size}\r\n\r\n".encode())
    return up


def silent(count: int, seed: int) -> bool:
    """Strangers that say nothing or end no handshake, while somebody uploads and others come."""
    chance, size, sent, let_in, worst = random.Random(seed), 40_000_000, 0, 0, 0.0
    with secure_far_end() as (there, port, context), contextlib.ExitStack() as stack:
        up = stack.enter_context(owner(port, context, size))
        for number in range(count):
            with contextlib.suppress(OSError):
                stranger = socket.create_connection(("127.0.0.1", port), 5)
                stack.enter_context(stranger)
                if chance.random() < 0.5:
                    stranger.sendall(b"\x16\x03\x01")
            if number % 10 == 0 and sent < size:
                up.sendall(bytes(min(300_000, size - sent)))
                sent = min(size, sent + 300_000)
            if number % (count // 6) == count // 6 - 1:
                with contextlib.suppress(OSError), owner(port, context, 2) as another:
                    another.sendall(b"ab")
                    let_in += b" 200 " in another.recv(1000)
        worst = there.memory_info().rss / 1e6
        up.sendall(bytes(size - sent))
        up.settimeout(10)
        whole = str(size).encode() in up.recv(1000)
    print(
        f"| silent strangers over TLS beside an upload of 40 MB | {count:,} | the upload is "
        f"{'whole' if whole else 'BROKEN'}, {let_in} of 6 new owners let in, "
        f"memory {worst:.0f} MB |"
    )
    return whole and let_in == 6 and worst < MOST_MB


def pipelined(seconds: int, seed: int) -> bool:
    """A stranger's requests, one behind the other, beside an upload that is as fast as it can."""
    del seed
    requests = b"GET /nothing HTTP/1.1\r\nHost: x\r\n\r\n" * 220  # 8 kB
    over, rates = threading.Event(), []

    def bother(port: int) -> None:
        while not over.wait(0.125):
            to = ("127.0.0.1", port)
            with contextlib.suppress(OSError), socket.create_connection(to, 5) as stranger:
                stranger.sendall(requests)
                stranger.settimeout(0.05)
                while stranger.recv(65_536):
                    pass

    with far_end("--max-run", "400 GB", "--max-hour", "400 GB") as (_, port):
        for number in range(4):
            stranger = threading.Thread(target=bother, args=(port,))
            if number % 2:
                over.clear()
                stranger.start()
            with socket.create_connection(("127.0.0.1", port), 10) as up:
                head = f"POST /up HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {TOKEN}\r\n"
                up.sendall(f"{head}Content-Length: {10**12}\r\n\r\n".encode())
                began, count, block = time.perf_counter(), 0, bytes(125_000)
                while (took := time.perf_counter() - began) < seconds:
                    up.sendall(block)
                    count += len(block)
                    time.sleep(max(0.0, count / 12.5e6 - took))  # 100 Mbit/s
            rates.append(count * 8e-6 / took)
            over.set()
            if number % 2:
                stranger.join()
    alone, beside = sum(rates[::2]) / 2, sum(rates[1::2]) / 2
    print(
        f"| a stranger with 64 kB a second of requests beside 100 Mbit/s | {seconds} s | "
        f"{beside:.1f} Mbit/s of {alone:.1f} alone |"
    )
    return beside > 0.97 * alone


def main(words: list[str]) -> int:
    """Run what is asked for; 1 when something is not as promised."""
    parts = {
        "sessions": sessions,
        "churn": churn,
        "silent": silent,
        "pipelined": pipelined,
    }
    return run_parts(words, __doc__, parts, COUNTS, QUICK)
