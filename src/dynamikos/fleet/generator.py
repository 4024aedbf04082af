"""A generator: registers, holds its lock, takes jobs from its own queue, performs shards and
rehearsals. SQL only.
"""

import asyncio
import contextlib
import dataclasses
import hashlib
import logging
import os
import signal
import socket
import time
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import msgspec
import procrastinate
import psycopg
from psycopg.types.json import Jsonb
from uuid_utils.compat import uuid7

from dynamikos.core.dealing import raw_rows
from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.lifecycles import RUN, SHARD, before, going, over
from dynamikos.core.profiles.changing import Change
from dynamikos.core.verdicts.ending import (
    GENTLY,
    NOW,
    Ending,
    broke,
    ending_of,
    plain,
    refused,
    stopped,
)
from dynamikos.engine.clock import RealClock
from dynamikos.engine.failures import Failure
from dynamikos.engine.functions import Child
from dynamikos.engine.limits import raise_descriptors
from dynamikos.engine.rows import RowFile
from dynamikos.engine.runner import Control, Shard, primed_for, run
from dynamikos.fleet.disk import shortage
from dynamikos.fleet.hints import JobConnector, awaited
from dynamikos.fleet.knocking import knock
from dynamikos.fleet.leasing import DatabaseLessor
from dynamikos.fleet.outbox import Outbox
from dynamikos.fleet.rehearsing import Stage, network_for
from dynamikos.fleet.settings import CUT_OFF_S, HEARTBEAT_S, LOST_S, RECONNECT_S
from dynamikos.sealing import X25519PrivateKey, new_key, public_of, unbox

log = logging.getLogger(__name__)
VERSION = "0.2.0"
Rows = dict[str, RowFile]
CLOSED = stopped("generator", "the run was closed without this generator", now=True)


@dataclass(slots=True)
class Held:
    """A shard whose users are here, and what stops them."""

    run: uuid.UUID
    control: Control
    is_watched: bool = False


@dataclass(slots=True)
class Identity:
    """Who this process is. `lock` is the advisory lock it holds while alive."""

    id: uuid.UUID
    place: str
    name: str
    lock: int
    key: X25519PrivateKey  # made for its own life; secrets are boxed for it
    distance_s: float = 0.0  # simulated, there and back

    @property
    def queue(self) -> str:
        return f"g-{self.id.hex}"


def identity(place: str, distance_s: float = 0.0) -> Identity:
    made = uuid7()
    lock = int.from_bytes(hashlib.sha256(made.bytes).digest()[:8], "big") >> 2  # positive, 62 bits
    return Identity(
        made, place, f"{place} {socket.gethostname()} {os.getpid()}", lock, new_key(), distance_s
    )


async def serve(
    conninfo: str,
    place: str,
    *,
    distance_s: float = 0.0,
    own_ports: frozenset[int],
    spool: Path,
    tell: Callable[[str], None] = lambda text: None,
) -> None:
    """Runs until SIGTERM or SIGINT. Survives a restart of the database."""
    with contextlib.suppress(OSError):
        os.setpriority(
            os.PRIO_PROCESS, 0, -10
        )  # planned instants matter more than anything else here; only root may
    raise_descriptors()
    me = identity(place, distance_s)
    controls: dict[int, Held] = {}
    stage = Stage(conninfo, own_ports, me.key)
    app = procrastinate.App(connector=JobConnector(conninfo=conninfo, min_size=1, max_size=4))

    @app.task(name="perform_shard", queue=me.queue)
    async def perform_shard(shard: int) -> None:
        await _perform(conninfo, me, shard, controls, own_ports, spool)

    @app.task(name="rehearse", queue=me.queue)
    async def perform_rehearsal(rehearsal: str) -> None:
        await stage.rehearse(rehearsal)

    @app.task(name="clean_up", queue=me.queue)
    async def perform_clean_up(rehearsal: str) -> None:
        await stage.clean_up(rehearsal)

    @app.task(name="knock", queue=me.queue)
    async def perform_knock(knock_id: str) -> None:
        await knock(conninfo, knock_id, own_ports, me.key, me.name)

    @app.task(name="try_function", queue=me.queue)
    async def perform_attempt(attempt: str) -> None:
        await try_function(conninfo, attempt)

    stop = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, stop.set)
    beat = asyncio.create_task(_present(conninfo, me, controls, spool, tell), name="presence")
    worker = asyncio.create_task(_work(app, me), name="worker")
    await stop.wait()
    for held in controls.values():
        held.control.stop_now()
    await asyncio.sleep(0.3 if controls else 0)
    for task in (worker, beat):
        task.cancel()
    await asyncio.gather(worker, beat, return_exceptions=True)
    with contextlib.suppress(psycopg.Error):
        async with await psycopg.AsyncConnection.connect(conninfo, autocommit=True) as link:
            await link.execute(
                "UPDATE places_generator SET last_seen = last_seen - interval '1 hour' WHERE id = "
                "%s",
                (me.id,),
            )


