"""The doorway: the target under a local host name, so that an ordinary browser records by simply
clicking through.

The browser gets pages with the target's addresses rewritten and without its content policy,
integrity marks and HSTS; the recording keeps the target's own addresses, headers and bytes.
"""

import asyncio
import re
import time
from urllib.parse import quote, urlsplit

from dynamikos.core.exchanges import decode_body
from dynamikos.core.plans import Way, parse_target
from dynamikos.core.ports import port_of
from dynamikos.engine.failures import Failure
from dynamikos.engine.network import Streams, open_streams
from dynamikos.engine.ports import Origin
from dynamikos.engine.recorder.listener import Listener, Upstream
from dynamikos.engine.recorder.messages import (
    Broken,
    Head,
    Kept,
    body,
    framing,
    read_head,
    status_of,
)
from dynamikos.engine.recorder.relay import Passing, Record, simple_answer, told, tunnel

OWN_COOKIE = re.compile(
    r"dynamikos(-[0-9a-f]{8})?(-form|-theme)?\s*\Z"
)  # this product's, and no other's
TEXTS = ("text/html", "text/css", "javascript", "json", "xml", "text/plain", "manifest")
POLICIES = (
    "content-security-policy",
    "content-security-policy-report-only",
    "strict-transport-security",
    "public-key-pins",
    "x-frame-options",
    "alt-svc",
    "clear-site-data",
)
MAX_REWRITTEN = 20_000_000
INTEGRITY = re.compile(rb"""\sintegrity\s*=\s*(?:"[^"]*"|'[^']*'|[^\s>]+)""", re.I)
CODINGS = "gzip, deflate, br, zstd"


def origin_of(url: str) -> Origin:
    parts = urlsplit(url)
    return parts.scheme, parts.hostname or "", port_of(parts)


def is_own(pair: str) -> bool:
    """Whether `name=value` of a Cookie or Set-Cookie line is one of this product's cookies."""
    return bool(OWN_COOKIE.match(pair.partition("=")[0].strip()))


