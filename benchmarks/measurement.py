"""How true ``measure`` is: on a kernel-shaped link, and on connections of known quantiles.

Usage: python -m benchmarks measurement [--quick] [--rates 1,3,8,20,100,500,2000]
       [--only link|traces|gently|bursts]

Part one needs Linux, root and iproute2: it makes two network namespaces joined by a veth pair, with
``tc tbf`` on the sender's side, and removes them again. Truth is the shaped rate x 1448/1514, since
the shaper counts Ethernet frames and TCP delivers 1,448 bytes of each; a bare sender of a few lines
runs on the same link as the reference. Part two runs anywhere, on loopback.

Part three holds --gently against flooding where the bottleneck is a router of its own, with queues
of 50, 120 and 500 ms, alone and beside a steady sender of 30 % of the connection. Round trips
beside it are those of a sender of single bytes, every 20 ms or more seldom.

Part four lets a burst through at three times the rate (``tc tbf`` with ``peakrate``), as many home
connections do, and holds the result against the rate that lasts.

Prints its tables in Markdown, which stand in docs/measurement.md; with --repeat 25 a third.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator

import numpy as np

from benchmarks import SLACK, left_out, options
from benchmarks.links import run

PYTHON = sys.executable
SENDER, RECEIVER = "ek-bench-a", "ek-bench-b"
SENDER_ADDRESS, RECEIVER_ADDRESS = "10.213.77.1", "10.213.77.2"
PORT = 8077
GOODPUT = 1448 / 1514
BARE_SECONDS = 5.0
SLOW_BARE_SECONDS = 20.0
"""At 1 Mbit/s a packet is 12 ms: it takes this long to tell a thousandth."""
FIXED_SECONDS = 10.0
WORST, WORST_UNEVEN = 0.03, 0.05
"""How far typical or floor may be off on a link, and the floor on an uneven connection."""
HELD_UP = 0.01

SINK = """
import socket, sys, threading
listener = socket.create_server((sys.argv[1], int(sys.argv[2])), backlog=64)
print("ready", flush=True)
OK = b"HTTP/1.1 200 OK\\r\\nContent-Length: 0\\r\\n\\r\\n"
def serve(connection):
    room = bytearray(1 << 20)
    try:
        head = b""
        while True:
            while b"\\r\\n\\r\\n" not in head:
                part = connection.recv(65536)
                if not part:
                    return
                head += part
            fields, _, body = head.partition(b"\\r\\n\\r\\n")
            length = 0
            for line in fields.split(b"\\r\\n"):
                if line.lower().startswith(b"content-length:"):
                    length = int(line.split(b":")[1])
            left, head = length - len(body), b""
            while left > 0:
                got = connection.recv_into(room, min(left, len(room)), socket.MSG_TRUNC)
                if not got:
                    return
                left -= got
            connection.sendall(OK)
    except OSError:
        pass
    finally:
        connection.close()
while True:
    connection, _ = listener.accept()
    threading.Thread(target=serve, args=(connection,), daemon=True).start()
"""

BARE = """
import socket, struct, sys, time
connection = socket.create_connection((sys.argv[1], int(sys.argv[2])))
connection.sendall(b"POST /u HTTP/1.1\\r\\nHost: x\\r\\nContent-Length: 99999999999\\r\\n\\r\\n")
connection.setsockopt(socket.IPPROTO_TCP, 25, max(16384, int(sys.argv[4]) * 2))
block = bytes(262144)
def acked():
    return struct.unpack_from("=Q", connection.getsockopt(socket.IPPROTO_TCP, 11, 256), 120)[0]
began = time.perf_counter()
first = None
while time.perf_counter() - began < float(sys.argv[3]) + 3:
    connection.sendall(block[: int(sys.argv[4])])
    if first is None and time.perf_counter() - began > 3:
        first = (time.perf_counter(), acked())
