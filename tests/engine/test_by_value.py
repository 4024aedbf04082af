"""Failures by the values that were dealt: each is counted, by its request and by every column that
is no secret.
"""

from collections.abc import Sequence
from unittest import TestCase

from dynamikos.core.analysis.findings import findings
from dynamikos.core.analysis.gathering import evidence_of
from dynamikos.core.dealing import Deal
from dynamikos.core.frozen import DataPile, every_series
from dynamikos.core.reports import Ledger, decode, encode
from dynamikos.core.reports.by_value import (
    MOST_VALUES,
    ByValue,
    OfMany,
    OfValue,
    between,
    counted,
    failing,
    is_kept,
    packed,
    unpacked,
)
from dynamikos.core.verdicts import as_json, conclude
from dynamikos.core.verdicts.ending import FINISHED
from dynamikos.engine.testing import Scripted, answer
from dynamikos.engine.users.by_value import LOOKED_AT, MOST_KEPT, Tally
from dynamikos.engine.users.dealing import specs_of
from tests.engine.support import frozen, perform

JOURNEY = """
rounds:
  - step: g
    name: G
    think_s: 1
    requests: [{request: find, address: "{{ env.base }}/find/{{ observers.email }}"},
        {request: other, address: "{{ env.base }}/other"}]
"""
FEW = [[f"e{at}", f"hidden{at}"] for at in range(6)]
MANY = [[f"e{at}", "x"] for at in range(MOST_VALUES + 1)]


def performed(rows: list[list[str]], fails: str):  # type: ignore[no-untyped-def]
    """(frozen, messages, requests as they were sent) of four users; what has `fails` in its path
    fails.
    """
    made = frozen(JOURNEY, users=4, hold_s=34, rows=rows, deal=Deal())

    def serve(data: bytes) -> Scripted:
        wrong = fails.encode() in data.split(b"\r\n", 1)[0]
        return Scripted(answer(b"", "500 Internal Server Error" if wrong else "200 OK"), 0.01)

    _, sink, network = perform(made, serve, rows=rows)
    paths = [each.split(b" ")[1].decode() for each in network.requests]
    return made, [decode(encode(each)) for each in sink.messages], paths


class Counted(TestCase):
    def test_each_failure_by_its_value_and_nothing_of_a_secret(self) -> None:
        made, messages, paths = performed(FEW, "/find/e3 ")
        series = {each.no: each for each in every_series(made)}
        whole = Ledger(series.values())
        for message in messages:
            whole.add(message, totals=False)
        found = failing(whole.by_value.values(), series)
        self.assertEqual(
            [(each.asked[2], each.name, each.value) for each in found],
            [("find", "observers.email", "e3")],
        )
        sent = [path.removeprefix("/find/") for path in paths if path.startswith("/find/")]
        self.assertEqual((found[0].failed, found[0].of), (sent.count("e3"), sent.count("e3")))
        self.assertEqual((found[0].dealt, found[0].dealt_in_all), (sent.count("e3"), len(sent)))
        self.assertGreater(sent.count("e3"), 5)
        self.assertNotIn(b"hidden", b"".join(map(encode, messages)))
        self.assertEqual(
            [m.second % 10 for m in messages if m.by_value is not None and not m.last], [9, 9, 9]
        )

        told = {each.rule: each for each in findings(evidence_of(made, messages))}[
            "failures-by-value"
        ]
        self.assertIn("find fails where observers.email is “e3”", told.sentence)
        self.assertIn(
            f"{sent.count('e3')} times of {sent.count('e3')} that it was dealt", told.sentence
        )
        window = Ledger(series.values())
        exported = as_json(
            made, conclude(made, window, whole, ending=FINISHED, in_flight=0, peak_users=4)
        )
        self.assertIn(b'"value": "e3"', exported)
        self.assertEqual(
            failing([unpacked(packed(each)) for each in whole.by_value.values()], series), found
        )

    def test_where_everything_fails_it_is_not_the_value(self) -> None:
        made, messages, _ = performed(FEW, "/find/")
        self.assertNotIn(
            "failures-by-value", {each.rule for each in findings(evidence_of(made, messages))}
        )

    def test_nothing_is_told_where_nothing_fails(self) -> None:
        _, messages, _ = performed(FEW, "/nowhere")
        self.assertEqual([each.by_value for each in messages if each.by_value is not None], [])

    def test_of_a_column_with_too_many_values_only_how_many(self) -> None:
        made, messages, paths = performed(MANY, "/find/e1")
        series = {each.no: each for each in every_series(made)}
        newest = [each.by_value for each in messages if each.by_value is not None][-1]
        wrong = [path for path in paths if path.startswith("/find/e1")]
        found = failing([newest, newest], series)
        self.assertEqual(
            [(each.value, each.of, each.values, each.failed) for each in found if each.values],
            [("", 2 * len(wrong), 2 * len(set(wrong)), 1)],
        )
        self.assertEqual({each.value for each in newest.values}, set())


