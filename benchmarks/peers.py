"""Who is named when a stream has trouble, with servers and programs that others wrote.

Usage: python -m benchmarks peers [--quick] [--only SCENARIO] [--way outside|through]

Needs Linux, root, iproute2, nginx with its RTMP module, and GStreamer; what is missing is left out
and said. FFmpeg and GStreamer publish 2,500 kbit/s over a link of ours (benchmarks/links.py) to
nginx, to FFmpeg or to a sink of ours, while ``watch`` looks on from outside or stands in between.
A trouble begins 12 s into 34 s. Prints the table of docs/watching.md: what was wrong, who was
named, after how long, and who was named besides.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import imageio_ffmpeg

from benchmarks import left_out, options
from benchmarks.links import RECEIVER, RECEIVER_ADDRESS, SENDER, Link, inside, link, run, why_not

PYTHON, FFMPEG = sys.executable, imageio_ffmpeg.get_ffmpeg_exe()
KEY, LOCAL, KBPS = "benchmark-key", "benchmark-local", 2500
BEGINS, LASTS = 12.0, 34.0
SETTINGS = f"""format = "eager-kestrel/settings/3"
[video]
bitrate = "{KBPS - 128} kbit/s"
frame_rate = "30"
keyframes = "2 s"
[audio]
bitrate = "128 kbit/s"
"""
NGINX = """daemon off; master_process off; pid {folder}/nginx.pid; error_log {folder}/error.log;
load_module /usr/lib/nginx/modules/ngx_rtmp_module.so;
events {{ worker_connections 64; }}
rtmp {{ server {{ listen {port}; application live {{ live on; }} }} }}
"""
SINK = """
import sys, time
from eager_kestrel.net.addresses import listener
from eager_kestrel.net.receiving import IngestServer
class Takes:
    def heard(self, count): return None
    def asked(self, app, key, address): return None if key == sys.argv[3] else "no"
    def arrived(self, piece):
        if piece.kind == "video" and not piece.header:
            sys.stdout.write(f"{piece.sent_ms} {piece.at:.6f} {piece.size}\\n")
        return None
    def besides(self, *_): pass
    def left(self, why): pass
with IngestServer(Takes(), listening=listener(sys.argv[1], int(sys.argv[2]))):
    time.sleep(3600)
"""
NARROW = """
import socket, sys, threading
door = socket.socket()
door.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
door.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 16384)
door.bind((sys.argv[1], 1935))
door.listen()
def carry(a, b):
    while data := a.recv(4096):
        b.sendall(data)
    b.shutdown(socket.SHUT_WR)
while True:
    near, _ = door.accept()
    far = socket.create_connection((sys.argv[1], 1936))
    for ends in ((near, far), (far, near)):
        threading.Thread(target=carry, args=ends, daemon=True).start()