last = (time.perf_counter(), acked())
print((last[1] - first[1]) * 8 / (last[0] - first[0]))
"""


def may_shape() -> str:
    """Why the first part cannot run here; empty when it can."""
    if sys.platform != "linux" or os.geteuid() != 0:
        return "it takes Linux and root"
    if not (shutil.which("ip") and shutil.which("tc")):
        return "it takes iproute2 (ip and tc)"
    made = subprocess.run(["ip", "netns", "add", SENDER], capture_output=True, check=False)
    return "" if made.returncode == 0 else made.stderr.decode().strip()


def make_link() -> None:
    run("ip", "netns", "add", RECEIVER)
    run(
        "ip",
        "link",
        "add",
        "ek0",
        "netns",
        SENDER,
        "type",
        "veth",
        "peer",
        "name",
        "ek1",
        "netns",
        RECEIVER,
    )
    for name, device, address in (
        (SENDER, "ek0", SENDER_ADDRESS),
        (RECEIVER, "ek1", RECEIVER_ADDRESS),
    ):
        run("ip", "-n", name, "addr", "add", f"{address}/24", "dev", device)
        run("ip", "-n", name, "link", "set", device, "up")
        run("ip", "-n", name, "link", "set", "lo", "up")


def shape(mbps: float) -> None:
    """A token bucket with room for 100 ms, as in a modem, and a burst of two timer ticks."""
    burst = max(3200, int(mbps * 1e6 / 8 * 0.004))
    limit = max(30_000, int(mbps * 1e6 / 8 * 0.1)) + burst
    run(
        "ip",
        "netns",
        "exec",
        SENDER,
        "tc",
        "qdisc",
        "replace",
        "dev",
        "ek0",
        "root",
        "tbf",
        "rate",
        f"{mbps}mbit",
        "burst",
        str(burst),
        "limit",
        str(limit),
    )


def remove_link() -> None:
    for name in (SENDER, RECEIVER, ROUTER):
        subprocess.run(["ip", "netns", "del", name], capture_output=True, check=False)


def bare_sender_mbps(mbps: float) -> float:
    chunk = max(2048, min(262_144, int(mbps * 1e6 / 8 * 0.01)))
    done = subprocess.run(
        [
            "ip",
            "netns",
            "exec",
            SENDER,
            PYTHON,
            "-c",
            BARE,
            RECEIVER_ADDRESS,
            str(PORT),
            str(SLOW_BARE_SECONDS if mbps < 5 else BARE_SECONDS),
            str(chunk),
        ],
        capture_output=True,
        text=True,
        check=True,
    )
    return float(done.stdout) / 1e6


def measured(home: str, *options: str) -> tuple[dict, float, float]:
    """A run as JSON, its cores used over the load phases, and its peak memory in MB."""
    process = subprocess.Popen(
        [
            "ip",
            "netns",
            "exec",
            SENDER,
            PYTHON,
            "-m",
            "eager_kestrel",
            "measure",
            f"http://{RECEIVER_ADDRESS}:{PORT}/u",
            "--json",
            "--no-keep",
            *options,
        ],
        stdout=subprocess.PIPE,
        text=True,
        env={**os.environ, "EAGER_KESTREL_HOME": home},
    )
    assert process.stdout
    out = process.stdout.read()
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"measure failed with {process.returncode}")
    document = json.loads(out)
    seconds = sum(
        phase["ramp_seconds"] + phase["steady_seconds"]
        for phase in (
            document["summary"]["one_connection"],
            document["summary"]["several_connections"],
        )
        if phase
    )
    return document, (usage.ru_utime + usage.ru_stime) / seconds, usage.ru_maxrss / 1024


@contextlib.contextmanager
def sink() -> Iterator[None]:
    """The far end behind the link, while it is needed."""
    process = subprocess.Popen(
        ["ip", "netns", "exec", RECEIVER, PYTHON, "-c", SINK, RECEIVER_ADDRESS, str(PORT)],
        stdout=subprocess.PIPE,
    )
    try:
        assert process.stdout
        process.stdout.readline()
        yield
    finally:
        process.terminate()
        process.wait()


LASTING_MBPS, PEAK_MBPS = 5.0, 15.0
BURSTS_MB = (0.0, 2.5, 5.0, 7.5, 12.5, 20.0, 50.0)


def burst_table() -> None:
    """Bursts of so many megabytes, which last for 0.8 s each when the connection is full."""
    print("| burst MB | lasts | true lasting | typical | off | watched | data MB | said |")
    print("| " + " | ".join(["---:"] * 7) + " | --- |")
    make_link()
    for burst in BURSTS_MB:
        bucket = max(6400, int(burst * 1e6))
        shape_of = ["rate", f"{LASTING_MBPS}mbit", "burst", str(bucket), "latency", "100ms"]
        peak = ["peakrate", f"{PEAK_MBPS}mbit", "minburst", "1600"] if burst else []
        to = ["ip", "netns", "exec", SENDER, "tc", "qdisc", "replace", "dev", "ek0", "root", "tbf"]
        run(*to, *shape_of, *peak)
        with sink(), tempfile.TemporaryDirectory() as home:
            found, _, _ = measured(home)
        typical = found["summary"]["uplink"]["typical_kbps"] / 1000
        true = LASTING_MBPS * GOODPUT
        told = found["summary"]["verdicts"] + found["summary"]["remarks"]
        said = "; ".join(text for text in told if "burst" in text)
        lasts = burst * 8 / (PEAK_MBPS - LASTING_MBPS)
        watched = found["summary"]["uplink"]["watched_seconds"]
        used = found["data_used_bytes"] / 1e6
        print(
            f"| {burst:g} | {lasts:.0f} s | {true:.2f} | {typical:.2f} | "
            f"{typical / true - 1:+.1%} | {watched:.0f} s | {used:.0f} | {said} |",
            flush=True,
        )
        time.sleep(1)


def held_up(late_share: float) -> bool:
    """Whether the machine took too much of the measurement's time to judge it by."""
    if late_share > HELD_UP:
        print(
            f"(this machine held that one up for {late_share:.0%} of its time: not judged)",
            flush=True,
        )
    return late_share > HELD_UP


