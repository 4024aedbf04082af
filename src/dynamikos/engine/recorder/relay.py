"""One client connection: requests taken, passed on, answers passed back, each exchange recorded
truthfully.
"""

import asyncio
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from urllib.parse import urlsplit

from dynamikos.core.exchanges import Answer, Exchange, Sent, Timings, decode_body
from dynamikos.core.ports import port_of
from dynamikos.engine.failures import Failure
from dynamikos.engine.network import Streams
from dynamikos.engine.ports import Origin
from dynamikos.engine.recorder.messages import (
    Broken,
    Head,
    Kept,
    Misplaced,
    body,
    framing,
    read_head,
    status_of,
)

HOP_BY_HOP = ("proxy-connection", "proxy-authorization", "proxy-authenticate")
Streamed = tuple[asyncio.StreamReader, asyncio.StreamWriter]
Open = Callable[[Origin], Awaitable[Streams]]
Record = Callable[[Exchange], None]


@dataclass(slots=True)
class Passing:
    """An exchange while it passes. `url` is the target's own; `client` and `target` heads may
    differ in a doorway.
    """

    url: str
    method: str
    sent: Head
    began: float = field(default_factory=time.time)
    started: float = field(default_factory=time.perf_counter)
    request: Kept = field(default_factory=Kept)
    answer: Head | None = None
    status: int = 0
    first: float = 0.0
    reply: Kept = field(default_factory=Kept)
    opened_us: tuple[int, int, int] = (-1, -1, -1)
    error: str = ""

    def exchange(self) -> Exchange:
        """What is kept. A body that can't be decoded is kept as it came; one that was cut says so
        in `error`.
        """
        now = time.perf_counter()
        error = self.error
        answer = None
        if self.answer is not None:
            data = bytes(self.reply.data)
            coding = self.answer.every("content-encoding")
            if coding and data and self.reply.size <= self.reply.limit:
                try:
                    data = decode_body(data, coding)
                except ValueError as problem:
                    error = error or f"kept as it came: {problem}"
            if self.reply.size > self.reply.limit:
                error = (
                    error
                    or f"only the first {self.reply.limit:,} of {self.reply.size:,} bytes are kept"
                )
            answer = Answer(
                status=self.status,
                reason=self.answer.first.split(" ", 2)[2]
                if self.answer.first.count(" ") > 1
                else "",
                headers=tuple(self.answer.headers),
                body=data,
                size_bytes=self.reply.size,
            )
        first = self.first or now
        dns, connect, ssl = self.opened_us
        return Exchange(
            sent=Sent(
                method=self.method,
                url=self.url,
                headers=tuple(self.sent.headers),
                body=bytes(self.request.data),
            ),
            answer=answer,
            timings=Timings(
                dns_us=dns,
                connect_us=connect,
                ssl_us=ssl,
                wait_us=max(
                    0,
                    round((first - self.started) * 1e6)
                    - max(0, dns)
                    - max(0, connect)
                    - max(0, ssl),
                ),
                receive_us=round((now - first) * 1e6),
            ),
            error=error,
            started_us=round(self.began * 1e6),
            http="http/1.1",
        )


def simple_answer(status: str, text: str) -> bytes:
    """An answer of the recorder itself, said as such."""
    data = f"Dynamikos recorder: {text}\n".encode()
    return (
        f"HTTP/1.1 {status}\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: "
        f"{len(data)}\r\nConnection:"
        " close\r\n\r\n".encode()
        + data
    )


def told(failure: Failure) -> str:
    """What the person who records reads where a target could not be reached."""
    if failure.kind != "tls":
        return failure.detail
    return (
        f"the certificate of the target was not accepted: {failure.detail}. If it is one of your "
        "own, begin the recording with an environment whose settings trust it."
    )


