"""The recording proxy: any browser or device can use it; only hosts on the recording's
list are decrypted and recorded.
"""

import asyncio
import base64
import hmac

from dynamikos.core.plans import AgreedTarget, Way
from dynamikos.engine.network import Streams, open_streams
from dynamikos.engine.ports import Origin
from dynamikos.engine.recorder.certificates import Authority
from dynamikos.engine.recorder.listener import Listener, Upstream
from dynamikos.engine.recorder.messages import Head, host_and_port, read_head
from dynamikos.engine.recorder.relay import Record, onward_of, pass_on, simple_answer, tunnel_to


class Proxy(Listener):
    """`listed` are the hosts of the recording; others pass unread.

    `credentials` ("user:word") are asked for where given.
    """

    def __init__(
        self,
        listed: tuple[AgreedTarget, ...],
        authority: Authority,
        record: Record,
        *,
        own_ports: frozenset[int] = frozenset(),
        credentials: str = "",
        trust: str | None = None,
        way: Way | None = None,
    ) -> None:
        super().__init__(own_ports, trust, way)
        self._listed, self._authority, self._record = listed, authority, record
        self._credentials = credentials

    def _is_listed(self, origin: Origin) -> bool:
        return any(each.covers(*origin) for each in self._listed)

    async def _open(self, origin: Origin, *, secure: bool = True) -> Streams:
        """For a host that is not listed, the person's own browser asks: it is let through, but
        never to this product or metadata, and never by the environment's proxy, which would look
        it up where nobody here can see that.
        """
        is_listed = self._is_listed(origin)
        agreed = (
            self._listed
            if is_listed
            else (
                AgreedTarget(
                    scheme="https" if origin[0] == "https" else "http",
                    host=origin[1],
                    port=origin[2],
                ),
            )
        )
        inside_too = is_listed or not self._credentials
        return await open_streams(
            agreed,
            origin,
            self._own,
            secure=secure,
            trust=self._trust,
            way=self._way if is_listed else None,
            public_only=not inside_too,
        )

    def _allowed(self, head: Head) -> bool:
        if not self._credentials:
            return True
        given = (head.get("proxy-authorization") or "").partition(" ")[2]
        return hmac.compare_digest(given, base64.b64encode(self._credentials.encode()).decode())

    async def _serve(
        self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, upstream: Upstream
    ) -> None:
        while True:
            head = await read_head(reader)
            if head is None:
                return
            method, _, rest = head.first.partition(" ")
            target = rest.rpartition(" ")[0]
            if not self._allowed(head):
                writer.write(
                    simple_answer(
                        "407 Proxy Authentication Required", "name and word are needed"
                    ).replace(
                        b"\r\nConnection",
                        b'\r\nProxy-Authenticate: Basic realm="recording"\r\nConnection',
                        1,
                    )
                )
                await writer.drain()
                return
            if method == "CONNECT":
                await self._connect(target, reader, writer, upstream)
                return
            origin, address, onward = onward_of(head)
            record = self._record if self._is_listed(origin) else None
            if not await pass_on(
                onward, address, origin, (reader, writer), upstream, self._open, record
            ):
                return

    async def _connect(
        self,
        target: str,
        reader: asyncio.StreamReader,
        writer: asyncio.StreamWriter,
        upstream: Upstream,
    ) -> None:
        host, port = host_and_port(target)
        secure, plain = ("https", host, port), ("http", host, port)
        origin: Origin = plain if self._is_listed(plain) and not self._is_listed(secure) else secure
        if not self._is_listed(origin):
            await tunnel_to((reader, writer), self._open(origin, secure=False))
            return
        writer.write(b"HTTP/1.1 200 Connection established\r\n\r\n")
        await writer.drain()
        if origin == secure:
            await writer.start_tls(self._authority.context(host))
            reader._transport = writer.transport  # type: ignore[attr-defined]  # 3.11 forgets it (cpython gh-106867)
        place = host if ":" not in host else f"[{host}]"
        standard = 443 if origin == secure else 80  # browsers ask so for ws:// too
        base = f"{origin[0]}://{place}" + ("" if port == standard else f":{port}")
        while True:
            head = await read_head(reader)
            if head is None:
                return
            path = head.first.split(" ")[1] if head.first.count(" ") >= 2 else "/"
            if not await pass_on(
                head, base + path, origin, (reader, writer), upstream, self._open, self._record
            ):
                return
