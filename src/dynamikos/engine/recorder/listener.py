"""What proxy and doorway have in common: a listening socket and its clients."""

import asyncio
import ssl
from abc import ABC, abstractmethod

from dynamikos.core.plans import Way
from dynamikos.engine.network import Streams
from dynamikos.engine.ports import Origin
from dynamikos.engine.recorder.messages import MAX_HEAD, Broken, Misplaced
from dynamikos.engine.recorder.relay import simple_answer

Upstream = dict[Origin, Streams]


class Listener(ABC):
    """Each client is served by `_serve` with connections to targets of its own; a broken client
    ends only itself.
    """

    def __init__(
        self, own_ports: frozenset[int], trust: str | None, way: Way | None = None
    ) -> None:
        """`way` says how the targets are reached: whom to trust, where hosts are, which proxy."""
        self._own, self._trust, self._way = own_ports, trust, way
        self._port = 0
        self._server: asyncio.Server | None = None
        self._clients: set[asyncio.Task[None]] = set()

    async def listen(self, host: str = "127.0.0.1", port: int = 0) -> int:
        """Begins to listen; the port it got, which is never a target."""
        self._server = await asyncio.start_server(self._client, host, port, limit=MAX_HEAD)
        self._port = int(self._server.sockets[0].getsockname()[1])
        self._own = self._own | {self._port}
        return self._port

    async def aclose(self) -> None:
        if self._server is not None:
            self._server.close()
        for task in list(self._clients):
            task.cancel()
        await asyncio.gather(*self._clients, return_exceptions=True)

    @abstractmethod
    async def _serve(
        self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, upstream: Upstream
    ) -> None:
        """One client, until it is gone; connections to targets are left in `upstream` to be
        closed.
        """

    async def _client(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        self._clients.add(task)
        upstream: Upstream = {}
        try:
            await self._serve(reader, writer, upstream)
        except Misplaced as problem:
            writer.write(simple_answer("400 Bad Request", str(problem)))
        except (Broken, OSError, ssl.SSLError, asyncio.CancelledError, ValueError):
            pass
        finally:
            self._clients.discard(task)
            for streams in upstream.values():
                streams.writer.close()
            writer.close()
