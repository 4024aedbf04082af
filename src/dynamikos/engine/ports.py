"""What the engine is given: a clock, a network, a sink."""

import asyncio
from collections.abc import Callable
from typing import Any, Protocol

from dynamikos.core.reports import KeptExchange, ShardSecond
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.messages import Body, Head
from dynamikos.engine.http.protocol import Reply

Origin = tuple[str, str, int]  # scheme, host, port
Sessions = dict[Origin, Any]  # TLS sessions of one user, opaque to all but the network


class Clock(Protocol):
    """Monotonic seconds with at least microsecond grain."""

    def now(self) -> float: ...

    def wall(self) -> float:
        """Seconds since the epoch."""
        ...

    def at(self, instant: float) -> "asyncio.Future[None]":
        """A future that is done at or after `instant`, never before; its holder may set it
        earlier.
        """
        ...


class Taker(Protocol):
    """Whoever waits for an exchange: told once, from the arriving bytes. Must not raise."""

    def arrived(self, reply: Reply, link: "Link") -> None:
        """The answer is complete; the next exchange may begin on the link, if it is alive."""
        ...

    def lost(self, failure: Failure, link: "Link") -> None:
        """There is no (whole) answer."""
        ...


class Link(Protocol):
    """Performs one exchange at a time: a connection that can do no more, or one slot of a Channel.
    `connect_parts_us` is (dns, connect, ssl).
    """

    alive: bool
    idle_since: float  # for whoever keeps it
    connect_parts_us: tuple[int, int, int]
    channel: "Channel | None"  # whose slot it is; None: it is the connection

    @property
    def taker(self) -> Taker | None:
        """Whoever waits for the exchange under way."""
        ...

    def send(
        self,
        head: Head,
        body: Body,
        taker: Taker,
        cookie: str,
        trace: str,
        span: int,
        keep: bool,
        at: float,
    ) -> None:
        """Sends at the instant `at`, which is now; `taker` is told how it ended, never before this
        returns. `cookie` is the Cookie header, `trace` and the exchange's number `span` make a
        traceparent (W3C Trace Context); `keep`: the body of the answer is wanted.
        """
        ...

    def remember(self, origin: Origin, sessions: Sessions) -> bool:
        """Keeps the link's TLS session for the next one to `origin`; whether it was itself resumed
        from one.
        """
        ...

    def close(self) -> None:
        """What is under way is dropped: its taker is told nothing any more. Of a slot that ends its
        exchange, never the channel.
        """
        ...


class Channel(Protocol):
    """An open connection that performs many exchanges at once, each in a slot of its own (HTTP/2: a
    stream). A slot that is free again may be used for the next exchange.
    """

    alive: bool

    def slot(self) -> Link | None:
        """One more; None where the other side allows no more at once for now, or the channel is not
        alive.
        """
        ...

    def close(self) -> None:
        """With all that is under way in its slots: nobody is told."""
        ...


def hang_up(link: Link) -> None:
    """Closes the link, and the whole connection that it is a slot of."""
    link.close()
    if link.channel is not None:
        link.channel.close()


class Network(Protocol):
    """Opens connections to agreed targets only."""

    def check(self, origin: Origin) -> None:
        """Raises Failure("not-agreed") for what is not on the list of agreed targets."""
        ...

    async def open(self, origin: Origin, sessions: Sessions, line: Any = None) -> Link:
        """A new connection, or the first slot of a new channel. Resumes a TLS session of `sessions`
        where there is one. The connection is as slow as `line`, where there is one (see
        http.shaping).

        Raises Failure (not agreed, unresolvable, refused, TLS, timeout).
        """
        ...

    def open_count(self) -> int: ...


class Sink(Protocol):
    """Takes what a shard reports. Must not block: it buffers."""

    def report(self, message: ShardSecond) -> None: ...

    def keep(self, exchange: KeptExchange) -> None: ...

    def write(self, into: str, row: dict[str, str]) -> None:
        """A row that a journey writes back into the data set `into`."""
        ...

    def unsent(self) -> int: ...


class Lessor(Protocol):
    """Deals out takings of piles that several shards share."""

    async def lease(self, pile: str, left: int) -> tuple[int, int] | None:
        """(first taking, how many) that nobody else gets; (−1, 0) while others hold rows that
        nobody has used; None when the pile is used up. `left` is how many takings this shard holds;
        all that it was granted before counts as begun from now on.
        """
        ...

    async def wanted(self, pile: str) -> bool:
        """Whether somebody waits for takings that others have not used."""
        ...

    async def give_back(self, pile: str, first: int, count: int) -> None:
        """Takings that were granted and not used; with a `count` of 0: nothing is left of what was
        granted.
        """
        ...


Waited = Callable[[float], None]


class Functions(Protocol):
    """Calls the project's Python functions."""

    async def call(self, function: str, given: dict[str, str], waited: Waited | None = None) -> str:
        """What it returns, as text; `waited` is told the seconds in which other calls went first.
        Raises Failure.
        """
        ...
