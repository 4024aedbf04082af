"""The engine on a scripted network and virtual time: counts, times, states, failures, stopping."""

import asyncio
from unittest import TestCase

from msgspec.structs import replace

from dynamikos.core.reports import KeptExchange
from dynamikos.core.verdicts.ending import GENTLY, NOW, stopped
from dynamikos.engine.failures import Failure
from dynamikos.engine.runner import Control, Rehearsal, Shard
from dynamikos.engine.testing import Scripted, ScriptedNetwork, VirtualClock, answer, run_virtual
from tests.engine.support import frozen, ok, perform, step, totals

GET = 'request: get\naddress: "{{ env.base }}/x"'


class Counting(TestCase):
    def test_known_times_and_counts(self) -> None:
        made = frozen("rounds:\n" + step("one", GET, think_s=0.9), users=3, hold_s=9.95)
        ended, sink, network = perform(made, ok)
        self.assertEqual(ended, "finished")
        ledger = totals(made, sink)
        one = ledger.all_of("step")
        self.assertEqual(
            one.passed.n, 30
        )  # 0.1 s answer + 0.9 s think: a round a second, 3 users, 10 s
        self.assertEqual(len(network.requests), 30)
        self.assertAlmostEqual(one.moments.mean_us, 100_000, delta=2)
        self.assertEqual((ledger.sent, ledger.answered, ledger.failed), (30, 30, 0))
        self.assertEqual(len(network.opened), 3)  # kept connections, one a user
        self.assertEqual(
            [message.second for message in sink.messages], list(range(len(sink.messages)))
        )
        self.assertTrue(sink.messages[-1].last)

    def test_climb_starts_users_as_planned_and_counts_states(self) -> None:
        made = frozen("rounds:\n" + step("one", GET, think_s=0.9), users=10, climb_s=5, hold_s=5)
        _, sink, _ = perform(made, ok)
        here = [sum(message.users.values()) for message in sink.messages[:10]]
        self.assertEqual(here, [2, 4, 6, 8, 10, 10, 10, 10, 10, 10])
        self.assertEqual([message.planned_users for message in sink.messages[:10]], here)

    def test_opening_once_closing_once(self) -> None:
        made = frozen(
            "opening:\n"
            + step("in", GET)
            + "rounds:\n"
            + step("mid", GET, think_s=1)
            + "closing:\n"
            + step("out", GET),
            hold_s=5,
        )
        _, sink, _ = perform(made, ok)
        counts = {
            each.step: totals(made, sink).totals[each.no].passed.n
            for each in totals(made, sink).series
            if each.level == "step"
        }
        self.assertEqual((counts["in"], counts["out"]), (1, 1))
        self.assertEqual(counts["mid"], 5)

    def test_think_factor_and_same_seed_same_requests(self) -> None:
        made = frozen("rounds:\n" + step("one", GET, think_s=1.9), users=2, hold_s=9.5)
        first, second = perform(made, ok)[2].requests, perform(made, ok)[2].requests
        self.assertEqual(first, second)
        self.assertEqual(len(first), 10)


