"""Everything that decides a verdict: at its limit, one step beside it, with nothing, with one."""

from dataclasses import replace as replace_
from itertools import product
from typing import Any, cast
from unittest import TestCase

import numpy as np

from dynamikos.core.comparison.compare import Comparison, Difference, _judged
from dynamikos.core.comparison.side import Wanted
from dynamikos.core.dealing import Deal
from dynamikos.core.dealing.deal import drawing, used_up_s
from dynamikos.core.frozen import every_series
from dynamikos.core.objectives import Judgement, Mark, Word, by_interval, mark, worst_first
from dynamikos.core.objectives.judge import word_of
from dynamikos.core.profiles import Stretch, share_of
from dynamikos.core.profiles.changing import HELD_S, Change, changed, delayed
from dynamikos.core.profiles.profile import segments
from dynamikos.core.reports import Ledger, Row
from dynamikos.core.statistics import Histogram, bucket_of
from dynamikos.core.statistics.histogram import LAST, LIMIT_US, bucket_mid_us
from dynamikos.core.statistics.intervals import mean_of
from dynamikos.core.statistics.intervals import share_of as share_of_hits
from dynamikos.core.verdicts.changes import changes_in
from dynamikos.core.verdicts.ending import Ending
from dynamikos.core.verdicts.outcome import Outcome, rows_of
from dynamikos.core.verdicts.sides import side_by_side
from dynamikos.core.verdicts.states import MET, MISSED, NOT_JUDGED, STOPPED, code_of
from tests.core.test_objectives import found, objective
from tests.core.test_verdicts import outcome as performed


def marked(*words: Word, seconds: int = 5) -> list[Mark]:
    return [
        Mark(from_s=seconds * at, to_s=seconds * (at + 1), word=word, value=120.0)
        for at, word in enumerate(words)
    ]


class OneInterval(TestCase):
    def word(
        self, measure: str, limit: float, *seconds: float, older: int = 0, **more: object
    ) -> str:
        at_least = bool(more.pop("at_least", False))
        asked = objective(measure, limit, at_least=at_least, every_s=5)
        return mark(asked, 0, 5, found(*seconds, **more), older, whole=True).word

    def test_each_measure_at_its_limit_and_beside_it(self) -> None:
        fifty = {"failed": 1}, {"checks": 2, "checks_passed": 1}, {"left": 1}
        cases = (
            ("failure-rate", 50.0, (0.1,), fifty[0], "met"),
            ("failure-rate", 49.9, (0.1,), fifty[0], "missed"),
            ("left", 50.0, (0.1,), fifty[2], "met"),
            ("left", 49.9, (0.1,), fifty[2], "missed"),
            ("throughput", 0.2, (0.1,), {"seconds": 5.0}, "met"),
            ("throughput", 0.19, (0.1,), {"seconds": 5.0}, "missed"),
            ("mean", 1.5, (0.001, 0.002), {}, "met"),
            ("mean", 1.499, (0.001, 0.002), {}, "missed"),
            ("max", 2.0, (0.001, 0.002), {}, "met"),
            ("max", 1.999, (0.001, 0.002), {}, "missed"),
        )
        for measure, limit, seconds, more, word in cases:
            with self.subTest(measure, limit=limit):
                self.assertEqual(self.word(measure, limit, *seconds, **more), word)
        lower = (
            ("checks", 50.0, fifty[1], "met"), ("checks", 50.1, fifty[1], "missed"),
            ("throughput", 0.2, {"seconds": 5.0}, "met"),
            ("throughput", 0.21, {"seconds": 5.0}, "missed"),
            ("mean", 1.0, {}, "met"), ("mean", 1.001, {}, "missed"),
        )  # fmt: skip
        for measure, limit, more, word in lower:
            with self.subTest(measure, limit=limit, at_least=True):
                self.assertEqual(self.word(measure, limit, 0.001, at_least=True, **more), word)

    def test_a_percentile_allows_just_so_many_over(self) -> None:
        slow, quick = 0.002, 0.001
        cases = (  # percent, within, over, word
            ("p50", 1, 1, "met"), ("p50", 1, 2, "missed"), ("p95", 19, 1, "met"),
            ("p95", 18, 1, "missed"), ("p95", 38, 2, "met"), ("p95", 37, 2, "missed"),
            ("p99.9", 999, 1, "met"), ("p99.9", 998, 1, "missed"), ("p95", 1, 0, "met"),
            ("p95", 0, 1, "missed"),
        )  # fmt: skip
        for percent, within, over, word in cases:
            with self.subTest(percent, within=within, over=over):
                seconds = [quick] * within + [slow] * over
                self.assertEqual(self.word(percent, 1.5, *seconds), word)
                self.assertEqual(self.word(percent, 2.0, *seconds), "met")

    def test_what_is_still_open_and_old_counts_as_over(self) -> None:
        for older, word in ((0, "met"), (1, "met"), (2, "missed")):
            self.assertEqual(self.word("p95", 1.5, *[0.001] * 19, older=older), word, older)
        self.assertEqual(self.word("max", 5.0, 0.001, older=1), "missed")
        self.assertEqual(self.word("p95", 5.0, older=1), "missed")
        self.assertEqual(self.word("p95", 5.0, older=0), "not judged")

    def test_more_than_half_failed_is_missed_whatever_the_rest_took(self) -> None:
        for failed, word in ((1, "met"), (2, "missed")):
            self.assertEqual(self.word("p50", 5.0, 0.001, failed=failed), word, failed)

    def test_without_a_shard_or_without_anything_it_is_not_judged_and_has_no_value(self) -> None:
        asked = objective("mean", 1, every_s=5)
        for given, whole in ((found(0.1), False), (found(), True)):
            made = mark(asked, 0, 5, given, 0, whole=whole)
            self.assertEqual((made.word, made.value, made.at_least), ("not judged", None, False))


