"""A connection that is as slow as its user's line: between asyncio's transport and our Connection.

What arithmetic says holds: a round trip to connect, one more for TLS 1.3 (two before that), one an
exchange, and bytes divided by the rate, which all of a user's connections share. There is no slow
start. Reading is paused meanwhile and the socket's buffer is small, so that the server can't send
faster either.
"""

import asyncio
import copy
import random
import time
from collections import deque

from dynamikos.engine.http.connection import Connection

LEAST_BUFFER, MOST_BUFFER = 16_384, 1 << 24
FAST = 12.5e9  # bytes/s: none of a wire's own
AT_ONCE_S = 0.0005


class Line:
    """What one user's connections share: bytes/s down and up, seconds there and back, jitter of
    them.
    """

    def __init__(
        self, down: float, up: float, trip_s: float, jitter_s: float, stream: random.Random
    ) -> None:
        self._down, self._up, self._trip_s, self._jitter_s = down, up, trip_s, jitter_s
        self._stream = stream
        self._down_free = self._up_free = 0.0

    @classmethod
    def of_distance(cls, trip_s: float) -> "Line":
        """Which only takes its time."""
        return cls(FAST, FAST, trip_s, 0.0, random.Random(0))

    def further(self, trip_s: float) -> "Line":
        """The same line with a longer way, to be used in its stead."""
        made = copy.copy(self)
        made._trip_s += trip_s
        return made

    @property
    def buffer(self) -> int:
        """Bytes that may be on their way down at once."""
        return min(MOST_BUFFER, max(LEAST_BUFFER, int(self._down * self._trip_s)))

    def trip_s(self) -> float:
        """One round trip, drawn."""
        jitter = self._jitter_s
        return max(0.0, self._trip_s + (self._stream.uniform(-jitter, jitter) if jitter else 0.0))

    def down(self, begun: float, size: int) -> float:
        """The instant at which `size` bytes that begin to come at `begun` are all here."""
        self._down_free = max(begun, self._down_free) + size / self._down
        return self._down_free

    def up(self, begun: float, size: int) -> float:
        """The instant at which `size` bytes are all sent."""
        self._up_free = max(begun, self._up_free) + size / self._up
        return self._up_free


class _Slow:
    """The transport that the connection is given."""

    def __init__(self, shaped: "Shaped", transport: asyncio.Transport) -> None:
        self._shaped, self._transport = shaped, transport
        self.get_write_buffer_size = self._waiting
        self.is_closing, self.get_extra_info = transport.is_closing, transport.get_extra_info

    def write(self, data: bytes) -> None:
        self._shaped.send(data)

    def _waiting(self) -> int:
        return self._shaped.unsent + self._transport.get_write_buffer_size()

    def close(self) -> None:
        self._shaped.end()
        self._transport.close()

    def abort(self) -> None:
        self._shaped.end()
        self._transport.abort()


class Shaped(asyncio.Protocol):
    """Gives a connection its bytes when its user's line would have brought them."""

    def __init__(self, inner: Connection, line: Line) -> None:
        self.inner, self._line = inner, line
        self._loop = asyncio.get_running_loop()
        self._transport: asyncio.Transport
        self._came: deque[tuple[float, bytes]] = deque()
        self._going: deque[tuple[float, bytes]] = deque()
        self._timers: dict[str, asyncio.TimerHandle] = {}
        self._asked = False  # whether the next bytes are the first of an answer
        self._from = 0.0  # no byte of the answer at hand is here before
        self._lost: tuple[Exception | None] | None = None

    @property
    def unsent(self) -> int:
        return sum(len(data) for _, data in self._going)

    # asyncio's callbacks --------------------------------------------------------------------------

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport  # type: ignore[assignment]  # of another loop than asyncio's, perhaps
        limits = getattr(
            transport, "set_read_buffer_limits", None
        )  # a TLS layer would read on while it is paused
        if limits is not None:
            limits(high=LEAST_BUFFER, low=LEAST_BUFFER // 4)
        self.inner.connection_made(_Slow(self, transport))  # type: ignore[arg-type]

    def data_received(self, data: bytes) -> None:
        now = time.perf_counter()
        if self._asked:
            self._asked, self._from = False, now + self._line.trip_s()
        self._came.append((self._line.down(max(now, self._from), len(data)), data))
        self._transport.pause_reading()
        self._wait("came", self._came[0][0], self._give)

    def eof_received(self) -> bool:
        return False

    def connection_lost(self, exc: Exception | None) -> None:
        if self._came and exc is None:
            self._lost = (exc,)  # told when what came before is through
            return
        self.end()
        self.inner.connection_lost(exc)

    def pause_writing(self) -> None:
        self.inner.pause_writing()

    def resume_writing(self) -> None:
        self.inner.resume_writing()

    # what waits -----------------------------------------------------------------------------------

    def send(self, data: bytes) -> None:
        """A request, or more of it."""
        self._asked = True
        due = self._line.up(time.perf_counter(), len(data))
        if due - time.perf_counter() <= AT_ONCE_S and not self._going:
            self._transport.write(data)
            return
        self._going.append((due, data))
        self._wait("going", self._going[0][0], self._go)

    def _wait(self, what: str, due: float, then: "object") -> None:
        if what not in self._timers:
            delay = max(0.0, due - time.perf_counter())
            self._timers[what] = self._loop.call_later(delay, then)  # type: ignore[arg-type]

    def _give(self) -> None:
        self._timers.pop("came", None)
        now = time.perf_counter()
        while self._came and self._came[0][0] <= now + AT_ONCE_S:
            self.inner.data_received(self._came.popleft()[1])
        if self._came:
            self._wait("came", self._came[0][0], self._give)
        elif self._lost is not None:
            self.inner.connection_lost(self._lost[0])
        elif not self._transport.is_closing():
            self._transport.resume_reading()

    def _go(self) -> None:
        self._timers.pop("going", None)
        now = time.perf_counter()
        while self._going and self._going[0][0] <= now + AT_ONCE_S:
            self._transport.write(self._going.popleft()[1])
        if self._going:
            self._wait("going", self._going[0][0], self._go)

    def end(self) -> None:
        """Nothing more is given or sent."""
        for timer in self._timers.values():
            timer.cancel()
        self._timers.clear()
        self._came.clear()
        self._going.clear()
