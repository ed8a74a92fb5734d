"""A far end behind a simulated connection of 8 Mbit/s, measured gently: a picture of both ends."""

from __future__ import annotations

import json
import os
import subprocess
import sys

from eager_kestrel.actions.practice import simulated_connection
from eager_kestrel.core.units import Bitrate
from eager_kestrel.practice.uplink import PracticeUplink

PROGRAM = [sys.executable, "-m", "eager_kestrel"]


def main() -> None:
    """Stand it up, measure, take it down."""
    command = [*PROGRAM, "far-end", "--port", "0", "--no-rtmp", "--bind", "127.0.0.1", "--json"]
    with subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    ) as far:
        assert far.stdout
        said = ""
        while not said.rstrip().endswith("}"):
            said += far.stdout.readline()
        found = json.loads(said)
        print(
            f"$ eager-kestrel far-end\n  (there) listening; token: {found['token']}\n", flush=True
        )
        with PracticeUplink(simulated_connection(Bitrate.parse("8 Mbit/s")), found["port"]) as up:
            address = f"http://127.0.0.1:{up.port}"
            print(f"$ eager-kestrel measure {address} --token --gently\n", flush=True)
            env = {**os.environ, "EAGER_KESTREL_TOKEN": found["token"]}
            subprocess.run(
                [*PROGRAM, "measure", address, "--token", "--gently", "--no-keep"],
                env=env,
                check=False,
            )
        far.terminate()


if __name__ == "__main__":
    main()