class Values(TestCase):
    def test_rows_captures_cookies_and_bodies(self) -> None:
        parts = (
            "opening:\n"
            + step(
                "in",
                'request: page\naddress: "{{ env.base }}/in"\ncaptures: [{name: key, css: '
                "{selector: input, attribute:"
                " value}}]",
            )
            + "rounds:\n"
            + step(
                "one",
                "request: send\n"
                "method: POST\n"
                'address: "{{ env.base }}/s?a=b"\n'
                'query: [["q q", "{{ observers.email }}"]]\n'
                'headers: [[X-Key, "{{ key }}"]]\n'
                'body: {form: [[k, "{{ key }}"], [r, "{{ round.number }}"]]}',
                think_s=1,
            )
        )

        def server(data: bytes) -> Scripted:
            if data.startswith(b"GET /in"):
                return Scripted(
                    answer(
                        b'<input value="k&amp;1">',
                        headers="Set-Cookie: visit=v1; Path=/; HttpOnly\r\nContent-Type: "
                        "text/html\r\n",
                    )
                )
            return Scripted(answer())

        made = frozen(parts, hold_s=2.5, rows=[["a b@x", "pw1"], ["c@x", "pw2"]])
        _, _, network = perform(made, server, rows=[["a b@x", "pw1"], ["c@x", "pw2"]])
        posts = [data for data in network.requests if data.startswith(b"POST")]
        self.assertTrue(
            posts[0].startswith(b"POST /s?a=b&q+q=a+b%40x HTTP/1.1\r\nHost: 127.0.0.1:9999\r\n")
        )
        self.assertIn(b"q+q=c%40x", posts[1])
        self.assertIn(b"X-Key: k&1\r\n", posts[0])
        self.assertIn(b"Cookie: visit=v1\r\n", posts[0])
        self.assertTrue(posts[0].endswith(b"\r\n\r\nk=k%261&r=1"))
        self.assertIn(b"Content-Length: 11\r\n", posts[0])
        traces = {data.split(b"traceparent: ")[1][:55] for data in network.requests}
        self.assertEqual(len(traces), len(network.requests))

    def test_redirects_are_followed_and_each_hop_is_an_exchange(self) -> None:
        parts = "rounds:\n" + step(
            "one",
            'request: post\nmethod: POST\naddress: "{{ env.base }}/a"\nbody: {form: [[x, '
            '"1"]]}\nchecks: [{status:'
            " 200}, {contains: end}]",
            think_s=100,
        )

        def server(data: bytes) -> Scripted:
            if data.startswith(b"POST /a "):
                return Scripted(
                    answer(
                        status="303 See Other", headers="Location: /b?x=1\r\nSet-Cookie: s=1\r\n"
                    ),
                    0.2,
                )
            return Scripted(answer(b"the end"), 0.3)

        made = frozen(parts, hold_s=3)
        _, sink, network = perform(made, server)
        self.assertEqual(len(network.requests), 2)
        self.assertTrue(network.requests[1].startswith(b"GET /b?x=1 HTTP/1.1"))
        self.assertNotIn(b"Content-Length", network.requests[1])
        self.assertIn(b"Cookie: s=1", network.requests[1])
        ledger = totals(made, sink)
        self.assertEqual((ledger.sent, ledger.all_of("request").passed.n), (2, 1))
        self.assertAlmostEqual(ledger.all_of("request").moments.mean_us, 500_000, delta=10)

    def test_embedded_six_at_a_time_and_the_step_waits(self) -> None:
        parts = "rounds:\n" + step(
            "one",
            'request: page\naddress: "{{ env.base }}/"\nembedded: [/1, /2, /3, /4, /5, /6, /7]',
            think_s=100,
        )
        made = frozen(parts, hold_s=3)
        _, sink, network = perform(made, ok)
        ledger = totals(made, sink)
        self.assertEqual((len(network.requests), ledger.all_of("embedded").passed.n), (8, 7))
        self.assertAlmostEqual(
            ledger.all_of("step").moments.mean_us, 300_000, delta=100
        )  # page, six, one
        self.assertEqual(len(network.opened), 6)


