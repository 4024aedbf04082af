"""Steps performed from answer to answer: in their order, counted, dealt, stopped and closed as they
should be.
"""

import asyncio
import contextlib
import tempfile
from unittest import TestCase

import uvloop

from dynamikos.core.plans import parse_target
from dynamikos.engine.clock import RealClock
from dynamikos.engine.network import RealNetwork
from dynamikos.engine.runner import Control, Shard, run
from dynamikos.engine.testing import ListSink, Scripted, answer
from dynamikos.engine.users.pool import IDLE_S
from tests.engine.support import frozen, ok, perform, step, totals


def get(path: str, more: str = "") -> str:
    return f'request: get\naddress: "{{{{ env.base }}}}/{path}"\n{more}'


class Counted(TestCase):
    def counts(self, made, sink) -> dict[str, int]:  # type: ignore[no-untyped-def]
        ledger = totals(made, sink)
        return {
            each.step or each.level: ledger.totals[each.no].passed.n
            for each in ledger.series
            if each.level in ("step", "round")
        }

    def test_fixed_and_varying_steps_take_turns(self) -> None:
        parts = (
            "rounds:\n"
            + step("a", get("a"))
            + step("b", get("b"))
            + step("c", get("c?n={{ round.number }}"))
            + step("d", get("d"))
        )
        made = frozen(parts, users=2, hold_s=9.95)
        _, sink, network = perform(made, ok)
        paths = [data.split(b" ")[1].decode() for data in network.requests]
        one = [path for path, opened in zip(paths, self.users(network), strict=True) if opened == 0]
        self.assertEqual(one[:8], ["/a", "/b", "/c?n=1", "/d", "/a", "/b", "/c?n=2", "/d"])
        found = self.counts(made, sink)
        self.assertEqual((found["a"], found["b"], found["c"], found["d"]), (50, 50, 50, 50))
        self.assertIn(found["round"], (48, 50))  # the last one of each may be cut short by the end
        ledger = totals(made, sink)
        self.assertEqual((ledger.sent, ledger.answered), (200, 200))
        self.assertAlmostEqual(ledger.all_of("round").moments.mean_us, 400_000, delta=20)

    @staticmethod
    def users(network) -> list[int]:  # type: ignore[no-untyped-def]
        """Which of two users sent each request: they take turns in virtual time, step by step."""
        return [index % 2 for index in range(len(network.requests))]

    def test_every_round_is_dealt_a_row(self) -> None:
        rows = [[f"o{n}@x", "pw"] for n in range(50)]
        parts = "rounds:\n" + step("a", get("a")) + step("b", get("b?who={{ observers.email }}"))
        _, _, network = perform(frozen(parts, hold_s=3.95, rows=rows), ok, rows=rows)
        sent = [
            data.split(b"who=")[1].split(b" ")[0] for data in network.requests if b"who=" in data
        ]
        self.assertEqual(sent, [f"o{n}@x".encode() for n in range(20)])
        # all of it quick: rows go on being dealt, so that a step that uses them later gets the
        # round's own
        parts = (
            "rounds:\n"
            + step("a", get("a"))
            + "closing:\n"
            + step("z", get("z?who={{ observers.email }}&r={{ round.number }}"))
        )
        _, _, network = perform(frozen(parts, hold_s=1.95, rows=rows), ok, rows=rows)
        self.assertIn(b"who=o19@x&r=20 ", network.requests[-1])

    def test_failures_and_cookies_on_the_way(self) -> None:
        seen = 0

        def server(data: bytes) -> Scripted:
            nonlocal seen
            seen += 1
            if seen % 7 == 0:
                return Scripted(answer(b"no", "500 Internal Server Error"), 0.1)
            return Scripted(
                answer(b"fine", headers="Set-Cookie: a=b\r\n" if seen == 25 else ""), 0.1
            )

        made = frozen("rounds:\n" + step("a", get("a")) + step("b", get("b")), hold_s=4.95)
        _, sink, network = perform(made, server)
        ledger = totals(made, sink)
        self.assertEqual(ledger.sent, 50)
        self.assertEqual(
            (ledger.all_of("request").passed.n, ledger.all_of("request").failed),
            (43, {"status-500": 7}),
        )
        self.assertEqual(sum(ledger.all_of("step").failed.values()), 7)
        self.assertEqual(
            [b"Cookie: a=b" in data for data in network.requests], [False] * 25 + [True] * 25
        )

    def test_stopped_gently_between_two_steps_of_a_round(self) -> None:
        async def soon(control: Control) -> None:
            await asyncio.sleep(2.25)
            control.stop_gently()

        tasks = []
        made = frozen(
            "rounds:\n"
            + step("a", get("a"))
            + step("b", get("b"))
            + "closing:\n"
            + step("z", get("z")),
            hold_s=20,
        )
        ended, sink, network = perform(
            made, ok, control=lambda control: tasks.append(asyncio.ensure_future(soon(control)))
        )
        self.assertEqual(ended, "stopped gently")
        self.assertTrue(network.requests[-1].startswith(b"GET /z"))
        self.assertEqual(totals(made, sink).sent, len(network.requests))
        self.assertLess(len(network.requests), 22)


