"""What a run must not hide: what was under way at its end, what was ours, what failed at once, what
could not be looked at.
"""

import gzip
import itertools
import zlib
from collections import Counter
from unittest import TestCase

import brotli
import zstandard
from msgspec.structs import replace

from dynamikos.core.exchanges import Bomb, decode_body
from dynamikos.core.frozen import FrozenRun, series_of
from dynamikos.core.objectives import Objective
from dynamikos.core.plans import Plan
from dynamikos.core.profiles import Stretch, measured_part_s
from dynamikos.core.reports import Ledger
from dynamikos.core.verdicts import Outcome, conclude
from dynamikos.core.verdicts.ending import of_words
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.protocol import ReplyReader
from dynamikos.engine.ports import Origin
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.runner import Control, Shard, run
from dynamikos.engine.testing import (
    ListSink,
    Scripted,
    ScriptedNetwork,
    VirtualClock,
    answer,
    run_virtual,
)
from tests.engine.support import frozen, ok, perform, step, totals
from tests.engine.test_walking import get


def judged(made: FrozenRun, sink: ListSink, ended: str) -> Outcome:
    """The outcome as every place concludes it: the measured part, with what was under way at its
    end.
    """
    from_s, to_s = measured_part_s(made.plan.profile)
    window, whole = Ledger(series_of(made.journey)), Ledger(series_of(made.journey))
    for message in sink.messages:
        whole.add(message, totals=False)
        window.add(message, totals=from_s <= message.second < to_s)
        window.carry(message)
    peak = max(sum(message.users.values()) for message in sink.messages)
    return conclude(
        made,
        window,
        whole,
        ending=of_words(ended),
        in_flight=sink.messages[-1].in_flight,
        peak_users=peak,
    )


def with_objectives(made: FrozenRun, *objectives: tuple[str, float]) -> FrozenRun:
    plan: Plan = replace(
        made.plan,
        objectives=tuple(
            Objective(objective=name, measure=name, limit=limit) for name, limit in objectives
        ),
    )  # type: ignore[arg-type]
    return replace(made, plan=plan)


