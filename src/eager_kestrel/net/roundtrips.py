"""Round trips of small requests, idle and under load, on a connection of their own.

Latency under working conditions is what the IETF ippm responsiveness work measures: what a small
request feels while the line is full. One byte by POST, since that is what the endpoint takes.
"""

from __future__ import annotations

import threading
import time
from typing import Self

import httpx

from eager_kestrel.core.line.run import RoundTrip
from eager_kestrel.net.exchange import bounded_body
from eager_kestrel.net.target import Target


class RoundTrips:
    """Sends a small request every so often within its ``with`` block."""

    def __init__(self, target: Target, began: float, every_seconds: float) -> None:
        """Begin counting time at ``began`` (time.monotonic)."""
        self._target = target
        self._began = began
        self._every = every_seconds
        self._stop_asked = threading.Event()
        self._taken: list[RoundTrip] = []
        self._thread = threading.Thread(target=self._run, name="round trips", daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop_asked.set()
        self._thread.join(0.5)

    @property
    def taken(self) -> tuple[RoundTrip, ...]:
        """Those so far."""
        return tuple(self._taken)

    def _run(self) -> None:
        with self._target.client() as client:
            first = True
            while not self._stop_asked.is_set():
                trip = self._once(client)
                if not first and not self._stop_asked.is_set():
                    self._taken.append(trip)  # the first one also opened the connection
                first = False
                spent = time.monotonic() - self._began - trip.at_seconds
                self._stop_asked.wait(max(0.0, self._every - spent))

    def _once(self, client: httpx.Client) -> RoundTrip:
        sent = time.monotonic()
        answered: float | None = None
        try:
            with client.stream("POST", self._target.url, content=b"k") as response:
                if response.status_code < 400:
                    answered = (time.monotonic() - sent) * 1000
                if bounded_body(response) is None:
                    answered = None
        except (httpx.HTTPError, OSError):
            answered = None
        return RoundTrip(
            at_seconds=round(sent - self._began, 4),
            round_trip_ms=None if answered is None else round(answered, 3),
        )