class Failing(TestCase):
    def outcome(self, server: object, request: str = GET) -> tuple[dict[str, int], object, object]:
        made = frozen(
            "rounds:\n"
            + step("one", request, think_s=1)
            + step("two", GET.replace("get", "after")),
            hold_s=2.5,
        )
        _, sink, _ = perform(made, server)  # type: ignore[arg-type]
        return totals(made, sink).all_of("request").failed, sink, totals(made, sink)

    def test_a_redirect_to_what_is_no_address(self) -> None:
        failed, _, _ = self.outcome(
            lambda data: Scripted(answer(b"", "302 Found", "Location: http://[bad\r\n"), 0.1)
        )
        self.assertEqual(set(failed), {"address"})

    def test_status_check_capture_and_missing_value(self) -> None:
        cases = (
            (Scripted(answer(status="500 Oops")), GET, "status-500"),
            (Scripted(answer(b"no")), GET + "\nchecks: [{contains: yes}]", "check-contains"),
            (Scripted(answer(b"{}")), GET + "\ncaptures: [{name: k, json: $.k}]", "capture-k"),
            (Scripted(failure=Failure("connect-refused", "x")), GET, "connect-refused"),
            (Scripted(b"HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\nabc"), GET, "closed-mid-body"),
            (Scripted(b"SSH-2.0-nonsense\r\n"), GET, "protocol"),
        )  # fmt: skip
        for scripted, request, kind in cases:
            with self.subTest(kind):
                failed, sink, ledger = self.outcome(
                    lambda data, scripted=scripted: scripted, request
                )
                self.assertEqual(set(failed), {kind})
                self.assertEqual(ledger.all_of("step", "one").failures, failed[kind])
                self.assertEqual(
                    ledger.all_of("step", "two").passed.n, 0
                )  # the rest of the round is skipped
                self.assertEqual(sum(m.skipped_steps for m in sink.messages), failed[kind])
                self.assertEqual(ledger.sent, ledger.answered + ledger.failed)
                self.assertTrue(sink.kept[0].reason.startswith("failed: "))

    def test_kept_exchange_shows_expected_and_actual_and_masks_secrets(self) -> None:
        parts = "rounds:\n" + step(
            "one",
            'request: p\nmethod: POST\naddress: "{{ env.base }}/{{ observers.email }}"\nbody: '
            '{json: \'{"pw": "{{'
            " observers.password }}\"}'}\nchecks: [{status: 201}]",
            think_s=1,
        )
        rows = [["e@x", 'se"cret/word']]
        made = frozen(parts, hold_s=0.5, rows=rows)
        import base64

        echo = base64.b64encode(b'user:se"cret/word')
        _, sink, _ = perform(
            made,
            lambda data: Scripted(answer(b'you said se"cret/word, se%22cret%2Fword and ' + echo)),
            rows=rows,
        )
        kept = sink.kept[0]
        self.assertEqual(
            (kept.expected, kept.actual, kept.status), ("status 201", "status 200", 200)
        )
        everything = repr(kept)
        for form in ('se"cret/word', "se%22cret%2Fword", 'se\\"cret/word', echo.decode()):
            self.assertNotIn(form, everything)
        self.assertIn("e@x", everything)

    def test_failed_opening_retires_and_is_replaced_after_a_growing_wait(self) -> None:
        made = frozen("opening:\n" + step("in", GET) + "rounds:\n" + step("one", GET), hold_s=20)
        _, sink, network = perform(made, lambda data: Scripted(answer(status="503 Busy")))
        self.assertEqual(
            sum(each.count for message in sink.messages for each in message.leavings),
            len(network.requests),
        )
        self.assertEqual(len(network.requests), 5)  # at 0, 1, 3, 7, 15 s
        self.assertEqual(totals(made, sink).all_of("round").passed.n, 0)

    def test_closed_kept_connection_is_tried_once_more_unless_post(self) -> None:
        def server(data: bytes) -> Scripted:
            seen.append(data)
            return Scripted(answer(b"ok"), stale=len(seen) == 2)

        for request, failures, reopened in ((GET, 0, 1), (GET + "\nmethod: POST", 1, 0)):
            seen: list[bytes] = []
            made = frozen("rounds:\n" + step("one", request, think_s=1), hold_s=3.5)
            _, sink, _ = perform(made, server)
            with self.subTest(request):
                ledger = totals(made, sink)
                self.assertEqual(
                    (ledger.all_of("request").failures, sum(m.reopened for m in sink.messages)),
                    (failures, reopened),
                )
                self.assertEqual(ledger.sent, ledger.answered + ledger.failed)


