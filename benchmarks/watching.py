"""Watching a stream: who is named, how early, and what it costs.

Usage: python benchmarks/watching.py [--only laws|causes|overhead]

Laws: simulated queues (tests/broadcasts.py). An hour on steady connections: wanted no
warning. Connections that carry 2 to 25 % less than is sent: how long before the first late frame it
is told, from outside and passing through.

Causes (root and iproute2): FFmpeg sends over a kernel link between two network namespaces, shaped
with ``tc tbf``; the ingest is a process that can be stopped and killed. Each trouble begins 12 s
into 40 s. Wanted: the right cause, and no other, both ways.

Overhead: a sender of 50 Mbit/s at 60 frames a second to a counting ingest, direct and through us,
in turns, on loopback. Reference: direct. Wanted: all of the throughput, at most 5 ms of added delay
for 99 frames in 100; and less than 1 % of a core for watching from outside.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import re
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import imageio_ffmpeg
import numpy as np
import psutil

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT))
PYTHON = str(Path(sys.executable))
FFMPEG = imageio_ffmpeg.get_ffmpeg_exe()
NEAR, FAR, FAR_ADDRESS, NEAR_ADDRESS = "ekw-near", "ekw-far", "10.78.0.2", "10.78.0.1"
KEY, LOCAL = "benchmark-key", "benchmark-local"
KBPS = 2500
MBPS, FPS, SECONDS = 50.0, 60, 20
SETTINGS = f"""format = "eager-kestrel/settings/2"
[video]
bitrate = "{KBPS - 128} kbit/s"
frame_rate = "30"
keyframes = "2 s"
[audio]
bitrate = "128 kbit/s"
"""
SINK = """
import sys, time
from eager_kestrel.net.listening import listener
from eager_kestrel.net.receiving import IngestServer
class Takes:
    def asked(self, app, key): return None if key == sys.argv[3] else "no"
    def arrived(self, piece):
        if piece.kind == "video" and not piece.header:
            sys.stdout.write(f"{piece.sent_ms} {piece.at:.6f} {piece.size}\\n")
        return None
    def besides(self, *_): pass
    def left(self, why): sys.stdout.write("left\\n"); sys.stdout.flush()
with IngestServer(Takes(), listening=listener(sys.argv[1], int(sys.argv[2]))):
    time.sleep(3600)
"""
SENDER = """
import sys, time
from eager_kestrel.net.publishing import Publication, Target
from eager_kestrel.wire import flv
url, key, mbps, fps, seconds = sys.argv[1], sys.argv[2], *map(float, sys.argv[3:6])
sending = Publication(Target.parse(url), key, unsent_bytes=4 * 2**20)
sending.send(9, 0, flv.video_header("h264", b"\\x01\\x64\\x00\\x1f\\xff"), None)
body, began = bytes(round(mbps * 125_000 / fps)), time.perf_counter()
for number in range(round(fps * seconds)):
    due = began + number / fps
    while (left := due - time.perf_counter()) > 0:
        sending.look(min(left, 0.002))
    sys.stdout.write(f"{number} {time.perf_counter():.6f}\\n")
    sending.send(9, number, flv.video_frame("h264", body, keyframe=number % 120 == 0), None)
    sending.look(0)
until = time.perf_counter() + 3
while sending.queued_bytes and time.perf_counter() < until:
    sending.look(0.01)
