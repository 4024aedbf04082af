"""A generator: registers, holds its lock, takes jobs from its own queue, performs shards and rehearsals. SQL only."""

import asyncio
import contextlib
import hashlib
import json
import logging
import os
import signal
import socket
import time
import uuid
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import msgspec
import procrastinate
import psycopg
from uuid_utils.compat import uuid7

from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.reports import KeptExchange, pack_kept
from dynamikos.engine.clock import RealClock
from dynamikos.engine.network import RealNetwork
from dynamikos.engine.runner import Control, Shard, rehearse, run
from dynamikos.fleet.outbox import Outbox
from dynamikos.fleet.settings import HEARTBEAT_S, RECONNECT_S

log = logging.getLogger(__name__)
VERSION = "0.1.0"
Rows = dict[str, list[list[str]]]


@dataclass(slots=True)
class Identity:
    """Who this process is. `lock` is the advisory lock it holds while alive."""

    id: uuid.UUID
    place: str
    name: str
    lock: int

    @property
    def queue(self) -> str:
        return f"g-{self.id.hex}"


def identity(place: str) -> Identity:
    made = uuid7()
    lock = int.from_bytes(hashlib.sha256(made.bytes).digest()[:8], "big") >> 2  # positive, 62 bits
    return Identity(made, place, f"{place} {socket.gethostname()} {os.getpid()}", lock)


async def serve(
    conninfo: str, place: str, *, own_ports: frozenset[int], spool: Path, tell: Callable[[str], None] = lambda text: None
) -> None:
    """Runs until SIGTERM or SIGINT. Survives a restart of the database."""
    with contextlib.suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, 0, -10)  # planned instants matter more than anything else here; only root may
    me = identity(place)
    controls: dict[str, Control] = {}
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=conninfo, min_size=1, max_size=4))

    @app.task(name="perform_shard", queue=me.queue)
    async def perform_shard(shard: int) -> None:
        await _perform(conninfo, me, shard, controls, own_ports, spool)

    @app.task(name="rehearse", queue=me.queue)
    async def perform_rehearsal(rehearsal: str) -> None:
        await _rehearse(conninfo, rehearsal, own_ports)

    stop = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, stop.set)
    beat = asyncio.create_task(_present(conninfo, me, controls, tell), name="presence")
    worker = asyncio.create_task(_work(app, me), name="worker")
    await stop.wait()
    for control in controls.values():
        control.stop_now()
    await asyncio.sleep(0.3 if controls else 0)
    for task in (worker, beat):
        task.cancel()
    await asyncio.gather(worker, beat, return_exceptions=True)
    with contextlib.suppress(psycopg.Error):
        async with await psycopg.AsyncConnection.connect(conninfo, autocommit=True) as link:
            await link.execute("UPDATE places_generator SET last_seen = last_seen - interval '1 hour' WHERE id = %s", (me.id,))


async def _work(app: procrastinate.App, me: Identity) -> None:
    while True:
        try:
            async with app.open_async():
                await app.run_worker_async(queues=[me.queue], concurrency=8, install_signal_handlers=False, fetch_job_polling_interval=1.0)
        except (procrastinate.exceptions.ConnectorException, psycopg.Error, OSError) as problem:
            log.warning("the job queue is away (%s); trying again", problem)
        await asyncio.sleep(RECONNECT_S)


async def _present(conninfo: str, me: Identity, controls: dict[str, Control], tell: Callable[[str], None]) -> None:
    """Holds the lock, renews last_seen, obeys commands (NOTIFY is a hint; they are re-read each heartbeat)."""
    while True:
        try:
            async with await psycopg.AsyncConnection.connect(conninfo, autocommit=True) as link:
                await link.execute("SELECT pg_advisory_lock(%s)", (me.lock,))
                await link.execute(
                    "INSERT INTO places_generator (id, place, name, version, process, lock, capacity, started_at, last_seen, clock_error_us)"
                    " VALUES (%s, %s, %s, %s, %s, %s, 0, now(), clock_timestamp(), 0)"
                    " ON CONFLICT (id) DO UPDATE SET last_seen = clock_timestamp()",
                    (me.id, me.place, me.name, VERSION, os.getpid(), me.lock),
                )
                await link.execute("LISTEN dynamikos_command")
                tell(f"generator {me.name} is ready")
                while True:
                    await link.execute("UPDATE places_generator SET last_seen = clock_timestamp() WHERE id = %s", (me.id,))
                    await _obey(link, controls)
                    async for _ in link.notifies(timeout=HEARTBEAT_S, stop_after=1):
                        await _hint()
                    await _obey(link, controls)
        except (psycopg.Error, OSError) as problem:
            log.warning("the database is away (%s); runs go on", str(problem).strip())
            await asyncio.sleep(RECONNECT_S)