class Rehearsing(TestCase):
    def test_every_body_is_kept_of_plain_requests_too(self) -> None:
        made = frozen("rounds:\n" + step("a", GET) + step("b", GET) + step("c", GET))
        kept: list[KeptExchange] = []

        async def program() -> str:
            rehearsal = Rehearsal(Shard(number=0, count=1, frozen=made, rows={}, secrets={}), 3)
            return await rehearsal.perform(ScriptedNetwork(ok), VirtualClock(), kept.append)

        self.assertEqual(run_virtual(program()), "passed")
        self.assertEqual(
            [(each.step, each.body, each.user) for each in kept],
            [("a", "fine", 3), ("b", "fine", 3), ("c", "fine", 3)],
        )

    def test_all_is_asked_for_also_where_the_plans_users_keep_a_cache(self) -> None:
        made = frozen("rounds:\n" + step("a", GET) + step("b", GET))
        made = replace(made, plan=replace(made.plan, cache="user"))
        kept: list[KeptExchange] = []

        def lasting(data: bytes) -> Scripted:
            return Scripted(answer(b"fine", headers="Cache-Control: max-age=500\r\n"), 0.05)

        async def program() -> str:
            rehearsal = Rehearsal(Shard(number=0, count=1, frozen=made, rows={}, secrets={}), 1)
            return await rehearsal.perform(ScriptedNetwork(lasting), VirtualClock(), kept.append)

        self.assertEqual(run_virtual(program()), "passed")
        self.assertEqual(len(kept), 2)

    def test_a_cap_makes_it_wait_and_refuses_nothing(self) -> None:
        steps = "".join(step(name, GET) for name in "abcde")
        made = replace(frozen("rounds:\n" + steps), cap_per_s=2.0)
        kept: list[KeptExchange] = []
        clock = VirtualClock()

        async def program() -> tuple[str, float]:
            begun = clock.now()
            rehearsal = Rehearsal(Shard(number=0, count=1, frozen=made, rows={}, secrets={}), 1)
            return await rehearsal.perform(
                ScriptedNetwork(ok), clock, kept.append
            ), clock.now() - begun

        ended, seconds = run_virtual(program())
        self.assertEqual((ended, len(kept)), ("passed", 5))
        self.assertGreater(seconds, 1)  # two in each second


class Stopping(TestCase):
    PARTS = "rounds:\n" + step("one", GET, think_s=50) + "closing:\n" + step("out", GET)

    @staticmethod
    def after(seconds: float, action: str) -> object:
        def arrange(control: Control) -> None:
            asyncio.get_running_loop().call_later(seconds, getattr(control, action))

        return arrange

    def test_gently_performs_the_closing(self) -> None:
        made = frozen(self.PARTS, users=4, hold_s=600)
        ended, sink, _ = perform(made, ok, control=self.after(10, "stop_gently"))  # type: ignore[arg-type]
        self.assertEqual(ended, "stopped gently")
        self.assertEqual(totals(made, sink).all_of("step", "out").passed.n, 4)
        self.assertLess(sink.messages[-1].second, 13)

    def test_now_leaves_what_is_in_flight(self) -> None:
        made = frozen(self.PARTS, users=4, hold_s=600)
        ended, sink, _ = perform(
            made, lambda data: Scripted(answer(), 30), control=self.after(10, "stop_now")
        )  # type: ignore[arg-type]
        last, ledger = sink.messages[-1], totals(made, sink)
        self.assertEqual((ended, last.in_flight, ledger.sent), ("stopped now", 4, 4))
        self.assertEqual(ledger.sent, ledger.answered + ledger.failed + last.in_flight)

    def test_grace_ends_a_run_whose_target_hangs(self) -> None:
        made = frozen(self.PARTS, users=2, hold_s=5, grace_s=7)
        ended, sink, _ = perform(made, lambda data: Scripted(answer(), 3600))
        self.assertEqual((ended, sink.messages[-1].in_flight), ("finished", 2))
        self.assertIn(sink.messages[-1].second, (11, 12))
        self.assertGreater(sink.messages[10].oldest_us, 10_000_000)


class Ended(TestCase):
    def test_who_stops_it_first_has_done_it_and_now_holds_whoever_says_so(self) -> None:
        rule = stopped("rule", "rows of observers used up")
        away = stopped("generator", "the generator could not reach the database for 60 s", now=True)
        for orders, expected in (
            ((), None),
            ((GENTLY, NOW), NOW),
            ((NOW, GENTLY), NOW),
            ((GENTLY, rule), GENTLY),
            ((rule, NOW), stopped("rule", rule.detail, now=True)),
            ((away,), away),
        ):
            with self.subTest(orders):
                control = Control()
                for each in orders:
                    control.end(each)
                self.assertEqual(control.ending, expected)
                self.assertEqual(control.is_stopped, expected is not None)

    def test_a_generator_that_lost_its_database_is_no_hand(self) -> None:
        made = frozen("rounds:\n" + step("one", GET), hold_s=20)
        away = stopped("generator", "the generator could not reach the database for 60 s", now=True)

        def at_5(control: Control) -> None:
            asyncio.get_running_loop().call_later(5, control.end, away)

        words, sink, _ = perform(made, ok, control=at_5)
        self.assertEqual(words, f"stopped: {away.detail}")
        self.assertLess(sink.messages[-1].second, 8)
