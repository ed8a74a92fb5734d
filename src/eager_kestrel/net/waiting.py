"""Waiting for another thread in a way that Ctrl-C interrupts.

On Windows a wait without a timeout in the main thread cannot be interrupted, so every such wait
wakes now and then.
"""

from __future__ import annotations

import threading
from concurrent.futures import Future
from typing import TypeVar

T = TypeVar("T")

WAKE_SECONDS = 0.5


def wait_for(event: threading.Event) -> None:
    """Wait until an event is set."""
    while not event.wait(WAKE_SECONDS):
        pass


def wait_for_end(thread: threading.Thread) -> None:
    """Wait until a thread has ended."""
    while thread.is_alive():
        thread.join(WAKE_SECONDS)


def result_of(future: Future[T]) -> T:
    """Wait for a future; return its result, or raise its exception."""
    while not future.done():
        try:
            future.exception(WAKE_SECONDS)
        except TimeoutError:
            continue
    return future.result()
