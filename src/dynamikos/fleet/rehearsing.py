"""Rehearsals on a generator: one user, one round, each exchange stored and announced as soon as it
is over; then, if asked, its clean-up.
"""

import asyncio
import json
import logging
import time
from collections.abc import Awaitable, Callable
from typing import Any

import msgspec
import psycopg
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.lifecycles import REHEARSAL, before
from dynamikos.core.plans import Timeouts
from dynamikos.core.reports import KeptExchange, pack_kept
from dynamikos.core.values import bind
from dynamikos.engine.clock import RealClock
from dynamikos.engine.failures import Failure
from dynamikos.engine.functions import Child
from dynamikos.engine.network import RealNetwork
from dynamikos.engine.runner import Rehearsal, Shard
from dynamikos.fleet.settings import CLEAN_UP_S
from dynamikos.sealing import X25519PrivateKey, unbox

log = logging.getLogger(__name__)
Rows = dict[str, list[list[str]]]
Link = psycopg.AsyncConnection[Any]


def network_for(
    frozen: FrozenRun,
    secrets: dict[str, str],
    own_ports: frozenset[int],
    timeouts: Timeouts | None = None,
    distance_s: float = 0.0,
) -> RealNetwork:
    """The network as the frozen environment wants it, `distance_s` away. Raises Failure for what
    can't be used.
    """
    known = {**frozen.values, **{f"secrets.{name}": value for name, value in secrets.items()}}
    way = (
        replace(frozen.way, proxy=bind(frozen.way.proxy, known)) if frozen.way.proxy else frozen.way
    )
    key = secrets.get(way.key_secret, "")
    limits = msgspec.to_builtins(timeouts or frozen.plan.timeouts)
    return RealNetwork(
        frozen.agreed, own_ports=own_ports, way=way, key=key, distance_s=distance_s, **limits
    )


