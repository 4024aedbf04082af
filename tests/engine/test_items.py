"""What a journey does besides requests, in virtual time: values, repeating, choosing, calling,
writing back.
"""

import itertools
import re
import time
from unittest import TestCase

from dynamikos.core.frozen import checks_of
from dynamikos.engine.failures import Failure
from dynamikos.engine.ports import Waited
from dynamikos.engine.testing import Scripted, answer
from tests.engine.support import frozen, ok, perform, totals

BASE = '"{{ env.base }}'


class Sums:
    """Stands in for the project's Python functions."""

    def __init__(self) -> None:
        self.calls: list[tuple[str, dict[str, str]]] = []

    async def call(self, function: str, given: dict[str, str], waited: Waited | None = None) -> str:
        self.calls.append((function, given))
        if function == "sums.broken":
            raise Failure("function", "sums.py, line 3: ZeroDivisionError")
        return str(int(given["a"]) + 1)


def asked(network) -> list[str]:  # type: ignore[no-untyped-def]
    return [re.match(rb"\S+ (\S+)", data).group(1).decode() for data in network.requests]  # type: ignore[union-attr]


def run(rounds: str, server=ok, *, users: int = 1, hold_s: float = 1.5, **more):  # type: ignore[no-untyped-def]
    made = frozen(
        "rounds:\n" + rounds,
        users=users,
        hold_s=hold_s,
        **{key: more.pop(key) for key in ("rows", "deal") if key in more},
    )
    ended, sink, network = perform(made, server, **more)
    return made, ended, sink, network, totals(made, sink)


def named(ledger, name: str):  # type: ignore[no-untyped-def]
    return next(ledger.totals[each.no] for each in ledger.series if each.name == name)


class Values(TestCase):
    def test_set_call_and_write(self) -> None:
        functions = Sums()
        _, _, sink, network, _ = run(
            """
  - {step: s, name: S, set: [[day, "{{ round.number | pad(2) }}"], [more, "{{ day + 1 }}"]]}
  - {step: c, name: C, call: {function: sums.next, with: [[a, "{{ more }}"]], into: n}}
  - {step: k, name: K, keep: {into: bookings, row: [[day, "{{ day }}"], [n, "{{ n }}"]]}}
  - {step: g, name: G, think_s: 1, requests: [{request: r, address: "{{ env.base }}/{{ day }}/{{ more }}/{{ n }}"}]}
""",  # noqa: E501
            functions=functions,
        )
        self.assertEqual(asked(network)[:2], ["/01/2/3", "/02/3/4"])
        self.assertEqual(functions.calls[0], ("sums.next", {"a": "2"}))
        self.assertEqual(sink.written[0], ("bookings", {"day": "01", "n": "3"}))

    def test_what_fails_is_a_failure_of_its_own_with_words(self) -> None:
        for item, kind, words in (
            ('set: [[x, "{{ nothing }}"]]', "value-missing", "nothing has no value here"),
            ('set: [[x, "{{ round.number / 0 }}"]]', "value-missing", "division by nought"),
            ("pause: soon", "value-missing", "no number of seconds"),
            ("call: {function: sums.broken}", "function", "line 3"),
            ('repeat: {times: "x"}', "value-missing", "no number of times"),
            ('repeat: {times: "2000"}', "value-missing", "more than the 1,000"),
            ('each: {name: i, in: "no list"}', "value-missing", "not JSON"),
        ):
            with self.subTest(item):
                _made, _, sink, network, ledger = run(
                    f"  - {{step: s, name: S, {item}}}\n"
                    "  - {step: g, name: G, requests: [{request: r, address: '{{ env.base "
                    "}}/'}]}\n",
                    functions=Sums(),
                    hold_s=0.02,
                )
                self.assertEqual(network.requests, [])
                failed = ledger.all_of("item").failed or ledger.all_of("step").failed
                self.assertEqual(set(failed), {kind})
                self.assertIn(words, sink.kept[0].error)
                self.assertGreater(named(ledger, "Round").failures, 0)

    def test_an_endless_regex_is_cut_off(self) -> None:
        rounds = """
  - step: g
    name: G
    think_s: 1
    requests: [{request: r, address: "{{ env.base }}/", captures: [{name: x, regex: {pattern: "(a+)+$"}}]}]
"""  # noqa: E501
        begun = time.monotonic()
        _, _, sink, _, ledger = run(rounds, lambda data: Scripted(answer(b"a" * 60 + b"!"), 0.1))
        self.assertEqual(set(ledger.all_of("request").failed), {"over-budget"})
        self.assertIn("longer than 200 ms", sink.kept[0].actual)
        self.assertLess(time.monotonic() - begun, 15)