async def _work(app: procrastinate.App, me: Identity) -> None:
    while True:
        try:
            async with app.open_async():
                await app.run_worker_async(
                    queues=[me.queue],
                    concurrency=8,
                    install_signal_handlers=False,
                    fetch_job_polling_interval=5.0,
                )
        except (procrastinate.exceptions.ConnectorException, psycopg.Error, OSError) as problem:
            log.warning("the job queue is away (%s); trying again", problem)
        await asyncio.sleep(RECONNECT_S)


async def _present(
    conninfo: str, me: Identity, controls: dict[int, Held], spool: Path, tell: Callable[[str], None]
) -> None:
    """Holds the lock, renews last_seen, obeys commands (NOTIFY is a hint; they are re-read each
    heartbeat), and stops what is not its own any more: a shard of a run that is closed, or all when
    the database has been away for too long.
    """
    reached = time.monotonic()

    async def watch_reach() -> None:
        while True:
            await asyncio.sleep(min(1.0 if controls else 4.0, CUT_OFF_S / 5))
            away = time.monotonic() - reached
            full = shortage(spool) if controls else ""
            for held in controls.values():
                if full and not held.control.is_stopped:
                    held.control.end(stopped("disk", full, now=True))
                if away > CUT_OFF_S:
                    why = f"the generator could not reach the database for {away:.0f} s"
                    held.control.end(stopped("generator", why, now=True))

    watching = asyncio.create_task(watch_reach(), name="reach")
    try:
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(conninfo, autocommit=True) as link:
                    await link.execute("SELECT pg_advisory_lock(%s)", (me.lock,))
                    await link.execute(
                        "INSERT INTO places_generator (id, place, name, version, process, lock, "
                        "capacity, started_at,"
                        " last_seen, clock_error_us, public_key, busy) VALUES (%s, %s, %s, %s, %s, "
                        "%s, 0, now(),"
                        " clock_timestamp(), 0, %s, false) ON CONFLICT (id) DO UPDATE SET "
                        "last_seen ="
                        " clock_timestamp()",
                        (
                            me.id,
                            me.place,
                            me.name,
                            VERSION,
                            os.getpid(),
                            me.lock,
                            public_of(me.key),
                        ),
                    )
                    await link.execute("LISTEN dynamikos_command")
                    # a sign of life need not outlive the database: no write to the disk each second
                    await link.execute("SET synchronous_commit = off")
                    tell(f"generator {me.name} is ready")
                    while True:
                        await _own(link, controls)
                        await link.execute(
                            "UPDATE places_generator SET last_seen = clock_timestamp(), busy = %s "
                            "WHERE id = %s",
                            (bool(controls), me.id),
                        )
                        await _obey(link, controls)
                        await _show(link, controls)
                        reached = time.monotonic()
                        await awaited(link, HEARTBEAT_S if controls else 1.5 * HEARTBEAT_S)
                        await _obey(link, controls)
            except (psycopg.Error, OSError) as problem:
                log.warning("the database is away (%s); runs go on for now", str(problem).strip())
                await asyncio.sleep(RECONNECT_S)
    finally:
        watching.cancel()


