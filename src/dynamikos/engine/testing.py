"""Fakes that are real modules: virtual time, a scripted network, a sink that lists."""

import asyncio
import selectors
from collections.abc import Callable, Coroutine
from typing import Any, BinaryIO, TypeVar

from dynamikos.core.reports import KeptExchange, ShardSecond
from dynamikos.engine.failures import Failure, Reopen
from dynamikos.engine.http.protocol import Reply, ReplyReader
from dynamikos.engine.ports import Chain, Origin, Sessions

T = TypeVar("T")


class _Selector(selectors.SelectSelector):
    """Never waits: it moves virtual time on instead."""

    def __init__(self) -> None:
        super().__init__()
        self.virtual = 1000.0

    def select(self, timeout: float | None = None) -> list[tuple[selectors.SelectorKey, int]]:
        found = super().select(0)
        if not found:
            if timeout is None:
                raise RuntimeError("nothing is ready and nothing is planned: the program under test waits for ever")
            self.virtual += max(0.0, timeout)
        return found


class VirtualLoop(asyncio.SelectorEventLoop):
    """An event loop whose clock jumps to the next planned instant."""

    def __init__(self) -> None:
        self._virtual = _Selector()
        super().__init__(self._virtual)
        self._clock_resolution = 1e-9

    def time(self) -> float:
        return self._virtual.virtual


class VirtualClock:
    """The Clock of a VirtualLoop."""

    def now(self) -> float:
        return asyncio.get_running_loop().time()

    @staticmethod
    def _ring(waiter: "asyncio.Future[None]") -> None:
        if not waiter.done():
            waiter.set_result(None)

    def at(self, instant: float) -> "asyncio.Future[None]":
        loop = asyncio.get_running_loop()
        waiter: asyncio.Future[None] = loop.create_future()
        loop.call_at(instant, self._ring, waiter)
        return waiter


def run_virtual(program: Coroutine[Any, Any, T]) -> T:
    """Runs `program` in virtual time; minutes pass in milliseconds."""
    loop = VirtualLoop()
    try:
        return loop.run_until_complete(program)
    finally:
        loop.close()


Answerer = Callable[[bytes], "Scripted"]


class Scripted:
    """What a scripted server does with one request: answer `data` after `seconds`, or fail, or close after it."""

    def __init__(
        self, data: bytes = b"", seconds: float = 0.0, failure: Failure | None = None, *, stale: bool = False
    ) -> None:
        self.data, self.seconds, self.failure, self.stale = data, seconds, failure, stale


class ScriptedNetwork:
    """Answers by a function; remembers every request's bytes. Time is the loop's."""

    def __init__(self, answer: Answerer, connect: Callable[[Origin], None] = lambda origin: None) -> None:
        self._answer, self._connect = answer, connect
        self.requests: list[bytes] = []
        self.opened: list[Origin] = []

    def check(self, origin: Origin) -> None:
        """All is agreed here."""

    async def open(self, origin: Origin, sessions: Sessions) -> "ScriptedLink":
        self._connect(origin)
        self.opened.append(origin)
        return ScriptedLink(self)

    def open_count(self) -> int:
        return len(self.opened)


class ScriptedLink:
    """A connection of a ScriptedNetwork, read by the real reply reader."""

    def __init__(self, network: ScriptedNetwork) -> None:
        self._network = network
        self._reader = ReplyReader()
        self._count = 0
        self.alive = True
        self.connect_parts_us = (0, 0, -1)

    def remember(self, origin: Origin, sessions: Sessions) -> bool:
        return False

    async def exchange(
        self, data: bytes, *, head_only: bool, keep: bool, held: bytes | BinaryIO | None = None
    ) -> Reply:
        if held is not None:
            data += held if isinstance(held, bytes) else held.read()
        clock = VirtualClock()
        self._count += 1
        self._network.requests.append(data)
        sent_at = clock.now()
        self._reader.begin(head_only=head_only, keep=keep)
        scripted = self._network._answer(data)
        if scripted.stale and self._count > 1:
            self.alive = False
            raise Reopen("closed-idle", "scripted")
        if scripted.seconds:
            await asyncio.sleep(scripted.seconds)
        if scripted.failure is not None:
            self.alive = False
            raise scripted.failure
        reply = self._reader.feed(scripted.data) or self._reader.end_of_stream()
        if reply is None:
            self.alive = False
            raise Failure("closed-mid-body", "scripted")
        reply.sent_at, reply.first_at, reply.last_at = sent_at, clock.now(), clock.now()
        reply.bytes_out = len(data)
        self.alive = reply.keep_alive
        return reply

    def start(self, data: bytes, instant: float, chain: Chain, wake: "asyncio.Future[Reply | None]") -> None:
        async def perform() -> None:
            try:
                reply = await self.exchange(data, head_only=False, keep=False)
            except Failure as failure:
                wake.set_exception(failure)
                return
            plain = reply.status < 300 and reply.cookies is None and reply.keep_alive
            if not (plain and chain.landed(reply.last_at, reply.bytes_out, reply.bytes_in)):
                wake.set_result(reply)

        self._task = asyncio.get_running_loop().create_task(perform())

    def rest(self) -> None:
        pass

    def close(self) -> None:
        self.alive = False


class ListSink:
    """Keeps what it is given in lists. Also the sink of `./dynamikos run` without a database."""

    def __init__(self, tell: Callable[[ShardSecond], None] | None = None) -> None:
        self.messages: list[ShardSecond] = []
        self.kept: list[KeptExchange] = []
        self.written: list[tuple[str, dict[str, str]]] = []
        self._tell = tell

    def report(self, message: ShardSecond) -> None:
        self.messages.append(message)
        if self._tell is not None:
            self._tell(message)

    def keep(self, exchange: KeptExchange) -> None:
        self.kept.append(exchange)

    def write(self, into: str, row: dict[str, str]) -> None:
        self.written.append((into, row))

    def unsent(self) -> int:
        return 0


def answer(body: bytes = b"", status: str = "200 OK", headers: str = "") -> bytes:
    """A well-formed reply."""
    return f"HTTP/1.1 {status}\r\nContent-Length: {len(body)}\r\n{headers}\r\n".encode() + body