class Repeating(TestCase):
    MAIL = """
  - step: mail
    name: Wait for the mail
    repeat: {until: "{{ code }}", every_s: 1, limit_s: 5}
    steps: [{step: look, name: Look, requests: [{request: r, address: "{{ env.base }}/postbox", captures: [
        {name: code, regex: {pattern: "code ([0-9]+)"}, otherwise: ""}]}]}]
  - {step: enter, name: Enter, think_s: 100, requests: [{request: r, address: "{{ env.base }}/{{ code }}"}]}
"""  # noqa: E501

    def test_until_something_arrives(self) -> None:
        times = itertools.count(1)
        _, _, _, network, ledger = run(
            self.MAIL,
            lambda data: Scripted(
                answer(b"code 77" if b"postbox" in data and next(times) == 3 else b"none yet"), 0.1
            ),
            hold_s=4,
        )
        self.assertEqual(asked(network)[:4], ["/postbox"] * 3 + ["/77"])
        mail = named(ledger, "Wait for the mail")
        self.assertEqual((mail.passed.n, mail.tries, mail.failures), (1, 3, 0))
        # two waits of a second from try to try, and the third answer
        self.assertAlmostEqual(mail.moments.mean_us / 1e6, 2.1, places=3)

    def test_what_never_comes_is_a_failure_after_the_limit(self) -> None:
        _, _, sink, network, ledger = run(self.MAIL, hold_s=5.9)
        mail = named(ledger, "Wait for the mail")
        self.assertEqual(mail.failed, {"repeat-limit": 1})
        self.assertEqual(set(asked(network)), {"/postbox"})
        self.assertTrue(any("not so after 5 tries" in kept.error for kept in sink.kept))

    def test_times_that_are_not_done_within_their_limit_are_a_failure(self) -> None:
        _, _, sink, network, ledger = run(
            """
  - {step: r, name: R, repeat: {times: "10", every_s: 1, limit_s: 2.5, then: step}, steps: [{step: a, name: A,
      requests: [{request: r, address: "{{ env.base }}/"}]}]}
  - {step: g, name: G, think_s: 60, requests: [{request: g, address: "{{ env.base }}/after"}]}
""",  # noqa: E501
            hold_s=20,
        )
        self.assertEqual(asked(network), ["/", "/", "/", "/after"])
        self.assertEqual(ledger.all_of("repeat").failed, {"repeat-limit": 1})
        self.assertIn(
            "10 times: not so after 3 tries",
            next(each.error for each in sink.kept if "times" in each.error),
        )

    def test_times_while_and_nothing_to_do(self) -> None:
        one = "steps: [{step: a, name: A, requests: [{request: r, address: '{{ env.base }}/a'}]}]"
        two = "steps: [{step: b, name: B, set: [[n, '{{ n + 1 }}']]}, "
        two += "{step: c, name: C, requests: [{request: r, address: '{{ env.base }}/{{ n }}'}]}]"
        rounds = f"""
  - {{step: r1, name: R1, repeat: {{times: "{{{{ 1 + 2 }}}}"}}, {one}}}
  - {{step: n, name: N, set: [[n, "0"]]}}
  - {{step: r2, name: R2, repeat: {{while: "{{{{ n < 2 }}}}"}}, {two}}}
  - {{step: r3, name: R3, repeat: {{times: "100000", at_most: 100000}}, steps: [{{step: d, name: D, set: [[m, "1"]]}}]}}
  - {{step: think, name: Think, think_s: 100, requests: [{{request: r, address: "{{{{ env.base }}}}/end"}}]}}
"""  # noqa: E501
        _, _, _, network, ledger = run(rounds)
        self.assertEqual(asked(network), ["/a", "/a", "/a", "/1", "/2", "/end"])
        self.assertEqual((named(ledger, "R2").tries, named(ledger, "R3").tries), (2, 100_000))

    def test_leaving_ends_it(self) -> None:
        rounds = """
  - {step: r, name: R, repeat: {until: "{{ 0 }}", every_s: 1, limit_s: 80000}, steps: [{step: a, name: A, requests: [
      {request: r, address: "{{ env.base }}/"}]}]}
"""  # noqa: E501
        _, ended, _, _, ledger = run(rounds, hold_s=3)
        self.assertEqual(ended, "finished")
        self.assertEqual(named(ledger, "R").failures, 0)