class Doorway(Listener):
    """`targets` are origins ("https://shop.example"), the first the one that is opened; each gets a
    host name of its own below `name`.
    """

    def __init__(
        self,
        targets: list[str],
        name: str,
        record: Record,
        *,
        own_ports: frozenset[int] = frozenset(),
        trust: str | None = None,
        way: Way | None = None,
    ) -> None:
        self._targets = [each.rstrip("/") for each in targets]
        super().__init__(own_ports, trust, way)
        self._record = record
        self._agreed = tuple(map(parse_target, self._targets))
        self._hosts = {
            (name if number == 0 else f"{number}-{name}"): each
            for number, each in enumerate(self._targets)
        }

    def address(self, number: int = 0) -> str:
        return f"http://{list(self._hosts)[number]}:{self._port}"

    # rewriting ------------------------------------------------------------------------------------

    def outward(self, text: str) -> str:
        """The target's addresses as the doorway's (for the browser)."""
        for number, target in enumerate(self._targets):
            door = self.address(number)
            scheme, _, place = target.partition("://")
            for old, new in (
                (target, door),
                (f"{'http' if scheme == 'https' else 'https'}://{place}", door),
                (quote(target, safe=""), quote(door, safe="")),
                (target.replace("/", "\\/"), door.replace("/", "\\/")),
            ):
                text = re.sub(re.escape(old) + r"(?![\w.-]|:\d)", lambda _, new=new: new, text)  # type: ignore[misc]
            text = re.sub(
                r"(?<![:\w\\])//" + re.escape(place) + r"(?![\w.-]|:\d)",
                lambda _, door=door: door.partition(":")[2],  # type: ignore[misc]
                text,
            )
            if scheme == "https":
                text = text.replace(f"wss://{place}", door.replace("http:", "ws:", 1))
            text = text.replace(f"ws://{place}", door.replace("http:", "ws:", 1))
        return text

    def inward(self, text: str) -> str:
        """The doorway's addresses as the target's (for what is sent and recorded)."""
        for number, target in enumerate(self._targets):
            door = self.address(number)
            for old, new in (
                (door, target),
                (quote(door, safe=""), quote(target, safe="")),
                (door.replace("/", "\\/"), target.replace("/", "\\/")),
            ):
                text = text.replace(old, new)
            text = text.replace(door.partition("://")[2], target.partition("://")[2])
        return text

    def _asked(self, head: Head, target: str) -> Head:
        """The browser's head as it goes to the target."""
        headers = []
        for name, value in head.headers:
            lower = name.lower()
            if lower == "host":
                value = target.partition("://")[2]
            elif lower == "accept-encoding":
                value = CODINGS
            elif lower == "cookie":
                kept = [each for each in value.split(";") if not is_own(each)]
                if not kept:
                    continue
                value = ";".join(kept).strip()
            else:
                value = self.inward(value)
            headers.append((name, value))
        method, _, rest = head.first.partition(" ")
        path, _, version = rest.rpartition(" ")
        return Head(f"{method} {self.inward(path)} {version}", headers)

    def _answered(self, head: Head) -> Head:
        """The target's head as the browser gets it."""
        headers = []
        for name, value in head.headers:
            lower = name.lower()
            if lower in POLICIES:
                continue
            if lower == "set-cookie":
                parts = [
                    part
                    for part in value.split(";")
                    if part.strip().split("=")[0].strip().lower()
                    not in ("domain", "secure", "partitioned")
                ]
                parts = [part for part in parts if part.strip().lower() != "samesite=none"]
                if is_own(parts[0]):
                    continue
                value = ";".join(parts)
            else:
                value = self.outward(value)
            headers.append((name, value))
        return Head(head.first, headers)

    # connections ----------------------------------------------------------------------------------

    async def _serve(
        self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, upstream: Upstream
    ) -> None:
        while True:
            head = await read_head(reader)
            if head is None or not await self._pass(head, reader, writer, upstream):
                return

    async def _pass(
        self,
        head: Head,
        reader: asyncio.StreamReader,
        writer: asyncio.StreamWriter,
        upstream: Upstream,
    ) -> bool:
        target = self._hosts.get((head.get("host") or "").partition(":")[0].lower())
        if target is None:
            why = f"this doorway answers to {self.address()} only"
            await _say(writer, "421 Misdirected Request", why)
            return False
        asked, sent, raw = await self._changed(head, target, reader)
        method, path = asked.first.split(" ")[:2]
        passing = Passing(url=target + path, method=method, sent=asked, request=sent)
        origin = origin_of(target)
        try:
            streams = upstream.pop(origin, None)
            if streams is None or streams.reader.at_eof():
                streams = await open_streams(
                    self._agreed, origin, self._own, trust=self._trust, way=self._way
                )
                passing.opened_us = streams.parts_us
            streams.writer.write(asked.to_bytes() + raw)
            await streams.writer.drain()
            again = await self._answer(passing, streams, writer)
            if passing.status == 101:
                await tunnel((reader, writer), (streams.reader, streams.writer))
                return False
            if again:
                upstream[origin] = streams
            else:
                streams.writer.close()
            return again and "close" not in (head.get("connection") or "").lower()
        except (Failure, Broken, OSError) as problem:
            passing.error = getattr(problem, "detail", "") or str(problem) or type(problem).__name__
            if passing.answer is None:
                said = told(problem) if isinstance(problem, Failure) else passing.error
                await _say(writer, "502 Bad Gateway", f"the target failed: {said}")
            return False
        finally:
            self._record(passing.exchange())

    async def _changed(
        self, head: Head, target: str, reader: asyncio.StreamReader
    ) -> tuple[Head, Kept, bytes]:
        """A request as the target gets it: head, what is kept of its body, the body. Where a body
        says the doorway's address, it says the target's.
        """
        asked, sent, size = self._asked(head, target), Kept(), framing(head)
        raw = b"".join([piece async for piece in body(reader, size, sent)])
        if not raw or size <= 0 or not self._port or str(self._port).encode() not in raw:
            return asked, sent, raw
        changed = self.inward(raw.decode("latin-1")).encode("latin-1")
        if changed == raw:
            return asked, sent, raw
        length = str(len(changed))
        headers = [(n, length if n.lower() == "content-length" else v) for n, v in asked.headers]
        return Head(asked.first, headers), Kept(bytearray(changed), len(changed)), changed

    async def _answer(
        self, passing: Passing, streams: Streams, writer: asyncio.StreamWriter
    ) -> bool:
        while True:
            answer = await read_head(streams.reader)
            if answer is None:
                raise Broken("the target closed the connection without an answer")
            status = status_of(answer)
            if status >= 200 or status == 101:
                break
        passing.answer, passing.status, passing.first = answer, status, time.perf_counter()
        if status == 101:
            writer.write(answer.to_bytes())
            await writer.drain()
            return False
        size = framing(answer, answer_to=passing.method, status=status)
        kind = (answer.get("content-type") or "").lower()
        shown = self._answered(answer)
        if (
            size != 0
            and any(each in kind for each in TEXTS)
            and not kind.startswith("text/event-stream")
            and size <= MAX_REWRITTEN
        ):
            passing.reply.limit = MAX_REWRITTEN
            async for _ in body(streams.reader, size, passing.reply):
                if passing.reply.size > MAX_REWRITTEN:
                    raise Broken("a text of more than 20 MB: use the proxy for this one")
            whole = passing.reply.data
            data = self._rewritten(bytes(whole), answer, kind)
            if data is not None:
                shown = shown.without(
                    "content-length", "transfer-encoding", "content-encoding", "etag"
                )
                shown.headers.append(("Content-Length", str(len(data))))
                writer.write(shown.to_bytes() + data)
            else:  # not what it says it is: as it came
                shown = shown.without("content-length", "transfer-encoding")
                shown.headers.append(("Content-Length", str(len(whole))))
                writer.write(shown.to_bytes() + bytes(whole))
            await writer.drain()
        else:
            if size == -2:
                shown = shown.without("connection")
                shown.headers.append(("Connection", "close"))
            writer.write(shown.to_bytes())
            async for piece in body(streams.reader, size, passing.reply):
                writer.write(piece)
                await writer.drain()
            await writer.drain()
        closes = "close" in (answer.get("connection") or "").lower() or answer.first.startswith(
            "HTTP/1.0 "
        )
        return size != -2 and not closes

    def _rewritten(self, data: bytes, answer: Head, kind: str) -> bytes | None:
        try:
            plain = decode_body(data, answer.every("content-encoding"))
        except ValueError:
            return None
        if "html" in kind:
            plain = INTEGRITY.sub(b"", plain)
        return self.outward(plain.decode("latin-1")).encode("latin-1")


async def _say(writer: asyncio.StreamWriter, status: str, why: str) -> None:
    """An answer of the doorway's own."""
    writer.write(simple_answer(status, why))
    await writer.drain()