def link_table(rates: list[float], *options: str) -> float:
    """Print it; the largest part by which typical or floor is further off than the bare sender."""
    worst = 0.0
    print(
        "| shaped Mbit/s | true goodput | bare sender | typical | floor | typical off "
        "| floor off | s a phase | cores | peak MB | data of a fixed 10 s test |"
    )
    print("| " + " | ".join(["---:"] * 11) + " |")
    make_link()
    with sink(), tempfile.TemporaryDirectory() as home:
        for mbps in rates:
            shape(mbps)
            true = mbps * GOODPUT
            bare = bare_sender_mbps(mbps)
            time.sleep(0.5)
            run_, cores, memory = measured(home, *options)
            one, several = run_["summary"]["one_connection"], run_["summary"]["several_connections"]
            typical, floor = one["typical_kbps"] / 1000, one["floor_kbps"] / 1000
            longest = max(p["ramp_seconds"] + p["steady_seconds"] for p in (one, several))
            fixed = 2 * FIXED_SECONDS * true * 1e6 / 8
            print(
                f"| {mbps:g} | {true:.4g} | {bare / true - 1:+.2%} | {typical:.4g} | "
                f"{floor:.4g} | {typical / true - 1:+.2%} | {floor / true - 1:+.2%} | "
                f"{longest:.1f} | {cores:.2f} | {memory:.0f} | "
                f"{run_['data_used_bytes'] / fixed:.0%} |",
                flush=True,
            )
            off = max(abs(typical / true - 1), abs(floor / true - 1))
            if not held_up(run_["one_connection"]["late_share"]):
                worst = max(worst, off - abs(bare / true - 1))  # what is taken from anybody
    return worst


def repeat_table(rates: list[float], count: int) -> None:
    """How often a run is as near as wanted: typical within 0.3 %, floor within 1 %."""
    print("\n| shaped Mbit/s | runs | typical within 0.3 % | worst | floor within 1 % | worst |")
    print("| " + " | ".join(["---:"] * 6) + " |")
    make_link()
    with sink(), tempfile.TemporaryDirectory() as home:
        for mbps in rates:
            shape(mbps)
            true = mbps * GOODPUT * 1000
            ones = [
                measured(home, "--connections", "1")[0]["summary"]["one_connection"]
                for _ in range(count)
            ]
            typical = np.array([abs(one["typical_kbps"] / true - 1) for one in ones])
            floor = np.array([abs(one["floor_kbps"] / true - 1) for one in ones])
            print(
                f"| {mbps:g} | {count} | {(typical <= 0.003).sum()} | {typical.max():.2%} | "
                f"{(floor <= 0.01).sum()} | {floor.max():.2%} |",
                flush=True,
            )


OTHER = """
import socket, sys, time
sender = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
rate, began, sent = float(sys.argv[2]) * 125000, time.perf_counter(), 0
while time.perf_counter() - began < 60:
    while sent < (time.perf_counter() - began) * rate:
        sender.sendto(bytes(1200), (sys.argv[1], 9))
        sent += 1242
    time.sleep(0.002)
"""