class ManyIntervals(TestCase):
    def word(self, *words: Word, **more: object) -> str:
        return by_interval(
            objective("p95", 100, every_s=5, **more), Judgement(), marked(*words)
        ).word

    def test_so_many_may_be_missed_and_no_more(self) -> None:
        self.assertEqual(self.word("missed", *["met"] * 9, missed_allowed=10), "met")
        self.assertEqual(self.word("missed", *["met"] * 8, missed_allowed=10), "missed")
        self.assertEqual(self.word(*["met"] * 10), "met")
        self.assertEqual(self.word("missed", *["met"] * 99), "missed")

    def test_half_of_them_have_to_be_judged(self) -> None:
        self.assertEqual(self.word("met", "not judged"), "met")
        self.assertEqual(self.word("met", "not judged", "not judged"), "not judged")
        self.assertEqual(self.word(), "not judged")

    def test_by_how_much_is_that_of_those_missed_alone(self) -> None:
        asked = objective("p95", 100, every_s=5)
        made = by_interval(asked, Judgement(), marked("missed", "met", "missed"))
        self.assertAlmostEqual(made.excess or 0, 0.2)
        self.assertAlmostEqual(made.missed_percent or 0, 200 / 3)
        upside = by_interval(objective("p95", 150, every_s=5, at_least=True), Judgement(),
                             marked("missed", "met"))  # fmt: skip
        self.assertAlmostEqual(upside.excess or 0, 0.2)
        self.assertIsNone(by_interval(asked, Judgement(), marked("met")).excess)


