"""What was cut off counts as waited; rates have no edge; the generators' own delay is a band."""

from unittest import TestCase

import numpy as np

from dynamikos.core.frozen import series_of
from dynamikos.core.objectives import Objective
from dynamikos.core.objectives.intervals import mark
from dynamikos.core.objectives.judge import Slice, judge
from dynamikos.core.reports import Ledger, SeriesSecond, ShardSecond
from dynamikos.core.reports.ledger import SeriesTotal, row_of_total
from dynamikos.core.statistics import Histogram, Moments, Spread, Undelayed
from dynamikos.core.statistics.chance import BySecond
from tests.core.test_verdicts import JOURNEY

STEP = next(each for each in series_of(JOURNEY) if each.level == "step")


def objective(measure: str, limit: float, **more: object) -> Objective:
    return Objective(objective="o", measure=measure, limit=limit, **more)  # type: ignore[arg-type]


def second_of(
    passed_ms: list[float], timed_out_s: float = 0.0, count: int = 0, **more: object
) -> SeriesSecond:
    """A second in which these passed, and so many timed out after so long."""
    us = [round(each * 1000) for each in passed_ms]
    cut = Histogram.of([round(timed_out_s * 1e6)] * count)
    return SeriesSecond(
        no=STEP.no,
        n=len(us),
        sum_us=sum(us),
        squares=str(sum(each**2 for each in us)),
        hist=Histogram.of(us).to_bytes(),
        failed={"timeout-first-byte": count} if count else {},
        cut_hist=cut.to_bytes() if count else b"",
        cut_sum_us=round(timed_out_s * 1e6) * count,
        **more,  # type: ignore[arg-type]
    )


def slice_of_parts(*parts: SeriesSecond) -> Slice:
    total = SeriesTotal()
    total.add(*parts)
    return Slice(
        passed=total.passed,
        moments=total.moments,
        failed=total.failures,
        cut=total.cut,
        cut_sum_us=total.cut_sum_us,
        later=total.later,
        open_us=total.open_us,
        undelayed=total.undelayed,
        seconds=10,
    )


class TimeOuts(TestCase):
    def test_38_percent_time_outs_of_5_s_leave_no_percentile_met(self) -> None:
        """Passed ones took 100 to 305 ms; the largest figure was 305 ms and *p95 ≤ 1,000 ms*
        met.
        """
        draw = np.random.default_rng(1)
        parts = [second_of(draw.uniform(100, 305, 61).tolist(), 5.0, 39) for _ in range(10)]
        found = slice_of_parts(*parts)
        for measure, word in (
            ("p95", "missed"),
            ("mean", "missed"),
            ("max", "missed"),
            ("p50", "met"),
        ):
            told = judge(objective(measure, 1000), found)
            self.assertEqual(told.word, word, measure)
            each_second = [
                mark(objective(measure, 1000, every_s=1), 0, 1, slice_of_parts(one), 0, whole=True)
                for one in parts
            ]
            self.assertEqual({one.word for one in each_second}, {word}, measure)
        total = SeriesTotal()
        total.add(*parts)
        row = row_of_total(STEP, total, 10)
        self.assertEqual((row.count, row.failures, row.timed, row.cut), (1000, 390, 1000, 390))
        self.assertAlmostEqual(row.max_ms or 0, 5000, delta=3)
        self.assertAlmostEqual(row.p95_ms or 0, 5000, delta=3)
        self.assertGreater(row.mean_ms or 0, 0.39 * 5000)
        self.assertTrue({"mean_ms", "max_ms", "p95_ms"} <= set(row.at_least))

    def test_patience_that_ends_below_the_limit_can_turn_it(self) -> None:
        """Visitors leave after 3 s; whether p95 ≤ 4 s would have been kept is not known."""
        parts = [second_of([200.0] * 90) for _ in range(10)]
        for part in parts:
            part.cut_hist, part.cut_sum_us = Histogram.of([3_000_000] * 10).to_bytes(), 30_000_000
        found = slice_of_parts(*parts)
        self.assertEqual(judge(objective("p95", 4000), found).word, "not judged")
        self.assertEqual(judge(objective("p95", 2500), found).word, "missed")
        self.assertEqual(judge(objective("p50", 2500), found).word, "met")
        self.assertEqual(
            mark(objective("p95", 4000, every_s=10), 0, 10, found, 0, whole=True).word, "not judged"
        )

    def test_what_had_only_just_begun_makes_no_server_quick(self) -> None:
        spread = Spread(Histogram.of([5_000_000] * 200), Histogram.of(range(0, 5_000_000, 50_000)))
        self.assertAlmostEqual(spread.low_us(50) or 0, 5_000_000, delta=2500)
        total = SeriesTotal(
            passed=Histogram.of([5_000_000] * 200), moments=Moments(200, 1_000_000_000, 0)
        )
        total.cut, total.cut_sum_us = Histogram.of([10_000] * 100), 1_000_000
        self.assertEqual(total.mean_us, 5_000_000)


