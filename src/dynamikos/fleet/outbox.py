"""Reports on their way to the database: a buffer, a reconnecting sender, a spool on disk.

Never awaited by the engine.
"""

import asyncio
import collections
import contextlib
import errno
import logging
import os
import socket
import struct
from collections.abc import Callable
from pathlib import Path

import msgspec
import psycopg

from dynamikos.core.reports import KeptExchange, ShardSecond, encode, pack_kept
from dynamikos.core.verdicts.ending import Ending, broke, stopped
from dynamikos.fleet.settings import RECONNECT_S

log = logging.getLogger(__name__)
MEMORY = 120  # messages kept in memory before the rest goes to disk


class Outbox:
    """A Sink that delivers in order, once: a repeated message is ignored by the database's key."""

    def __init__(
        self,
        conninfo: str,
        run: str,
        shard_id: int,
        spool: Path,
        full: Callable[[Ending], None] = lambda why: None,
    ) -> None:
        """`full` is told when there is no room left, here or where the database is: the run has to
        end.
        """
        self._full = full
        self._conninfo, self._run, self._shard_id = conninfo, run, shard_id
        self._waiting: collections.deque[tuple[str, int, bytes, tuple[object, ...]]] = (
            collections.deque()
        )
        self._spool = spool / f"{run}-{shard_id}.spool"
        self._spooled = self._sequence = 0
        self._news = asyncio.Event()
        self._task = asyncio.create_task(self._deliver(), name="outbox")
        self._closing = False
        self.broken: Ending | None = None  # something could not be delivered at all

    # the engine's side ----------------------------------------------------------------------------

    def report(self, message: ShardSecond) -> None:
        self._put("report", message.second, encode(message), ())

    def keep(self, exchange: KeptExchange) -> None:
        facts = (
            self._number(),
            exchange.series,
            exchange.reason[:120],
            exchange.user,
            exchange.round,
        )
        self._put("kept", exchange.second, pack_kept(exchange), facts)

    def write(self, into: str, row: dict[str, str]) -> None:
        self._put(
            "row",
            0,
            msgspec.json.encode([(name, value.replace("\0", "")) for name, value in row.items()]),
            (self._number(), into),
        )  # a list keeps the columns in order

    def _number(self) -> int:
        self._sequence += 1
        return self._sequence

    def unsent(self) -> int:
        return len(self._waiting) + self._spooled

    def _put(self, kind: str, second: int, body: bytes, facts: tuple[object, ...]) -> None:
        item = (kind, second, body, facts)
        if self._spooled or len(self._waiting) >= MEMORY:
            try:
                self._put_by(msgspec.msgpack.encode(item))
            except (
                OSError
            ) as problem:  # nothing is lost: what comes until the run is ended waits in memory
                why = (
                    f"the disk of {socket.gethostname()} is full: {self._spool}: {problem.strerror}"
                )
                self._full(stopped("disk", why, now=True))
                self._waiting.append(item)
            else:
                self._spooled += 1
        else:
            self._waiting.append(item)
        self._news.set()

    def _put_by(self, packed: bytes) -> None:
        """At the spool's end, whole or not at all."""
        record = struct.pack("<I", len(packed)) + packed
        with self._spool.open("ab", buffering=0) as file:
            before = file.tell()
            try:
                written = file.write(record)
                if written != len(record):
                    raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
            except OSError:
                with contextlib.suppress(OSError):
                    file.truncate(before)
                raise

    # the database's side --------------------------------------------------------------------------

    async def close(self, patience_s: float = 30.0) -> None:
        """Delivers what is left; what can't be delivered in time stays in the spool."""
        self._closing = True
        self._news.set()
        with contextlib.suppress(TimeoutError, asyncio.CancelledError):
            await asyncio.wait_for(self._task, patience_s)
        self._task.cancel()
        if self.unsent() == 0:
            self._spool.unlink(missing_ok=True)

    async def _deliver(self) -> None:
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(
                    self._conninfo, autocommit=True
                ) as link:
                    while True:
                        if not self._waiting and self._spooled:
                            self._read_spool()
                        if not self._waiting:
                            if self._closing:
                                return
                            self._news.clear()
                            await self._news.wait()
                            continue
                        await self._sent(link, self._waiting[0])
                        self._waiting.popleft()
            except (psycopg.OperationalError, OSError) as problem:
                if isinstance(problem, psycopg.errors.DiskFull):
                    why = (
                        f"the disk of the database is full: {str(problem).strip().splitlines()[0]}"
                    )
                    self._full(stopped("disk", why, now=True))
                log.warning("reports wait: the database is away (%s)", str(problem).strip())
                await asyncio.sleep(RECONNECT_S)

    async def _sent(
        self,
        link: psycopg.AsyncConnection[tuple[object, ...]],
        item: tuple[str, int, bytes, tuple[object, ...]],
    ) -> None:
        """What the database refuses for good holds up nothing that comes after it, and is said in
        `broken`.
        """
        try:
            await self._insert(link, item)
        except psycopg.OperationalError:
            raise
        except Exception as problem:
            log.exception("a message of kind %s was refused", item[0])
            why = f"a message ({item[0]}) was refused by the database: {type(problem).__name__}"
            self.broken = self.broken or broke(why)

    async def _insert(
        self,
        link: psycopg.AsyncConnection[tuple[object, ...]],
        item: tuple[str, int, bytes, tuple[object, ...]],
    ) -> None:
        kind, second, body, facts = item
        if kind == "report":
            await link.execute(
                "WITH put AS (INSERT INTO runs_report (shard_id, second, body) VALUES (%s, %s, %s) "
                "ON CONFLICT DO"
                " NOTHING) SELECT pg_notify('dynamikos_report', %s)",
                (self._shard_id, second, body, self._run),
            )
        elif kind == "row":
            await link.execute(
                'INSERT INTO runs_writtenrow (run_id, shard, sequence, "into", "row")'
                " SELECT run_id, number, %s, %s, %s::jsonb FROM runs_shard WHERE id = %s ON "
                "CONFLICT DO NOTHING",
                (*facts, body.decode(), self._shard_id),
            )
        else:
            number, series, reason, user, round_number = facts
            await link.execute(
                'INSERT INTO runs_kept (run_id, shard, sequence, second, series, reason, "user", '
                "round, body) SELECT"
                " run_id, number, %s, %s, %s, %s, %s, %s, %s FROM runs_shard WHERE id = %s ON "
                "CONFLICT DO NOTHING",
                (number, second, series, reason, user, round_number, body, self._shard_id),
            )

    def _read_spool(self) -> None:
        data = self._spool.read_bytes() if self._spool.exists() else b""
        at = 0
        while at < len(data):
            (size,) = struct.unpack_from("<I", data, at)
            kind, second, body, facts = msgspec.msgpack.decode(
                data[at + 4 : at + 4 + size], type=tuple[str, int, bytes, tuple[object, ...]]
            )
            self._waiting.append((kind, second, body, tuple(facts)))
            at += 4 + size
        self._spool.unlink(missing_ok=True)
        self._spooled = 0
