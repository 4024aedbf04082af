"""HTTP/1.1 messages as they pass: heads parsed, bodies handed on byte for byte while a copy is
decoded (RFC 9112).
"""

import asyncio
from collections.abc import AsyncIterator
from dataclasses import dataclass, field

from dynamikos.core.figures import digits

MAX_HEAD = 256 * 1024
KEPT_BYTES = 8_000_000
PIECE = 64 * 1024


class Broken(Exception):
    """A message that ends early or is not HTTP/1.1; says what was wrong."""


class Misplaced(Broken):
    """A request that a proxy can't do anything with; it is answered with what was wrong."""


@dataclass(slots=True)
class Head:
    """The first line and the headers, names as they came."""

    first: str
    headers: list[tuple[str, str]]
    raw: bytes = b""

    def get(self, name: str) -> str | None:
        wanted = name.lower()
        return next((value for key, value in self.headers if key.lower() == wanted), None)

    def every(self, name: str) -> str:
        """The values of all headers of a name, as one list (RFC 9110 §5.3)."""
        wanted = name.lower()
        return ", ".join(value for key, value in self.headers if key.lower() == wanted)

    def without(self, *names: str) -> "Head":
        gone = {name.lower() for name in names}
        return Head(
            self.first, [(key, value) for key, value in self.headers if key.lower() not in gone]
        )

    def to_bytes(self) -> bytes:
        lines = "".join(f"{name}: {value}\r\n" for name, value in self.headers)
        return f"{self.first}\r\n{lines}\r\n".encode("latin-1", "replace")


@dataclass(slots=True)
class Kept:
    """What is kept of a body that passed: its first bytes without chunk framing, and how many there
    were.
    """

    data: bytearray = field(default_factory=bytearray)
    size: int = 0
    limit: int = KEPT_BYTES

    def add(self, piece: bytes) -> None:
        self.size += len(piece)
        if len(self.data) < self.limit:
            self.data += piece[: self.limit - len(self.data)]


async def read_head(reader: asyncio.StreamReader) -> Head | None:
    """The next head, None at the end of the stream. Raises Broken."""
    try:
        raw = await reader.readuntil(b"\r\n\r\n")
    except asyncio.IncompleteReadError as short:
        if not short.partial.strip():
            return None
        raise Broken(f"the stream ended within a head, after {len(short.partial)} bytes") from short
    except asyncio.LimitOverrunError as long:
        raise Broken(f"a head of more than {MAX_HEAD:,} bytes") from long
    except OSError:
        return None
    lines = raw[:-4].decode("latin-1").split("\r\n")
    while lines and not lines[0]:
        lines.pop(0)
    if not lines:
        raise Broken("an empty head")
    headers = []
    for line in lines[1:]:
        name, sign, value = line.partition(":")
        if not sign or not name or name != name.strip():
            raise Broken(f"a header line that is none: {line[:80]!r}")
        headers.append((name, value.strip()))
    return Head(lines[0], headers, raw)


def host_and_port(target: str) -> tuple[str, int]:
    """What a CONNECT asks for. Raises Misplaced for what is not host:port."""
    host, _, number = target.rpartition(":")
    host, port = host.strip("[]"), digits(number) or 0
    if not host or not 0 < port < 65536:
        raise Misplaced(f"'{target[:80]}' is not host:port")
    return host, port


def status_of(answer: Head) -> int:
    """Of the first line of an answer. Raises Broken where it is no answer of HTTP/1."""
    parts = answer.first.split(" ", 2)
    status = digits(parts[1]) if len(parts) > 1 and parts[0].startswith("HTTP/1.") else None
    if status is None or not 100 <= status <= 999:
        raise Broken(f"the target's answer is not HTTP/1.1: {answer.first[:60]!r}")
    return status


def framing(head: Head, *, answer_to: str = "", status: int = 0) -> int:
    """Bytes of the body; -1 chunked, -2 until the close (RFC 9112 §6.3).

    `answer_to` is the method when it is an answer.
    """
    if answer_to and (answer_to == "HEAD" or status in (204, 304) or 100 <= status < 200):
        return 0
    coding = (head.get("transfer-encoding") or "").lower()
    if "chunked" in coding:
        return -1
    length = head.get("content-length")
    if length is not None:
        size = digits(length)
        if size is None:
            raise Broken(f"a Content-Length that is no number: {length[:40]!r}")
        return size
    return -2 if answer_to else 0


async def body(reader: asyncio.StreamReader, size: int, kept: Kept) -> AsyncIterator[bytes]:
    """The raw pieces of a body of `framing` size, as they come; `kept` gets them without chunk
    framing.

    Raises Broken.
    """
    if size == -1:
        async for piece in _chunks(reader, kept):
            yield piece
        return
    left = size
    while left != 0:
        piece = await reader.read(PIECE if left < 0 else min(PIECE, left))
        if not piece:
            if size == -2:
                return
            raise Broken(f"the stream ended {left:,} bytes before the end of its body of {size:,}")
        if left > 0:
            left -= len(piece)
        kept.add(piece)
        yield piece


async def _chunks(reader: asyncio.StreamReader, kept: Kept) -> AsyncIterator[bytes]:
    try:
        while True:
            line = await reader.readuntil(b"\r\n")
            size = int(line.split(b";")[0].strip(), 16)
            if size == 0:
                trailer = line
                while True:
                    more = await reader.readuntil(b"\r\n")
                    trailer += more
                    if more == b"\r\n":
                        yield trailer
                        return
            yield line
            left = size
            while left:
                piece = await reader.read(min(PIECE, left))
                if not piece:
                    raise Broken(
                        f"the stream ended within a chunk, after {kept.size:,} bytes of body"
                    )
                left -= len(piece)
                kept.add(piece)
                yield piece
            yield await reader.readexactly(2)
    except (asyncio.IncompleteReadError, asyncio.LimitOverrunError) as short:
        raise Broken(
            f"the stream ended between chunks, after {kept.size:,} bytes of body"
        ) from short
    except ValueError as wrong:
        raise Broken("a chunk's size is no number") from wrong
