"""A generator that is said to stand further away: every round trip takes so much longer, of every
user alike.
"""

import asyncio
import random
import time
from unittest import TestCase

import uvloop

from dynamikos.core.plans import parse_target
from dynamikos.engine.clock import RealClock
from dynamikos.engine.fetching import Fetcher
from dynamikos.engine.http.shaping import Line
from dynamikos.engine.network import RealNetwork

FAR_S = 0.08


async def _serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    try:
        while await reader.readuntil(b"\r\n\r\n"):
            writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
    except asyncio.IncompleteReadError:
        writer.close()


async def _asked(network: RealNetwork, port: int, line: Line | None = None) -> tuple[float, float]:
    """Seconds of a first answer, with its connection, and of a second one over the same."""
    clock = RealClock()
    took = []
    try:
        if line is None:
            fetcher = Fetcher(network, clock, f"http://127.0.0.1:{port}/", ())
            for _ in range(2):
                begun = time.perf_counter()
                reply = await fetcher.get()
                took.append(time.perf_counter() - begun)
                assert reply.body == b"ok"
            fetcher.close()
        else:
            for _ in range(2):
                begun = time.perf_counter()
                link = await network.open(("http", "127.0.0.1", port), {}, line)
                took.append(time.perf_counter() - begun)
                link.close()
    finally:
        await network.aclose()
        clock.close()
    return took[0], took[1]


class Distance(TestCase):
    def run_with(self, distance_s: float, line: Line | None = None) -> tuple[float, float]:
        async def program() -> tuple[float, float]:
            server = await asyncio.start_server(_serve, "127.0.0.1", 0)
            port = server.sockets[0].getsockname()[1]
            network = RealNetwork(
                (parse_target(f"http://127.0.0.1:{port}"),), distance_s=distance_s
            )
            async with server:
                return await _asked(network, port, line)

        return uvloop.run(program())

    def test_one_trip_to_connect_and_one_for_each_answer(self) -> None:
        first, second = self.run_with(FAR_S)
        self.assertGreater(first, 2 * FAR_S * 0.98)
        self.assertGreater(second, FAR_S * 0.98)
        near_first, near_second = self.run_with(0.0)
        self.assertLess(near_first + near_second, first + second)

    def test_it_comes_to_what_a_users_own_line_takes(self) -> None:
        own = Line(1e9, 1e9, 0.05, 0.0, random.Random(1))
        first, second = self.run_with(FAR_S, own)
        self.assertGreater(min(first, second), (FAR_S + 0.05) * 0.98)
        self.assertEqual(own.trip_s(), 0.05)