class UnderWayAtTheEnd(TestCase):
    def slow(self, seconds: float, every: int, grace_s: float):  # type: ignore[no-untyped-def]
        """Every so-many-th request takes `seconds`; 20 users, 10 s."""
        count = itertools.count(1)
        made = with_objectives(
            frozen(
                "rounds:\n" + step("a", get("a"), think_s=0.4), users=20, hold_s=10, grace_s=grace_s
            ),
            ("p95", 500),
            ("p50", 500),
            ("mean", 500),
        )
        ended, sink, _ = perform(
            made, lambda data: Scripted(answer(b"x"), seconds if next(count) % every == 0 else 0.1)
        )
        return made, sink, judged(made, sink, ended)

    def test_what_is_open_at_the_end_enters_times_alone_with_its_age(self) -> None:
        made, sink, found = self.slow(12, 10, grace_s=30)
        words = {each.objective: each.word for each in found.judgements}
        self.assertEqual(words, {"p95": "missed", "p50": "met", "mean": "missed"})
        row = next(row for row in found.rows if row.level == "request")
        self.assertGreater(row.max_ms, 9_900)
        self.assertEqual(row.open, 0)
        self.assertIn("max_ms", row.at_least)
        ledger = totals(made, sink)
        self.assertEqual(row.count + 20, ledger.answered)  # those 20 ended after the measured part
        self.assertEqual(row.timed, ledger.sent)
        self.assertAlmostEqual(row.per_s, row.count / 10)
        self.assertEqual((found.sent, found.in_flight), (found.answered + found.failed, 0))

    def test_what_never_ends_is_at_least_its_age_and_never_met(self) -> None:
        _, sink, found = self.slow(500, 10, grace_s=2)
        words = {each.objective: (each.word, each.at_least) for each in found.judgements}
        self.assertEqual(words["p50"], ("met", False))
        self.assertEqual(words["p95"][0], "missed")
        self.assertEqual(words["mean"][1], True)
        row = next(row for row in found.rows if row.level == "request")
        self.assertGreater(row.open, 10)
        self.assertIn("p95_ms", row.at_least)
        self.assertEqual(found.sent, found.answered + found.failed + found.in_flight)
        self.assertEqual(found.in_flight, row.open)
        # each objective is judged with what is open: no doubt besides, but that this machine was
        # busy
        self.assertEqual([each for each in found.doubts if not each.startswith("The load was")], [])
        self.assertGreater(sink.messages[9].oldest_us, 8_000_000)
        self.assertGreater(sink.messages[9].in_flight, 10)

    def test_an_objective_that_could_turn_is_not_judged(self) -> None:
        made = with_objectives(
            frozen("rounds:\n" + step("a", get("a")), users=1, hold_s=10, grace_s=0),
            ("mean", 5_000),
            ("max", 20_000),
        )
        count = itertools.count()
        ended, sink, _ = perform(
            made, lambda data: Scripted(answer(b"x"), 0.1 if next(count) < 50 else 100)
        )
        found = judged(made, sink, ended)
        self.assertEqual([each.word for each in found.judgements], ["not judged", "not judged"])
        self.assertIn("could turn it", found.judgements[0].reason)
        self.assertEqual(found.exit_code, 3)

    def test_much_failed_is_not_met(self) -> None:
        count = itertools.count()
        made = with_objectives(frozen("rounds:\n" + step("a", get("a")), hold_s=20), ("p95", 500))
        ended, sink, _ = perform(
            made,
            lambda data: Scripted(answer(b"", "503 No") if next(count) % 6 else answer(b""), 0.1),
        )
        found = judged(made, sink, ended)
        self.assertEqual((found.judgements[0].word, found.exit_code), ("missed", 1))
        self.assertRegex(found.sentence, r"8\d\.?\d* % failed")


