"""The gate of a browser that watches pages: a proxy that leads to agreed targets only, and nowhere
unseen.
"""

import asyncio
from collections.abc import Mapping, Sequence

from dynamikos.core.plans import AgreedTarget
from dynamikos.engine.failures import Failure
from dynamikos.engine.network import Streams, open_streams
from dynamikos.engine.ports import Origin
from dynamikos.engine.recorder.listener import Listener, Upstream
from dynamikos.engine.recorder.messages import host_and_port, read_head
from dynamikos.engine.recorder.relay import onward_of, pass_on, tunnel_to


class Gate(Listener):
    """Each connection is checked where it is made, on the address that its name resolved to. What
    is refused is noted in `refused`: why, by "host:port". `hosts` say where a host is instead of
    looking it up.
    """

    def __init__(
        self,
        agreed: Sequence[AgreedTarget],
        own_ports: frozenset[int] = frozenset(),
        hosts: Mapping[str, str] = {},
    ) -> None:
        super().__init__(own_ports, None)
        self._agreed, self._hosts = tuple(agreed), hosts
        self.refused: dict[str, str] = {}

    async def _open(self, origin: Origin, *, secure: bool = False) -> Streams:
        scheme, host, port = origin
        line = next(
            (each for each in self._agreed if each.covers(scheme, host.lower().rstrip("."), port)),
            None,
        )
        try:
            if line is None:  # before a name is looked up
                raise Failure("not-agreed", f"{scheme}://{host}:{port} is not an agreed target")
            there = line.address or self._hosts.get(host, "")
            return await open_streams(self._agreed, origin, self._own, secure=secure, there=there)
        except Failure as failure:
            if failure.kind == "not-agreed":
                self.refused[f"{host}:{port}"] = failure.detail
            raise

    async def _serve(
        self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, upstream: Upstream
    ) -> None:
        while (head := await read_head(reader)) is not None:
            method, _, rest = head.first.partition(" ")
            if method == "CONNECT":
                host, port = host_and_port(rest.rpartition(" ")[0])
                # a socket of a page without TLS comes this way, too
                is_plain = any(
                    each.covers("http", host.lower().rstrip("."), port) for each in self._agreed
                )
                opening = self._open(("http" if is_plain else "https", host, port))
                await tunnel_to((reader, writer), opening)
                return
            origin, address, onward = onward_of(head)
            if not await pass_on(
                onward, address, origin, (reader, writer), upstream, self._open, None
            ):
                return
