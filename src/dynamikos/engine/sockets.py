"""Sockets without TLS, all of them watched in one place: that they are connected, and what comes
over them.

With the event loop's own transport for each, they were a fifth of what a user with a connection of
its own costs.
"""

import asyncio
import contextlib
import errno
import os
import select
import socket
import time
from typing import Protocol

AT_ONCE = 1 << 18  # bytes that are read at once
PASSES = 16  # times that one socket is read before the others
HIGH, LOW = (
    1 << 16,
    1 << 14,
)  # bytes waiting to be written at which the writer is told to pause, and to go on
READ, WRITE = select.EPOLLIN, select.EPOLLOUT
UNDER_WAY = (errno.EINPROGRESS, errno.EINTR, errno.EAGAIN)


class Reading(Protocol):
    """Who a socket belongs to: what an asyncio.Protocol has."""

    def data_received(self, data: bytes) -> None: ...

    def connection_lost(self, exc: Exception | None) -> None: ...

    def pause_writing(self) -> None: ...

    def resume_writing(self) -> None: ...


class Plain:
    """One connected socket, as an asyncio.Transport is used. Whoever closes it hears nothing more
    of it.
    """

    def __init__(self, sockets: "Sockets", sock: socket.socket, owner: Reading) -> None:
        self._sockets, self._sock, self._owner = sockets, sock, owner
        self._file = sock.fileno()
        self._unsent = bytearray()
        self._paused = self._closing = self._closed = False

    def write(self, data: bytes) -> None:
        """What the socket does not take waits until it does."""
        if self._closing:
            return
        if not self._unsent:
            try:
                sent = self._sock.send(data)
            except (BlockingIOError, InterruptedError):
                sent = 0
            except OSError as problem:
                asyncio.get_running_loop().call_soon(self._broken, problem)
                return
            if sent == len(data):
                return
            data = data[sent:]
            self._sockets.watch(self._file, READ | WRITE)
        self._unsent += data
        if len(self._unsent) > HIGH and not self._paused:
            self._paused = True
            self._owner.pause_writing()

    def get_write_buffer_size(self) -> int:
        return len(self._unsent)

    def is_closing(self) -> bool:
        return self._closing

    def close(self) -> None:
        """As soon as all of it is written; nothing more is read."""
        if self._closing:
            return
        self._closing = True
        if self._unsent:
            self._sockets.watch(self._file, WRITE)
        else:
            self._end()

    def abort(self) -> None:
        self._closing = True
        self._end()

    def ready(self, events: int) -> None:
        """The socket can be read or written, or is broken."""
        if events & WRITE and self._unsent:
            self._flush()
        if events & ~WRITE and not self._closing:
            self._read()

    def _flush(self) -> None:
        try:
            sent = self._sock.send(self._unsent)
        except (BlockingIOError, InterruptedError):
            return
        except OSError as problem:
            self._broken(problem)
            return
        del self._unsent[:sent]
        if not self._unsent:
            if self._closing:
                self._end()
                return
            self._sockets.watch(self._file, READ)
        if self._paused and len(self._unsent) <= LOW:
            self._paused = False
            self._owner.resume_writing()

    def _read(self) -> None:
        buffer, view = self._sockets.buffer, self._sockets.view
        for _ in range(PASSES):
            try:
                came = self._sock.recv_into(buffer)
            except (BlockingIOError, InterruptedError):
                return
            except OSError as problem:
                self._lost(problem)
                return
            if not came:
                self._lost(None)
                return
            self._owner.data_received(bytes(view[:came]))
            if came < AT_ONCE or self._closing:
                return

    def _broken(self, problem: Exception) -> None:
        """Nothing can be written any more; an answer may be there all the same."""
        if not self._closing:
            self._read()
        self._lost(problem)

    def _lost(self, problem: Exception | None) -> None:
        """The other side closed it, or it broke. What was read before is handed on first."""
        if self._closed:
            return
        was_closing, self._closing = self._closing, True
        self._end()
        if not was_closing:
            asyncio.get_running_loop().call_soon(self._owner.connection_lost, problem)

    def _end(self) -> None:
        if not self._closed:
            self._closed = True
            self._unsent.clear()
            self._sockets.forget(self._file)
            self._sock.close()


class Sockets:
    """Connects sockets to addresses that are resolved already, within `limit_s`, and watches those
    that are.
    """

    def __init__(self, limit_s: float) -> None:
        self._loop, self._limit_s = asyncio.get_running_loop(), limit_s
        self._epoll = select.epoll()
        self._joining: dict[
            int, tuple[float, asyncio.Future[None]]
        ] = {}  # in order of their limits
        self._joined: dict[int, Plain] = {}
        self.buffer = bytearray(AT_ONCE)
        self.view = memoryview(self.buffer)
        self._loop.add_reader(self._epoll.fileno(), self._look)

    def begin(self, sock: socket.socket, address: str, port: int) -> "asyncio.Future[None] | None":
        """Begins to connect: what to wait for, None where it is connected already. Given as bytes,
        an address is not encoded as a name. Raises OSError; after waiting, see `joined`.
        """
        wrong = sock.connect_ex((address.encode(), port))
        if wrong in UNDER_WAY:
            arrived: asyncio.Future[None] = self._loop.create_future()
            file = sock.fileno()
            self._joining[file] = time.perf_counter() + self._limit_s, arrived
            self._epoll.register(file, WRITE | select.EPOLLONESHOT)
            return arrived
        if wrong:
            raise OSError(wrong, os.strerror(wrong))
        self._epoll.register(sock.fileno(), select.EPOLLONESHOT)
        return None

    def joined(self, sock: socket.socket) -> None:
        """After what `begin` gave is done. Raises OSError."""
        wrong = sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
        if wrong:
            raise OSError(wrong, os.strerror(wrong))

    def let_go(self, sock: socket.socket) -> None:
        """Whether it was connected or not, it is not watched any more: somebody else does, or it is
        closed.
        """
        self._joining.pop(sock.fileno(), None)
        with contextlib.suppress(OSError, ValueError):  # it was never watched, or is closed
            self._epoll.unregister(sock.fileno())

    def plain(self, sock: socket.socket, owner: Reading) -> Plain:
        """A connected socket whose data go to `owner`."""
        file = sock.fileno()
        # a body must not wait until its head is acknowledged
        sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        made = self._joined[file] = Plain(self, sock, owner)
        self._epoll.modify(file, READ)
        return made

    def watch(self, file: int, events: int) -> None:
        self._epoll.modify(file, events)

    def forget(self, file: int) -> None:
        """It is about to be closed, which takes it out of what is watched."""
        self._joined.pop(file, None)

    def _look(self) -> None:
        joined, joining = self._joined, self._joining
        for file, events in self._epoll.poll(0):
            found = joined.get(file)
            if found is not None:
                found.ready(events)
            elif file in joining:
                _, arrived = joining.pop(file)
                if not arrived.done():
                    arrived.set_result(None)

    def overdue(self, now: float) -> None:
        """Ends what has been connecting for too long, with TimeoutError."""
        for file, (limit, arrived) in list(self._joining.items()):
            if limit > now:
                return
            del self._joining[file]
            if not arrived.done():
                arrived.set_exception(TimeoutError())

    def close(self) -> None:
        for each in list(self._joined.values()):
            each.abort()
        self._loop.remove_reader(self._epoll.fileno())
        self._epoll.close()