class Words(TestCase):
    def test_close_is_within_a_tenth_of_the_limit(self) -> None:
        cases = (
            (False, 90.0, "met"), (False, 90.1, "close"), (False, 100.0, "close"),
            (False, 100.1, "missed"), (True, 110.1, "met"), (True, 109.9, "close"),
            (True, 100.0, "close"), (True, 99.9, "missed"),
        )  # fmt: skip
        for at_least, value, word in cases:
            asked = objective("mean", 100, at_least=at_least)
            self.assertEqual(word_of(asked, value, value), word, (at_least, value))
        self.assertEqual(word_of(objective("failure-rate", 0), 0.0, 0.0), "met")
        self.assertEqual(word_of(objective("failure-rate", 0), 0.1, 0.1), "missed")

    def test_the_exit_code_of_each_word_as_the_plan_says(self) -> None:
        by = {"measured": (MET, MISSED), "pass": (MET, MET), "fail": (MISSED, MISSED),
              "inconclusive": (NOT_JUDGED, NOT_JUDGED)}  # fmt: skip
        fixed = {"met": MET, "close": MET, "missed": MISSED, "not judged": NOT_JUDGED}
        for word, undecided, side in product((*fixed, "not decided"), by, ("within", "over")):
            judgement = Judgement(word=word, side=side)  # type: ignore[arg-type]
            code = fixed.get(word, by[undecided][side == "over"])
            with self.subTest(word, undecided=undecided, side=side):
                args = ([judgement], undecided)
                self.assertEqual(code_of(*args, is_turned=False), code)  # type: ignore[arg-type]
                turned = MISSED if code == MISSED else NOT_JUDGED
                self.assertEqual(code_of(*args, is_turned=True), turned)  # type: ignore[arg-type]
        noted = Judgement(word="missed", then="note")
        self.assertEqual(code_of([noted], "measured", is_turned=False), MET)
        self.assertEqual(code_of([], "measured", is_turned=False), MET)
        several = [Judgement(word="not judged"), Judgement(word="missed"), Judgement(word="met")]
        self.assertEqual(code_of(several, "measured", is_turned=False), MISSED)

    def test_the_worst_stands_first_the_longest_over_before_the_farthest(self) -> None:
        long = Judgement(objective="long", word="missed", value=101, limit=100,
                         marks=tuple(marked("missed", "missed")))  # fmt: skip
        far = Judgement(objective="far", word="missed", value=900, limit=100)
        near = Judgement(objective="near", word="missed", value=110, limit=100)
        noted = Judgement(objective="noted", word="missed", value=900, limit=100, then="note")
        rest = [Judgement(objective=word, word=word)
                for word in ("met", "close", "not decided", "not judged")]  # type: ignore[arg-type]  # fmt: skip
        order = [each.objective for each in worst_first([*rest, noted, near, far, long])]
        self.assertEqual(order, ["long", "far", "near", "noted", "not judged", "not decided",
                                 "close", "met"])  # fmt: skip