async def _hint() -> None:
    await asyncio.sleep(0)


async def _obey(link: psycopg.AsyncConnection, controls: dict[str, Control]) -> None:
    if not controls:
        return
    found = await link.execute(
        "SELECT run_id, verb FROM runs_command WHERE run_id = ANY(%s) ORDER BY id", ([uuid.UUID(run) for run in controls],)
    )
    for run_id, verb in await found.fetchall():
        control = controls.get(str(run_id))
        if control is None:
            continue
        if verb == "stop-now" and control.stopped != "now":
            control.stop_now()
        elif verb == "stop-gently" and not control.stopped:
            control.stop_gently()


async def offset_of(link: psycopg.AsyncConnection) -> tuple[float, float]:
    """(seconds to add to perf_counter for the database's clock, its uncertainty): the best of nine readings."""
    best = (0.0, 1e9)
    for _ in range(9):
        before = time.perf_counter()
        row = await (await link.execute("SELECT extract(epoch FROM clock_timestamp())::float8")).fetchone()
        after = time.perf_counter()
        assert row is not None
        if (after - before) / 2 < best[1]:
            best = (row[0] - (before + after) / 2, (after - before) / 2)
    return best


async def _load(link: psycopg.AsyncConnection, frozen: FrozenRun) -> Rows:
    """The rows of the frozen blocks."""
    rows: Rows = {}
    for pile in frozen.data:
        found: list[list[str]] = []
        for sha256 in pile.blocks:
            row = await (await link.execute("SELECT body FROM datasets_datablock WHERE sha256 = %s", (sha256,))).fetchone()
            assert row is not None
            found.extend(msgspec.msgpack.decode(zlib.decompress(bytes(row[0])), type=list[list[str]]))
        rows[pile.key] = found
    return rows


async def _perform(
    conninfo: str, me: Identity, shard_id: int, controls: dict[str, Control], own_ports: frozenset[int], spool: Path
) -> None:
    """One shard, once: the gate lets nobody through a second time."""
    async with await psycopg.AsyncConnection.connect(conninfo, autocommit=True) as link:
        gate = await link.execute(
            "UPDATE runs_shard SET state = 'running' WHERE id = %s AND state = 'assigned' AND generator_id = %s RETURNING run_id, number",
            (shard_id, me.id),
        )
        passed = await gate.fetchone()
        if passed is None:
            return
        run_id, number = passed
        row = await (await link.execute(
            "SELECT frozen, extract(epoch FROM begins_at)::float8, (SELECT count(*) FROM runs_shard WHERE run_id = r.id) FROM runs_run r WHERE id = %s",
            (run_id,),
        )).fetchone()  # fmt: skip
        assert row is not None
        frozen = msgspec.json.decode(bytes(row[0]), type=FrozenRun)
        rows = await _load(link, frozen)
        offset, error = await offset_of(link)
        await link.execute(
            "UPDATE runs_shard SET offset_us = %s, offset_error_us = %s WHERE id = %s", (round(offset * 1e6), round(error * 1e6), shard_id)
        )
    begin = float(row[1]) - offset
    clock, network = RealClock(), RealNetwork(frozen.agreed, own_ports=own_ports)
    outbox = Outbox(conninfo, str(run_id), shard_id, spool)
    control = controls[str(run_id)] = Control()
    ended = "lost"
    try:
        ended = await run(
            Shard(number=number, count=int(row[2]), frozen=frozen, rows=dict(rows), secrets={}),
            network,
            clock,
            outbox,
            begin=begin,
            control=control,
        )
    except DynamikosError as problem:
        ended = f"refused: {problem}"[:40]
    finally:
        controls.pop(str(run_id), None)
        await network.aclose()
        clock.close()
        await outbox.close()
        await _state(conninfo, shard_id, ended)