class Parts(TestCase):
    """Between two tellings of a shard."""

    def test_a_column_that_has_become_one_of_many_meanwhile(self) -> None:
        before = ByValue(values=[OfValue(name="t.a", value="x", dealt=9, failed={4: 3})])
        now = ByValue(many=[OfMany(name="t.a", series=4, failed=10, values=5, most=6)])
        told = between([(before, now)], is_from_begin=False)[0]
        self.assertEqual([(each.failed, each.values, each.most) for each in told.many], [(7, 0, 0)])
        self.assertEqual(between([(None, now)], is_from_begin=True), [now])

    def test_where_one_shard_told_nothing_before_it_is_not_known_how_often_values_were_dealt(
        self,
    ) -> None:
        before = ByValue(values=[OfValue(name="t.a", value="x", dealt=9, failed={4: 3})])
        now = ByValue(values=[OfValue(name="t.a", value="x", dealt=20, failed={4: 5})])
        self.assertEqual(
            [
                each.values[0].dealt
                for each in between([(before, now), (None, now)], is_from_begin=False)
            ],
            [0, 0],
        )
        self.assertEqual(
            [each.values[0].dealt for each in between([(before, now)], is_from_begin=False)], [11]
        )

    def test_what_is_counted_has_the_window_in_it_and_ends_where_something_was_kept(self) -> None:
        for begin, end in ((0, 1), (7, 93), (60, 600), (598, 601), (601, 7000), (3600, 3660)):
            low, high = counted(begin, end, 9999)
            self.assertTrue(low <= begin < end <= high)
            self.assertTrue(low == 0 or is_kept(low - 1, is_last=False))
            self.assertTrue(is_kept(high - 1, is_last=False))
        self.assertEqual(counted(0, 90, 33), (0, 33))


class Large(TestCase):
    """What counting takes does not grow with the tables."""

    def tally(self, rows: Sequence[Sequence[str]], *secret: str) -> Tally:
        pile = DataPile(key="t", columns=("a", "b"), secret=secret, rows=len(rows))
        return Tally(specs_of([pile], {"t": rows}, None, alone=True), [pile])

    def test_of_a_large_table_only_the_first_rows_are_looked_at(self) -> None:
        class Counted(Sequence[list[str]]):
            asked = 0

            def __len__(self) -> int:
                return 1_000_000

            def __getitem__(self, at: int) -> list[str]:  # type: ignore[override]
                Counted.asked += 1
                return [f"id{at}", "same"]

        found = self.tally(Counted())
        self.assertEqual(Counted.asked, LOOKED_AT)
        found.dealt(0, 999_999)
        found.failed(4, {0: 999_999})
        told = found.counted()
        assert told is not None
        self.assertEqual([(each.name, each.value, each.dealt, each.failed) for each in told.values],
                         [("t.b", "same", 1, {4: 1})])  # fmt: skip
        self.assertEqual(
            [(each.name, each.failed, each.values, each.most) for each in told.many],
            [("t.a", 1, 1, 1)],
        )

    def test_a_column_that_turns_out_to_have_many_values_tells_them_no_more(self) -> None:
        late = [["x", "y"]] * LOOKED_AT + [[f"n{at}", "y"] for at in range(MOST_VALUES + 5)]
        found = self.tally(late)
        found.dealt(0, LOOKED_AT)
        for _ in range(3):
            found.failed(4, {0: LOOKED_AT})
        self.assertIn("n0", {each.value for each in (found.counted() or ByValue()).values})
        for row in range(LOOKED_AT, len(late)):
            found.dealt(0, row)
        found.failed(4, {0: LOOKED_AT + 7})
        told = found.counted()
        assert told is not None
        self.assertEqual({each.value for each in told.values}, {"y"})
        self.assertEqual(
            [(each.name, each.failed, each.values, each.most) for each in told.many],
            [("t.a", 4, 2, 3)],
        )

    def test_failing_values_are_told_apart_up_to_a_bound_and_all_are_counted(self) -> None:
        found = self.tally([[f"n{at}", "y"] for at in range(MOST_KEPT + 50)], "b")
        for row in range(MOST_KEPT + 50):
            found.failed(4, {0: row})
        told = found.counted()
        assert told is not None
        self.assertEqual(
            [(each.failed, each.values) for each in told.many], [(MOST_KEPT + 50, MOST_KEPT)]
        )
        self.assertEqual(told.values, [])
