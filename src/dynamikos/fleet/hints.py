"""Waiting for NOTIFY. The library's own waiting wakes up ten times a second, which a process that has nothing to do
would spend most of its time with; here the socket is waited for, and only then is the library asked.
"""

import asyncio
import contextlib
import select
import threading
import time
from typing import Any

import psycopg

SLICE_S = 1.0  # after which `stop` is looked at


def wait(link: "psycopg.Connection[Any]", seconds: float, stop: threading.Event) -> None:
    """Until there is a hint on `link`, so long has passed, or `stop` is set. Raises psycopg.OperationalError."""
    until = time.monotonic() + seconds
    while not stop.is_set():
        if any(True for _ in link.notifies(timeout=0)):
            return
        left = until - time.monotonic()
        if left <= 0:
            return
        select.select([link.fileno()], [], [], min(left, SLICE_S))


async def awaited(link: "psycopg.AsyncConnection[Any]", seconds: float) -> bool:
    """Whether there was a hint on `link` within that time. Raises psycopg.OperationalError."""
    if await _any(link):
        return True
    loop, readable = asyncio.get_running_loop(), asyncio.Event()
    file = link.fileno()
    loop.add_reader(file, readable.set)
    try:
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(seconds):
                await readable.wait()
    finally:
        loop.remove_reader(file)
    return readable.is_set() and await _any(link)


async def _any(link: "psycopg.AsyncConnection[Any]") -> bool:
    found = False
    async for _ in link.notifies(timeout=0):
        found = True
    return found
