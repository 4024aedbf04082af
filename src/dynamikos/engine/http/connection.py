"""One connection: bytes out, a reply in, its instants taken as they happen."""

import asyncio
import time
from collections.abc import Callable
from typing import Any, BinaryIO

from dynamikos.engine.failures import Failure, Reopen
from dynamikos.engine.http.protocol import Heads, Reply, ReplyReader
from dynamikos.engine.ports import Chain, Origin, Sessions

CONTINUE_S = 1.0  # how long a body waits for “100 Continue” (RFC 9110 §10.1.1: not for ever)
POURED = 1 << 18  # bytes of a body from a file that are written at once
Waiter = asyncio.Future[Reply] | asyncio.Future[Reply | None]


class Connection(asyncio.Protocol):
    """An HTTP/1.1 keep-alive connection.

    One future per exchange; `watch` holds the open ones for time-outs, `heads` those seen.
    """

    def __init__(self, watch: "set[Connection]", heads: Heads) -> None:
        self._reader = ReplyReader()
        self._heads = heads
        self._plain = heads.plain
        self._started = self._head_only = self._keep = False
        self._transport: asyncio.Transport | None = None
        self._waiter: Waiter | None = None
        self._chain: Chain | None = None
        self._error: Failure | None = None
        self._watch = watch
        self._future = asyncio.get_running_loop().create_future
        self._write: Callable[[bytes], None]
        self._sent_at = 0.0
        self._size = 0
        self._count = 0
        self._held: bytes | None = None
        self._pouring: asyncio.Task[None] | None = None
        self._flowing = asyncio.Event()
        self._flowing.set()
        self.alive = False
        self.connect_parts_us = (-1, -1, -1)
        self.tls: Any = None  # its TLS layer, when it has one

    # asyncio's callbacks -----------------------------------------------------------------------------

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport  # type: ignore[assignment]
        self._write = self._transport.write  # type: ignore[union-attr]
        self._watch.add(self)
        self.alive = True

    def ask_in_full(self, base: bytes, header: bytes) -> None:
        """From now on to a proxy: requests in absolute form (RFC 9112 §3.2.2), with `header`."""
        write = self._write

        def forward(data: bytes) -> None:
            first, _, rest = data.partition(b"\r\n")
            write(first.replace(b" /", b" " + base + b"/", 1) + b"\r\n" + header + rest)

        self._write = forward

    def data_received(self, data: bytes) -> None:
        now = time.perf_counter()
        chain = self._chain
        if chain is not None:
            end = data.find(b"\r\n\r\n") + 4
            size = len(data)
            if self._plain.get(data[:end]) == size - end and chain.landed(now, self._size, size):
                return
            self._chain = None
        waiter = self._waiter
        if waiter is None or waiter.done():
            self.close()  # bytes nobody asked for: the connection can't be trusted any more
            return
        if self._started:
            self._feed(data, now)
            return
        self._started = True
        end = data.find(b"\r\n\r\n") + 4
        known = self._heads.known.get(data[:end])
        if known is not None and end + known[0] == len(data) and not self._head_only:
            reply = Reply()
            _, reply.status, reply.headers, reply.cookies, reply._encoding = known
            reply.body_bytes = len(data) - end
            if self._keep or reply.status >= 400:
                reply.body = data[end:]
            self._waiter = None
            reply.first_at = reply.last_at = now
            reply.sent_at, reply.bytes_in, reply.bytes_out, reply.reused = (
                self._sent_at,
                len(data),
                self._size,
                self._count > 1,
            )
            waiter.set_result(reply)
            return
        reader = self._reader
        reader.begin(head_only=self._head_only, keep=self._keep)
        reader.reply.first_at = now
        if self._feed(data, now) and not self._head_only:
            self._heads.learn(data, reader.reply)

    def _feed(self, data: bytes, now: float) -> bool:
        """Parses; true when the reply is complete with it."""
        waiter = self._waiter
        assert waiter is not None
        reader = self._reader
        interim = reader.interim
        try:
            reply = reader.feed(data)
        except Failure as failure:
            self._fail(failure)
            self.close()
            return False
        if interim and not reader.interim:
            reader.reply.first_at = now
        if self._held is not None and (reader.continued or not reader.interim):
            self._send_held(wanted=reader.continued)
        if reply is not None:
            self._done(reply, waiter, now)
        return reply is not None

    def eof_received(self) -> bool:
        return False

    def connection_lost(self, exc: Exception | None) -> None:
        self.alive = False
        self._watch.discard(self)
        waiter = self._waiter
        if waiter is None or waiter.done():
            return
        reply = self._reader.end_of_stream() if exc is None and self._started else None
        if reply is not None:
            self._done(reply, waiter, time.perf_counter())
        elif self._error is not None:
            self._fail(self._error)
        elif exc is not None and not isinstance(exc, OSError):  # data_received broke: ours, not the server's
            self._fail(Failure("engine-error", f"{type(exc).__name__}: {exc}"))
        elif not self._started and self._count > 1:
            self._fail(Reopen("closed-idle", "the server closed the kept connection before it answered"))
        elif not self._started:
            self._fail(Failure("closed-early", "the server closed the connection without an answer"))
        else:
            self._fail(
                Failure(
                    "closed-mid-body", f"the server closed after {self._reader.reply.bytes_in:,} bytes of its answer"
                )
            )

    # use -------------------------------------------------------------------------------------------------

    def exchange(
        self, data: bytes, *, head_only: bool, keep: bool, held: "bytes | BinaryIO | None" = None
    ) -> "asyncio.Future[Reply]":
        """`held` is a body of its own: bytes are sent when the server asks for them (RFC 9110 §10.1.1) or says nothing
        for a second; a file is sent piece by piece, and closed afterwards.
        """
        transport = self._transport
        if transport is None or not self.alive:
            raise Reopen("closed-idle", "the kept connection is closed")
        self._count += 1
        self._started, self._head_only, self._keep = False, head_only, keep
        self._waiter = waiter = self._future()
        self._size = len(data)
        self._sent_at = time.perf_counter()
        self._write(data)
        if held is not None:
            self._hold(held)
        return waiter

    def _hold(self, held: "bytes | BinaryIO") -> None:
        if isinstance(held, bytes):
            self._held = held
            asyncio.get_running_loop().call_later(CONTINUE_S, self._send_held)
        else:
            self._pouring = asyncio.get_running_loop().create_task(self._pour(held), name="body")

    def _send_held(self, *, wanted: bool = True) -> None:
        held, self._held = self._held, None
        if held is None or not self.alive:
            return
        if wanted:
            self._size += len(held)
            self._write(held)
        else:
            # the server answered without the body: what it would read next is unsure
            self._reader.reply.keep_alive = False

    async def _pour(self, file: "BinaryIO") -> None:
        """A body from a file, as fast as the connection takes it."""
        try:
            with file:
                while self.alive and (piece := file.read(POURED)):
                    self._size += len(piece)
                    self._write(piece)
                    await self._flowing.wait()
        except OSError as problem:
            self._fail(Failure("body-file", f"the body's file can't be read: {problem.strerror or problem}"))
            self.close()

    def pause_writing(self) -> None:
        self._flowing.clear()

    def resume_writing(self) -> None:
        self._flowing.set()

    def remember(self, origin: Origin, sessions: Sessions) -> bool:
        """See Link. TLS 1.3 hands out its tickets after the handshake, so it is asked for when an answer is there."""
        if self.tls is None:
            return False
        if self.tls.session is not None:
            sessions[origin] = self.tls.session
        return bool(self.tls.session_reused)

    def start(self, data: bytes, instant: float, chain: Chain, wake: "asyncio.Future[Reply | None]") -> None:
        """Like `exchange`, begun at `instant`, but a plain answer goes to `chain`, and to `wake` only what that
        refuses.
        """
        self._count += 1
        self._started = self._head_only = self._keep = False
        self._waiter, self._chain = wake, chain
        self._size = len(data)
        self._sent_at = instant
        self._write(data)

    def rest(self) -> None:
        """Nothing is waited for any more."""
        self._waiter = self._chain = None

    def _done(self, reply: Reply, waiter: "Waiter", now: float) -> None:
        """The reply is complete: its instants and sizes, then whoever waits."""
        self._waiter = None
        reply.sent_at, reply.last_at = self._sent_at, now
        reply.bytes_out = self._size
        reply.reused = self._count > 1
        if self._pouring is not None and not self._pouring.done():  # answered before all of the body was sent
            self._pouring.cancel()
            reply.keep_alive = False
        if not reply.keep_alive:
            self.close()
        waiter.set_result(reply)

    def overdue(self, now: float, first_byte_s: float, whole_s: float) -> None:
        """Ends the exchange under way, if any, with a time-out when it is over its limits."""
        if self._waiter is None or self._waiter.done():
            return
        waited = now - self._sent_at
        if waited > whole_s:
            failure = Failure("timeout-whole", f"no complete answer within {whole_s:g} s")
        elif waited > first_byte_s and (not self._started or self._reader.interim):
            failure = Failure("timeout-first-byte", f"no first byte within {first_byte_s:g} s")
        else:
            return
        self._fail(failure)
        self.close()

    def close(self) -> None:
        self.alive = False
        self._chain = self._held = None
        self._flowing.set()
        self._watch.discard(self)
        if self._transport is not None and not self._transport.is_closing():
            self._transport.abort() if self._waiter is not None else self._transport.close()

    def _fail(self, failure: Failure) -> None:
        self._error = failure
        if self._waiter is not None and not self._waiter.done():
            self._waiter.set_exception(failure)