class Stage:
    """The rehearsals of one generator.

    What a user ended with (values, cookies) stays in its memory alone, for a while, to clean up
    with.
    """

    def __init__(self, conninfo: str, own_ports: frozenset[int], key: X25519PrivateKey) -> None:
        self._conninfo, self._own_ports, self._key = conninfo, own_ports, key
        self._left: dict[str, tuple[float, int, Rehearsal, FrozenRun, dict[str, str]]] = {}

    async def rehearse(self, pk: str) -> None:
        async with await psycopg.AsyncConnection.connect(self._conninfo, autocommit=True) as link:
            gate = await link.execute(
                "UPDATE rehearsals_rehearsal SET state = 'running' WHERE id = %s AND state = "
                "'asked' RETURNING frozen,"
                " rows, user_number, secrets, rounds",
                (pk,),
            )
            row = await gate.fetchone()
            if row is None:  # taken by somebody else, or stopped before it began
                await link.execute(
                    "UPDATE rehearsals_rehearsal SET state = 'failed', reason = 'Stopped before it "
                    "began.', ended_at ="
                    " clock_timestamp() WHERE id = %s AND state = 'stopping'",
                    (pk,),
                )
                return
            frozen = FROZEN.read(bytes(row[0]))
            rows = msgspec.msgpack.decode(bytes(row[1]), type=Rows)
            await _announce(link, pk, 0, "state", "running")
            state, reason, number = "failed", "", 0
            functions = Child(frozen.functions, agreed=frozen.functions_agreed)
            try:
                secrets = unbox(bytes(row[3]), self._key)
                known = {f"secrets.{name}": value for name, value in secrets.items()}
                made = Rehearsal(
                    Shard(
                        number=0,
                        count=1,
                        frozen=frozen,
                        rows=dict(rows),
                        secrets=known,
                        functions=functions,
                    ),
                    int(row[2]),
                    rounds=int(row[4]),
                )
                state, reason, number = await self._perform(
                    link, pk, 0, frozen, secrets, made.perform, stoppable=True
                )
            except DynamikosError as problem:
                reason = str(problem)
            finally:
                await functions.close()
            if frozen.journey.cleanup and number:
                self._keep(pk, number, made, frozen, secrets)
            await link.execute(
                "UPDATE rehearsals_rehearsal SET state = %s, reason = %s, secrets = '', ended_at = "
                "clock_timestamp()"
                " WHERE id = %s AND state = ANY(%s)",
                (state, reason, pk, before(REHEARSAL, state)),
            )
            await _announce(link, pk, number + 1, "end", state)

    async def clean_up(self, pk: str) -> None:
        async with await psycopg.AsyncConnection.connect(self._conninfo, autocommit=True) as link:
            left = self._left.pop(pk, None)
            if left is None:
                await link.execute(
                    "UPDATE rehearsals_rehearsal SET cleanup = 'gone' WHERE id = %s AND cleanup = "
                    "'asked'",
                    (pk,),
                )
                return
            _, number, made, frozen, secrets = left
            await link.execute(
                "UPDATE rehearsals_rehearsal SET cleanup = 'running' WHERE id = %s", (pk,)
            )
            state, reason, _ = await self._perform(
                link, pk, number, frozen, secrets, made.clean_up, stoppable=False
            )
            ended = "done" if state == "passed" else "failed"
            await link.execute(
                "UPDATE rehearsals_rehearsal SET cleanup = %s, reason = CASE WHEN %s = '' THEN "
                "reason ELSE %s END WHERE"
                " id = %s",
                (ended, reason, reason, pk),
            )

    def _keep(
        self, pk: str, number: int, made: Rehearsal, frozen: FrozenRun, secrets: dict[str, str]
    ) -> None:
        now = time.monotonic()
        self._left = {key: kept for key, kept in self._left.items() if now - kept[0] < CLEAN_UP_S}
        self._left[pk] = (now, number, made, frozen, secrets)

    async def _perform(
        self,
        link: Link,
        pk: str,
        number: int,
        frozen: FrozenRun,
        secrets: dict[str, str],
        work_on: Callable[[RealNetwork, RealClock, Callable[[KeptExchange], None]], Awaitable[str]],
        *,
        stoppable: bool,
    ) -> tuple[str, str, int]:
        """(state, reason, number of the next exchange) of something that exchanges; each exchange
        is stored as it ends.
        """
        queue: asyncio.Queue[KeptExchange | None] = asyncio.Queue()

        async def deliver() -> int:
            at = number
            while True:
                exchange = await queue.get()
                if exchange is None:
                    return at
                await link.execute(
                    "INSERT INTO rehearsals_rehearsedexchange (rehearsal_id, number, body) VALUES "
                    "(%s, %s, %s)",
                    (pk, at, pack_kept(exchange)),
                )
                at += 1
                if stoppable:
                    await _announce(link, pk, at, "exchange", json.dumps({"number": at}))

        sender = asyncio.create_task(deliver(), name="deliver")
        clock = RealClock()
        try:
            network = network_for(
                frozen, secrets, self._own_ports, Timeouts(first_byte_s=30.0, whole_s=60.0)
            )
        except Failure as failure:
            queue.put_nowait(None)
            clock.close()
            return "failed", failure.detail, await sender
        work = asyncio.ensure_future(work_on(network, clock, queue.put_nowait))

        async def obey() -> None:
            while stoppable:
                await asyncio.sleep(0.2)
                asked = await (
                    await link.execute(
                        "SELECT state FROM rehearsals_rehearsal WHERE id = %s", (pk,)
                    )
                ).fetchone()
                if asked is None or asked[0] == "stopping":
                    work.cancel()
                    return

        obeying = asyncio.create_task(obey(), name="obey")
        state, reason = "failed", ""
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
        return state, reason, number


async def _announce(link: Link, subject: str, sequence: int, event: str, body: str) -> None:
    await link.execute(
        "WITH put AS (INSERT INTO streams_message (subject, sequence, event, body) VALUES (%s, %s, "
        "%s, %s))"
        " SELECT pg_notify('dynamikos_stream', %s)",
        (subject, sequence, event, body, f"{subject}.{sequence}"),
    )
