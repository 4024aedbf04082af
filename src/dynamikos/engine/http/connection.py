"""One connection: a request out, a reply in, its instants taken as they happen."""

import asyncio
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from dynamikos.engine.failures import Failure, Reopen
from dynamikos.engine.http.messages import Body, Head, Held
from dynamikos.engine.http.protocol import Heads, Reply, ReplyReader
from dynamikos.engine.http.writing import written
from dynamikos.engine.ports import Channel, Origin, Sessions, Taker

CONTINUE_S = 1.0  # how long a body waits for “100 Continue” (RFC 9110 §10.1.1: not for ever)
POURED = 1 << 18  # bytes of a body from a file that are written at once
QUEUED = 1 << 16  # a request with more bytes may still be on its way when the answer is there


class Arrivals:
    """What was read in one turn of the event loop, handed on when all of it was read.

    Reading all sockets first and computing afterwards keeps code and data of the one in the
    processor's caches while it is needed, and an answer's instant is when it was read, not when the
    answers before it were done with.

    How long bytes may have been there before they were read is known, too: since the loop looked at
    its sockets before, when there was nothing of it, this thread has computed for so long and no
    longer (what else it waited was for want of work, or is a stop: `reporting.stops`).
    """

    def __init__(self) -> None:
        self.waiting: list[tuple[Connection, bytes, float]] = []
        self.computed_s = 0.0  # between the look before and that of the batch at hand
        self.began = 0.0  # when the batch at hand was begun to be read
        self._looked_at = time.thread_time()

    def look(self, now: float) -> None:
        """A batch begins."""
        at = time.thread_time()
        self.computed_s, self._looked_at, self.began = at - self._looked_at, at, now

    def soon(self) -> None:
        asyncio.get_running_loop().call_soon(self.hand_on)

    def hand_on(self) -> None:
        """Gives each connection what came, in the order in which it came."""
        batch = self.waiting[:]
        self.waiting.clear()
        for connection, data, now in batch:
            try:
                connection.arrived(data, now)
            except Exception as problem:
                connection.broke(problem)