class Connections(TestCase):
    def test_one_that_rested_too_long_is_not_used_again(self) -> None:
        for think_s, opened in ((IDLE_S - 1, 1), (IDLE_S + 1, 3)):
            with self.subTest(think_s=think_s):
                parts = "rounds:\n" + step("a", get("a"), think_s=think_s)
                _, _, network = perform(frozen(parts, hold_s=2.5 * think_s), ok)
                self.assertEqual((len(network.requests), len(network.opened)), (3, opened))

    def test_what_was_cut_off_is_heard_of_no_more(self) -> None:
        """Stopped now: the answer that comes later changes nothing, and what was under way stays in
        flight.
        """

        def soon(control: Control) -> None:
            asyncio.get_running_loop().call_later(2.05, control.stop_now)

        made = frozen("rounds:\n" + step("a", get("a")), users=3, hold_s=20)
        ended, sink, network = perform(
            made, lambda data: Scripted(answer(b"late"), 0.7), control=soon
        )
        ledger = totals(made, sink)
        self.assertEqual(ended, "stopped now")
        self.assertEqual(
            (ledger.sent, ledger.answered), (len(network.requests), len(network.requests) - 3)
        )
        self.assertEqual(sink.messages[-1].in_flight, 3)

    def test_an_exchange_is_counted_in_the_second_in_which_it_was_sent(self) -> None:
        made = frozen("rounds:\n" + step("a", get("a")), hold_s=8)
        _, sink, _ = perform(made, lambda data: Scripted(answer(b"slow"), 2.6))
        sent = [message.sent for message in sink.messages]
        self.assertEqual(sent[:8], [1, 0, 1, 0, 0, 1, 0, 1])
        self.assertEqual(
            [message.answered for message in sink.messages][:8], [0, 0, 1, 0, 0, 1, 0, 1]
        )
        self.assertEqual([message.in_flight for message in sink.messages][:8], [1] * 8)


class Cookies(TestCase):
    def test_each_path_and_origin_has_its_own(self) -> None:
        def server(data: bytes) -> Scripted:
            path = data.split(b" ")[1]
            seen.append(
                (
                    path.decode(),
                    b"Cookie: " in data and data.split(b"Cookie: ")[1].split(b"\r\n")[0].decode(),
                )
            )
            lines = {
                b"/set": "Set-Cookie: all=1; Path=/\r\n",
                b"/x/set": "Set-Cookie: x=2\r\n",
            }.get(path, "")
            if path == b"/gone":
                lines = "Set-Cookie: all=; Path=/; Max-Age=0\r\n"
            return Scripted(answer(b"", headers=lines), 0.1)

        seen: list[tuple[str, str | bool]] = []
        paths = ("a", "set", "a", "x/set", "x/b", "a", "x/b", "gone", "x/b", "a")
        parts = "rounds:\n" + "".join(step(f"s{at}", get(path)) for at, path in enumerate(paths))
        perform(frozen(parts, hold_s=0.95), server)
        sent = [
            False,
            False,
            "all=1",
            "all=1",
            "x=2; all=1",
            "all=1",
            "x=2; all=1",
            "all=1",
            "x=2",
            False,
        ]
        self.assertEqual(
            seen[:10], [(f"/{path}", cookie) for path, cookie in zip(paths, sent, strict=True)]
        )


class OnTheWire(TestCase):
    def test_pieces_closed_connections_and_stopping_now(self) -> None:
        spans: list[str] = []

        async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            for count in range(1, 12):
                try:
                    head = await reader.readuntil(b"\r\n\r\n")
                except (asyncio.IncompleteReadError, ConnectionError):
                    return
                spans.append(head.decode().split("traceparent: ")[1].split("-")[2])
                writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\n")
                with contextlib.suppress(ConnectionError):  # whoever asked was stopped
                    if count % 3 == 0:  # the body comes later
                        await writer.drain()
                        await asyncio.sleep(0.002)
                    writer.write(b"fine")
                    await writer.drain()
            writer.close()  # without having said so: the next request on it is tried once more

        async def program(hold_s: float, stop_s: float) -> tuple[str, ListSink, object]:
            server = await asyncio.start_server(serve, "127.0.0.1", 0)
            base = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}"
            made = frozen(
                "rounds:\n" + step("a", f'request: get\naddress: "{base}/a"'),
                users=4,
                hold_s=hold_s,
                grace_s=1,
            )
            network, clock, sink, control = (
                RealNetwork([parse_target(base)]),
                RealClock(),
                ListSink(),
                Control(),
            )
            asyncio.get_running_loop().call_later(stop_s, control.stop_now)
            shard = Shard(number=0, count=1, frozen=made, rows={}, secrets={})
            ended = (
                await run(shard, network, clock, sink, begin=clock.now() + 0.05, control=control)
            ).words
            await network.aclose()
            clock.close()
            server.close()
            return ended, sink, made

        ended, sink, made = uvloop.run(program(1.2, 30))
        self.assertEqual(ended, "finished")
        ledger = totals(made, sink)  # type: ignore[arg-type]
        self.assertEqual((ledger.sent, ledger.failed), (ledger.answered, 0))
        self.assertEqual(ledger.answered, len(spans))
        self.assertEqual(len(spans), len(set(spans)))
        self.assertGreater(sum(message.reopened for message in sink.messages), 5)

        spans.clear()
        ended, sink, made = uvloop.run(program(20, 0.8))
        self.assertEqual(ended, "stopped now")
        ledger = totals(made, sink)  # type: ignore[arg-type]
        self.assertEqual(ledger.sent, ledger.answered + ledger.failed + sink.messages[-1].in_flight)
        self.assertLessEqual(sink.messages[-1].in_flight, 4)