class Failing(TestCase):
    def test_an_endless_redirect_is_a_failure_of_its_own(self) -> None:
        made = frozen("rounds:\n" + step("a", get("a")), hold_s=3)
        _, sink, network = perform(
            made, lambda data: Scripted(answer(b"", "302 Found", "Location: /a\r\n"), 0.1)
        )
        self.assertEqual(list(totals(made, sink).all_of("request").failed), ["redirect-loop"])
        self.assertIn(
            "redirected more than 10 times",
            next(each.error for each in sink.kept if "redirect-loop" in each.reason),
        )
        self.assertEqual(
            len(network.requests) % 11, len(network.requests) - 11 * (len(network.requests) // 11)
        )

    def test_a_server_that_is_down_is_not_asked_faster_than_one_that_works(self) -> None:
        parts = "rounds:\n" + step("a", get("a"), think_s=1) + step("b", get("b"), think_s=2)
        up = len(perform(frozen(parts, users=5, hold_s=60), ok)[2].requests)
        down = len(
            perform(
                frozen(parts, users=5, hold_s=60), lambda data: Scripted(answer(b"", "503 No"), 0.0)
            )[2].requests
        )
        self.assertLess(down, up)  # the think times of what is skipped are kept
        for pause, most in ((1.0, 8), (4.0, 5), (0.0, 10_000)):
            made = frozen("rounds:\n" + step("a", get("a")), hold_s=60, failed_pause_s=pause)
            _, _, network = perform(made, lambda data: Scripted(answer(b"", "503 No"), 0.01))
            with self.subTest(pause):
                self.assertLessEqual(len(network.requests), most)  # 1 + 2 + 4 + … s, up to 30 s
                self.assertGreater(len(network.requests), 2)

    def test_the_pause_does_not_grow_while_rounds_get_on(self) -> None:
        count = itertools.count()
        made = frozen(
            "rounds:\n" + step("a", get("a")) + step("b", get("b")), hold_s=60, failed_pause_s=1
        )
        _, _, network = perform(
            made,
            lambda data: Scripted(answer(b"", "200 OK" if next(count) % 2 == 0 else "500 No"), 0.1),
        )
        self.assertGreater(len(network.requests), 80)


class Embedded(TestCase):
    def test_resources_are_asked_for_as_a_browser_does(self) -> None:
        def server(data: bytes) -> Scripted:
            if data.startswith(b"GET /moved"):
                return Scripted(answer(b"", "302 Found", "Location: /there\r\n"), 0.05)
            if data.startswith(b"GET /gone"):
                return Scripted(answer(b"", "404 Not Found"), 0.05)
            if data.startswith(b"GET /loop"):
                return Scripted(answer(b"", "302 Found", "Location: /loop\r\n"), 0.01)
            return Scripted(answer(b"x"), 1.0)

        page = get(
            "page",
            "embedded: [" + ", ".join(f"/e{n}" for n in range(12)) + ", /moved, /gone, /loop]",
        )
        headers = "headers: [[User-Agent, Owl], [Accept, text/html]]\n"
        made = frozen(headers + "rounds:\n" + step("a", page), hold_s=4, grace_s=0)
        _, sink, network = perform(made, server)
        heads = [each for each in network.requests if not each.startswith(b"GET /page")]
        self.assertIn(b"Accept: text/html\r\n", network.requests[0])
        for head in heads:
            self.assertIn(b"Accept: */*\r\n", head)  # a page's is not its pictures'
            self.assertEqual(
                (
                    head.count(b"User-Agent:"),
                    head.count(b"Accept-Encoding: gzip"),
                    head.count(b"User-Agent: Owl"),
                ),
                (1, 1, 1),
            )
        self.assertTrue(any(each.startswith(b"GET /there") for each in heads))
        cell = totals(made, sink).all_of("embedded")
        self.assertEqual(
            cell.failed,
            {
                "status-404": cell.failed["status-404"],
                "redirect-loop": cell.failed["redirect-loop"],
            },
        )
        kept = {each.url[-5:]: each for each in sink.kept if each.resource}
        self.assertEqual({name: each.reason for name, each in kept.items()}, {
            "/gone": "failed: status-404", "/loop": "failed: redirect-loop",
        })  # fmt: skip
        self.assertEqual(
            (kept["/gone"].request, kept["/gone"].status, kept["/gone"].recorded),
            ("get", 404, None),
        )
        self.assertIn("the last address is /loop", kept["/loop"].error)
        self.assertIn(("Accept", "*/*"), kept["/gone"].sent_headers)

    def test_a_resource_that_can_not_be_asked_for_fails_alone(self) -> None:
        """A value that is missing, an address that is none, a server that is away: each says so;
        the user goes on.
        """

        def away(origin: Origin) -> None:
            if origin[2] == 1:
                raise Failure("connect-refused", "nobody is there")

        page = get(
            "page", 'embedded: ["/{{ nowhere }}", "http://[/", "http://127.0.0.1:1/x", /fine]'
        )
        made = frozen("rounds:\n" + step("a", page) + step("b", get("b")), hold_s=2)
        network, sink = ScriptedNetwork(ok, away), ListSink()

        async def program() -> str:
            clock = VirtualClock()
            shard = Shard(number=0, count=1, frozen=made, rows={}, secrets={})
            return (await run(shard, network, clock, sink, begin=clock.now() + 0.5)).words

        self.assertEqual(run_virtual(program()), "finished")
        found = totals(made, sink).all_of("embedded")
        rounds = found.passed.n
        self.assertGreater(rounds, 3)
        self.assertEqual(
            found.failed, {"value-missing": rounds, "address": rounds, "connect-refused": rounds}
        )
        kept = {each.reason.removeprefix("failed: "): each for each in sink.kept if each.resource}
        self.assertEqual(kept["connect-refused"].url, "http://127.0.0.1:1/x")
        self.assertIn("nowhere", kept["value-missing"].error)
        self.assertTrue(any(b"GET /b " in each for each in network.requests))

    def test_six_at_a_time_from_each_origin(self) -> None:
        began: Counter[float] = Counter()  # each takes 0.1 s, so those that overlap begin together

        def server(data: bytes) -> Scripted:
            began[round(VirtualClock().now(), 3)] += 1
            return ok(data)

        page = get("page", "embedded: [" + ", ".join(f"/e{n}" for n in range(30)) + "]")
        _, _, network = perform(frozen("rounds:\n" + step("a", page), hold_s=3, grace_s=20), server)
        self.assertEqual((max(began.values()), len(network.opened)), (6, 6))


class Ours(TestCase):
    """No exception of any kind ends a user, a reporter or a shard unseen: each port throws, at
    every step.
    """

    PARTS = (
        "opening:\n"
        + step("o", get("o"))
        + "rounds:\n"
        + step("a", get("a", "checks: [{status: 200}]"), think_s=0.2)
        + "  - {step: l, name: L, log: x}\n"
        "  - {step: k, name: K, keep: {into: used, row: [[a, b]]}}\n"
        "  - {step: c, name: C, call: {function: m.f, with: [[a, b]]}}\n"
        + "closing:\n"
        + step("z", get("z"))
    )

    def thrown(self, port: str, at: int):  # type: ignore[no-untyped-def]
        made = frozen(self.PARTS, users=2, hold_s=4, grace_s=1)
        count = itertools.count(1)

        def throws() -> None:
            if next(count) == at:
                raise RuntimeError(f"thrown by {port}")

        class Clock(VirtualClock):
            def at(self, instant: float):  # type: ignore[no-untyped-def]
                if port == "clock":
                    throws()
                return super().at(instant)

        class Sink(ListSink):
            def report(self, message) -> None:  # type: ignore[no-untyped-def]
                super().report(message)
                if port == "report":
                    throws()

            def keep(self, exchange) -> None:  # type: ignore[no-untyped-def]
                super().keep(exchange)
                if port == "keep":
                    throws()

            def write(self, into, row) -> None:  # type: ignore[no-untyped-def]
                if port == "write":
                    throws()

            def unsent(self) -> int:
                if port == "health":
                    throws()
                return 0

        class Functions:
            async def call(self, function, given, waited=None) -> str:  # type: ignore[no-untyped-def]
                if port == "functions":
                    throws()
                return "x"

        def server(data: bytes) -> Scripted:
            if port == "exchange":
                throws()
            return ok(data)

        def connect(origin) -> None:  # type: ignore[no-untyped-def]
            if port == "open":
                throws()

        sink, network = Sink(), ScriptedNetwork(server, connect)

        async def program() -> str:
            clock = Clock()
            shard = Shard(
                number=0, count=1, frozen=made, rows={}, secrets={}, functions=Functions()
            )
            try:
                return (
                    await run(
                        shard,
                        network,
                        clock,
                        sink,
                        begin=VirtualClock().now() + 0.5,
                        control=Control(),
                    )
                ).words
            except RuntimeError as problem:
                return f"raised: {problem}"  # the generator says it as the shard's end

        return made, sink, run_virtual(program())

    def test_every_port_at_every_step(self) -> None:
        for port in ("clock", "report", "keep", "write", "health", "functions", "exchange", "open"):
            for at in (1, 2, 3, 5, 8, 13):
                with self.subTest(port, at=at), self.assertLogs(level="ERROR") if True else None:
                    import logging

                    logging.getLogger("tests").error("so that there is one")
                    made, sink, ended = self.thrown(port, at)
                    broke = [
                        each.detail
                        for message in sink.messages
                        for each in message.leavings
                        if each.cause == "broke"
                    ]
                    hit = (
                        f"thrown by {port}" in ended
                        or any(f"thrown by {port}" in each for each in broke)
                        or ended.startswith("broke")
                    )
                    counted = any(
                        "engine-error" in kind
                        for message in sink.messages
                        for part in message.series
                        for kind in part.failed
                    )
                    # it was not asked so often
                    few = (
                        port in ("open", "write", "functions", "keep", "report", "health")
                        and not hit
                    )
                    self.assertTrue(hit or counted or few, (ended, broke))
                    ledger = totals(made, sink)
                    if sink.messages and sink.messages[-1].last:
                        self.assertEqual(
                            ledger.sent,
                            ledger.answered + ledger.failed + sink.messages[-1].in_flight,
                        )
                    if broke and ended == "finished":
                        self.assertTrue(
                            any(
                                "error of ours" in each for each in judged(made, sink, ended).doubts
                            )
                        )

    def test_own_limits_are_counted_apart(self) -> None:
        made = with_objectives(
            frozen("rounds:\n" + step("a", get("a"), think_s=0.2), users=3, hold_s=8),
            ("failure-rate", 1),
        )
        count = itertools.count(1)

        def connect(origin) -> None:  # type: ignore[no-untyped-def]
            if next(count) <= 2:
                raise Failure("own-limit-descriptors", "no socket could be had")

        sink, network = ListSink(), ScriptedNetwork(ok, connect)

        async def program() -> str:
            clock = VirtualClock()
            return (
                await run(
                    Shard(number=0, count=1, frozen=made, rows={}, secrets={}),
                    network,
                    clock,
                    sink,
                    begin=clock.now() + 0.5,
                )
            ).words

        found = judged(made, sink, run_virtual(program()))
        self.assertEqual(
            (found.judgements[0].word, found.judgements[0].value, found.own_limits), ("met", 0.0, 2)
        )
        self.assertTrue(
            any("limits of their own machine (2 × descriptors)" in each for each in found.doubts)
        )

    def test_more_users_than_descriptors_are_refused_before_anything_is_sent(self) -> None:
        made = frozen("rounds:\n" + step("a", get("a")), users=900_000, hold_s=1)
        with self.assertRaisesRegex(Failure, "may have"):
            perform(
                replace(
                    made,
                    plan=replace(
                        made.plan, profile=(Stretch(stretch="hold", seconds=0), *made.plan.profile)
                    ),
                ),
                ok,
            )

    def test_a_stall_makes_a_second_late(self) -> None:
        watch = HealthWatch()
        watch._stall_us = 195_000
        self.assertEqual(watch.read().late_by[:1], ("stall",))

    def test_a_cap_refuses_and_stops_and_never_delays(self) -> None:
        made = replace(
            frozen("rounds:\n" + step("a", get("a")), users=5, hold_s=30), cap_per_s=20.0
        )
        ended, sink, network = perform(made, ok)
        self.assertIn("more than the 20 requests/s", ended)
        self.assertLessEqual(max(message.sent for message in sink.messages), 20)
        self.assertLess(len(network.requests), 60)


class Bodies(TestCase):
    def test_a_few_bytes_do_not_become_gigabytes(self) -> None:
        zeros = b"\0" * 20_000_000
        deep = gzip.compress(gzip.compress(b"\0" * 200_000_000))
        raw = zlib.compressobj(9, zlib.DEFLATED, -15)
        for coding, body in (
            ("gzip", gzip.compress(zeros)),
            ("deflate", zlib.compress(zeros)),
            ("deflate", raw.compress(zeros) + raw.flush()),
            ("br", brotli.compress(zeros)),
            ("zstd", zstandard.compress(zeros)),
            ("gzip, gzip", deep),
            ("gzip, br", brotli.compress(gzip.compress(zeros))),
        ):
            with self.subTest(coding, size=len(body)), self.assertRaises(Bomb):
                decode_body(body, coding)

    def test_all_of_it_is_undone_and_nothing_that_is_broken(self) -> None:
        text = b"one " * 5_000
        two = {
            "gzip": gzip.compress(text) + gzip.compress(b"two"),
            "zstd": zstandard.compress(text) + zstandard.compress(b"two"),
            "br": brotli.compress(text + b"two"),
            "deflate": zlib.compress(text + b"two"),
            "gzip, br": brotli.compress(gzip.compress(text + b"two")),
        }
        for coding, body in two.items():
            with self.subTest(coding):
                self.assertEqual(decode_body(body, coding), text + b"two")
                for wrong in (body[:-3], b"not it at all, but long enough", body[: len(body) // 2]):
                    with self.assertRaises(ValueError):
                        decode_body(wrong, coding)
        with self.assertRaisesRegex(ValueError, "at most 3"):
            decode_body(b"", "gzip, gzip, gzip, gzip")

    def test_a_bad_one_fails_whether_it_is_looked_into_or_not(self) -> None:
        bomb = gzip.compress(b"\0" * 20_000_000)
        for body, kind in ((b"not gzip", "body-encoding"), (bomb, "body-bomb")):
            made = frozen("rounds:\n" + step("a", get("a")), hold_s=1)
            _, sink, _ = perform(
                made,
                lambda data, body=body: Scripted(
                    answer(body, headers="Content-Encoding: gzip\r\n"), 0.3
                ),
            )
            self.assertEqual(list(totals(made, sink).all_of("request").failed), [kind])

    def test_what_can_not_be_seen_is_not_said_to_be_missing(self) -> None:
        """17 MB: all of them count, and what would have to be looked for beyond 16 MB is said to be
        beyond it.
        """
        body = b"a" * 17_000_000 + b"the end"
        for check, failed in (
            ("size: {at_least: 17000000}", []),
            ("contains: the end", ["body-limit"]),
            ("{contains: aaa}", []),
            ("{contains: zzz, never: true}", ["body-limit"]),
        ):
            with self.subTest(check):
                given = check if check.startswith("{") else "{" + check + "}"
                made = frozen(
                    "rounds:\n" + step("a", get("a", f"checks: [{given}]")), hold_s=0.2, grace_s=2
                )
                _, sink, _ = perform(made, lambda data: Scripted(answer(body), 1))
                self.assertEqual(list(totals(made, sink).all_of("request").failed), failed)


class Protocol(TestCase):
    def read(self, data: bytes, *, pieces: int = 1):  # type: ignore[no-untyped-def]
        reader, found = ReplyReader(), None
        size = -(-len(data) // pieces)
        for at in range(0, len(data), size):
            found = reader.feed(data[at : at + size])
        return found

    def test_answers_as_they_come(self) -> None:
        folded = b"HTTP/1.1 200 OK\r\nX-A: a\r\n  b\r\n\tc\r\nContent-Length: 2\r\n\r\nok"
        for pieces in (1, 3, 7, 30):
            reply = self.read(folded, pieces=pieces)
            self.assertEqual((reply.came, reply.field(b"x-a").split()), (2, [b"a", b"b", b"c"]))
        glued = self.read(
            b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nokHTTP/1.1 500 No\r\nContent-Length: "
            b"3\r\n\r\nbad"
        )
        self.assertEqual((glued.status, glued.came, glued.keep_alive), (200, 2, False))
        junk = self.read(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nokjunk")
        self.assertEqual((junk.status, junk.keep_alive), (200, False))
        twice = self.read(
            b"HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Encoding: br\r\nContent-Length: "
            b"0\r\n\r\n"
        )
        self.assertEqual(twice.encoding, b"gzip, br")
        with self.assertRaisesRegex(Failure, "more than 256,000 bytes"):
            self.read(b"HTTP/1.1 200 OK\r\nX: " + b"a" * 300_000)
        with self.assertRaises(Failure):
            self.read(b"HTTP/1.1 200 OK\r\nX A: b\r\n\r\n")