async def _own(link: psycopg.AsyncConnection, controls: dict[int, Held]) -> None:
    """Stops the users of shards that are closed; takes back those that were declared lost while
    their run is still open.
    """
    if not controls:
        return
    found = await link.execute(
        "SELECT s.id, s.state, r.state FROM runs_shard s JOIN runs_run r ON r.id = s.run_id WHERE "
        "s.id = ANY(%s)",
        (list(controls),),
    )
    states = {shard: (state, run) for shard, state, run in await found.fetchall()}
    for shard, held in list(controls.items()):
        state, run = states.get(shard, ("gone", "ended"))
        if run in over(RUN) or state in ("gone", *over(SHARD)):
            held.control.end(CLOSED)
        elif state == "lost" and not held.control.is_lost:
            back = await link.execute(
                "UPDATE runs_shard SET state = 'running', ending = NULL, lost_at_s = NULL WHERE id "
                "= %s"
                " AND state = 'lost' AND EXISTS (SELECT 1 FROM runs_run WHERE id = run_id AND "
                "state = 'running')"
                " RETURNING id",
                (shard,),
            )
            if await back.fetchone() is None:
                held.control.end(CLOSED)
            else:
                held.control.taken_back()


async def _obey(link: psycopg.AsyncConnection, controls: dict[int, Held]) -> None:
    if not controls:
        return
    found = await link.execute(
        "SELECT run_id, verb, ending, at_s, factor FROM runs_command WHERE run_id = ANY(%s) ORDER "
        "BY id",
        ([held.run for held in controls.values()],),
    )
    rows = await found.fetchall()
    for held in controls.values():
        changes = [
            Change(at_s=at_s, verb=verb, factor=1.0 if factor is None else factor)
            for run_id, verb, _, at_s, factor in rows
            if run_id == held.run and at_s is not None
        ]
        held.control.change(changes)
    for run_id, verb, why, at_s, _ in rows:
        for held in controls.values():
            if held.run != run_id or at_s is not None:
                continue
            known = held.control.ending
            if known is None or (verb == "stop-now" and not known.now):
                held.control.end(ending_of(why) or (NOW if verb == "stop-now" else GENTLY))


async def _show(link: psycopg.AsyncConnection, controls: dict[int, Held]) -> None:
    """Who is there, to those who watch."""
    if not controls:
        return
    found = await link.execute(
        'SELECT run_id, "user" FROM runs_watch WHERE run_id = ANY(%s) AND until > '
        "clock_timestamp()",
        ([held.run for held in controls.values()],),
    )
    watched: dict[uuid.UUID, set[int]] = {}
    for run_id, user in await found.fetchall():
        watched.setdefault(run_id, set()).add(user)
    for shard, held in controls.items():
        if held.run not in watched and not held.is_watched:
            continue
        held.is_watched = (
            held.run in watched
        )  # once more when nobody watches any more: then nobody is followed
        seen = held.control.look(frozenset(watched.get(held.run, ())))
        if seen is not None:
            await link.execute(
                "INSERT INTO runs_seen (shard_id, body, at) VALUES (%s, %s, clock_timestamp()) ON "
                "CONFLICT (shard_id)"
                " DO UPDATE SET body = excluded.body, at = excluded.at",
                (shard, msgspec.json.encode(seen)),
            )


async def offset_of(link: psycopg.AsyncConnection) -> tuple[float, float]:
    """(seconds to add to perf_counter for the database's clock, its uncertainty): the best of nine
    readings.
    """
    best = (0.0, 1e9)
    for _ in range(9):
        before = time.perf_counter()
        row = await (
            await link.execute("SELECT extract(epoch FROM clock_timestamp())::float8")
        ).fetchone()
        after = time.perf_counter()
        assert row is not None
        if (after - before) / 2 < best[1]:
            best = (row[0] - (before + after) / 2, (after - before) / 2)
    return best


