"""Intervals that always exist, and objectives that know chance."""

import math
from unittest import TestCase

import numpy as np
from bench.comparing import chance, coverage, independent
from scipy.stats import binom

from dynamikos.core.statistics import Histogram
from dynamikos.core.statistics.chance import BySecond, mean_within, share_within
from dynamikos.core.statistics.intervals import long_run, mean_of, percentile_of, share_of
from tests.core.test_comparison import a_run, line


class Intervals(TestCase):
    def test_independent_seconds_have_the_error_of_a_mean_and_dependent_ones_a_larger(self) -> None:
        draw = np.random.default_rng(2)
        values = draw.normal(100, 10, 2000)
        found = mean_of(values, np.ones(2000))
        assert found is not None and found.error is not None
        self.assertAlmostEqual(found.error * 100, 10 / np.sqrt(2000), delta=0.12)
        together = np.empty(4000)  # each second as the one before, mostly
        together[0] = 0.0
        for at in range(1, 4000):
            together[at] = 0.9 * together[at - 1] + draw.normal(0, 1)
        variance, freedom = long_run(together - together.mean())
        self.assertEqual(freedom, 12)
        self.assertGreater(variance, 0.5 * 1 / (1 - 0.9) ** 2)  # of an AR(1): σ²/(1 − φ)²

    def test_there_is_one_from_30_s_and_100_samples_on(self) -> None:
        for seconds, per_s, there in (
            (29, 50, False),
            (30, 2, False),
            (30, 4, True),
            (60, 2, True),
        ):
            with self.subTest(seconds=seconds, per_s=per_s):
                found = mean_of(
                    np.full(seconds, 100.0 * per_s), np.full(seconds, float(per_s)), 20.0
                )
                assert found is not None
                self.assertEqual(found.error is not None, there)
                share = share_of(np.zeros(seconds), np.full(seconds, float(per_s)))
                assert share is not None
                self.assertEqual(share.error is not None, there)
        self.assertIsNone(mean_of(np.zeros(5), np.zeros(5)))
        self.assertIsNone(percentile_of(95, [Histogram()] * 60, Histogram(), None))

    def test_a_percentile_is_that_of_all_values(self) -> None:
        given = line(100)
        found = given.figure("p95")
        assert (
            found is not None
            and found.error is not None
            and found.low is not None
            and found.high is not None
        )
        self.assertAlmostEqual(found.value, (given.whole.percentile_us(95) or 0) / 1000)
        # the error of a quantile of so many independent values: √(q(1−q)/n)/density
        alone = 100 * 0.3 * 1.6 * np.sqrt(0.95 * 0.05 / 4800) / 0.103
        self.assertGreater(found.error * found.value, 0.7 * alone)
        self.assertLess(found.error * found.value, 2.5 * alone)

    def test_a_share_has_an_error_although_nothing_failed(self) -> None:
        found = line(100).figure("failure-rate")
        assert found is not None and found.error is not None and found.high is not None
        self.assertEqual((found.value, found.low), (0.0, 0.0))
        self.assertGreater(found.high, 0)
        self.assertLess(found.high, 0.002)

    def test_of_100_intervals_about_95_hold_the_truth(self) -> None:
        for kind, seconds, measures in (
            ("mm1 0.5", 300, ("mean", "p95")),
            ("log-normal", 300, ("mean", "failure-rate")),
        ):
            held = coverage(kind, seconds, 60, seed=11)
            for measure in measures:
                self.assertGreaterEqual(held[measure], 0.85, (kind, measure))

    def test_too_few_values_for_a_percentile_are_none(self) -> None:
        few = line(100, n=1, seconds=60)
        self.assertIsNone(few.figure("p99"))
        self.assertIsNotNone(few.figure("p50"))
        self.assertTrue(a_run("a", few).lines)


class Chance(TestCase):
    def test_p95_needs_59_samples_without_one_over(self) -> None:
        for n, word in ((58, "not decided"), (59, "met")):
            told = BySecond(np.full(1, float(n)), np.zeros(1), np.zeros(1))
            self.assertEqual(share_within(told, 0.05).word, word, n)

    def test_the_tails_are_the_binomials(self) -> None:
        for n, over in ((200, 3), (200, 5), (200, 17), (200, 16), (1000, 38), (1000, 62)):
            told = BySecond(np.full(1, float(n)), np.full(1, float(over)), np.zeros(1))
            at_most, at_least = binom.cdf(over, n, 0.05), binom.sf(over - 1, n, 0.05)
            word = "met" if at_most <= 0.05 else "missed" if at_least <= 0.05 else "not decided"
            self.assertEqual(share_within(told, 0.05).word, word, (n, over))

    def test_an_objective_that_is_missed_by_a_tenth_is_seldom_called_met(self) -> None:
        for n in (20, 100, 1000):
            self.assertLessEqual(independent(n, 1.1, 200, seed=3), 0.08, n)
        self.assertLessEqual(chance("mm1 0.5", 300, 1.0, 60, seed=3), 0.15)
        self.assertGreaterEqual(chance("mm1 0.5", 300, 0.7, 60, seed=3), 0.7)

    def test_how_much_more_would_decide(self) -> None:
        told = BySecond(
            np.full(100, 10.0), np.tile([1.0, 0, 0, 0], 25), np.zeros(100)
        )  # 2.5 % over, 1,000 samples
        self.assertEqual(share_within(told, 0.05).word, "met")
        near = share_within(
            BySecond(np.full(100, 10.0), np.tile([1.0, 0, 1, 0, 0], 20), np.zeros(100)), 0.05
        )
        self.assertEqual(near.word, "not decided")
        assert near.needed is not None
        # half a point away takes a(1−a)·((1.645 + 0.84)/gap)² samples
        self.assertGreater(near.needed, 0.8 * 0.05 * 0.95 * ((1.645 + 0.84) / 0.01) ** 2 / 1000)

    def test_none_allowed_and_a_mean(self) -> None:
        none = BySecond(np.full(10, 10.0), np.zeros(10), np.zeros(10))
        self.assertEqual(share_within(none, 0.0).word, "met")
        draw = np.random.default_rng(1)
        sums = draw.normal(1_000_000, 50_000, 60)
        told = BySecond(np.full(60, 10.0), np.zeros(60), sums, 20_000)
        self.assertEqual(mean_within(told, 120_000).word, "met")
        self.assertEqual(mean_within(told, 80_000).word, "missed")
        self.assertEqual(mean_within(told, 100_100).word, "not decided")
        self.assertTrue(math.isfinite(mean_within(told, 100_100).needed or 0))
