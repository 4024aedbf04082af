"""One answer of one address, for what is no user's: priming, probes."""

import asyncio
import time
from collections.abc import Sequence

from dynamikos.engine.failures import Failure
from dynamikos.engine.http.messages import Base, Fields, Head
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.ports import Clock, Link, Network, hang_up
from dynamikos.engine.users.compiled import split_url


class Waiting:
    """A Taker of one answer, which is awaited as `reply`."""

    def __init__(self) -> None:
        self.reply: asyncio.Future[Reply] = asyncio.get_running_loop().create_future()

    def arrived(self, reply: Reply, link: Link) -> None:
        if not self.reply.done():
            self.reply.set_result(reply)

    def lost(self, failure: Failure, link: Link) -> None:
        if not self.reply.done():
            self.reply.set_exception(failure)


async def ask(link: Link, clock: Clock, host: str, target: str, fields: Fields) -> Reply:
    """A GET on an open link. Raises Failure."""
    waiting = Waiting()
    link.send(Head(Base("GET", target, host, fields)), b"", waiting, "", "", 0, True, clock.now())
    return await waiting.reply


async def post(
    network: Network, address: str, headers: Sequence[tuple[str, str]], body: bytes
) -> Reply:
    """One POST over a connection of its own; a redirect is an answer. Raises Failure."""
    origin, host, target = split_url(address)
    network.check(origin)
    link = await network.open(origin, {})
    try:
        waiting = Waiting()
        head = Head(Base("POST", target, host, Fields(list(headers))))
        link.send(head, body, waiting, "", "", 0, True, time.perf_counter())
        return await waiting.reply
    finally:
        hang_up(link)


class Fetcher:
    """Asks one address again and again, over one connection while that stands."""

    def __init__(
        self, network: Network, clock: Clock, address: str, headers: Sequence[tuple[str, str]]
    ) -> None:
        """Raises Failure for what is no address, or none that may be asked."""
        self._network, self._clock = network, clock
        self._origin, self._host, self._target = split_url(address)
        network.check(self._origin)
        self._fields = Fields(list(headers))
        self._link: Link | None = None

    async def get(self) -> Reply:
        """Raises Failure; then the next time begins with a new connection."""
        kept = self._link is not None and self._link.alive
        if not kept:
            self._link = await self._network.open(self._origin, {})
        assert self._link is not None
        try:
            return await ask(self._link, self._clock, self._host, self._target, self._fields)
        except Failure:
            self.close()
            if not kept:
                raise
            return await self.get()  # it was closed while it was kept
        except asyncio.CancelledError:
            self.close()
            raise

    def close(self) -> None:
        if self._link is not None:
            hang_up(self._link)
            self._link = None
