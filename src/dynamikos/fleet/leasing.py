"""Takings of shared piles, granted by the database to one shard."""

import asyncio
import contextlib

import psycopg

from dynamikos.fleet.settings import RECONNECT_S

# at most: with what is at hand and two leases ahead a shard never holds more than a block of 1,000
LEASE_ROWS = 300
PATIENCE_S = 30.0


class DatabaseLessor:
    """A Lessor over a connection of its own, opened again when it breaks.

    Raises OSError when the database stays away.
    """

    def __init__(self, conninfo: str, shard_id: int) -> None:
        self._conninfo, self._shard_id = conninfo, shard_id
        self._link: psycopg.AsyncConnection[tuple[int, int]] | None = None
        self._turn = asyncio.Lock()

    async def _ask(self, statement: str, values: tuple[object, ...]) -> tuple[int, int] | None:
        end = asyncio.get_running_loop().time() + PATIENCE_S
        async with self._turn:
            while True:
                try:
                    if self._link is None or self._link.closed:
                        self._link = await psycopg.AsyncConnection.connect(
                            self._conninfo, autocommit=True
                        )
                    assert self._link is not None
                    return await (await self._link.execute(statement, values)).fetchone()
                except (psycopg.OperationalError, OSError) as problem:
                    self._link = None
                    if asyncio.get_running_loop().time() > end:
                        raise OSError(f"the database is away ({str(problem).strip()})") from problem
                    await asyncio.sleep(RECONNECT_S)

    async def lease(self, pile: str, left: int) -> tuple[int, int] | None:
        return await self._ask(
            "SELECT first_taking, how_many FROM lease_rows(%s, %s, %s, %s)",
            (self._shard_id, pile, LEASE_ROWS, left),
        )

    async def wanted(self, pile: str) -> bool:
        found = await self._ask("SELECT rows_wanted(%s, %s)::int, 0", (self._shard_id, pile))
        return bool(found and found[0])

    async def give_back(self, pile: str, first: int, count: int) -> None:
        await self._ask(
            "SELECT 1, 1 FROM return_rows(%s, %s, %s, %s)", (self._shard_id, pile, first, count)
        )

    async def aclose(self) -> None:
        if self._link is not None:
            with contextlib.suppress(psycopg.Error):
                await self._link.close()