async def pass_on(
    head: Head,
    url: str,
    origin: Origin,
    client: Streamed,
    upstream: dict[Origin, Streams],
    open_: Open,
    record: Record | None,
) -> bool:
    """Passes one request and its answer unchanged; true when both sides can go on. Records it if
    `record` is given.
    """
    reader, writer = client
    method = head.first.split(" ", 1)[0]
    passing = Passing(url=url, method=method, sent=head)
    try:
        streams = upstream.pop(origin, None)
        if streams is not None and streams.reader.at_eof():
            streams.writer.close()
            streams = None
        if streams is None:
            streams = await open_(origin)
            passing.opened_us = streams.parts_us
        streams.writer.write(head.to_bytes())
        size = framing(head)
        if size == 0:
            await streams.writer.drain()
        passed = asyncio.ensure_future(_send(reader, streams.writer, size, passing.request))
        try:
            again = await answer_back(passing, streams, writer, head)
        finally:
            if not passed.done():
                passed.cancel()
            await asyncio.gather(passed, return_exceptions=True)
        if passing.status == 101:
            await tunnel(client, (streams.reader, streams.writer))
            return False
        if again and passed.exception() is None and not passed.cancelled():
            upstream[origin] = streams
            return True
        streams.writer.close()
        return False
    except Failure as failure:
        passing.error = f"{failure.kind}: {failure.detail}"
        writer.write(simple_answer("502 Bad Gateway", told(failure)))
        await writer.drain()
        return False
    except (Broken, OSError) as problem:
        passing.error = str(problem) or type(problem).__name__
        if passing.answer is None:
            writer.write(simple_answer("502 Bad Gateway", f"the target failed: {passing.error}"))
        return False
    finally:
        if record is not None:
            record(passing.exchange())


async def _send(
    reader: asyncio.StreamReader, writer: asyncio.StreamWriter, size: int, kept: Kept
) -> None:
    async for piece in body(reader, size, kept):
        writer.write(piece)
        await writer.drain()


async def answer_back(
    passing: Passing, streams: Streams, writer: asyncio.StreamWriter, asked: Head
) -> bool:
    """Passes the answer back as it comes; true when the connections can be used again."""
    while True:
        answer = await read_head(streams.reader)
        if answer is None:
            raise Broken("the target closed the connection without an answer")
        status = status_of(answer)
        writer.write(answer.raw)
        if status == 101:
            passing.answer, passing.status, passing.first = answer, status, time.perf_counter()
            await writer.drain()
            return False  # whoever called tunnels from here on
        if status >= 200:
            break
    passing.answer, passing.status, passing.first = answer, status, time.perf_counter()
    size = framing(answer, answer_to=passing.method, status=status)
    async for piece in body(streams.reader, size, passing.reply):
        writer.write(piece)
        await writer.drain()
    await writer.drain()
    closes = (
        "close" in (answer.get("connection") or "").lower()
        or "close" in (asked.get("connection") or "").lower()
    )
    return size != -2 and not closes and not answer.first.startswith("HTTP/1.0 ")


def onward_of(head: Head) -> tuple[Origin, str, Head]:
    """Of a request to a proxy (RFC 9112, 3.2.2): where it goes, its address, and what is passed on.
    Raises Misplaced for what is none.
    """
    method, _, rest = head.first.partition(" ")
    target, _, version = rest.rpartition(" ")
    parts = urlsplit(target)
    if parts.scheme != "http" or not parts.hostname:
        raise Misplaced("this is a proxy: set it as one in the browser, don't open it as a page")
    onward = head.without(*HOP_BY_HOP)
    onward.first = (
        f"{method} {parts.path or '/'}{f'?{parts.query}' if parts.query else ''} {version}"
    )
    return ("http", parts.hostname, port_of(parts, 80)), target.partition("#")[0], onward


async def tunnel_to(client: Streamed, opening: Awaitable[Streams]) -> None:
    """Answers a CONNECT, and passes bytes both ways; where it can't be opened, says why."""
    writer = client[1]
    try:
        streams = await opening
    except Failure as failure:
        writer.write(simple_answer("502 Bad Gateway", failure.detail))
        await writer.drain()
        return
    writer.write(b"HTTP/1.1 200 Connection established\r\n\r\n")
    await tunnel(client, (streams.reader, streams.writer))


async def tunnel(one: Streamed, other: Streamed) -> None:
    """Bytes both ways, unread, until both have closed."""

    async def way(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while piece := await reader.read(65_536):
                writer.write(piece)
                await writer.drain()
            if writer.can_write_eof():
                writer.write_eof()
        except (OSError, RuntimeError):
            pass

    await asyncio.gather(way(one[0], other[1]), way(other[0], one[1]))
    for _, writer in (one, other):
        writer.close()
