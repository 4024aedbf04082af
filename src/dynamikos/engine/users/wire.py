"""How one user exchanges: cookies and trace put in, connections taken and opened, each exchange
counted.
"""

import asyncio
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Coroutine, Mapping, Sequence
from functools import partial
from typing import Any

from dynamikos.engine.failures import Failure, Reopen
from dynamikos.engine.http.cookies import keeps_secrets
from dynamikos.engine.http.messages import Body, Head
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.http.writing import joined
from dynamikos.engine.ports import Link, Origin
from dynamikos.engine.users.attempt import IDEMPOTENT, Destination
from dynamikos.engine.users.pool import IDLE_S, OriginPool, Pool
from dynamikos.engine.users.user_context import UserContext
from dynamikos.engine.users.user_state import UserState


class Sent(ABC):
    """What was sent with a request, or was to be, for whoever keeps it. `keep`: the answer's body
    was wanted.
    """

    head: Head  # as it was sent
    keep = False
    span = 0
    cookie = ""

    def __init__(self) -> None:
        self.before: dict[str, str] = {}  # the user's values before it, where everything is kept
        self.replaced: Mapping[
            str, str | None
        ] = {}  # what its captures replaced: the values before

    @property
    @abstractmethod
    def place(self) -> Destination:
        """Where it goes, with its head and body."""

    @property
    def url(self) -> str:
        """Where it goes, whole."""
        origin, head, _ = self.place
        return f"{origin[0]}://{head.base.host}{head.base.target}"


class Flight(Sent):
    """One exchange on the wire, or several after each other: a Taker. Whoever sends derives from
    it.

    `instant` is when it was sent, or its connection begun to be opened; `opened` whether that was
    for it.
    """

    desk: OriginPool
    instant = 0.0
    opened = False
    opening_s = 0.0  # what this thread computed while its connection was opened

    def __init__(self, wire: "Wire") -> None:
        super().__init__()
        self.wire = wire

    @abstractmethod
    def arrived(self, reply: Reply, link: Link) -> None:
        """See Taker."""

    @abstractmethod
    def lost(self, failure: Failure, link: Link) -> None:
        """See Taker."""

    @abstractmethod
    def unsent(self, failure: Failure) -> None:
        """It could not be sent, or no connection could be had: told from a task of its own."""

    @abstractmethod
    def broke(self, problem: Exception) -> None:
        """An error of ours."""