async def _state(conninfo: str, shard_id: int, ended: str) -> None:
    for _ in range(60):
        try:
            async with await psycopg.AsyncConnection.connect(conninfo, autocommit=True) as link:
                await link.execute("UPDATE runs_shard SET state = 'ended', ended = %s WHERE id = %s", (ended, shard_id))
                await link.execute("SELECT pg_notify('dynamikos_report', '')")
                return
        except psycopg.OperationalError:
            await asyncio.sleep(RECONNECT_S)


async def _rehearse(conninfo: str, rehearsal: str, own_ports: frozenset[int]) -> None:
    """One user, one round; each exchange is stored and announced as soon as it is over."""
    async with await psycopg.AsyncConnection.connect(conninfo, autocommit=True) as link:
        gate = await link.execute(
            "UPDATE rehearsals_rehearsal SET state = 'running' WHERE id = %s AND state = 'asked' RETURNING frozen, rows", (rehearsal,)
        )
        row = await gate.fetchone()
        if row is None:  # taken by somebody else, or stopped before it began
            await link.execute(
                "UPDATE rehearsals_rehearsal SET state = 'failed', reason = 'Stopped before it began.', ended_at = clock_timestamp() "
                "WHERE id = %s AND state = 'stopping'", (rehearsal,),
            )  # fmt: skip
            return
        frozen = msgspec.json.decode(bytes(row[0]), type=FrozenRun)
        rows = msgspec.msgpack.decode(bytes(row[1]), type=Rows)
        queue: asyncio.Queue[KeptExchange | None] = asyncio.Queue()
        await _announce(link, rehearsal, 0, "state", "running")

        async def deliver() -> int:
            number = 0
            while True:
                exchange = await queue.get()
                if exchange is None:
                    return number
                await link.execute(
                    "INSERT INTO rehearsals_rehearsedexchange (rehearsal_id, number, body) VALUES (%s, %s, %s)",
                    (rehearsal, number, pack_kept(exchange)),
                )
                number += 1
                await _announce(link, rehearsal, number, "exchange", json.dumps({"number": number}))

        sender = asyncio.create_task(deliver(), name="deliver")
        clock, network = RealClock(), RealNetwork(frozen.agreed, own_ports=own_ports, first_byte_s=30.0, whole_s=60.0)
        state, reason = "failed", ""
        work = asyncio.create_task(
            rehearse(Shard(number=0, count=1, frozen=frozen, rows=dict(rows), secrets={}), network, clock, queue.put_nowait),
            name="rehearse",
        )

        async def obey() -> None:
            while True:
                await asyncio.sleep(0.2)
                asked = await (await link.execute("SELECT state FROM rehearsals_rehearsal WHERE id = %s", (rehearsal,))).fetchone()
                if asked is None or asked[0] == "stopping":
                    work.cancel()
                    return

        obeying = asyncio.create_task(obey(), name="obey")
        try:
            state = await work
        except asyncio.CancelledError:
            if not work.cancelled():
                raise
            reason = "Stopped by hand; what was exchanged until then is shown."
        except DynamikosError as problem:
            reason = str(problem)
        except Exception as problem:
            log.exception("a rehearsal broke")
            reason = f"the generator failed: {type(problem).__name__}: {problem}"
        finally:
            obeying.cancel()
            await network.aclose()
            clock.close()
            queue.put_nowait(None)
            number = await sender
        await link.execute(
            "UPDATE rehearsals_rehearsal SET state = %s, reason = %s, ended_at = clock_timestamp() WHERE id = %s",
            (state, reason, rehearsal),
        )
        await _announce(link, rehearsal, number + 1, "end", state)


async def _announce(link: psycopg.AsyncConnection, subject: str, sequence: int, event: str, body: str) -> None:
    await link.execute(
        "WITH put AS (INSERT INTO streams_message (subject, sequence, event, body) VALUES (%s, %s, %s, %s))"
        " SELECT pg_notify('dynamikos_stream', %s)", (subject, sequence, event, body, f"{subject}.{sequence}"),
    )  # fmt: skip
