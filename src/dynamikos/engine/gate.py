"""The gate of a browser that watches pages: a proxy that leads to agreed targets only, and nowhere unseen."""

import asyncio
from collections.abc import Mapping, Sequence
from urllib.parse import urlsplit

from dynamikos.core.figures import digits
from dynamikos.core.plans import AgreedTarget
from dynamikos.engine.failures import Failure
from dynamikos.engine.network import Streams, open_streams
from dynamikos.engine.ports import Origin
from dynamikos.engine.recorder.listener import Listener, Upstream
from dynamikos.engine.recorder.messages import read_head
from dynamikos.engine.recorder.relay import HOP_BY_HOP, pass_on, simple_answer, tunnel


class Gate(Listener):
    """Each connection is checked where it is made, on the address that its name resolved to. What is refused is noted
    in `refused`: why, by "host:port". `hosts` say where a host is instead of looking it up.
    """

    def __init__(
        self, agreed: Sequence[AgreedTarget], own_ports: frozenset[int] = frozenset(), hosts: Mapping[str, str] = {}
    ) -> None:
        super().__init__(own_ports, None)
        self._agreed, self._hosts = tuple(agreed), hosts
        self.refused: dict[str, str] = {}

    async def _open(self, origin: Origin, *, secure: bool = False) -> Streams:
        scheme, host, port = origin
        line = next((each for each in self._agreed if each.covers(scheme, host.lower().rstrip("."), port)), None)
        try:
            if line is None:  # before a name is looked up
                raise Failure("not-agreed", f"{scheme}://{host}:{port} is not an agreed target")
            there = line.address or self._hosts.get(host, "")
            return await open_streams(self._agreed, origin, self._own, secure=secure, there=there)
        except Failure as failure:
            if failure.kind == "not-agreed":
                self.refused[f"{host}:{port}"] = failure.detail
            raise

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, upstream: Upstream) -> None:
        while (head := await read_head(reader)) is not None:
            method, _, rest = head.first.partition(" ")
            target = rest.rpartition(" ")[0]
            if method == "CONNECT":
                await self._connect(target, reader, writer)
                return
            parts = urlsplit(target)
            if parts.scheme != "http" or not parts.hostname:
                writer.write(simple_answer("400 Bad Request", "this is the gate of a browser that watches pages"))
                await writer.drain()
                return
            path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
            onward = head.without(*HOP_BY_HOP)
            onward.first = f"{method} {path} {rest.rpartition(' ')[2]}"
            origin = ("http", parts.hostname, parts.port or 80)
            if not await pass_on(onward, target, origin, (reader, writer), upstream, self._open, None):
                return

    async def _connect(self, target: str, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        host, _, number = target.rpartition(":")
        host, port = host.strip("[]"), digits(number) or 0
        try:
            if not host or not 0 < port < 65536:
                raise Failure("not-agreed", f"'{target[:80]}' is not host:port")
            # a socket of a page without TLS comes this way, too
            is_plain = any(each.covers("http", host.lower().rstrip("."), port) for each in self._agreed)
            streams = await self._open(("http" if is_plain else "https", host, port))
        except Failure as failure:
            writer.write(simple_answer("502 Bad Gateway", failure.detail))
            await writer.drain()
            return
        writer.write(b"HTTP/1.1 200 Connection established\r\n\r\n")
        await tunnel((reader, writer), (streams.reader, streams.writer))
