"""Fakes that are real modules: virtual time, a scripted network, a sink that lists."""

import asyncio
import selectors
import time
from collections.abc import Callable, Coroutine
from typing import Any, TypeVar

from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.freeze import Inputs, freeze
from dynamikos.core.journeys import Journey
from dynamikos.core.plans import Plan
from dynamikos.core.reports import KeptExchange, ShardSecond
from dynamikos.engine.failures import Failure, Reopen
from dynamikos.engine.fetching import Waiting
from dynamikos.engine.http.messages import Body, Head, Held
from dynamikos.engine.http.protocol import Reply, ReplyReader
from dynamikos.engine.http.writing import written
from dynamikos.engine.ports import Channel, Link, Origin, Sessions, Taker

T = TypeVar("T")


def frozen_of_one(
    plan: Plan, journey: Journey, *, run: str = "r", seed: int = 1, **inputs: Any
) -> FrozenRun:
    """The inputs of a run of one journey, as they are, without a look for problems."""
    return freeze(
        Inputs(plan=plan, journeys={plan.journey: journey}, **inputs),
        run=run,
        seed=seed,
        checked=True,
    )


EPOCH_S = 1_800_000_000.0  # the virtual clock begins here, or so


class _Selector(selectors.SelectSelector):
    """Never waits: it moves virtual time on instead."""

    def __init__(self) -> None:
        super().__init__()
        self.virtual = 1000.0

    def select(self, timeout: float | None = None) -> list[tuple[selectors.SelectorKey, int]]:
        found = super().select(0)
        if not found:
            if timeout is None:
                raise RuntimeError(
                    "nothing is ready and nothing is planned: the program under test waits for ever"
                )
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

    def wall(self) -> float:
        return EPOCH_S + self.now()

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
    """What a scripted server does with one request: answer `data` after `seconds`, or fail, or
    close after it.
    """

    def __init__(
        self,
        data: bytes = b"",
        seconds: float = 0.0,
        failure: Failure | None = None,
        *,
        stale: bool = False,
    ) -> None:
        self.data, self.seconds, self.failure, self.stale = data, seconds, failure, stale


class ScriptedNetwork:
    """Answers by a function; remembers every request's bytes. Time is the loop's."""

    def __init__(
        self,
        answer: Answerer,
        connect: Callable[[Origin], None] = lambda origin: None,
        slots: int = 0,
    ) -> None:
        """`slots`: its connections are channels that carry so many exchanges at once; 0: one
        exchange at a time.
        """
        self._answer, self._connect, self._slots = answer, connect, slots
        self.requests: list[bytes] = []
        self.opened: list[Origin] = []
        self.channels: list[ScriptedChannel] = []

    def check(self, origin: Origin) -> None:
        """All is agreed here."""

    async def open(self, origin: Origin, sessions: Sessions, line: Any = None) -> "ScriptedLink":
        self._connect(origin)
        self.opened.append(origin)
        if not self._slots:
            return ScriptedLink(self)
        channel = ScriptedChannel(self, self._slots)
        self.channels.append(channel)
        return channel.slot() or ScriptedLink(self)

    def open_count(self) -> int:
        return len(self.opened)


class ScriptedLink:
    """A connection of a ScriptedNetwork, read by the real reply reader."""

    def __init__(self, network: ScriptedNetwork, channel: "ScriptedChannel | None" = None) -> None:
        self._network = network
        self.channel: Channel | None = channel
        self._reader = ReplyReader()
        self._count = 0
        self._taker: Taker | None = None
        self.alive = True
        self.idle_since = 0.0
        self.connect_parts_us = (0, 0, -1)

    @property
    def taker(self) -> Taker | None:
        return self._taker

    def remember(self, origin: Origin, sessions: Sessions) -> bool:
        return False

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
        data = written(head, body, cookie, trace, span)
        if isinstance(body, Held):
            data += body.content if body.file is None else body.file.read_bytes()
        self._count += 1
        self._taker = taker
        self._network.requests.append(data)
        self._reader.begin(head_only=head.base.method == "HEAD", keep=keep)
        scripted = self._network._answer(data)
        loop = asyncio.get_running_loop()
        if scripted.stale and self._count > 1:
            loop.call_soon(self._lose, Reopen("closed-idle", "scripted"))
        elif scripted.seconds:
            loop.call_later(scripted.seconds, self._answer, scripted, at, len(data))
        else:
            loop.call_soon(self._answer, scripted, at, len(data))

    def _answer(self, scripted: Scripted, sent_at: float, size: int) -> None:
        if scripted.failure is not None:
            self._lose(scripted.failure)
            return
        try:
            reply = self._reader.feed(scripted.data) or self._reader.end_of_stream()
        except Failure as failure:
            self._lose(failure)
            return
        if reply is None:
            self._lose(Failure("closed-mid-body", "scripted"))
            return
        now = VirtualClock().now()
        reply.sent_at, reply.first_at, reply.last_at, reply.bytes_out = sent_at, now, now, size
        self.alive = self.alive and reply.keep_alive
        taker, self._taker = self._taker, None
        if taker is not None:
            taker.arrived(reply, self)

    def _lose(self, failure: Failure) -> None:
        taker, self._taker, self.alive = self._taker, None, False
        if taker is not None:
            taker.lost(failure, self)

    def close(self) -> None:
        self.alive, self._taker = False, None


class ScriptedChannel:
    """A connection of a ScriptedNetwork that carries many exchanges at once."""

    def __init__(self, network: ScriptedNetwork, most: int) -> None:
        self._network, self._most = network, most
        self.links: list[ScriptedLink] = []
        self.alive = True

    def slot(self) -> ScriptedLink | None:
        """See Channel."""
        self.links = [each for each in self.links if each.alive]
        if not self.alive or len(self.links) == self._most:
            return None
        self.links.append(ScriptedLink(self._network, self))
        return self.links[-1]

    def close(self) -> None:
        """See Channel."""
        self.alive = False
        for link in self.links:
            link.close()


async def asked(link: Link, head: Head, body: Body = b"") -> Reply:
    """One exchange over `link`, its body kept. Raises Failure."""
    taker = Waiting()
    link.send(head, body, taker, "", f"00-{1:032x}-", 1, True, time.perf_counter())
    return await taker.reply


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