class Bodies(TestCase):
    def test_a_body_waits_for_100_and_a_file_is_sent_whole(self) -> None:
        seen: list[tuple[str, int, bool]] = []  # path, bytes of the body, whether it waited

        async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            with contextlib.suppress(asyncio.IncompleteReadError, ConnectionError):
                while True:
                    head = (await reader.readuntil(b"\r\n\r\n")).decode().lower()
                    size = int(head.split("content-length: ")[1].split("\r\n")[0])
                    waited = True
                    if "expect: 100-continue" in head:
                        with contextlib.suppress(asyncio.TimeoutError):
                            await asyncio.wait_for(reader.readexactly(1), 0.15)
                            waited = False
                        writer.write(b"HTTP/1.1 100 Continue\r\n\r\n")
                    body = await reader.readexactly(size)
                    seen.append((head.split(" ")[1], len(body), waited))
                    writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nfine")

        async def program(file: str) -> tuple[str, ListSink, object]:
            server = await asyncio.start_server(serve, "127.0.0.1", 0)
            base = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}"
            large = (
                f'request: put\nmethod: PUT\naddress: "{base}/file"\nbody: {{file: {file}, type: '
                f"video/mp4}}"
            )
            held = (
                "request: post\n"
                "method: POST\n"
                f'address: "{base}/held"\n'
                "headers: [[Expect, 100-continue]]\n"
                'body: {raw: "hello", type: text/plain}'
            )
            made = frozen(
                "rounds:\n" + step("a", large) + step("b", held), users=1, hold_s=1, grace_s=3
            )
            network, clock, sink = RealNetwork([parse_target(base)]), RealClock(), ListSink()
            shard = Shard(number=0, count=1, frozen=made, rows={}, secrets={})
            ended = (
                await run(shard, network, clock, sink, begin=clock.now() + 0.05, control=Control())
            ).words
            await network.aclose()
            clock.close()
            server.close()
            return ended, sink, made

        with tempfile.NamedTemporaryFile() as file:
            file.write(bytes(5_000_000))
            file.flush()
            ended, sink, made = uvloop.run(program(file.name))
        ledger = totals(made, sink)  # type: ignore[arg-type]
        self.assertEqual((ended, ledger.failed), ("finished", 0))
        self.assertEqual({each[:2] for each in seen}, {("/file", 5_000_000), ("/held", 5)})
        self.assertTrue(all(waited for _, _, waited in seen))


class WhatAFailureMeans(TestCase):
    """A failing check is counted, fails its step, skips the rest of the round, or makes the user
    leave.
    """

    def played(self, then: str, hold_s: float = 2.95):  # type: ignore[no-untyped-def]
        check = f"checks: [{{contains: never there, then: {then}}}]"
        made = frozen("rounds:\n" + step("a", get("a", check)) + step("b", get("b")), hold_s=hold_s)
        _, sink, network = perform(made, ok)
        ledger = totals(made, sink)
        rows = {each.step: ledger.totals[each.no] for each in ledger.series if each.level == "step"}
        checks = sum(message.checks_failed for message in sink.messages)
        return rows, checks, sink, network, ledger

    def test_only_counted(self) -> None:
        rows, checks, _, _, ledger = self.played("count")
        self.assertEqual((rows["a"].failed, rows["a"].passed.n, rows["b"].passed.n), ({}, 15, 15))
        self.assertEqual(checks, 15)
        self.assertEqual(ledger.all_of("round").failed, {})

    def test_fails_the_step_and_goes_on(self) -> None:
        rows, _, _, _, ledger = self.played("step")
        self.assertEqual((rows["a"].failed, rows["b"].passed.n), ({"check-contains": 15}, 15))
        self.assertEqual(sum(ledger.all_of("round").failed.values()), 14)

    def test_skips_the_rest_of_the_round(self) -> None:
        rows, _, _, network, _ = self.played("round")
        self.assertEqual((sum(rows["a"].failed.values()), rows["b"].passed.n), (30, 0))
        self.assertFalse([data for data in network.requests if b"/b" in data])

    def test_makes_the_user_leave_and_another_come(self) -> None:
        rows, _, sink, _, _ = self.played("user", hold_s=9.95)
        left = sum(
            (
                each.count
                for message in sink.messages
                for each in message.leavings
                if each.cause == "check"
            ),
            0,
        )
        self.assertEqual(left, sum(rows["a"].failed.values()))
        self.assertGreater(left, 2)
        self.assertLess(left, 20)  # each new one after a growing wait