BESIDE = """
import socket, sys, time
connection = socket.create_connection((sys.argv[1], int(sys.argv[2])))
connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
least, began = 9.0, time.perf_counter()
while True:
    sent = time.perf_counter()
    connection.sendall(b"POST /u HTTP/1.1\\r\\nContent-Length: 1\\r\\n\\r\\nk")
    connection.recv(1000)
    took = time.perf_counter() - sent
    print(sent - began, took, flush=True)
    time.sleep(max(0.0, float(sys.argv[3]) - took))
"""

ROUTER = "ek-bench-r"
NEAR = "10.213.76.1"


def make_routed_link() -> None:
    """Sender, router, receiver: what waits waits in the router, as in a modem."""
    for name in (RECEIVER, ROUTER):
        run("ip", "netns", "add", name)
    for near, far, here, there, device in (
        (SENDER, ROUTER, f"{NEAR}/24", "10.213.76.254/24", "ek0"),
        (RECEIVER, ROUTER, f"{RECEIVER_ADDRESS}/24", "10.213.77.254/24", "ek1"),
    ):
        peer = f"{device}r"
        run(
            "ip",
            "link",
            "add",
            device,
            "netns",
            near,
            "type",
            "veth",
            "peer",
            "name",
            peer,
            "netns",
            far,
        )
        for name, end, address in ((near, device, here), (far, peer, there)):
            run("ip", "-n", name, "addr", "add", address, "dev", end)
            run("ip", "-n", name, "link", "set", end, "up")
        gateway = there.split("/")[0]
        run("ip", "-n", near, "link", "set", "lo", "up")
        run("ip", "-n", near, "route", "add", "default", "via", gateway)
    run("ip", "netns", "exec", ROUTER, "sysctl", "-qw", "net.ipv4.ip_forward=1")


def shape_router(mbps: float, queue_ms: float) -> None:
    burst = max(3200, int(mbps * 1e6 / 8 * 0.004))
    limit = max(9000, int(mbps * 1e6 / 8 * queue_ms / 1000)) + burst
    run(
        "ip",
        "netns",
        "exec",
        ROUTER,
        "tc",
        "qdisc",
        "replace",
        "dev",
        "ek1r",
        "root",
        "tbf",
        "rate",
        f"{mbps}mbit",
        "burst",
        str(burst),
        "limit",
        str(limit),
    )


@contextlib.contextmanager
def beside(code: str, *arguments: str) -> Iterator[subprocess.Popen[str]]:
    process = subprocess.Popen(
        ["ip", "netns", "exec", SENDER, PYTHON, "-c", code, *arguments],
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )
    try:
        yield process
    finally:
        process.kill()
        process.wait()


def taken(home: str, mbps: float, *options: str) -> tuple[dict, float]:
    """A run, and for how many seconds a round trip beside it took 150 ms longer than the least.

    Asking costs a slow connection something: more seldom there, so that it is half a per cent.
    """
    every = str(max(0.02, 0.3 / mbps))
    with beside(BESIDE, RECEIVER_ADDRESS, str(PORT), every) as trips:
        document = measured(home, "--samples", *options)[0]
    assert trips.stdout
    seen = [tuple(map(float, line.split())) for line in trips.stdout if line.count(" ") == 1]
    least = min(took for _, took in seen)
    return document, sum(took for _, took in seen if took > least + 0.15)


def gently_table(rates: list[float]) -> None:
    print(
        "\n| Mbit/s | queue ms | other | bare sender | flooding | s over 150 ms | gently "
        "| s over 150 ms | s in all | data of flooding |"
    )
    print("| " + " | ".join(["---:"] * 10) + " |")
    make_routed_link()
    with sink(), tempfile.TemporaryDirectory() as home:
        for mbps in rates:
            for queue_ms in (50, 120, 500):
                for share in (0.0, 0.3):
                    shape_router(mbps, queue_ms)
                    gently_row(home, mbps, queue_ms, share)