class Connection:
    """An HTTP/1.1 keep-alive connection, one exchange at a time. `watch` holds the open ones for
    time-outs, `heads` those seen, `arrivals` what all of them read.

    It is an asyncio.Protocol by what it has, not by name: what is machine code can't derive from
    what isn't.
    """

    def __init__(self, watch: "set[Connection]", heads: Heads, arrivals: Arrivals) -> None:
        self._arrivals, self._waiting = arrivals, arrivals.waiting
        self._reader: ReplyReader | None = None  # most answers need none
        self._heads, self._known = heads, heads.known.get
        self._started = self._head_only = self._keep = False
        self._simple = True  # whether the answer may be read without a parser
        self._transport: asyncio.Transport | None = None
        self._write: Callable[[bytes], None]
        self._taker: Taker | None = None
        self._error: Failure | None = None
        self._watch = watch
        self._through = self._more = ""
        self._sent_at = 0.0
        self._size = 0
        self._held: bytes | None = None
        self._patience: asyncio.TimerHandle | None = None
        self._pouring: asyncio.Task[None] | None = None
        self._flowing: asyncio.Event | None = (
            None  # while so much waits to be written that more has to wait
        )
        self.alive = False
        self.idle_since = 0.0
        self.connect_parts_us = (-1, -1, -1)
        self.tls: Any = None  # its TLS layer, when it has one
        self.channel: Channel | None = None  # see Link: it performs one exchange at a time

    @property
    def taker(self) -> Taker | None:
        """See Link."""
        return self._taker

    # asyncio's callbacks --------------------------------------------------------------------------

    def connection_made(self, transport: Any) -> None:
        """`transport` is an asyncio.Transport, or does what one does."""
        self._transport = transport
        self._write = transport.write
        self._watch.add(self)
        self.alive = True

    def ask_in_full(self, through: str, more: str) -> None:
        """From now on to a proxy: requests in absolute form (RFC 9112 §3.2.2), with the lines
        `more`.
        """
        self._through, self._more = through, more

    def data_received(self, data: bytes) -> None:
        waiting, now = self._waiting, time.perf_counter()
        if not waiting:
            self._arrivals.look(now)
            self._arrivals.soon()
        waiting.append((self, data, now))

    def arrived(self, data: bytes, now: float) -> None:
        """Takes what was read at `now`."""
        taker = self._taker
        if taker is None:
            self.close()  # bytes nobody asked for: the connection can't be trusted any more
            return
        if now < self._sent_at:  # they came before what is under way was sent
            self._fail(
                Reopen("closed-idle", "the kept connection brought bytes that nobody had asked for")
            )
            return
        if self._started:
            self._feed(data, now)
            return
        if self._simple:
            end = data.find(b"\r\n\r\n") + 4
            head = data[:end]
            seen = self._known(head) or self._heads.read(head)
            if seen is not None and end + seen.length == len(data):
                reply = Reply()
                reply.seen, reply.status = seen, seen.status
                if seen.set_cookies is not None:
                    reply.set_cookies = seen.set_cookies
                if seen.encoding:
                    reply.encoding, reply.body = seen.encoding, data[end:]
                elif self._keep or seen.status >= 400:
                    reply.body = data[end:]
                reply.sent_at, reply.first_at, reply.last_at = self._sent_at, now, now
                reply.own_s = self._arrivals.computed_s + now - self._arrivals.began
                reply.bytes_in, reply.bytes_out = len(data), self._size
                self._taker = None
                if self._size > QUEUED:
                    self._settle(reply)
                taker.arrived(reply, self)
                return
        self._started = True
        reader = self._reader
        if reader is None:
            reader = self._reader = ReplyReader()
        reader.begin(head_only=self._head_only, keep=self._keep)
        reader.reply.first_at = now
        self._feed(data, now)

    def _feed(self, data: bytes, now: float) -> None:
        reader = self._reader
        assert reader is not None
        interim = reader.interim
        try:
            reply = reader.feed(data)
        except Failure as failure:
            self._fail(failure)
            return
        if interim and not reader.interim:
            reader.reply.first_at = now
        if self._held is not None and (reader.continued or not reader.interim):
            self._send_held(wanted=reader.continued)
        if reply is not None:
            self._done(reply, now)

    def eof_received(self) -> bool:
        return False

    def connection_lost(self, exc: Exception | None) -> None:
        self.alive = False
        self._watch.discard(self)
        if self._taker is None:
            return
        reader = self._reader if self._started else None
        reply = reader.end_of_stream() if exc is None and reader is not None else None
        if reply is not None:
            self._done(reply, time.perf_counter())
        elif self._error is not None:
            self._fail(self._error)
        elif exc is not None and not isinstance(exc, OSError):
            self.broke(exc)
        elif not self._started and self.idle_since:
            self._fail(
                Reopen("closed-idle", "the server closed the kept connection before it answered")
            )
        elif not self._started:
            self._fail(
                Failure("closed-early", "the server closed the connection without an answer")
            )
        else:
            came = 0 if reader is None else reader.reply.bytes_in
            self._fail(
                Failure("closed-mid-body", f"the server closed after {came:,} bytes of its answer")
            )

    def broke(self, problem: Exception) -> None:
        """An error of ours, not the server's."""
        self._fail(Failure("engine-error", f"{type(problem).__name__}: {problem}"))

    # use ------------------------------------------------------------------------------------------

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
        """See Link."""
        self._taker, self._keep, self._sent_at = taker, keep, at
        data = written(head, body, cookie, trace, span, self._through, self._more)
        self._size = len(data)
        held, self._head_only = isinstance(body, Held), head.base.method == "HEAD"
        if held or self._head_only or not self._simple:
            self._simple = not (held or self._head_only)
        if not self.alive:
            gone = Reopen("closed-idle", "the kept connection is closed")
            asyncio.get_running_loop().call_soon(self._fail, gone)
            return
        self._write(data)
        if held:
            self._hold(body)  # type: ignore[arg-type]

    def _hold(self, held: Held) -> None:
        if held.file is None:
            self._held = held.content
            self._patience = asyncio.get_running_loop().call_later(CONTINUE_S, self._send_held)
        else:
            self._pouring = asyncio.get_running_loop().create_task(
                self._pour(held.file), name="body"
            )

    def _send_held(self, *, wanted: bool = True) -> None:
        held, self._held = self._held, None
        if self._patience is not None:  # not for the body of a later request
            self._patience.cancel()
        if held is None or not self.alive:
            return
        if wanted:
            self._size += len(held)
            self._write(held)
        else:
            # the server answered without the body: what it would read next is unsure
            reader = self._reader
            if reader is not None:
                reader.reply.keep_alive = False

    async def _pour(self, path: Path) -> None:
        """A body from a file, as fast as the connection takes it."""
        try:
            with path.open("rb") as file:
                while self.alive and (piece := file.read(POURED)):
                    self._size += len(piece)
                    self._write(piece)
                    if self._flowing is not None:
                        await self._flowing.wait()
        except OSError as problem:
            self._fail(
                Failure(
                    "body-file", f"the body's file can't be read: {problem.strerror or problem}"
                )
            )

    def pause_writing(self) -> None:
        if self._flowing is None:
            self._flowing = asyncio.Event()

    def resume_writing(self) -> None:
        flowing, self._flowing = self._flowing, None
        if flowing is not None:
            flowing.set()

    def remember(self, origin: Origin, sessions: Sessions) -> bool:
        """See Link. TLS 1.3 hands out its tickets after the handshake, so it is asked for when an
        answer is there.
        """
        if self.tls is None:
            return False
        if self.tls.session is not None:
            sessions[origin] = self.tls.session
        return bool(self.tls.session_reused)

    def _settle(self, reply: Reply) -> None:
        """An answer that came before all of its request was sent ends the connection."""
        if self._pouring is not None and not self._pouring.done():
            self._pouring.cancel()
            reply.keep_alive = False
        elif self._transport is not None and self._transport.get_write_buffer_size():
            reply.keep_alive = False
        if not reply.keep_alive:
            self.close()

    def _done(self, reply: Reply, now: float) -> None:
        """The reply is complete: its instants and sizes, then whoever waits."""
        taker, self._taker, self._started = self._taker, None, False
        reply.sent_at, reply.last_at = self._sent_at, now
        reply.own_s = max(0.0, self._arrivals.computed_s + now - self._arrivals.began)
        reply.bytes_out = self._size
        self._settle(reply)
        if taker is not None:
            taker.arrived(reply, self)

    def overdue(self, now: float, first_byte_s: float, whole_s: float) -> None:
        """Ends the exchange under way, if any, with a time-out when it is over its limits."""
        if self._taker is None:
            return
        waited = now - self._sent_at
        if waited > whole_s:
            self._fail(Failure("timeout-whole", f"no complete answer within {whole_s:g} s"))
        elif waited > first_byte_s and (
            self._reader is None or not self._started or self._reader.interim
        ):
            self._fail(Failure("timeout-first-byte", f"no first byte within {first_byte_s:g} s"))

    def close(self) -> None:
        """What is under way is dropped: nobody is told."""
        under_way = self._taker is not None
        self.alive, self._taker, self._held, self._reader = False, None, None, None
        if self._flowing is not None:
            self.resume_writing()
        self._watch.discard(self)
        if self._transport is not None and not self._transport.is_closing():
            self._transport.abort() if under_way else self._transport.close()

    def _fail(self, failure: Failure) -> None:
        """Ends the exchange under way, and the connection with it."""
        self._error = failure
        taker = self._taker
        self.close()
        if taker is not None:
            taker.lost(failure, self)
