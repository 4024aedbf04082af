"""Sockets watched in one place: all bytes both ways, slow readers, ends of every kind."""

import asyncio
import socket
import struct
import time
from collections.abc import Awaitable, Callable
from unittest import IsolatedAsyncioTestCase

from dynamikos.engine.sockets import HIGH, Plain, Sockets

Served = Callable[[asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]]
BIG = bytes(range(256)) * 40_000  # 10 MB


class Owner:
    """Notes all that it hears."""

    def __init__(self) -> None:
        self.came, self.heard = bytearray(), list[str]()
        self.lost: asyncio.Future[Exception | None] = asyncio.get_running_loop().create_future()

    def data_received(self, data: bytes) -> None:
        self.came += data

    def connection_lost(self, exc: Exception | None) -> None:
        self.lost.set_result(exc)

    def pause_writing(self) -> None:
        self.heard.append("pause")

    def resume_writing(self) -> None:
        self.heard.append("resume")


class Watched(IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.sockets = Sockets(5.0)
        self.addCleanup(self.sockets.close)

    async def connect(self, served: Served) -> tuple[Plain, Owner]:
        async def watched(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            try:
                await served(reader, writer)
            finally:
                writer.close()

        server = await asyncio.start_server(watched, "127.0.0.1", 0)
        self.addAsyncCleanup(server.wait_closed)
        self.addCleanup(server.close)
        sock = socket.socket(socket.AF_INET, socket.SOCK_STREAM | socket.SOCK_NONBLOCK)
        waits = self.sockets.begin(sock, "127.0.0.1", server.sockets[0].getsockname()[1])
        if waits is not None:
            await waits
            self.sockets.joined(sock)
        owner = Owner()
        made = self.sockets.plain(sock, owner)
        self.assertTrue(
            sock.getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY), "small pieces go at once"
        )
        return made, owner

    async def test_all_bytes_there_and_back_though_the_reader_is_slow(self) -> None:
        async def back(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            await asyncio.sleep(0.05)
            writer.write(await reader.readexactly(len(BIG)))
            await writer.drain()

        plain, owner = await self.connect(back)
        for at in range(0, len(BIG), 1_000_000):
            plain.write(BIG[at : at + 1_000_000])
        self.assertGreater(plain.get_write_buffer_size(), HIGH)
        self.assertIsNone(await asyncio.wait_for(owner.lost, 10))
        self.assertEqual(bytes(owner.came), BIG)
        self.assertEqual(owner.heard, ["pause", "resume"])
        self.assertTrue(plain.is_closing())

    async def test_what_waits_is_written_before_it_is_closed(self) -> None:
        got: asyncio.Future[bytes] = asyncio.get_running_loop().create_future()

        async def slow(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            await asyncio.sleep(0.05)
            got.set_result(await reader.read(-1))

        plain, owner = await self.connect(slow)
        plain.write(BIG)
        plain.close()
        plain.write(b"more")
        self.assertEqual(len(await asyncio.wait_for(got, 10)), len(BIG))
        self.assertFalse(owner.lost.done(), "who closes it hears nothing")

    async def test_a_reset_and_an_answer_before_it(self) -> None:
        async def reset(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            await reader.readexactly(2)
            there = writer.get_extra_info("socket")
            there.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
            writer.transport.abort()

        plain, owner = await self.connect(reset)
        plain.write(b"hi")
        self.assertIsInstance(await asyncio.wait_for(owner.lost, 10), ConnectionResetError)

        async def early(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            writer.write(b"too large")
            await writer.drain()

        plain, owner = await self.connect(early)
        await asyncio.sleep(0.05)
        for _ in range(100):  # the server reads nothing of it
            plain.write(BIG[:100_000])
        await asyncio.wait_for(owner.lost, 10)
        self.assertEqual(bytes(owner.came), b"too large")

    async def test_one_that_is_aborted_hears_nothing_and_its_number_is_free_for_others(
        self,
    ) -> None:
        async def chatty(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            while await reader.read(10):
                writer.write(b"x" * 1000)

        for _ in range(20):
            plain, owner = await self.connect(chatty)
            plain.write(b"a")
            plain.abort()
            again, other = await self.connect(chatty)
            again.write(b"b")
            while not other.came:
                await asyncio.sleep(0.001)
            again.abort()
            self.assertEqual((bytes(owner.came), owner.lost.done()), (b"", False))
        plain.abort()
        plain.close()

    async def test_nobody_there_and_nobody_in_time(self) -> None:
        taken = socket.create_server(("127.0.0.1", 0))
        place = taken.getsockname()[1]
        with socket.socket(socket.AF_INET, socket.SOCK_STREAM | socket.SOCK_NONBLOCK) as sock:
            waits = self.sockets.begin(sock, "127.0.0.1", place)
            assert waits is not None
            self.sockets.overdue(time.perf_counter() + 4)
            self.assertFalse(waits.done())
            self.sockets.overdue(time.perf_counter() + 6)
            with self.assertRaises(TimeoutError):
                await waits
            self.sockets.let_go(sock)
        taken.close()
        with (
            socket.socket(socket.AF_INET, socket.SOCK_STREAM | socket.SOCK_NONBLOCK) as sock,
            self.assertRaises(ConnectionRefusedError),
        ):
            waits = self.sockets.begin(sock, "127.0.0.1", place)
            if waits is not None:
                await waits
            self.sockets.joined(sock)
