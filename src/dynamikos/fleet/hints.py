"""Waiting for NOTIFY. The library's own waiting wakes up ten times a second, which a process that
has nothing to do would spend most of its time with; here the socket is waited for, and only then is
the library asked.
"""

import asyncio
import contextlib
import select
import threading
import time
from typing import Any

import procrastinate
import psycopg
from procrastinate.connector import LISTEN_TIMEOUT, Notify

SLICE_S = 1.0  # after which `stop` is looked at


def wait(link: "psycopg.Connection[Any]", seconds: float, stop: threading.Event) -> None:
    """Until there is a hint on `link`, so long has passed, or `stop` is set. Raises
    psycopg.OperationalError.
    """
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
    return bool(await hints(link, seconds))


async def hints(link: "psycopg.AsyncConnection[Any]", seconds: float) -> list[psycopg.Notify]:
    """The hints on `link`, as soon as there is one, or none after that time. Raises
    psycopg.OperationalError.
    """
    if there := await _there(link):
        return there
    loop, readable = asyncio.get_running_loop(), asyncio.Event()
    file = link.fileno()
    loop.add_reader(file, readable.set)
    try:
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(seconds):
                await readable.wait()
    finally:
        loop.remove_reader(file)
    return await _there(link) if readable.is_set() else []


async def _there(link: "psycopg.AsyncConnection[Any]") -> list[psycopg.Notify]:
    return [hint async for hint in link.notifies(timeout=0)]


class JobConnector(procrastinate.PsycopgConnector):
    """The job engine's connector, with its waiting for new jobs as above."""

    async def _loop_notify(
        self,
        on_notification: Notify,
        connection: "psycopg.AsyncConnection[Any]",
        timeout: float = LISTEN_TIMEOUT,
    ) -> None:
        with contextlib.suppress(psycopg.OperationalError):  # then the engine connects anew
            while True:
                for hint in await hints(connection, timeout):
                    await on_notification(channel=hint.channel, payload=hint.payload)
                await connection.execute("SELECT 1")  # says whether the connection lives