def gently_row(home: str, mbps: float, queue_ms: float, share: float) -> None:
    true = mbps * GOODPUT * (1 - share)
    with contextlib.ExitStack() as stack:
        if share:
            stack.enter_context(beside(OTHER, RECEIVER_ADDRESS, str(mbps * share)))
            time.sleep(1)
        bare = bare_sender_mbps(mbps)
        time.sleep(1)
        flood, flood_long = taken(home, mbps, "--connections", "1")
        time.sleep(1)
        climb, climb_long = taken(home, mbps, "--gently")
    one, gentle = flood["summary"]["one_connection"], climb["summary"]["one_connection"]
    flooded = one["typical_kbps"] / 1000
    found = gentle["typical_kbps"] / 1000
    print(
        f"| {mbps:g} | {queue_ms:g} | {share:.0%} | {bare / true - 1:+.1%} | "
        f"{flooded / true - 1:+.1%} | {flood_long:.1f} | {found / true - 1:+.1%} | "
        f"{climb_long:.1f} | {1.2 + climb['one_connection']['samples']['seconds'][-1]:.1f} | "
        f"{climb['data_used_bytes'] / flood['data_used_bytes']:.0%} |",
        flush=True,
    )


def lines() -> dict[str, object]:
    """Simulated connections whose windowed quantiles are known, short enough to be seen whole."""
    from eager_kestrel.core.connection.trace import Trace

    rng = np.random.default_rng(7)
    bursty = tuple(float(x) for x in rng.choice([9000, 5000, 2500], size=20, p=[0.6, 0.3, 0.1]))
    return {
        "two steps, 8 and 5 Mbit/s": Trace((0.0, 2.5), (8000.0, 5000.0), 5.0),
        "three steps, 12, 6 and 9 Mbit/s": Trace((0.0, 1.5, 3.0), (12e3, 6e3, 9e3), 4.5),
        "bursty in quarter seconds": Trace(tuple(0.25 * i for i in range(20)), bursty, 5.0),
        "one-second dips to 2 of 8 Mbit/s": Trace((0.0, 4.0), (8000.0, 2000.0), 5.0),
    }


def trace_table(count: int | None) -> float:
    """Print it, of so many connections; the largest part by which typical or floor is off."""
    from eager_kestrel.actions.measuring import MeasureOptions, measure
    from eager_kestrel.actions.practice import simulated_uplink
    from eager_kestrel.core.connection.summarising import phase_summary
    from eager_kestrel.practice.uplink import SimulatedConnection

    print(
        "\n| simulated connection | true floor | floor | off | true typical | typical | off | s |"
    )
    print("| --- | " + " | ".join(["---:"] * 7) + " |")
    worst = 0.0
    for name, trace in list(lines().items())[:count]:
        true = np.percentile(trace.window_kbps(2.0), [10, 50]) / 1000
        with simulated_uplink(SimulatedConnection(trace)) as up:
            taken = measure(MeasureOptions(up.url, connections=1, practice=True))
        one = phase_summary(taken.one_connection)
        assert one
        floor, typical = one.floor_kbps / 1000, one.typical_kbps / 1000
        print(
            f"| {name} | {true[0]:.3f} | {floor:.3f} | {floor / true[0] - 1:+.1%} | {true[1]:.3f} |"
            f" {typical:.3f} | {typical / true[1] - 1:+.1%} | "
            f"{one.ramp_seconds + one.steady_seconds:.1f} |",
            flush=True,
        )
        if not held_up(taken.one_connection.late_share):
            worst = max(worst, abs(floor / true[0] - 1))
    return worst


def main(words: list[str]) -> int:
    """Print the tables; 1 when a figure is further off than docs/measurement.md says."""
    parser = options(__doc__)
    parser.add_argument("--rates")
    parser.add_argument("--only", choices=["link", "traces", "gently", "bursts"])
    parser.add_argument("--repeat", type=int, help="runs at each rate, and nothing else")
    wish = parser.parse_args(words)
    usual = "20" if wish.quick else "1,3,8,20,100,500,2000"
    rates = [float(rate) for rate in (wish.rates or usual).split(",")]
    worst = uneven = 0.0
    if wish.only != "traces":
        reason = may_shape()
        if reason:
            left_out(f"the kernel-shaped link: {reason}")
        else:
            try:
                if wish.only == "gently":
                    gently_table(rates)
                elif wish.only == "bursts":
                    burst_table()
                elif wish.repeat:
                    repeat_table(rates, wish.repeat)
                else:
                    worst = link_table(rates, *(["--seconds", "5 s"] if wish.quick else []))
            finally:
                remove_link()
    if wish.only in (None, "traces") and not wish.repeat:
        uneven = trace_table(1 if wish.quick else None)
    slack = SLACK if wish.quick else 1.0
    return int(worst > slack * WORST or uneven > slack * WORST_UNEVEN)
