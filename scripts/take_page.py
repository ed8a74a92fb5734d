"""Save a PNG of the page of ``watch`` while a stream is on the air, as a browser draws it.

Usage: python scripts/take_page.py OUT.png [--size 1280x800] [--after 12] [--dark] -- COMMAND...

Starts the command, opens the address that it tells in Debian's Chromium (chromium, chromium-driver;
and selenium from PyPI), waits and takes the picture. --size is the window in CSS pixels.
"""

from __future__ import annotations

import argparse
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

from selenium import webdriver

ADDRESS = re.compile(r"http://\S+/[\w-]{16,}/")
FLAGS = (
    *("--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"),
    *("--disable-background-networking", "--disable-component-update", "--disable-sync"),
    "--hide-scrollbars",
)


def browser() -> webdriver.Chrome:
    """A browser that asks nobody anything."""
    options = webdriver.ChromeOptions()
    for flag in FLAGS:
        options.add_argument(flag)
    options.binary_location = "/usr/bin/chromium"
    return webdriver.Chrome(options, webdriver.ChromeService("/usr/bin/chromedriver"))


def main() -> int:
    """Take one picture."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("out", type=Path)
    parser.add_argument("--size", default="1280x800")
    parser.add_argument("--after", type=float, default=12)
    parser.add_argument("--dark", action="store_true")
    parser.add_argument("command", nargs="+")
    wish = parser.parse_args()
    width, height = map(int, wish.size.split("x"))
    with subprocess.Popen(wish.command, stderr=subprocess.PIPE, text=True) as there:
        try:
            assert there.stderr is not None
            address = None
            while address is None:
                address = ADDRESS.search(there.stderr.readline())
            seen = browser()
            screen = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False}
            seen.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", screen)
            scheme = {"name": "prefers-color-scheme", "value": "dark" if wish.dark else "light"}
            seen.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": [scheme]})
            seen.get(address.group())
            time.sleep(wish.after)
            seen.save_screenshot(str(wish.out))
            seen.quit()
        finally:
            there.send_signal(signal.SIGINT)
    return 0


if __name__ == "__main__":
    sys.exit(main())
