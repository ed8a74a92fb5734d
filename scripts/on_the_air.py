"""A show on the air, to be looked at: FFmpeg sends through ``watch`` over a simulated connection.

Usage: python scripts/on_the_air.py CONNECTION SECONDS [OPTION-OF-WATCH...]

CONNECTION is a bundled one or a rate. What is sent has the settings of the latest plan.
"""

from __future__ import annotations

import contextlib
import os
import shlex
import signal
import socket
import subprocess
import sys
import time

import imageio_ffmpeg

PORT, KEY = 19_377, "shown-here-only"


def main() -> int:
    """Watch a stream until it ends."""
    connection, seconds = sys.argv[1], sys.argv[2]
    kestrel = [sys.executable, "-m", "eager_kestrel"]
    from eager_kestrel import read_plan

    video = read_plan("latest").destinations[0].video
    assert video is not None
    rate, fps = f"{video.bitrate_kbps:.0f}k", f"{float(video.frame_rate):g}"
    source = f"testsrc2=size={video.resolution}:rate={fps}"
    send = [
        imageio_ffmpeg.get_ffmpeg_exe(),
        "-v",
        "error",
        "-re",
        "-f",
        "lavfi",
        "-i",
        source,
        "-f",
        "lavfi",
        "-i",
        "sine=frequency=330:sample_rate=48000",
        "-t",
        seconds,
        "-c:v",
        "libx264",
        "-preset",
        "veryfast",
        "-profile:v",
        "high",
        "-bf",
        "2",
        "-pix_fmt",
        "yuv420p",
        "-b:v",
        rate,
        "-maxrate",
        rate,
        "-bufsize",
        rate,
        "-g",
        str(video.keyframe_frames),
        "-x264-params",
        "scenecut=0:nal-hrd=cbr",
        "-c:a",
        "aac",
        "-b:a",
        "128k",
        "-ac",
        "2",
        "-f",
        "flv",
        f"rtmp://127.0.0.1:{PORT}/live/{KEY}",
    ]
    watch = [*kestrel, "watch", "--practice", connection, "--port", str(PORT), *sys.argv[3:]]
    env = os.environ | {"EAGER_KESTREL_LOCAL_KEY": KEY}
    print(f"$ eager-kestrel watch --practice {shlex.quote(connection)}", flush=True)
    watching = subprocess.Popen(watch, env=env)
    until = time.monotonic() + 30
    while time.monotonic() < until:
        with contextlib.suppress(OSError):
            socket.create_connection(("127.0.0.1", PORT), 1).close()
            break
        time.sleep(0.2)
    sender = subprocess.Popen(send, stderr=subprocess.DEVNULL)
    try:
        return watching.wait()
    except KeyboardInterrupt:
        watching.send_signal(signal.SIGINT)
        return watching.wait()
    finally:
        sender.terminate()


if __name__ == "__main__":
    sys.exit(main())
