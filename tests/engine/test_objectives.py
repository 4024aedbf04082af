"""What objectives are about besides steps, measured in virtual time: spans, captured numbers, what
is open too long.
"""

from unittest import TestCase

from dynamikos.core.frozen import every_series
from dynamikos.core.journeys import parse_journey
from dynamikos.core.objectives import Objective
from dynamikos.core.plans.workloads import Users
from dynamikos.core.reports import Ledger
from dynamikos.core.verdicts import Watching, conclude
from dynamikos.core.verdicts.ending import of_words
from dynamikos.engine.testing import Scripted, answer
from tests.engine.support import perform
from tests.engine.test_workloads import climb, crowd, hold, inputs

JOURNEY = """form: 1
journey: a
name: A
rounds:
  - step: first
    name: First
    think_s: 3
    requests:
      - {request: r, address: "{{ env.base }}/first", captures: [{name: seats, json: $.seats}]}
  - step: last
    name: Last
    requests:
      - {request: r, address: "{{ env.base }}/last"}
      - {request: s, address: "{{ env.base }}/more"}
"""


def run_of(
    server: object, *objectives: Objective, hold_s: float = 20
) -> tuple[Ledger, Watching, object]:
    load = crowd(Users(), climb(2, 0), hold(2, hold_s))
    made = inputs(
        load, journeys=[parse_journey(JOURNEY)], objectives=objectives, measured=(0.0, hold_s)
    )
    ended, sink, _ = perform(made, server)  # type: ignore[arg-type]
    ledger, watching = Ledger(every_series(made)), Watching(made)
    for message in sink.messages:
        ledger.add(message)
        watching.add(message.second, [message])
    outcome = conclude(
        made,
        ledger,
        ledger,
        ending=of_words(ended),
        in_flight=0,
        peak_users=2,
        marks=watching.marks,
    )
    return ledger, watching, outcome


class Measured(TestCase):
    def test_a_span_leaves_think_times_out_and_a_number_has_its_own_unit(self) -> None:
        def server(data: bytes) -> Scripted:
            return Scripted(answer(b'{"seats": 12.5}'), 0.5)

        span = Objective(objective="s", measure="mean", limit=2000, step="first", until="last")
        seats = Objective(objective="n", measure="mean", limit=10, number="seats", at_least=True)
        ledger, _, outcome = run_of(server, span, seats)
        found = ledger.all_of("span", "first", request="last")
        self.assertGreaterEqual(found.passed.n, 6)
        self.assertAlmostEqual((found.moments.mean_us or 0) / 1e6, 1.5, delta=0.01)
        judged = outcome.judgements  # type: ignore[attr-defined]
        self.assertEqual([each.word for each in judged], ["met", "met"])
        self.assertAlmostEqual(judged[1].value, 12.5, delta=0.01)
        self.assertEqual(judged[1].unit, "")

    def test_a_span_whose_end_fails_fails_and_a_text_is_no_number(self) -> None:
        def server(data: bytes) -> Scripted:
            return Scripted(
                answer(b"", status=500) if b"/last" in data else answer(b'{"seats": "many"}'), 0.1
            )

        span = Objective(objective="s", measure="failure-rate", limit=1, step="first", until="last")
        seats = Objective(objective="n", measure="mean", limit=10, number="seats")
        ledger, _, _ = run_of(server, span, seats)
        found = ledger.all_of("span", "first", request="last")
        self.assertEqual((found.passed.n, set(found.failed)), (0, {"status-500"}))
        self.assertEqual(set(ledger.all_of("number").failed), {"no number"})

    def test_a_stalled_server_misses_although_nothing_ends(self) -> None:
        def server(data: bytes) -> Scripted:
            return Scripted(answer(b'{"seats": 1}'), 500.0)

        each = Objective(
            objective="o", measure="p95", limit=1000, every_s=5, then="stop now", in_a_row=2
        )
        _, watching, outcome = run_of(server, each)
        self.assertEqual([mark.word for mark in watching.marks[0]], ["missed"] * 4)
        self.assertEqual(outcome.judgements[0].word, "missed")  # type: ignore[attr-defined]