async def _load(link: psycopg.AsyncConnection, frozen: FrozenRun, spool: Path) -> Rows:
    """The rows of the frozen blocks, each block written to a file of our own as it comes.

    Raises DynamikosError for a damaged one.
    """
    rows: Rows = {}
    for pile in frozen.data:
        file = rows[pile.key] = RowFile(spool)
        for sha256 in pile.blocks:
            row = await (
                await link.execute(
                    "SELECT body FROM datasets_datablock WHERE sha256 = %s", (sha256,)
                )
            ).fetchone()
            if row is None:
                raise DynamikosError(
                    f"a block of {pile.key} is not in the database any more; import it again"
                )
            file.add(raw_rows(bytes(row[0]), sha256))
            await asyncio.sleep(0)
        file.finish()
    return rows


async def _perform(
    conninfo: str,
    me: Identity,
    shard_id: int,
    controls: dict[int, Held],
    own_ports: frozenset[int],
    spool: Path,
) -> None:
    """One shard, once: the gate lets nobody through a second time, nor anybody while users of
    another run are here.

    Any end is said: what broke here is the shard's end, in words.
    """
    if controls:
        await _state(conninfo, shard_id, refused("the generator is still busy with another run"))
        return
    async with await psycopg.AsyncConnection.connect(conninfo, autocommit=True) as link:
        gate = await link.execute(
            "UPDATE runs_shard SET state = 'loading' WHERE id = %s AND state = ANY(%s) AND "
            "generator_id = %s"
            " RETURNING run_id, number",
            (shard_id, before(SHARD, "loading"), me.id),
        )
        passed = await gate.fetchone()
    if passed is None:
        return
    control = Control()
    control.loss_s = 2 * LOST_S  # as the coordinator has it
    controls[shard_id] = Held(passed[0], control)
    ending = broke("its process ended")
    try:
        ending = await _performed(
            conninfo, me, shard_id, passed[0], passed[1], control, own_ports, spool
        )
    except asyncio.CancelledError:
        ending = NOW
        raise
    except DynamikosError as wrong:
        ending = refused(wrong)
    except Failure as failure:
        ending = refused(failure.detail)
    except psycopg.Error as problem:
        ending = broke(f"the database: {str(problem).strip()}")
    except Exception as problem:
        log.exception("shard %s broke", shard_id)
        ending = broke(f"{type(problem).__name__}: {problem}")
    finally:
        controls.pop(shard_id, None)
        await asyncio.shield(_state(conninfo, shard_id, ending))


async def _performed(
    conninfo: str,
    me: Identity,
    shard_id: int,
    run_id: uuid.UUID,
    number: int,
    control: Control,
    own_ports: frozenset[int],
    spool: Path,
) -> Ending:
    """Loads what the shard needs, says that it is ready, waits for its begin and performs it: how
    it ended.
    """
    rows: Rows = {}
    async with contextlib.AsyncExitStack() as stack:
        link = await stack.enter_async_context(
            await psycopg.AsyncConnection.connect(conninfo, autocommit=True)
        )
        row = await (
            await link.execute(
                "SELECT frozen, (SELECT count(*) FROM runs_shard WHERE run_id = r.id) FROM "
                "runs_run r WHERE id = %s",
                (run_id,),
            )
        ).fetchone()
        assert row is not None
        frozen = FROZEN.read(bytes(row[0]))
        delivered = await (
            await link.execute("SELECT body FROM runs_delivery WHERE shard_id = %s", (shard_id,))
        ).fetchone()
        rows = await _load(link, frozen, spool)
        for file in rows.values():
            stack.callback(file.close)
        secrets = unbox(bytes(delivered[0]) if delivered else b"", me.key)
        lessor, functions = (
            DatabaseLessor(conninfo, shard_id),
            Child(frozen.functions, agreed=frozen.functions_agreed),
        )
        stack.push_async_callback(lessor.aclose)
        stack.push_async_callback(functions.close)
        clock = RealClock()
        stack.callback(clock.close)
        network = network_for(frozen, secrets, own_ports, distance_s=me.distance_s)
        stack.push_async_callback(network.aclose)
        if frozen.functions:
            await functions.load()
        shard = Shard(
            number=number,
            count=int(row[1]),
            frozen=frozen,
            rows=dict(rows),
            secrets=_known(secrets),
            lessor=lessor,
            functions=functions,
        )
        shard = dataclasses.replace(shard, primed=await primed_for(shard, network, clock))
        begins = await _begin(link, run_id, shard_id, control)
        if begins is None:
            return control.ending or NOW
        offset, error = await offset_of(link)
        await link.execute(
            "UPDATE runs_shard SET offset_us = %s, offset_error_us = %s WHERE id = %s",
            (round(offset * 1e6), round(error * 1e6), shard_id),
        )
        await link.close()
        outbox = Outbox(conninfo, str(run_id), shard_id, spool, control.end)
        try:
            ending = await run(
                shard, network, clock, outbox, begin=begins - offset, control=control
            )
        finally:
            await network.aclose()
            await outbox.close()
        return outbox.broken or ending


