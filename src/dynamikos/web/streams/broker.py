"""One LISTEN connection per web process fans out to all viewers; a slow one is dropped and resumes
by Last-Event-ID.
"""

import asyncio
import contextlib
import logging
import uuid
from collections.abc import AsyncIterator

import psycopg
from django.db import connection
from psycopg.conninfo import make_conninfo

log = logging.getLogger(__name__)
CHANNEL = "dynamikos_stream"
QUEUE = 500


class Broker:
    """Hints by subject. A hint says only that there is something new; what it is, is read from the
    table.
    """

    def __init__(self) -> None:
        self._viewers: dict[uuid.UUID, set[asyncio.Queue[int]]] = {}
        self._task: asyncio.Task[None] | None = None

    @contextlib.asynccontextmanager
    async def hints(self, subject: uuid.UUID) -> AsyncIterator[asyncio.Queue[int]]:
        """A queue that gets an item whenever `subject` may have news."""
        if self._task is None or self._task.done():
            self._task = asyncio.create_task(self._listen(), name="stream broker")
        queue: asyncio.Queue[int] = asyncio.Queue(QUEUE)
        self._viewers.setdefault(subject, set()).add(queue)
        try:
            yield queue
        finally:
            viewers = self._viewers.get(subject, set())
            viewers.discard(queue)
            if not viewers:
                self._viewers.pop(subject, None)
            if not self._viewers and self._task is not None:
                self._task.cancel()
                self._task = None

    async def _listen(self) -> None:
        while True:
            try:
                link = await psycopg.AsyncConnection.connect(parameters(), autocommit=True)
                async with link:
                    await link.execute(f"LISTEN {CHANNEL}")
                    self._wake_all()
                    async for notice in link.notifies():
                        subject, _, number = notice.payload.partition(".")
                        self._wake(uuid.UUID(subject), int(number or 0))
            except (psycopg.Error, ValueError) as problem:
                log.warning(
                    "the stream's database connection broke off (%s); trying again", problem
                )
                await asyncio.sleep(0.5)

    def _wake(self, subject: uuid.UUID, number: int) -> None:
        for queue in list(self._viewers.get(subject, ())):
            with contextlib.suppress(asyncio.QueueFull):
                queue.put_nowait(number)

    def _wake_all(self) -> None:
        for subject in list(self._viewers):
            self._wake(subject, 0)


def parameters() -> str:
    """How to connect to the database Django uses."""
    made = connection.settings_dict
    return make_conninfo(
        host=made["HOST"],
        port=made["PORT"],
        user=made["USER"],
        password=made["PASSWORD"],
        dbname=made["NAME"],
    )


broker = Broker()
