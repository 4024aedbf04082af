"""What the engine is given: a clock, a network, a sink."""

import asyncio
from collections.abc import Awaitable
from typing import Protocol

from dynamikos.core.reports import KeptExchange, ShardSecond
from dynamikos.engine.http.protocol import Reply

Origin = tuple[str, str, int]  # scheme, host, port


class Clock(Protocol):
    """Monotonic seconds with at least microsecond grain."""

    def now(self) -> float: ...

    def at(self, instant: float) -> "asyncio.Future[None]":
        """A future that is done at or after `instant`, never before; its holder may set it earlier."""
        ...


class Link(Protocol):
    """An open connection that performs one exchange at a time. `connect_parts_us` is (dns, connect, ssl)."""

    alive: bool
    connect_parts_us: tuple[int, int, int]

    def exchange(self, data: bytes, *, head_only: bool, keep: bool) -> Awaitable[Reply]:
        """Sends `data`; awaiting gives the reply. Raises Failure, at once or when awaited. Cancelled: close the link."""
        ...

    def close(self) -> None: ...


class Network(Protocol):
    """Opens connections to agreed targets only."""

    async def open(self, origin: Origin) -> Link:
        """Raises Failure (not agreed, unresolvable, refused, TLS, timeout)."""
        ...

    def open_count(self) -> int: ...


class Sink(Protocol):
    """Takes what a shard reports. Must not block: it buffers."""

    def report(self, message: ShardSecond) -> None: ...

    def keep(self, exchange: KeptExchange) -> None: ...

    def unsent(self) -> int: ...
