"""Odd answers under /odd/…, written byte by byte beneath HTTP: what servers and the boxes before
them really do now and then.
"""

import asyncio
import gzip
import re
import socket
import struct
from collections import Counter
from collections.abc import Awaitable, Callable

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

DRIP_S, DRIPS, SLOW_S = 0.05, 20, 3.0
BOMB = gzip.compress(gzip.compress(bytes(20_000_000), 1))  # a few hundred bytes
ASKED = re.compile(rb"[A-Z]+ /odd/([a-z0-9-]+)[ ?]")
PLAIN = b"HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\n"
Transport = asyncio.Transport


def say(out: Transport, data: bytes) -> None:
    """To somebody who may have left meanwhile."""
    if not out.is_closing():
        out.write(data)


async def garbage(out: Transport) -> None:
    out.write(b"\x00\xff\x16 this is no HTTP\r\n\r\n")
    out.close()


async def reset(out: Transport) -> None:
    own = out.get_extra_info("socket")
    own.setsockopt(
        socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0)
    )  # closing sends a reset
    out.abort()


async def half(out: Transport) -> None:
    out.write(PLAIN + b"Content-Length: 1000\r\n\r\n" + b"x" * 500)
    out.close()


async def drip(out: Transport) -> None:
    out.write(PLAIN + b"Content-Length: %d\r\n\r\n" % DRIPS)
    for _ in range(DRIPS):
        await asyncio.sleep(DRIP_S)
        say(out, b".")


async def bad_length(out: Transport) -> None:
    out.write(PLAIN + b"Content-Length: 12, 13\r\n\r\nhello, world.")
    out.close()


async def bad_chunk(out: Transport) -> None:
    out.write(PLAIN + b"Transfer-Encoding: chunked\r\n\r\nzz\r\nhello\r\n0\r\n\r\n")
    out.close()


async def bad_gzip(out: Transport) -> None:
    out.write(PLAIN + b"Content-Encoding: gzip\r\nContent-Length: 16\r\n\r\nthis is no gzip.")


async def bomb(out: Transport) -> None:
    out.write(
        PLAIN + b"Content-Encoding: gzip, gzip\r\nContent-Length: %d\r\n\r\n" % len(BOMB) + BOMB
    )


async def huge_head(out: Transport) -> None:
    out.write(PLAIN + b"X-Long: " + b"x" * 2_000_000 + b"\r\nContent-Length: 0\r\n\r\n")
    out.close()


async def loop(out: Transport) -> None:
    out.write(b"HTTP/1.1 302 Found\r\nLocation: /odd/loop\r\nContent-Length: 0\r\n\r\n")


async def error(out: Transport) -> None:
    out.write(
        b"HTTP/1.1 500 Internal Server Error\r\nContent-Type: text/plain\r\nContent-Length: "
        b"6\r\n\r\nbroken"
    )


async def slow(out: Transport) -> None:
    await asyncio.sleep(SLOW_S)
    say(out, PLAIN + b"Content-Length: 4\r\n\r\nlate")


ODD: dict[bytes, Callable[[Transport], Awaitable[None]]] = {
    b"garbage": garbage,
    b"reset": reset,
    b"half": half,
    b"drip": drip,
    b"bad-length": bad_length,
    b"bad-chunk": bad_chunk,
    b"bad-gzip": bad_gzip,
    b"bomb": bomb,
    b"huge-head": huge_head,
    b"loop": loop,
    b"500": error,
    b"slow": slow,
}


def protocol(counts: Counter[str]) -> type[HttpToolsProtocol]:
    """The server's HTTP, except that requests for /odd/… get their odd answer.

    Each is counted in `counts` as "odd-NAME".
    """

    class OddFirst(HttpToolsProtocol):
        def data_received(self, data: bytes) -> None:
            asked = ASKED.match(data)  # a small request arrives in one piece
            answer = ODD.get(asked[1]) if asked else None
            if asked is None or answer is None:
                super().data_received(data)
                return
            self._unset_keepalive_if_required()
            counts[f"odd-{asked[1].decode()}"] += 1
            task = asyncio.get_running_loop().create_task(self._odd(answer))
            RUNNING.add(task)
            task.add_done_callback(RUNNING.discard)

        async def _odd(self, answer: Callable[[Transport], Awaitable[None]]) -> None:
            if not self.transport.is_closing():
                await answer(self.transport)

    return OddFirst


RUNNING: set[asyncio.Task[None]] = set()