class Wire:
    """Sends the flights of one user. Nothing is delivered before `send` returns."""

    def __init__(self, own: UserState, context: UserContext) -> None:
        self._own, self._context, self.recorder = own, context, context.recorder
        self.pool = Pool(context.network, own.manner.line)
        self._tasks: set[asyncio.Task[None]] = set()
        self._opening: set[Flight] = set()  # those that wait for a connection
        self._by_path = False  # whether cookies differ by the path that is asked for
        self._lasting = True  # whether no cookie expires by itself
        self._taken: Sequence[bytes] | None = (
            None  # what an answer set last, for which target, from where
        )
        self._taken_at, self._taken_from = "", self.pool.last
        self._now, self._flying = context.clock.now, context.recorder.flying
        self._free = context.cap is None  # whether the rate is not limited
        self._next_span = context.spans.__next__
        self._trace = context.trace_prefix
        self._pulse = context.pulse

    def send(self, flight: Flight, place: Destination, now: float) -> None:
        """Over a link at rest; without one, or where the rate is limited, from a task. Nothing any
        more by a process that was stopped for too long: its users are ended, and nobody is told.
        """
        if now - self._pulse.at > self._pulse.limit_s:
            self._pulse.beats(now)
            return
        origin, head, body = place
        desk = self.pool.last
        if desk.origin is not origin:
            desk = self.pool.desk(origin)
        flight.desk, flight.head, resting = desk, head, desk.resting
        link = resting.pop() if resting else None
        if link is None or not self._free or not link.alive or now - link.idle_since > IDLE_S:
            if link is not None:
                resting.append(link)
            self.task(partial(self._open, flight), flight)
            return
        if flight.opened:
            flight.opened = False
        flight.span = span = self._next_span()
        flight.instant = self._flying[span] = now
        cookie = desk.cookie
        if cookie is None or head.cookie:
            cookie = self._cookie(desk, head)
        flight.cookie = cookie
        link.send(head, body, flight, cookie, self._trace, span, flight.keep, now)

    def _write(self, flight: Flight, link: Link) -> None:
        if not self._pulse.beats(self._now()):
            return
        _, head, body = flight.place
        flight.head = head
        flight.cookie = self._cookie(flight.desk, head)
        link.send(
            head, body, flight, flight.cookie, self._trace, flight.span, flight.keep, self._now()
        )

    def again(self, flight: Flight) -> None:
        """The same exchange over another link: its first had been closed."""
        self.recorder.reopened(self._now())
        link = self.pool.take(flight.desk, self._now())
        if link is None:
            self.task(partial(self._open, flight, once_more=True), flight)
        else:
            flight.opened = False
            self._write(flight, link)

    async def _open(self, flight: Flight, *, once_more: bool = False) -> None:
        context, pool, recorder, origin = self._context, self.pool, self.recorder, flight.place[0]
        try:
            if not once_more:
                context.network.check(origin)  # what is not agreed is not even counted as sent
                if context.cap is not None:
                    await context.cap.pass_one(context.clock, origin, waits=context.keep_everything)
                flight.span = self._next_span()
                flight.instant = recorder.flying[flight.span] = self._now()
        except Failure as failure:
            flight.unsent(failure)
            return
        link = pool.take(flight.desk, self._now())
        flight.opened = link is None
        if link is None:
            self._opening.add(flight)
            computed = time.thread_time()
            try:
                link = await pool.open(origin)
                flight.opening_s = time.thread_time() - computed
            except Failure as failure:
                if failure.kind == "not-agreed":
                    recorder.withdrawn(flight.span)
                else:
                    recorder.landed(flight.span, self._now(), failed=True)
                flight.unsent(failure)
                return
            except Exception:
                recorder.landed(flight.span, self._now(), failed=True)
                raise
            finally:
                self._opening.discard(flight)
        self._write(flight, link)

    def landed(self, flight: Flight, reply: Reply, link: Link) -> None:
        """An answer is complete: its link goes back, its cookies are taken. Noting it is left to
        whoever sent it.
        """
        del self._flying[flight.span]
        desk = flight.desk
        self._own.late_s += reply.own_s
        if flight.opened:
            self._own.late_s += flight.opening_s
            reply.opened_us = link.connect_parts_us
            reply.resumed = link.remember(desk.origin, self.pool.sessions)
        if link.alive:
            link.idle_since = reply.last_at
            desk.resting.append(link)
        else:
            self.pool.forget(link)
        cookies = reply.set_cookies
        if cookies is not None:
            target = flight.head.base.target
            if cookies != self._taken or target != self._taken_at or desk is not self._taken_from:
                self._take(cookies, desk, target)  # most servers say the same with every answer

    def crashed(self, flight: Flight, link: Link) -> None:
        """There was no answer."""
        self.recorder.landed(flight.span, self._now(), failed=True)
        self.pool.forget(link)

    # cookies --------------------------------------------------------------------------------------

    def _cookie(self, desk: OriginPool, head: Head) -> str:
        """The Cookie header (RFC 6265 §5.4), with what the request has of its own."""
        line = desk.cookie
        if line is None:
            scheme, host, _ = desk.origin
            path, wall = head.base.target.partition("?")[0], self._context.clock.wall()
            line = self._own.jar.header(host, path, keeps_secrets(scheme, host), wall)
            if not self._by_path and self._lasting:
                desk.cookie = line
        return joined(head.cookie, line) if head.cookie else line

    def _take(self, cookies: Sequence[bytes], desk: OriginPool, target: str) -> None:
        jar, path, wall, host = (
            self._own.jar,
            target.partition("?")[0],
            self._context.clock.wall(),
            desk.origin[1],
        )
        before, secure = dict(jar.cookies), keeps_secrets(desk.origin[0], host)
        for value in cookies:
            jar.take(value.decode("latin-1"), host, path, wall, from_secure=secure)
        expires = any(b"xpires" in each or b"ax-age" in each.lower() for each in cookies)
        self._taken, self._taken_at, self._taken_from = None if expires else cookies, target, desk
        if jar.cookies != before:
            self._by_path = any(cookie.path != "/" for cookie in jar.cookies.values())
            self._lasting = all(cookie.expires is None for cookie in jar.cookies.values())
            for each in self.pool.desks.values():
                each.cookie = None

    # what waits -----------------------------------------------------------------------------------

    def task(self, program: Callable[[], Coroutine[Any, Any, None]], flight: Flight) -> None:
        """Performs what has to wait for something; an error of ours ends the user, not the task
        alone.
        """

        async def watched() -> None:
            try:
                await program()
            except Exception as problem:
                flight.broke(problem)

        task = asyncio.get_running_loop().create_task(watched())
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def exchange(self, origin: Origin, head: Head, body: Body = b"", *, keep: bool) -> "Awaited":
        """Begins one exchange that a coroutine waits for, by its `reply`; it is noted as one of its
        own.
        """
        waiting = Awaited(self, (origin, head, body), keep=keep)
        self.send(waiting, waiting.place, self._now())
        return waiting

    def spans(self) -> list[int]:
        """Numbers of the exchanges that are under way."""
        flights = {
            *self._opening,
            *(each for link in self.pool.every() if isinstance(each := link.taker, Flight)),
        }
        return [flight.span for flight in flights]

    def close(self) -> None:
        """Stops all that is under way: it stays in flight in the last report."""
        for task in list(self._tasks):
            task.cancel()
        self.pool.close()


class Awaited(Flight):
    """An exchange whose `reply` is awaited. That raises Failure."""

    def __init__(self, wire: Wire, place: Destination, *, keep: bool) -> None:
        super().__init__(wire)
        self._place, self.keep = place, keep
        self.reply: asyncio.Future[Reply] = asyncio.get_running_loop().create_future()
        self._retried = False

    @property
    def place(self) -> Destination:
        return self._place

    def arrived(self, reply: Reply, link: Link) -> None:
        try:
            self.wire.landed(self, reply, link)
            self.wire.recorder.trips.append((self.instant, reply.last_at))
        except Exception as problem:
            self.broke(problem)
            return
        if not self.reply.done():
            self.reply.set_result(reply)

    def lost(self, failure: Failure, link: Link) -> None:
        if (
            isinstance(failure, Reopen)
            and not self._retried
            and self.place[1].base.method in IDEMPOTENT
        ):
            self._retried = True
            self.wire.pool.forget(link)
            self.wire.again(self)
            return
        self.wire.crashed(self, link)
        self.unsent(failure)

    def unsent(self, failure: Failure) -> None:
        if not self.reply.done():
            self.reply.set_exception(failure)

    def broke(self, problem: Exception) -> None:
        if not self.reply.done():
            self.reply.set_exception(problem)