sending.close()
"""


def laws() -> bool:
    """Whether a steady hour is never cried over; prints lead times."""
    from tests.broadcasts import played

    from eager_kestrel.core.watching.verdict import Expected

    cried = 0
    for seen in (True, False):
        for line, keyframe, fps in ((6300, 12, 30), (7500, 6, 60), (20000, 3, 60)):
            out = played(
                lambda _, line=line: line,
                Expected(6000, fps),
                3600,
                seen=seen,
                keyframe=keyframe,
                seed=line,
            )
            cried += sum(now.verdict.cause is not None for now in out.told)
    print(f"an hour on six steady connections: {cried} warnings")
    rng = np.random.default_rng(18)
    for seen in (True, False):
        leads, missed = [], 0
        for number in range(100):
            lack, key = rng.uniform(0.02, 0.25), rng.uniform(1, 10)
            out = played(
                lambda t, lack=lack: 9000 if t < 20 else 6000 * (1 - lack),
                Expected(6000, 60),
                120,
                seen=seen,
                keyframe=key,
                seed=number,
            )
            if out.first_late is None or out.warned_at is None:
                missed += out.first_late is not None
                continue
            leads.append(out.first_late - out.warned_at)
        way = "through" if seen else "from outside"
        middle = statistics.median(leads)
        print(
            f"{way}: told {middle:.1f} s before the first late frame (median of {len(leads)}), "
            f"at least {min(leads):.1f} s; {missed} not told"
        )
    return cried == 0


def run(*command: str) -> None:
    subprocess.run(command, check=True, capture_output=True)


@contextlib.contextmanager
def link() -> Iterator[None]:
    """Two namespaces and a link between them."""
    try:
        run("ip", "netns", "add", NEAR)
        run("ip", "netns", "add", FAR)
        run(
            "ip",
            "link",
            "add",
            "ekw0",
            "netns",
            NEAR,
            "type",
            "veth",
            "peer",
            "name",
            "ekw1",
            "netns",
            FAR,
        )
        for name, device, address in ((NEAR, "ekw0", NEAR_ADDRESS), (FAR, "ekw1", FAR_ADDRESS)):
            run("ip", "-n", name, "addr", "add", f"{address}/24", "dev", device)
            run("ip", "-n", name, "link", "set", device, "up")
            run("ip", "-n", name, "link", "set", "lo", "up")
        shape(4 * KBPS)
        yield
    finally:
        for name in (NEAR, FAR):
            subprocess.run(["ip", "netns", "del", name], capture_output=True, check=False)


def shape(kbps: float) -> None:
    """What the link carries from now on; half a second waits in front of it."""
    queue = max(16_000, round(kbps * 62))
    run(
        "ip",
        "netns",
        "exec",
        NEAR,
        "tc",
        "qdisc",
        "replace",
        "dev",
        "ekw0",
        "root",
        "tbf",
        "rate",
        f"{round(kbps)}kbit",
        "burst",
        "8kb",
        "limit",
        str(queue),
    )


@contextlib.contextmanager
def process(*command: str, **options: object) -> Iterator[subprocess.Popen[str]]:
    """Ended with the block, whatever happens."""
    begun = subprocess.Popen(command, text=True, **options)  # type: ignore[call-overload]
    try:
        yield begun
    finally:
        begun.send_signal(signal.SIGCONT)
        begun.kill()
        begun.wait()


def ffmpeg(url: str, seconds: float, pace: str = "1", source: str = "testsrc2=") -> list[str]:
    cbr = "scenecut=0:nal-hrd=cbr" if source.startswith("test") else "scenecut=0"
    video = f"{KBPS - 128}k"
    return [
        FFMPEG,
        "-v",
        "error",
        "-readrate",
        pace,
        "-f",
        "lavfi",
        "-i",
        f"{source}size=640x360:rate=30",
        "-readrate",
        pace,
        "-f",
        "lavfi",
        "-i",
        "sine=frequency=330:sample_rate=48000",
        "-t",
        str(seconds),
        "-c:v",
        "libx264",
        "-preset",
        "ultrafast",
        "-pix_fmt",
        "yuv420p",
        "-threads",
        "1",
        "-b:v",
        video,
        "-maxrate",
        video,
        "-bufsize",
        video,
        "-g",
        "60",
        "-x264-params",
        cbr,
        "-c:a",
        "aac",
        "-b:a",
        "128k",
        "-ac",
        "2",
        "-f",
        "flv",
        url,
    ]


def stall(sink: subprocess.Popen[str]) -> None:
    del sink
    shape(8)
    time.sleep(3)
    shape(4 * KBPS)


def freeze(sink: subprocess.Popen[str]) -> None:
    sink.send_signal(signal.SIGSTOP)
    time.sleep(8)
    sink.send_signal(signal.SIGCONT)


def dip(sink: subprocess.Popen[str]) -> None:
    del sink
    shape(0.5 * KBPS)
    time.sleep(8)
    shape(4 * KBPS)


def nothing(sink: subprocess.Popen[str]) -> None:
    del sink


TROUBLES = {
    "steady": (nothing, None, None, {}),
    "line carries half": (dip, "upload", "upload", {}),
    "line carries 6 % less": (lambda _: shape(0.94 * KBPS), "upload", "upload", {}),
    "line stands still": (stall, "upload", "upload", {}),
    "ingest stops reading": (freeze, "ingest", "ingest", {}),
    "ingest hangs up": (lambda sink: sink.kill(), "connection", "connection", {}),
    "slow encoder": (nothing, "program", "machine", {"pace": "0.75"}),
    "easy scene": (nothing, "program", "scene", {"source": "color=c=black:"}),
}


def one(name: str, folder: str, *, through: bool) -> tuple[set[str], float | None, str]:
    """Causes named, how early, and the first text."""
    does, _, _, how = TROUBLES[name]
    inside = ["ip", "netns", "exec", NEAR]
    env = os.environ | {
        "EAGER_KESTREL_HOME": folder,
        "EAGER_KESTREL_STREAM_KEY": KEY,
        "EAGER_KESTREL_LOCAL_KEY": LOCAL,
    }
    url = f"rtmp://{FAR_ADDRESS}:1935/live"
    sink = ["ip", "netns", "exec", FAR, PYTHON, "-c", SINK, FAR_ADDRESS, "1935", KEY]
    watch = [
        PYTHON,
        "-m",
        "eager_kestrel",
        "watch",
        "--settings",
        f"{folder}/s.toml",
        "--within",
        "60 s",
        "--json",
    ]
    shape(4 * KBPS)
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    with contextlib.ExitStack() as stack:
        ingest = stack.enter_context(process(*sink, **quiet))
        time.sleep(1.5)
        if through:
            watching = stack.enter_context(
                process(
                    *inside,
                    *watch,
                    "--through",
                    "--to",
                    f"oxbow={url}",
                    env=env,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.DEVNULL,
                )
            )
            time.sleep(2.5)
            send = ffmpeg(f"rtmp://127.0.0.1:1935/live/{LOCAL}", 34, **how)
        else:
            send = ffmpeg(f"{url}/{KEY}", 34, **how)
        sender = stack.enter_context(process(*inside, *send, **quiet))
        if not through:
            watching = stack.enter_context(
                process(
                    *inside,
                    *watch,
                    "--to",
                    FAR_ADDRESS,
                    env=env,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.DEVNULL,
                )
            )
        time.sleep(12)
        does(ingest)
        if name == "ingest hangs up":
            ingest.wait()
            time.sleep(1.5)
            stack.enter_context(process(*sink, **quiet))
            if not through:
                time.sleep(1.5)
                sender.wait()
                again = ffmpeg(f"{url}/{KEY}", 15, **how)
                stack.enter_context(process(*inside, *again, **quiet))
        with contextlib.suppress(subprocess.TimeoutExpired):
            watching.wait(60)
        if watching.poll() is None:
            watching.terminate()
    reviewed = subprocess.run(
        [PYTHON, "-m", "eager_kestrel", "review", "--json"],
        env=env,
        capture_output=True,
        text=True,
        check=True,
    )
    troubles = json.loads(reviewed.stdout)["broadcast"]["troubles"]
    warned = [t["warned_seconds"] for t in troubles if t["warned_seconds"] is not None]
    text = troubles[0]["text"] if troubles else "carries it"
    return {t["cause"] for t in troubles}, (warned[0] if warned else None), text


def causes() -> bool:
    """Whether each trouble is named, both ways."""
    right = True
    print("| trouble | way | named | told before the first late frame | what was said first |")
    print("| --- | --- | --- | ---: | --- |")
    with link(), tempfile.TemporaryDirectory() as folder:
        Path(folder, "s.toml").write_text(SETTINGS)
        for name, (_, outside, passing, _) in TROUBLES.items():
            for through, wanted in ((False, outside), (True, passing)):
                named, warned, text = one(name, folder, through=through)
                fits = named == ({wanted} if wanted else set())
                right &= fits
                lead = "" if warned is None else f"{warned:.1f} s"
                way = "through" if through else "from outside"
                said = " and ".join(sorted(named)) or "nothing"
                print(
                    f"| {name} | {way} | {said}{'' if fits else ' (WRONG)'} | {lead} | {text} |",
                    flush=True,
                )
    return right


def sent_once(folder: str, *, through: bool) -> tuple[np.ndarray, float, float]:
    """Delays in ms of every frame, Mbit/s that arrived, and cores the passing-on took."""
    env = os.environ | {
        "EAGER_KESTREL_HOME": folder,
        "EAGER_KESTREL_STREAM_KEY": KEY,
        "EAGER_KESTREL_LOCAL_KEY": LOCAL,
    }
    port = 19400 + through
    arrived, left = Path(folder, "arrived"), Path(folder, "sent")
    cores = 0.0
    with contextlib.ExitStack() as stack:
        out = stack.enter_context(arrived.open("w"))
        sink = stack.enter_context(
            process(PYTHON, "-u", "-c", SINK, "127.0.0.1", str(port), KEY, stdout=out)
        )
        time.sleep(1.5)
        url, key = f"rtmp://127.0.0.1:{port}/live", KEY
        if through:
            watching = stack.enter_context(
                process(
                    PYTHON,
                    "-m",
                    "eager_kestrel",
                    "watch",
                    "--through",
                    "--port",
                    "19402",
                    "--to",
                    f"oxbow={url}",
                    "--json",
                    env=env,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                )
            )
            time.sleep(2.5)
            url, key = "rtmp://127.0.0.1:19402/live", LOCAL
            measured = psutil.Process(watching.pid)
            before = sum(measured.cpu_times()[:2])
        with left.open("w") as said:
            what = [url, key, str(MBPS), str(FPS), str(SECONDS)]
            subprocess.run(
                [PYTHON, "-u", "-c", SENDER, *what], stdout=said, check=True, timeout=120
            )
        if through:
            cores = (sum(measured.cpu_times()[:2]) - before) / SECONDS
        time.sleep(1.0)
        del sink
    begun = {
        int(n): float(at) for n, at in (line.split() for line in left.read_text().splitlines())
    }
    rows = [re.split(" ", line) for line in arrived.read_text().splitlines() if line[:1].isdigit()]
    delays = np.array([(float(at) - begun[int(n)]) * 1000 for n, at, _ in rows])
    span = float(rows[-1][1]) - float(rows[0][1])
    return delays, sum(int(size) for _, _, size in rows[1:]) * 8e-6 / span, cores


def watch_cpu(folder: str) -> float:
    """The share of a core that watching from outside takes."""
    env = os.environ | {"EAGER_KESTREL_HOME": folder, "EAGER_KESTREL_STREAM_KEY": KEY}
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    with (
        process(PYTHON, "-c", SINK, "127.0.0.1", "19405", KEY, **quiet),
        process(*ffmpeg(f"rtmp://127.0.0.1:19405/live/{KEY}", 60), **quiet) as sender,
    ):
        time.sleep(2)
        with process(
            PYTHON,
            "-m",
            "eager_kestrel",
            "watch",
            "--json",
            "--pid",
            str(sender.pid),
            env=env,
            **quiet,
        ) as watching:
            time.sleep(5)
            measured = psutil.Process(watching.pid)
            before, began = sum(measured.cpu_times()[:2]), time.perf_counter()
            time.sleep(40)
            return (sum(measured.cpu_times()[:2]) - before) / (time.perf_counter() - began)


def overhead() -> bool:
    """Print ratios; whether within the limits."""
    with tempfile.TemporaryDirectory() as folder:
        found = {way: [] for way in (False, True)}
        for _ in range(3):
            for way in found:
                found[way].append(sent_once(folder, through=way))
        cpu = watch_cpu(folder)
    rows = {
        way: [(np.median(d), np.percentile(d, 99), mbps, cores) for d, mbps, cores in runs]
        for way, runs in found.items()
    }
    middle = {way: np.median(np.array(values), axis=0) for way, values in rows.items()}
    direct, through = middle[False], middle[True]
    print("| | direct | through | |\n| --- | ---: | ---: | ---: |")
    print(
        f"| throughput, Mbit/s | {direct[2]:.2f} | {through[2]:.2f} | "
        f"{through[2] / direct[2]:.3f} times |"
    )
    print(
        f"| delay of a frame, median, ms | {direct[0]:.2f} | {through[0]:.2f} | "
        f"{through[0] - direct[0]:+.2f} ms |"
    )
    print(
        f"| delay, 99 in 100, ms | {direct[1]:.2f} | {through[1]:.2f} | "
        f"{through[1] - direct[1]:+.2f} ms |"
    )
    print(f"| cores for a stream of {MBPS:g} Mbit/s | | {through[3]:.3f} | |")
    print(f"watching from outside takes {cpu:.2%} of a core (wanted: 1 % at the most)")
    return bool(through[2] > 0.99 * direct[2] and through[1] - direct[1] < 5 and cpu < 0.01)


def main() -> None:
    """Run what is asked for; exit 1 when something is not as wanted."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--only", choices=("laws", "causes", "overhead"))
    parser.add_argument("--trouble", action="append", choices=TROUBLES, help="only this one")
    given = parser.parse_args()
    asked = given.only
    for name in set(TROUBLES) - set(given.trouble or TROUBLES):
        del TROUBLES[name]
    parts = {"laws": laws, "causes": causes, "overhead": overhead}
    results = [part() for name, part in parts.items() if asked in (None, name)]
    sys.exit(0 if all(results) else 1)


if __name__ == "__main__":
    main()
