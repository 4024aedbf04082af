"""Levels of runs that follow each other: found where they change, and seldom where they don't."""

from unittest import TestCase

import numpy as np
from bench.comparing import false_turns

from dynamikos.core.comparison import figures_of, turns
from tests.core.test_comparison import a_run, line


class Levels(TestCase):
    def test_a_level_that_rises_is_found_where_it_does(self) -> None:
        draw = np.random.default_rng(3)
        values = [
            100 * float(np.exp(draw.normal(0, 0.03))) * (1.3 if at >= 7 else 1) for at in range(12)
        ]
        found = turns(values, [None] * 12, "p95")
        self.assertEqual([each.at for each in found], [7])
        self.assertAlmostEqual(found[0].change, 0.3, delta=0.05)
        self.assertAlmostEqual(found[0].before, 100, delta=4)

    def test_two_changes_and_each_between_its_neighbours(self) -> None:
        draw = np.random.default_rng(5)
        levels = [100] * 6 + [150] * 6 + [100] * 6
        found = turns(
            [each * float(np.exp(draw.normal(0, 0.02))) for each in levels], [None] * 18, "mean"
        )
        self.assertEqual([each.at for each in found], [6, 12])
        self.assertGreater(found[0].change, 0.4)
        self.assertLess(found[1].change, -0.25)

    def test_runs_of_one_level_seldom_have_a_change(self) -> None:
        draw = np.random.default_rng(1)
        found = sum(
            bool(
                turns(
                    [100 * float(np.exp(draw.normal(0, 0.08))) for _ in range(n)],
                    [None] * n,
                    "mean",
                )
            )
            for n in (6, 12, 20)
            for _ in range(100)
        )
        self.assertLessEqual(found, 9)  # of 300, where one of a hundred is allowed

    def test_too_few_runs_and_less_than_a_tenth_are_none(self) -> None:
        self.assertEqual(turns([100, 100.1, 200, 200.1, 200.2], [None] * 5, "mean"), [])
        small = [100, 100.1, 99.9, 100, 105, 105.1, 104.9, 105]
        self.assertEqual(turns(small, [None] * 8, "mean"), [])

    def test_values_that_are_close_by_luck_vary_by_what_each_is_uncertain(self) -> None:
        values = [100, 100.01, 99.99, 100.02, 99.98, 120, 120.01, 119.99, 120.02, 119.98]
        self.assertEqual(len(turns(values, [0.1] * 10, "mean")), 1)
        self.assertEqual(turns(values, [15.0] * 10, "mean"), [])

    def test_what_runs_share_with_the_ones_before_is_no_turn(self) -> None:
        for phi, allowed in ((0.8, 0.16), (0.0, 0.05)):
            self.assertLessEqual(false_turns(20, phi, 150, seed=6), allowed, phi)

    def test_shares_change_by_points_and_nothing_at_all_is_no_level(self) -> None:
        shares = [0.0, 0.001, 0.0005, 0.0, 0.05, 0.052, 0.049, 0.051]
        found = turns(shares, [0.0005] * 8, "failure-rate")
        self.assertEqual([each.at for each in found], [4])
        self.assertAlmostEqual(found[0].change, 0.05, delta=0.002)
        self.assertEqual(turns([0.0] * 8, [None] * 8, "failure-rate"), [])
        self.assertEqual(turns([], [], "mean"), [])


class Figures(TestCase):
    def test_those_of_a_run_are_its_own(self) -> None:
        run = a_run("a", line(100, failed=12))
        found = {each.measure: each for each in figures_of(run)}
        self.assertEqual(set(found), {"mean", "p50", "p95", "p99", "throughput", "failure-rate"})
        self.assertAlmostEqual(found["mean"].value, 100, delta=2)
        self.assertAlmostEqual(found["throughput"].value, 40)
        self.assertAlmostEqual(found["failure-rate"].value, 12 / 4812)
        self.assertGreater(found["failure-rate"].error or 0, 0)