"""


@dataclass
class Stage:
    """What a trouble can lay hands on."""

    line: Link
    server: subprocess.Popen[str]
    program: subprocess.Popen[str]


Does = Callable[[Stage], None]


def nothing(stage: Stage) -> None:
    """A steady stream."""


def changed(seconds: float | None = None, **figures: float) -> Does:
    """The link is another for a while, or for good."""

    def does(stage: Stage) -> None:
        stage.line.set(**figures)
        if seconds is not None:
            time.sleep(seconds)
            stage.line.set(mbps=GOOD["mbps"], up=True)

    return does


def stopped(which: str, seconds: float) -> Does:
    """The server or the program stands still."""

    def does(stage: Stage) -> None:
        process: subprocess.Popen[str] = getattr(stage, which)
        process.send_signal(signal.SIGSTOP)
        time.sleep(seconds)
        process.send_signal(signal.SIGCONT)

    return does


def halting(stage: Stage) -> None:
    """The program runs for a tenth of a second in every eight."""
    until = time.time() + 15
    while time.time() < until:
        stage.program.send_signal(signal.SIGSTOP)
        time.sleep(0.7)
        stage.program.send_signal(signal.SIGCONT)
        time.sleep(0.1)


def killed(stage: Stage) -> None:
    """The server goes away."""
    stage.server.kill()


GOOD = {"mbps": 10.0, "delay_ms": 30.0, "queue_ms": 500.0}


@dataclass(frozen=True)
class Scenario:
    """One trouble."""

    name: str
    outside: tuple[str, ...] = ()
    """Who is to be named from outside; any of them, none for nobody."""
    through: tuple[str, ...] = ()
    does: Does = nothing
    program: str = "ffmpeg"
    server: str = "nginx"
    link: dict[str, float] = field(default_factory=dict)
    control: str = "bbr"
    ffmpeg: dict[str, str] = field(default_factory=dict)
    begins: float = BEGINS
    lasts: float = LASTS
    stays: float = 12.0
    """How long watching may go on by itself once the program has ended."""


UP, ING, MACHINE = ("upload",), ("ingest",), ("machine",)
HELD_UP = ("machine", "program")
"""It stood still, and then made up for it."""
SCENARIOS = (
    Scenario("steady"),
    Scenario("steady", program="gstreamer"),
    Scenario("steady", server="ffmpeg"),
    Scenario("steady, 200 ms away", link={"delay_ms": 200}),
    Scenario("steady, 0.5 % lost", link={"delay_ms": 40, "loss": 0.005}),
    Scenario("upload carries half for 8 s", UP, UP, changed(8, mbps=KBPS / 2000)),
    Scenario(
        "upload carries half for 8 s", UP, UP, changed(8, mbps=KBPS / 2000), program="gstreamer"
    ),
    Scenario("upload carries 6 % less", UP, UP, changed(mbps=0.94 * KBPS / 1000)),
    Scenario(
        "3 % of packets lost, CUBIC",
        UP,
        UP,
        changed(loss=0.03),
        link={"delay_ms": 150},
        control="cubic",
    ),
    Scenario("upload dead for 3 s", UP, UP, changed(3, up=False)),
    Scenario("server stops reading for 8 s", ING, ING, stopped("server", 8)),
    Scenario("server stops reading for 8 s", ING, ING, stopped("server", 8), server="ours"),
    Scenario(
        "server with a window of 16 KB, 100 ms away",
        ING,
        ING,
        server="narrow",
        link={"delay_ms": 100},
    ),
    Scenario("server dies, and from outside the program with it", (), ("connection",), killed),
    Scenario("slow encoder", ("program",), MACHINE, ffmpeg={"pace": "0.75"}),
    Scenario("easy scene", ("program",), ("scene",), ffmpeg={"source": "color=c=black:"}),
    Scenario("program frozen for 8 s", HELD_UP, HELD_UP, stopped("program", 8)),
    Scenario(
        "program frozen for 8 s", HELD_UP, HELD_UP, stopped("program", 8), program="gstreamer"
    ),
    Scenario("program stopped 0.7 of 0.8 s", HELD_UP, HELD_UP, halting),
    Scenario("program sends a quarter more", ("program",), ("program",), ffmpeg={"more": "1.25"}),
)
QUICK = Scenario(
    "upload dead for 3 s", UP, UP, changed(3, up=False), server="ours", begins=4, lasts=10, stays=2
)
"""With nothing but FFmpeg and ourselves."""


@contextlib.contextmanager
def process(*command: str, **options: object) -> Iterator[subprocess.Popen[str]]:
    """Ended with the block, whatever happens."""
    begun = subprocess.Popen(command, text=True, **options)  # type: ignore[call-overload]
    try:
        yield begun
    finally:
        begun.send_signal(signal.SIGCONT)
        begun.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            begun.wait(5)
        begun.kill()
        begun.wait()


def ffmpeg(
    url: str, pace: str = "1", source: str = "testsrc2=", more: str = "1", seconds: float = LASTS
) -> list[str]:
    """A test image and a tone, at a constant bitrate."""
    cbr = "scenecut=0:nal-hrd=cbr" if source.startswith("test") else "scenecut=0"
    kbps = f"{round((KBPS - 128) * float(more))}k"
    return [
        *(FFMPEG, "-v", "error", "-readrate", pace, "-f", "lavfi"),
        *("-i", f"{source}size=640x360:rate=30", "-readrate", pace, "-f", "lavfi"),
        *("-i", "sine=frequency=330:sample_rate=48000", "-t", str(seconds), "-c:v", "libx264"),
        *("-preset", "ultrafast", "-pix_fmt", "yuv420p", "-threads", "1", "-b:v", kbps),
        *("-maxrate", kbps, "-bufsize", kbps, "-g", "60", "-x264-params", cbr, "-c:a", "aac"),
        *("-b:a", "128k", "-ac", "2", "-f", "flv", url),
    ]


def gstreamer(url: str) -> list[str]:
    """The same."""
    frames = round(LASTS * 30)
    return [
        *("gst-launch-1.0", "-q", "videotestsrc", "is-live=true", "pattern=snow"),
        *(f"num-buffers={frames}", "!", "video/x-raw,width=640,height=360,framerate=30/1", "!"),
        *("x264enc", "bitrate=2900", "speed-preset=ultrafast", "key-int-max=60"),
        *("vbv-buf-capacity=1000", "option-string=nal-hrd=cbr", "!", "h264parse", "!"),
        *("flvmux", "name=m", "streamable=true", "!", "rtmp2sink", f"location={url}"),
        *("audiotestsrc", "is-live=true", "!", "avenc_aac", "bitrate=128000", "!", "m."),
    ]


@contextlib.contextmanager
def serving(kind: str, folder: str) -> Iterator[subprocess.Popen[str]]:
    """The far end; what stands still or dies is the first of its processes."""
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    with contextlib.ExitStack() as stack:
        port = "1936" if kind == "narrow" else "1935"
        if kind in ("nginx", "narrow"):
            conf = Path(folder, "nginx.conf")
            conf.write_text(NGINX.format(folder=folder, port=port))
            command = ["nginx", "-p", folder, "-c", str(conf)]
        elif kind == "ffmpeg":
            url = f"rtmp://{RECEIVER_ADDRESS}:1935/live/{KEY}"
            command = [FFMPEG, "-v", "error", "-listen", "1", "-i", url, "-f", "null", "-"]
        else:
            command = [PYTHON, "-c", SINK, RECEIVER_ADDRESS, port, KEY]
        server = stack.enter_context(process(*inside(RECEIVER, *command), **quiet))
        if kind == "narrow":
            narrow = inside(RECEIVER, PYTHON, "-c", NARROW, RECEIVER_ADDRESS)
            stack.enter_context(process(*narrow, **quiet))
        time.sleep(1.5)
        yield server


@dataclass
class Seen:
    """What ``watch`` said, and when."""

    rows: list[tuple[float, str, str]] = field(default_factory=list)
    """Wall clock, cause, text; where something was the matter."""

    def follow(self, watching: subprocess.Popen[str]) -> None:
        """Take in one document a second."""
        assert watching.stdout is not None
        for line in watching.stdout:
            verdict = json.loads(line)["verdict"]
            if verdict["cause"]:
                self.rows.append((time.time(), verdict["cause"], verdict["text"]))


def played(scenario: Scenario, folder: str, *, through: bool) -> tuple[Seen, float]:
    """Play it; what was seen, and when the trouble began."""
    env = os.environ | {
        "EAGER_KESTREL_HOME": folder,
        "EAGER_KESTREL_STREAM_KEY": KEY,
        "EAGER_KESTREL_LOCAL_KEY": LOCAL,
    }
    url, seen = f"rtmp://{RECEIVER_ADDRESS}:1935/live", Seen()
    flags = ["--settings", f"{folder}/s.toml", "--max-time", "50 s", "--json"]
    watch = inside(SENDER, PYTHON, "-m", "eager_kestrel", "watch", *flags)
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    pipes = {"env": env, "stdout": subprocess.PIPE, "stderr": subprocess.DEVNULL}
    with contextlib.ExitStack() as stack:
        line = stack.enter_context(link(seed=5, **(GOOD | scenario.link)))
        way = (f"{RECEIVER_ADDRESS}/32", "dev", "ek0", "congctl", scenario.control)
        run("ip", "-n", SENDER, "route", "replace", *way)
        server = stack.enter_context(serving(scenario.server, folder))
        to = f"{url}/{KEY}"
        if through:
            command = [*watch, "--through", "--to", f"oxbow={url}"]
            watching = stack.enter_context(process(*command, **pipes))
            time.sleep(3)
            to = f"rtmp://127.0.0.1:1935/live/{LOCAL}"
        send = (
            gstreamer(to)
            if scenario.program == "gstreamer"
            else ffmpeg(to, **scenario.ffmpeg, seconds=scenario.lasts)
        )
        program = stack.enter_context(process(*inside(SENDER, *send), **quiet))
        if not through:
            time.sleep(1)
            command = [*watch, "--to", RECEIVER_ADDRESS]
            watching = stack.enter_context(process(*command, **pipes))
        reader = threading.Thread(target=seen.follow, args=(watching,))
        reader.start()
        time.sleep(scenario.begins)
        began = time.time()
        scenario.does(Stage(line, server, program))
        with contextlib.suppress(subprocess.TimeoutExpired):
            program.wait(scenario.begins + scenario.lasts)
        with contextlib.suppress(subprocess.TimeoutExpired):
            watching.wait(scenario.stays)
        if watching.poll() is None:
            watching.terminate()
        reader.join(10)
    return seen, began


def row(scenario: Scenario, folder: str, *, through: bool) -> bool:
    """Play and print it; whether the right one was named, and no other."""
    seen, began = played(scenario, folder, through=through)
    wanted = scenario.through if through else scenario.outside
    named = {cause for _, cause, _ in seen.rows}
    right = named <= set(wanted) and bool(named) == bool(wanted)
    hits = [(at, text) for at, cause, text in seen.rows if cause in wanted]
    timed = hits and scenario.does is not nothing
    after = f"{max(0.0, hits[0][0] - began):.0f} s" if timed else ""
    besides = " and ".join(sorted(named - set(wanted))) or ""
    said = hits[-1][1] if hits else (seen.rows[0][2] if seen.rows else "on time")
    way = "through" if through else "outside"
    print(
        f"| {scenario.name} | {scenario.program}, {scenario.server} | {way} | "
        f"{' or '.join(wanted) or 'nobody'} | {' and '.join(sorted(named)) or 'nobody'} | "
        f"{after} | {besides} | {said} |",
        flush=True,
    )
    return right


def main(words: list[str]) -> int:
    """Every scenario, both ways; 1 when something is not as wanted."""
    parser = options(__doc__)
    parser.add_argument("--only", action="append", help="the beginning of a scenario's name")
    parser.add_argument("--way", choices=("outside", "through"))
    given = parser.parse_args(words)
    if reason := why_not():
        return left_out(reason)
    scenarios = [QUICK] if given.quick else list(SCENARIOS)
    missing = {name for name in ("nginx", "gst-launch-1.0") if shutil.which(name) is None}
    results = []
    print("| what happens | program, server | way | truth | named | after | besides | said |")
    print("| " + " | ".join(["---"] * 8) + " |")
    with tempfile.TemporaryDirectory() as folder:
        Path(folder, "s.toml").write_text(SETTINGS)
        for scenario in scenarios:
            if given.only and not scenario.name.startswith(tuple(given.only)):
                continue
            if (scenario.server in ("nginx", "narrow") and "nginx" in missing) or (
                scenario.program == "gstreamer" and "gst-launch-1.0" in missing
            ):
                print(f"| {scenario.name} | {scenario.program} | left out: {missing} | | | | | |")
                continue
            ways = [given.way] if given.way else ["outside", "through"]
            results += [row(scenario, folder, through=way == "through") for way in ways]
    print(f"\n{sum(results)} of {len(results)} as wanted.")
    return 0 if all(results) else 1
