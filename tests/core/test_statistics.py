"""Histogram, percentiles, moments: against the values of the design and independent
calculations.
"""

import math
import statistics
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from dynamikos.core.statistics import Histogram, Moments, bucket_mid_us, bucket_of, buckets_of
from dynamikos.core.statistics.apdex import apdex
from dynamikos.core.statistics.histogram import LAST, LIMIT_US, enough_for


class Buckets(TestCase):
    def test_known_indices(self) -> None:
        self.assertEqual(bucket_of(LIMIT_US), 23_220)
        self.assertEqual(bucket_of(10 * LIMIT_US), LAST)
        self.assertEqual(
            [bucket_of(v) for v in (0, 1, 2047, 2048, 2049, 2050)], [0, 1, 2047, 2048, 2048, 2049]
        )

    @given(st.integers(1, LIMIT_US - 1))
    def test_midpoint_is_within_half_a_per_mille(self, value: int) -> None:
        self.assertLessEqual(abs(bucket_mid_us(bucket_of(value)) - value) / value, 0.0005)

    @given(st.integers(0, LIMIT_US), st.integers(0, LIMIT_US))
    def test_order_is_kept(self, a: int, b: int) -> None:
        self.assertLessEqual(bucket_of(min(a, b)), bucket_of(max(a, b)))

    @given(st.lists(st.integers(-5, 2 * LIMIT_US), min_size=1))
    def test_whole_arrays_fall_into_the_same_buckets(self, values: list[int]) -> None:
        self.assertEqual(
            buckets_of(np.array(values, dtype=np.int64)).tolist(),
            [bucket_of(value) for value in values],
        )


class Percentiles(TestCase):
    def test_values_of_the_design(self) -> None:
        hundred = Histogram.of(ms * 1000 for ms in range(1, 101))
        for percent, expected in ((50, 50), (95, 95), (99, 99)):
            self.assertAlmostEqual(
                hundred.percentile_us(percent) / 1000, expected, delta=expected * 0.0005
            )
        four = Histogram.of(ms * 1000 for ms in (10, 20, 30, 40))
        self.assertAlmostEqual(four.percentile_us(50), 20_000, delta=10)
        self.assertAlmostEqual(four.percentile_us(95), 40_000, delta=20)
        self.assertIsNone(Histogram().percentile_us(50))

    @settings(max_examples=100, deadline=None)
    @given(
        st.lists(st.integers(0, 10_000_000), min_size=1, max_size=300),
        st.sampled_from([0.1, 1, 50, 90, 95, 99, 99.9, 100]),
    )
    def test_nearest_rank_of_the_sorted_list(self, values: list[int], percent: float) -> None:
        rank = max(1, math.ceil(round(percent * len(values) / 100, 9)))
        expected = sorted(values)[rank - 1]
        self.assertAlmostEqual(
            Histogram.of(values).percentile_us(percent), expected, delta=max(0.6, expected * 0.0005)
        )

    def test_enough_samples(self) -> None:
        self.assertEqual(
            [enough_for(95, n) for n in (19, 20, 199, 200)], ["no", "uncertain", "uncertain", "yes"]
        )
        self.assertEqual([enough_for(99, n) for n in (99, 100, 1000)], ["no", "uncertain", "yes"])


class Merging(TestCase):
    @settings(max_examples=60, deadline=None)
    @given(
        st.lists(st.integers(0, 5_000_000), max_size=80),
        st.lists(st.integers(0, 5_000_000), max_size=80),
    )
    def test_merge_and_wire_lose_nothing(self, a: list[int], b: list[int]) -> None:
        merged = Histogram.from_bytes(Histogram.of(a).to_bytes())
        merged.merge(Histogram.from_bytes(Histogram.of(b).to_bytes()))
        self.assertEqual(merged.counts, Histogram.of(a + b).counts)

    def test_many_at_once_are_as_one_by_one(self) -> None:
        draw = np.random.default_rng(1)
        for many, samples in ((0, 0), (1, 400), (3, 2), (40, 30), (400, 3)):
            parts = [
                Histogram.of(draw.lognormal(9, 3, samples).astype(int).tolist())
                for _ in range(many)
            ]
            slowly = Histogram()
            for part in parts:
                slowly.merge(part)
            with self.subTest(many=many, samples=samples):
                joined = Histogram.joined([b"", *(part.to_bytes() for part in parts)])
                self.assertEqual(joined.counts, slowly.counts)
                self.assertEqual(joined.coarser(3).n, many * samples)
                again = Histogram.joined([part.coarser(3).to_bytes() for part in parts], 3)
                self.assertEqual(again.coarser(3).counts, slowly.coarser(3).counts)
                self.assertTrue(all(index % 8 == 4 for index in again.counts))
                percents = (0, 1, 50, 95, 99, 99.9, 100)
                self.assertEqual(
                    joined.percentiles_us(*percents),
                    [joined.percentile_us(each) for each in percents],
                )
        most = Histogram(dict.fromkeys(range(300), 2**32 - 1)).to_bytes()
        self.assertEqual(Histogram.joined([most] * 9).counts[7], 9 * (2**32 - 1))

    def test_another_version_is_refused(self) -> None:
        data = Histogram.of([1]).to_bytes()
        for wrong in (b"\x09" + data[1:], data[:-1]):
            with self.assertRaises(ValueError):
                Histogram.from_bytes(wrong)


class Spread(TestCase):
    def test_no_overflow(self) -> None:
        moments = Moments()
        for _ in range(10_000):
            moments.add(1, 60_000_000, 60_000_000**2)
        self.assertEqual(moments.sd_us, 0.0)
        self.assertEqual(moments.mean_us, 60_000_000)
        self.assertIsNone(Moments().sd_us)

    def test_population_deviation(self) -> None:
        values = [ms * 1000 for ms in range(1, 101)]
        moments = Moments(100, sum(values), sum(v * v for v in values))
        self.assertAlmostEqual(moments.sd_us / 1000, 28.866, places=3)
        self.assertAlmostEqual(moments.sd_us, statistics.pstdev(values), places=6)


class Satisfied(TestCase):
    def test_apdex_of_the_specification(self) -> None:
        passed = Histogram.of([100_000] * 60 + [1_500_000] * 30)
        found = apdex(passed, 10, 500_000)
        self.assertEqual(
            (found.satisfied, found.tolerating, found.frustrated, found.value), (60, 30, 10, 0.75)
        )
        self.assertEqual(apdex(Histogram.of([2_100_000]), 0, 500_000).value, 0.0)
        self.assertIsNone(apdex(Histogram(), 0, 500_000).value)