class Choosing(TestCase):
    def test_if_else(self) -> None:
        rounds = """
  - step: i
    name: I
    branches:
      - {when: "{{ round.number == 2 }}", steps: [{step: a, name: A, requests: [
          {request: r, address: "{{ env.base }}/two"}]}]}
      - {when: "{{ round.number > 2 }}", steps: [{step: b, name: B, requests: [
          {request: r, address: "{{ env.base }}/more"}]}]}
      - {steps: [{step: c, name: C, think_s: 0.1, requests: [{request: r, address: "{{ env.base }}/one"}]}]}
"""  # noqa: E501
        _, _, _, network, _ = run(rounds, hold_s=0.55)
        self.assertEqual(asked(network)[:4], ["/one", "/two", "/more", "/more"])

    def test_weights_at_random_and_evenly(self) -> None:
        rounds = """
  - step: c
    name: C
    choose: %s
    branches:
      - {weight: 3, steps: [{step: a, name: A, requests: [{request: r, address: "{{ env.base }}/a"}]}]}
      - {weight: 1, steps: [{step: b, name: B, requests: [{request: r, address: "{{ env.base }}/b"}]}]}
      - {weight: 0, steps: [{step: d, name: D, requests: [{request: r, address: "{{ env.base }}/d"}]}]}
"""  # noqa: E501
        evenly = asked(run(rounds % "evenly", users=4, hold_s=10)[3])
        self.assertEqual((evenly[:8].count("/a"), evenly[:8].count("/b")), (6, 2))
        at_random = asked(run(rounds % "at random", users=40, hold_s=10)[3])
        share = at_random.count("/a") / len(at_random)
        self.assertGreater(len(at_random), 3_500)
        self.assertTrue(0.72 < share < 0.78, share)  # 0.75 ± 4 standard deviations of 4,000 draws
        self.assertEqual(at_random.count("/d"), 0)
        self.assertEqual(at_random, asked(run(rounds % "at random", users=40, hold_s=10)[3]))

    def test_for_each_of_what_was_captured(self) -> None:
        rounds = """
  - {step: l, name: L, requests: [{request: r, address: "{{ env.base }}/list", captures: [
      {name: ids, json: "$.ids[*]", pick: all}]}]}
  - {step: e, name: E, think_s: 100, each: {name: id, in: "{{ ids }}", at_most: 2}, steps: [{step: o, name: O,
      requests: [{request: r, address: "{{ env.base }}/{{ id }}"}]}]}
"""  # noqa: E501
        _, _, _, network, _ = run(
            rounds, lambda data: Scripted(answer(b'{"ids": [7, "x", 9]}'), 0.1)
        )
        self.assertEqual(asked(network), ["/list", "/7", "/x"])

    def test_a_failed_step_inside_skips_the_rest(self) -> None:
        rounds = """
  - {step: r, name: R, repeat: {times: "3"}, steps: [{step: a, name: A, requests: [
      {request: r, address: "{{ env.base }}/", checks: [{status: 201, then: %s}]}]}]}
  - {step: z, name: Z, think_s: 100, requests: [{request: r, address: "{{ env.base }}/z"}]}
"""
        self.assertNotIn("/z", asked(run(rounds % "round", hold_s=0.25)[3]))
        self.assertIn("/z", asked(run(rounds % "step")[3]))


class AtOnce(TestCase):
    def test_requests_go_out_together_and_the_step_ends_with_the_last(self) -> None:
        rounds = """
  - step: p
    name: P
    think_s: 100
    at_once: true
    requests: [{request: a, address: "{{ env.base }}/a"}, {request: b, address: "{{ env.base }}/b", checks: [
        {status: 201, then: step}]}, {request: c, address: "{{ env.base }}/c"}]
"""  # noqa: E501
        made, _, sink, network, ledger = run(
            rounds, lambda data: Scripted(answer(b"x"), 0.3 if b"/b" in data else 0.1)
        )
        self.assertEqual(asked(network), ["/a", "/b", "/c"])
        step = named(ledger, "P")
        self.assertEqual(step.failed, {"status-200": 1})
        missed = {no: count for message in sink.messages for no, count in message.missed.items()}
        self.assertEqual(
            [
                (place.step, place.request)
                for place in checks_of(made.journey)
                if place.no in missed
            ],
            [("p", "b")],
        )
        self.assertEqual(sum(message.judged.get(0, 0) for message in sink.messages), 1)

    def test_the_worst_consequence_counts(self) -> None:
        rounds = """
  - step: p
    name: P
    at_once: true
    requests: [{request: a, address: "{{ env.base }}/a", checks: [{status: 201, then: step}]},
        {request: b, address: "{{ env.base }}/b"}]
  - {step: z, name: Z, think_s: 100, requests: [{request: r, address: "{{ env.base }}/z"}]}
"""
        for status, goes_on in (("200 OK", True), ("500 Broken", False)):

            def server(data: bytes, status: str = status) -> Scripted:
                return Scripted(
                    answer(b"x", status if b"/b" in data else "200 OK"),
                    0.3 if b"/b" in data else 0.1,
                )

            _, _, _, network, _ = run(rounds, server, hold_s=0.5)
            self.assertEqual("/z" in asked(network), goes_on, status)