class Sentences(TestCase):
    """What a run's verdict says, of each combination of words."""

    def said(self, *judgements: Judgement, code: int, **more: object) -> str:
        return Outcome(judgements=list(judgements), exit_code=code, **more).sentence  # type: ignore[arg-type]

    def one(self, word: str, name: str = "p95 ≤ 1 ms", **more: object) -> Judgement:
        return Judgement(sentence=name, word=word, **more)  # type: ignore[arg-type]

    def test_each(self) -> None:
        met, missed = self.one("met"), self.one("missed", "mean ≤ 2 ms")
        within, over = self.one("not decided", side="within"), self.one("not decided", side="over")
        cases = (
            ("The objective is met.", (met,), MET, {}),
            ("All 2 objectives met.", (met, self.one("close")), MET, {}),
            ("1 of 2 objectives missed: mean ≤ 2 ms.", (met, missed), MISSED, {}),
            (
                "1 of 1 objectives missed: mean ≤ 2 ms. At a lower load than planned.",
                (missed,), MISSED, {"load_share": 0.9799},
            ),
            (
                "1 of 1 objectives missed: mean ≤ 2 ms. It stopped the run at second 7.",
                (missed,), MISSED, {"stopped_by": "x", "stopped_s": 7, "load_share": 0.98},
            ),
            ("Not decided, and counted as missed: p95 ≤ 1 ms.", (over, met), MISSED, {}),
            (
                "1 of 2 objectives met, 1 within its limit, not decided: p95 ≤ 1 ms.",
                (met, within), MET, {},
            ),
            (
                "0 of 2 objectives met, 2 within their limits, not decided: p95 ≤ 1 ms.",
                (within, within), MET, {},
            ),
            (
                "1 of 2 objectives met, 1 on the side that counts as met, not decided: p95 ≤ 1 ms.",
                (met, over), MET, {},
            ),
            (
                "1 of 2 objectives met, and none missed that decides.",
                (met, self.one("missed", then="note")), MET, {},
            ),
            (
                "The run has no objectives, so there is nothing to meet or miss.", (), MET, {},
            ),
            ("Not judged. it is late", (met,), NOT_JUDGED, {"doubts": ["it is late"]}),
            (
                "Not judged. p95 ≤ 1 ms: too few.", (self.one("not judged", reason="too few"),),
                NOT_JUDGED, {},
            ),
            (
                "Not judged: met at a lower load than planned. half came", (met,), NOT_JUDGED,
                {"doubts": ["half came"], "load_share": 0.5},
            ),
            (
                "1 of 1 objectives missed: mean ≤ 2 ms. Doubted: it is late", (missed,), MISSED,
                {"doubts": ["it is late"]},
            ),
            (
                "1 of 2 objectives met, and none missed that decides. Warning: mean ≤ 2 ms.",
                (met, self.one("missed", "mean ≤ 2 ms", then="warn")), MET, {},
            ),
        )  # fmt: skip
        for sentence, judgements, code, more in cases:
            with self.subTest(sentence):
                said = self.said(*judgements, code=code, **more)
                self.assertEqual(said, sentence)

    def test_a_trial_and_one_that_was_stopped_are_not_judged(self) -> None:
        trial = self.said(code=MET, trial=True, rounds_passed=2, rounds_failed=1)
        self.assertTrue(trial.startswith("Trial: 2 rounds passed, 1 failed."))
        self.assertIn("by hand, so it is not judged", self.said(code=STOPPED))