class Rates(TestCase):
    """A closed loop of N users without thinking, each request exactly R long, looked at for T: X·R
    = N.
    """

    def looked_at(
        self, users: int, r_s: float, t_s: float, seed: int, spread: float = 0.0
    ) -> tuple[float, float]:
        draw = np.random.default_rng(seed)
        ledger = Ledger(series_of(JOURNEY))
        ended: dict[int, list[float]] = {}
        for _ in range(users):
            at = -draw.uniform(0, r_s) - 20 * r_s
            while at < t_s:
                took = r_s * float(draw.gamma(1 / spread**2, spread**2)) if spread else r_s
                at += took
                if 0 <= at < t_s:
                    ended.setdefault(int(at), []).append(took * 1000)
                elif at >= t_s:
                    age = max(1, round((t_s - (at - took)) * 1e6))
                    carried = SeriesSecond(
                        no=STEP.no, n=1, hist=Histogram.of([round(took * 1e6)]).to_bytes(),
                        cut_hist=Histogram.of([age]).to_bytes(), cut_sum_us=age,
                    )  # fmt: skip
                    ledger.carry(ShardSecond(shard=0, second=int(t_s), carried=[carried]))
        for second, times in ended.items():
            ledger.add(ShardSecond(shard=0, second=second, series=[second_of(times)]))
        row = row_of_total(STEP, ledger.totals[STEP.no], t_s)
        return row.per_s, (row.mean_ms or 0) / 1000

    def test_x_times_r_is_n_from_a_hundredth_to_half_of_the_measured_part(self) -> None:
        for ratio in (0.01, 0.05, 0.1, 0.25, 0.5):
            with self.subTest(ratio=ratio):
                per_s, mean_s = self.looked_at(400, 20 * ratio, 20, 1)
                self.assertAlmostEqual(per_s * mean_s / 400, 1, delta=0.02)

    def test_count_and_rate_are_of_what_ended_whenever_it_began(self) -> None:
        """20 users, 5 s each, 10 s: 4.0 a second end, and none of those that are open is in the
        rate.
        """
        per_s, _ = self.looked_at(20, 5, 10, 2)
        self.assertAlmostEqual(per_s, 4.0, delta=0.01)


class OwnDelay(TestCase):
    def delayed(self, ms: float, own_ms: float) -> Slice:
        us, own = round(ms * 1000), round(own_ms * 1000)
        low = Histogram.of([us - own] * 100).to_bytes()
        return slice_of_parts(*(second_of([ms] * 100, low_hist=low) for _ in range(10)))

    def test_a_limit_is_judged_unless_it_lies_in_the_band(self) -> None:
        """As measured 250 ms, of which at most 200 ms may be the generator's: met from 250 ms on,
        missed below 50.
        """
        for measure in ("p95", "mean", "max"):
            for limit, word in ((400, "met"), (100, "not judged"), (20, "missed")):
                told = judge(objective(measure, limit), self.delayed(250, 200))
                self.assertEqual(told.word, word, (measure, limit))
                each = mark(
                    objective(measure, limit, every_s=10),
                    0,
                    10,
                    self.delayed(250, 200),
                    0,
                    whole=True,
                )
                self.assertEqual(each.word, word, (measure, limit))
        told = judge(objective("p95", 100), self.delayed(250, 200))
        self.assertIn("the generators' own delay decides: without it at least 50", told.reason)
        assert told.band is not None
        self.assertAlmostEqual(told.band[0], 50, delta=0.1)

    def test_little_of_it_in_each_second_bounds_every_sample(self) -> None:
        parts = [
            second_of([10.0] * 50, own_us=600, quiet_us=9_900),
            second_of([10.0] * 50, own_us=300, quiet_us=10_000),
        ]
        total = SeriesTotal()
        total.add(*parts)
        self.assertAlmostEqual(
            total.undelayed.percentile_us(95) or 0, 9_900, delta=10
        )  # the quickest of a quiet second
        self.assertAlmostEqual(
            Undelayed(Spread(total.low), 600, 0).percentile_us(95) or 0, 9_400, delta=10
        )
        self.assertLess(row_of_total(STEP, total, 2).own_delay_ms, 0.2)

    def test_it_survives_being_folded(self) -> None:
        whole = SeriesTotal()
        whole.add(
            *(
                second_of([250.0] * 10, low_hist=Histogram.of([50_000] * 10).to_bytes())
                for _ in range(60)
            )
        )
        again = SeriesTotal()
        again.add(whole.part(STEP.no))
        self.assertAlmostEqual(again.undelayed.percentile_us(95) or 0, 50_000, delta=50)
        self.assertEqual(again.own_us, whole.own_us)


class ByChance(TestCase):
    def test_few_samples_near_the_limit_are_not_decided_with_their_side_and_how_many_minutes_would(
        self,
    ) -> None:
        found = slice_of_parts(
            *(second_of([80.0] * 9 + [120.0] if at % 2 else [80.0] * 10) for at in range(20))
        )
        counts = np.full(20, 10.0)
        found.by_second = BySecond(counts, np.tile([0.0, 1.0], 10), np.full(20, 820_000.0))
        told = judge(objective("p95", 100), found)
        self.assertEqual((told.word, told.side), ("not decided", "within"))
        self.assertIn("within the limit, not decided", told.reason)
        found.by_second = BySecond(
            counts, np.zeros(20), np.full(20, 820_000.0)
        )  # none is over 150 ms
        self.assertEqual(judge(objective("p95", 150), found).word, "met")
        found.by_second = None
        self.assertEqual(
            judge(objective("p95", 100), found).word, "met"
        )  # what is not known decides nothing