async def _begin(
    link: psycopg.AsyncConnection, run_id: uuid.UUID, shard_id: int, control: Control
) -> float | None:
    """Says that the shard is ready, and waits until all are: second 0 in the database's clock; None
    when there is nothing to begin.
    """
    await link.execute(
        "UPDATE runs_shard SET state = 'ready' WHERE id = %s AND state = ANY(%s)",
        (shard_id, before(SHARD, "ready")),
    )
    await link.execute("SELECT pg_notify('dynamikos_coordinator', %s)", (str(run_id),))
    while not control.is_stopped:
        row = await (
            await link.execute(
                "SELECT extract(epoch FROM begins_at)::float8, state FROM runs_run WHERE id = %s",
                (run_id,),
            )
        ).fetchone()
        if row is None or row[1] in over(RUN):
            return None
        if row[0] is not None:
            begun = await link.execute(
                "UPDATE runs_shard SET state = 'running' WHERE id = %s AND state = 'ready' "
                "RETURNING id",
                (shard_id,),
            )
            return float(row[0]) if await begun.fetchone() else None
        await asyncio.sleep(0.05)
    return None


def _known(secrets: dict[str, str]) -> dict[str, str]:
    return {f"secrets.{name}": value for name, value in secrets.items()}


async def try_function(conninfo: str, pk: str) -> None:
    """Performs one try of a function, as runs perform it: in a child that is closed off."""
    async with await psycopg.AsyncConnection.connect(conninfo, autocommit=True) as link:
        found = await link.execute(
            "SELECT function, given, modules, agreed FROM functions_attempt WHERE id = %s AND "
            "state = 'asked'",
            (pk,),
        )
        row = await found.fetchone()
        if row is None:
            return
        child = Child(dict(row[2]), agreed=bool(row[3]))
        state, begun = "returned", time.perf_counter()
        try:
            await child.load()
            begun = time.perf_counter()
            answer = (
                await child.call(str(row[0]), dict(row[1])) if row[0] else ", ".join(child.names)
            )
        except Failure as failure:
            state, answer = "failed", failure.detail
        finally:
            await child.close()
        took = (time.perf_counter() - begun) * 1000
        await link.execute(
            "UPDATE functions_attempt SET state = %s, answer = %s, took_ms = %s WHERE id = %s",
            (state, answer[:20_000].replace("\0", ""), took, pk),
        )


async def _state(conninfo: str, shard_id: int, ending: Ending) -> None:
    """Says how a shard ended, unless its run was closed meanwhile."""
    state = "lost" if ending.cause == "lost" else "ended"
    for _ in range(60):
        try:
            async with await psycopg.AsyncConnection.connect(conninfo, autocommit=True) as link:
                await link.execute(
                    "UPDATE runs_shard SET state = %s, ending = %s WHERE id = %s AND state = "
                    "ANY(%s)"
                    " AND EXISTS (SELECT 1 FROM runs_run WHERE id = run_id AND state = ANY(%s))",
                    (state, Jsonb(plain(ending)), shard_id, before(SHARD, state), going(RUN)),
                )
                await link.execute("SELECT pg_notify('dynamikos_report', '')")
                return
        except psycopg.OperationalError:
            await asyncio.sleep(RECONNECT_S)