class Numbers(TestCase):
    def test_buckets_at_each_octave_and_at_the_ends(self) -> None:
        cases = {-1: 0, 0: 0, 1: 1, 2047: 2047, 2048: 2048, 2049: 2048, 2050: 2049, 4095: 3071,
                 4096: 3072, 4100: 3073}  # fmt: skip
        self.assertEqual({value: bucket_of(value) for value in cases}, cases)
        self.assertEqual(bucket_of(LIMIT_US * 2), LAST)
        self.assertLess(bucket_of(LIMIT_US // 2), LAST)
        self.assertEqual([bucket_mid_us(index) for index in (0, 2047, 2048, 3072)],
                         [0, 2047, 2049, 4098])  # fmt: skip

    def test_percentiles_of_none_one_and_two(self) -> None:
        self.assertIsNone(Histogram().percentile_us(50))
        self.assertEqual(Histogram.of([7]).percentile_us(0.1), 7)
        two = Histogram.of([5, 9])
        self.assertEqual([two.percentile_us(p) for p in (50, 50.001, 99.9)], [5, 9, 9])
        self.assertEqual((two.over(4), two.over(5), two.over(9)), (2, 1, 0))
        self.assertEqual((two.min_us(), two.max_us(), two.sum_us(), two.n), (5, 9, 14, 2))
        self.assertEqual((Histogram().min_us(), Histogram().max_us()), (None, None))
        self.assertEqual(Histogram.of([LIMIT_US * 2]).overflow, 1)

    def test_shards_have_all_of_it_and_nearly_alike(self) -> None:
        for total, shards in product((0, 1, 2, 7, 100), (1, 2, 3, 7)):
            parts = [share_of(total, shard, shards) for shard in range(shards)]
            self.assertEqual(sum(parts), total, (total, shards))
            self.assertLessEqual(max(parts) - min(parts), 1)
            self.assertEqual(parts, sorted(parts, reverse=True))


class ChangedLoad(TestCase):
    """A climb to 10 in 10 s, then 10 s at 10; levels read off by second."""

    PLANNED = (Stretch(stretch="climb", to=10, seconds=10), Stretch(stretch="hold", seconds=10))

    def levels(self, *changes: Change, starts_s: float = 0.0) -> list[float]:
        """At seconds 0, 5, 10, 15, 20, 25 after the profile begins; none after its end."""
        curve = segments(changed(self.PLANNED, changes, starts_s))
        found = []
        for second in (0, 5, 10, 15, 20, 25):
            over = [
                each for each in curve if each.begin <= second <= each.end and each.end > each.begin
            ]
            if over:
                one = over[-1]
                part = (second - one.begin) / (one.end - one.begin)
                found.append(round(one.low + (one.high - one.low) * part, 6))
        return found

    def test_each_verb(self) -> None:
        hold, go_on = Change(at_s=5, verb="hold"), Change(at_s=10, verb="go on")
        twice = Change(at_s=5, verb="change", factor=2)
        later = Change(at_s=10, verb="change", factor=2)
        cases = (
            ((), [0, 5, 10, 10, 10]),
            ((hold, go_on), [0, 5, 5, 10, 10, 10]),
            ((twice,), [0, 10, 20, 20, 20]),
            ((later,), [0, 5, 20, 20, 20]),
            ((Change(at_s=10, verb="change", factor=0),), [0, 5, 0, 0, 0]),
            ((Change(at_s=99, verb="change", factor=2),), [0, 5, 10, 10, 10]),
        )
        for changes, levels in cases:
            with self.subTest(changes):
                self.assertEqual(self.levels(*changes), levels)

    def test_a_hold_that_nobody_ended_lasts(self) -> None:
        held = segments(changed(self.PLANNED, (Change(at_s=5, verb="hold"),)))
        self.assertEqual((held[1].low, held[1].high, held[1].end), (5.0, 5.0, 5 + HELD_S))
        self.assertEqual(held[-1].end, 20 + HELD_S)
        raised = Change(at_s=7, verb="change", factor=2)
        levels = {each.high for each in segments(changed(self.PLANNED, (
            Change(at_s=5, verb="hold"), raised, Change(at_s=9, verb="go on"))))}  # fmt: skip
        self.assertEqual(levels, {5.0, 10.0, 20.0})

    def test_when_what_was_planned_is(self) -> None:
        hold, go_on = Change(at_s=5, verb="hold"), Change(at_s=8, verb="go on")
        again = Change(at_s=20, verb="hold"), Change(at_s=21, verb="go on")
        cases = (
            (4.0, (), 4.0), (5.0, (hold, go_on), 5.0), (5.5, (hold, go_on), 8.5),
            (17.0, (hold, go_on, *again), 20.0), (17.5, (hold, go_on, *again), 21.5),
            (6.0, (hold,), 6.0 + HELD_S), (5.0, (hold,), 5.0), (9.0, (go_on,), 9.0),
        )  # fmt: skip
        for second, changes, found_at in cases:
            self.assertEqual(delayed(second, changes), found_at, (second, changes))

    def test_a_crowd_that_comes_later_is_changed_by_the_clock_of_the_run(self) -> None:
        begin = changed(self.PLANNED, (Change(at_s=25, verb="change", factor=2),), 20.0)
        self.assertEqual([each.high for each in segments(begin)][-1], 20.0)
        before = changed(
            self.PLANNED, (Change(at_s=5, verb="hold"), Change(at_s=9, verb="go on")), 20
        )
        self.assertEqual(segments(before)[0].high, 0.0)  # it comes so much later
        self.assertEqual(segments(before)[0].end, 4.0)


class Estimates(TestCase):
    def test_an_interval_needs_just_so_many_seconds_samples_and_parts(self) -> None:
        def has_one(parts: int, each: float, sd: float = 0.0, **more: float) -> bool:
            noise = np.resize([0.9, 1.1], parts)
            found = mean_of(each * noise, np.full(parts, each), sd, **more)
            assert found is not None
            self.assertAlmostEqual(found.value, float(noise.mean()))
            return found.low is not None

        self.assertEqual([has_one(n, 10) for n in (29, 30)], [False, True])
        self.assertEqual([has_one(33, n, 0.1) for n in (3, 4)], [False, True])  # 99, 132 samples
        self.assertEqual([has_one(n, 50, seconds=60.0) for n in (3, 4)], [False, True])
        self.assertIsNone(mean_of(np.zeros(30), np.zeros(30)))
        same = mean_of(np.full(30, 2.0), np.full(30, 2.0))
        assert same is not None
        self.assertEqual((same.value, same.low, same.high, same.error), (1.0, 1.0, 1.0, 0.0))

    def test_a_share_of_none_and_of_all_reaches_its_end(self) -> None:
        counts = np.full(30, 10.0)
        none, every = share_of_hits(np.zeros(30), counts), share_of_hits(counts, counts)
        assert none is not None and every is not None
        self.assertEqual((none.value, none.low, every.value, every.high), (0.0, 0.0, 1.0, 1.0))
        self.assertTrue(0 < (none.high or 0) < 0.02 and 0.98 < (every.low or 0) < 1)
        few = share_of_hits(np.zeros(30), np.full(30, 3.3))  # 99 samples
        assert few is not None
        self.assertIsNone(few.low)
        self.assertIsNone(share_of_hits(np.zeros(3), np.zeros(3)))


class SideBySide(TestCase):
    def row(self, p95_ms: float | None, failed: float) -> Row:
        return Row(no=0, level="step", name="s", p95_ms=p95_ms, failure_percent=failed)

    def test_what_differs_most_stands_first_and_what_one_side_lacks_before_all(self) -> None:
        def key(name: str) -> tuple[str, str, str, str]:
            return "step", "j", name, ""

        a = {key("same"): self.row(100, 0), key("twice"): self.row(100, 0),
             key("fails"): self.row(100, 5), key("gone"): self.row(100, 0)}  # fmt: skip
        b = {key("same"): self.row(100, 0), key("twice"): self.row(200, 0),
             key("fails"): self.row(100, 26), key("half"): self.row(None, 0)}  # fmt: skip
        found = side_by_side(a, b)
        self.assertEqual([(e.times_as_long, e.more_failed) for e in found], [
            (None, 0.0), (None, 0.0), (1.0, 21.0), (2.0, 0.0), (1.0, 0.0),
        ])  # fmt: skip
        self.assertEqual([round(each.differs, 6) for each in found][2:], [1.05, 1.0, 0.0])
        self.assertTrue(all(each.differs >= 1000 for each in found[:2]))


class RowsOfACrowd(TestCase):
    def test_users_on_average_are_those_of_all_seconds_by_their_number(self) -> None:
        frozen, _ = performed()
        ledger = Ledger(every_series(frozen))
        ledger.row_seconds[0] = 30
        self.assertEqual([each.users for each in rows_of(frozen, ledger, 10.0)], [3.0])
        self.assertEqual([each.users for each in rows_of(frozen, ledger, 0.0)], [0.0])

    def test_where_it_was_stopped_is_said_of_runs_that_were(self) -> None:
        self.assertEqual(performed()[1].stopped_s, 0)
        stop = Ending(cause="stopped", by="objective", objective="o")
        self.assertEqual(performed(ending=stop)[1].stopped_s, 10)


class Dealt(TestCase):
    """What each user gets in its first rounds, where the rows end."""

    def cells(self, rows: int, users: int, shown: int = 1, **rules: str) -> list[list[str]]:
        deal = Deal(**rules)  # type: ignore[arg-type]
        lines = drawing(deal, "d", 1, rows, users, shown, 4)
        return [[f"{c.first}-{c.last}{c.state[:1]}" for c in line] for line in lines]

    def test_of_ones_own(self) -> None:
        whole = self.cells(2, 1, whose="whole")
        self.assertEqual(whole, [["1-1", "2-2", "1-1a", "2-2a"]])
        slices = self.cells(5, 2, 2, whose="slice")
        self.assertEqual(slices, [["1-1", "2-2", "1-1a", "2-2a"], ["3-3", "4-4", "5-5", "3-3a"]])
        stays = self.cells(2, 1, whose="whole", then="stay")
        self.assertEqual(stays, [["1-1", "2-2", "2-2s", "2-2s"]])
        leaves = self.cells(2, 1, whose="whole", then="leave")
        self.assertEqual(leaves, [["1-1", "2-2", "0-0o", "0-0o"]])
        self.assertEqual(self.cells(0, 1), [["0-0o"] * 4])

    def test_of_one_pile(self) -> None:
        pile = self.cells(5, 2)
        self.assertEqual(pile, [["1-2", "3-4", "5-1a", "2-3a"]])
        once = self.cells(5, 2, then="leave")
        self.assertEqual(once, [["1-2", "3-4", "5-5", "0-0o"]])
        exact = self.cells(4, 2, then="stay")
        self.assertEqual(exact, [["1-2", "3-4", "4-4s", "4-4s"]])
        many = self.cells(2, 3)
        self.assertEqual(many, [["1-2", "1-2a", "1-2a", "1-2a"]])
        users = self.cells(2, 3, 3, when="user", then="leave")
        self.assertEqual([line[0] for line in users], ["1-1", "2-2", "0-0o"])

    def test_when_rows_are_used_up(self) -> None:
        def at(
            rows: int, starts: list[tuple[float, float]], round_s: float, **rules: str
        ) -> object:
            found = used_up_s(Deal(**rules), rows, starts, round_s)  # type: ignore[arg-type]
            return found if found is None else round(found, 3)

        two = [(0.0, 100.0), (10.0, 100.0)]
        self.assertEqual(at(2, two, 10, whose="whole"), 20.0)
        self.assertIsNone(at(10, two, 10, whose="whole"))
        self.assertEqual(at(9, two, 10, whose="whole"), 90.0)
        self.assertEqual(at(2, two, 10, whose="slice"), 10.0)
        self.assertEqual(at(1, two, 10, whose="slice"), 0.0)
        self.assertIsNone(at(2, two, 10, whose="slice", when="user"))
        self.assertIsNone(at(19, two, 10))
        self.assertEqual(at(18, two, 10), 90.0)
        self.assertEqual(at(1, two, 10, when="user"), 10.0)
        self.assertIsNone(at(2, two, 10, when="user"))
        for rules in ({"when": "run"}, {"order": "at random"}, {"follow": "x"}):
            self.assertIsNone(at(1, two, 10, **rules))
        self.assertIsNone(at(1, [], 10))


class Compared(TestCase):
    """What a comparison says, of each combination of words."""

    def said(self, *words: str, word: str, left_out: list[tuple[str, str]] | None = None) -> str:
        differences = [self.difference(n, each) for n, each in enumerate(words)]
        made = Comparison(
            differences=differences,
            others=[],
            word=cast(Any, word),
            sets=False,
            left_out=left_out or [],
            doubts=[],
            only_a=[],
            only_b=[],
            tolerated=0.1,
        )
        return made.sentence

    def difference(self, number: int, word: str) -> Difference:
        wanted = Wanted(("step", "j", f"s{number}", ""), "mean")
        return Difference(wanted, f"S{number}", 1.0, 2.0, word=cast(Any, word))

    def test_each(self) -> None:
        cases = (
            (("worse",), "worse", "Worse: S0 (mean). 10 % would be tolerated."),
            (
                ("worse", "worse", "worse"), "worse",
                "Worse: S0 (mean), S1 (mean), S2 (mean). 10 % would be tolerated.",
            ),
            (
                ("worse", "worse", "worse", "worse", "better"), "worse",
                "Worse: S0 (mean), S1 (mean), S2 (mean) and 1 more. 10 % would be tolerated.",
            ),
            (
                ("inconclusive", "not worse"), "inconclusive",
                "Inconclusive: of 1 of 2 measures these runs can't tell whether they are worse by "
                "more than the 10 % that are tolerated.",
            ),
            (
                ("slower, tolerated", "not worse", "slower, tolerated"), "slower, tolerated",
                "Slower, but within the 10 % that are tolerated: S0, S2.",
            ),
            (
                ("not worse", "better"), "not worse",
                "Not worse by more than the tolerated 10 %, in all 2 measures compared.",
            ),
        )  # fmt: skip
        for words, word, sentence in cases:
            with self.subTest(words):
                self.assertEqual(self.said(*words, word=word), sentence)
        nothing = "Inconclusive: the two sides have no step with figures in common"
        self.assertEqual(self.said(word="inconclusive"), nothing + ".")
        left = self.said(word="inconclusive", left_out=[("run 1", "it is a trial")])
        self.assertEqual(left, nothing + " (run 1: it is a trial).")

    def test_one_measure_by_how_much_it_may_be_worse(self) -> None:
        wanted = Wanted(("step", "j", "s", ""), "mean")
        cases = (  # change, most, whether it is beyond chance, word, with 10 % tolerated
            (0.05, 0.10, True, "slower, tolerated"), (0.05, 0.101, True, "inconclusive"),
            (0.05, 0.10, False, "not worse"), (0.05, 0.2, False, "inconclusive"),
            (0.10, 0.2, True, "inconclusive"), (0.101, 0.2, True, "worse"),
            (0.5, 0.9, False, "inconclusive"), (-0.05, 0.02, True, "better"),
            (-0.05, 0.2, True, "better"), (-0.05, 0.02, False, "not worse"),
        )  # fmt: skip
        for change, most, beyond, word in cases:
            one = Difference(wanted, "S", 1.0, 1.0, change=change, most=most, smallest=0.3)
            found = _judged(one, 0.1, 0.01, is_rejected=beyond, is_within=False)
            with self.subTest(change=change, most=most, beyond=beyond):
                self.assertEqual(found.word, word)
                # (0.3 / 0.1)² runs a side would find a change of a tenth
                self.assertEqual(found.repetitions, 9 if word == "inconclusive" else None)
        more = replace_(wanted, measure="throughput")
        for change, word in ((-0.09, "inconclusive"), (-0.092, "worse"), (0.2, "better")):
            one = Difference(more, "S", 1.0, 1.0, change=change, most=-0.2 if change < 0 else 0.1,
                             smallest=0.3)  # fmt: skip
            self.assertEqual(_judged(one, 0.1, 0.01, is_rejected=True, is_within=False).word, word)


class ChangedSteps(TestCase):
    """What is said of a step since the run before."""

    def row(self, count: int, failures: int, p95_ms: float | None = None, timed: int = 40) -> Row:
        share = 100.0 * failures / count if count else None
        return Row(level="step", name="S", step="s", count=count, failures=failures, timed=timed,
                   failure_percent=share, p95_ms=p95_ms)  # fmt: skip

    def said(self, before: Row, now: Row) -> list[str]:
        return list(changes_in([before], [now]))

    def test_failures_that_came_and_went(self) -> None:
        clean, bad = self.row(500, 0), self.row(500, 10)
        self.assertEqual(self.said(clean, bad), ["“S” fails now: 2 % (0 % before)"])
        self.assertEqual(self.said(bad, clean), ["“S” does not fail any more: 0 % (2 % before)"])
        self.assertEqual(self.said(clean, self.row(500, 9)), [])  # fewer than ten
        self.assertEqual(self.said(clean, self.row(1000, 10)), [])  # 1 %: not more than that
        self.assertEqual(self.said(self.row(500, 5), bad), [])  # by chance
        self.assertEqual(self.said(bad, bad), [])

    def test_times_that_doubled(self) -> None:
        one, two = self.row(50, 0, 100.0), self.row(50, 0, 200.0)
        self.assertEqual(self.said(one, two), ["p95 of “S”: 100 → 200 ms"])
        self.assertEqual(self.said(two, one), ["p95 of “S”: 200 → 100 ms"])
        self.assertEqual(self.said(one, self.row(50, 0, 199.0)), [])
        self.assertEqual(self.said(one, self.row(50, 0, 200.0, timed=39)), [])
        self.assertEqual(self.said(self.row(0, 0, 1.0), two), [])
