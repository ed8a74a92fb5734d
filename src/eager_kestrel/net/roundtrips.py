"""Round trips of small requests, idle and under load, on their own connection.

Latency under working conditions is what the IETF ippm responsiveness work measures: what a small
request feels while the connection is full. One byte by POST, since that is what the endpoint takes.
"""

from __future__ import annotations

import contextlib
import threading
import time
from typing import TYPE_CHECKING, Any, Self

import httpx

from eager_kestrel.core.connection.run import RoundTrip
from eager_kestrel.net.delivered import DeliveredCounter, delivered_counter
from eager_kestrel.net.exchange import CONNECTED, bounded_body

if TYPE_CHECKING:
    from eager_kestrel.net.target import UploadTarget


UNCOUNTED_BYTES = 190
"""What one request costs the upload beside its own bytes: the headers of its two packets and of the
acknowledgement of its answer, 66 bytes of Ethernet, IP and TCP each."""
UNCOUNTED_KBIT = UNCOUNTED_BYTES * 8e-3
LINE_SHARE = 0.001
"""Of the connection that requests may cost in this way."""


class RoundTrips:
    """Sends a small request every so often within its ``with`` block."""

    def __init__(self, target: UploadTarget, began: float, every_seconds: float) -> None:
        """Begin counting time at ``began`` (time.perf_counter)."""
        self._target = target
        self._began = began
        self._every = self._least_every = every_seconds
        self._stop_asked = threading.Event()
        self._taken: list[RoundTrip] = []
        self._counter: DeliveredCounter | None = None
        self._delivered = self._before = self._asked = 0
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

    def pace(self, upload_kbps: float) -> None:
        """Ask less often on a slow upload, so that asking does not cost what is being measured."""
        if upload_kbps > 0:
            self._every = max(self._least_every, UNCOUNTED_KBIT / (LINE_SHARE * upload_kbps))

    def delivered_bytes(self) -> int:
        """What the requests themselves took of the connection, as far as the kernel counts it."""
        if self._counter is not None:
            with contextlib.suppress(OSError):
                self._delivered = max(self._delivered, self._counter.delivered_bytes())
        return self._before + self._delivered + self._asked * UNCOUNTED_BYTES

    def _trace(self, event: str, info: dict[str, Any]) -> None:
        """Hear of each new connection, to count on its socket (httpcore's trace extension)."""
        if event in CONNECTED:
            self._before, self._delivered = self._before + self._delivered, 0
            connection = info["return_value"].get_extra_info("socket")
            counter = delivered_counter(connection, lambda: 0)
            self._counter = None if counter.kind.startswith("estimate") else counter

    def _run(self) -> None:
        with self._target.client() as client:
            first = True
            while not self._stop_asked.is_set():
                trip = self._once(client)
                self._asked += trip.round_trip_ms is not None
                if not first and not self._stop_asked.is_set():
                    self._taken.append(trip)  # the first one also opened the connection
                first = False
                spent = time.perf_counter() - self._began - trip.at_seconds
                self._stop_asked.wait(max(0.0, self._every - spent))

    def _once(self, client: httpx.Client) -> RoundTrip:
        sent = time.perf_counter()
        answered: float | None = None
        try:
            asked = client.stream(
                "POST", self._target.url, content=b"k", extensions={"trace": self._trace}
            )
            with asked as response:
                if response.status_code < 400:
                    answered = (time.perf_counter() - sent) * 1000
                if bounded_body(response) is None:
                    answered = None
        except (httpx.HTTPError, OSError):
            answered = None
        return RoundTrip(
            at_seconds=round(sent - self._began, 4),
            round_trip_ms=None if answered is None else round(answered, 3),
        )
