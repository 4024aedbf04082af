"""Suspects and capacity, on traces and curves whose truth is known."""

from unittest import TestCase

import numpy as np

from dynamikos.core.analysis.capacity import Level, capacity, fitted
from dynamikos.core.analysis.evidence import Measured
from dynamikos.core.analysis.levels import capacity_of
from dynamikos.core.analysis.suspects import (
    LONGEST_LAG_S,
    correlation,
    lags_of,
    partial,
    ranks,
    suspects,
    window_means,
    worth_a_look,
)
from dynamikos.core.profiles import Stretch
from tests.core.scenes import Scene


def noise(seed: int, seconds: int, by: float = 1.0):  # type: ignore[no-untyped-def]
    """Autocorrelated, as measures are."""
    draw = np.random.default_rng(seed)
    made = np.zeros(seconds)
    for at in range(1, seconds):
        made[at] = 0.7 * made[at - 1] + draw.normal()
    return by * made


class Events(TestCase):
    def scene(self, seed: int, seconds: int, at: int, length: int):  # type: ignore[no-untyped-def]
        """A cause that moves two seconds before the step, one that moves as one with it, and forty that don't."""
        step = np.exp(4 + noise(seed, seconds, 0.1))
        step[at : at + length] *= 6
        candidates = {f"other {n}": 50 + noise(1000 * seed + n, seconds, 3) for n in range(40)}
        cause = 5 + noise(seed + 7, seconds, 0.3)
        cause[at - 2 : at - 2 + length] += 40
        candidates["cause"], candidates["cause, twice"] = cause, 2 * cause + 3
        return step, candidates

    def test_the_cause_is_first_with_its_lag_and_its_double_folded(self) -> None:
        for seed in range(10):
            step, candidates = self.scene(seed, 600, 300, 6)
            found = suspects(step, (300, 306), candidates)
            with self.subTest(seed):
                self.assertEqual((found[0].measure, found[0].lag_s, found[0].sign), ("cause", -2, 1))
                self.assertEqual(found[0].folded, ("cause, twice",))
                self.assertEqual(found[0].words, "2 s before")
                self.assertIsNotNone(found[0].p)

    def test_false_ones_are_rare_and_nothing_is_an_answer(self) -> None:
        false = sum(
            len(suspects(np.exp(noise(seed, 600, 0.1)), (200, 206),
                         {f"{n}": noise(50 * seed + n + 9, 600) for n in range(40)}))
            for seed in range(12)
        )  # fmt: skip
        self.assertLessEqual(false, 5)  # of 480
        self.assertEqual(suspects(np.ones(600), (200, 206), {"still": np.full(600, 7.0)}), [])

    def test_a_flag_that_is_raised_once_and_a_short_run(self) -> None:
        step, candidates = self.scene(3, 120, 60, 6)
        candidates["flag"] = np.zeros(120)
        candidates["flag"][58:64] = 1
        found = suspects(step, (60, 66), candidates)
        self.assertIn("flag", {found[0].measure, *found[0].folded, *(each.measure for each in found)})
        self.assertIsNone(found[0].p)  # too few placements

    def test_one_that_is_read_every_ten_seconds_is_looked_at_too(self) -> None:
        step, candidates = self.scene(1, 600, 300, 30)
        slow = np.full(600, np.nan)
        slow[9::10] = 5.0
        slow[300:330:1][9::10] = 90.0
        self.assertIn("slow", {each.measure for each in suspects(step, (300, 330), {**candidates, "slow": slow})}
                      | {name for each in suspects(step, (300, 330), {**candidates, "slow": slow})
                         for name in each.folded})  # fmt: skip

    def test_the_threshold_is_adjustable(self) -> None:
        step, candidates = self.scene(1, 600, 300, 6)
        self.assertGreater(len(suspects(step, (300, 306), candidates, threshold=2)), 1)
        self.assertEqual(suspects(step, (300, 306), candidates, threshold=1e9), [])


class Together(TestCase):
    def test_what_follows_the_load_is_no_suspect_and_what_moves_besides_is(self) -> None:
        load = 100 + 50 * np.sin(np.arange(600) / 60) + noise(1, 600, 2)
        own = noise(2, 600, 5)
        step = load + 4 * own
        candidates = {"follows": 3 * load + noise(3, 600, 6), "moves": own + noise(4, 600, 0.5)}
        found = suspects(step, (100, 500), candidates, load)
        self.assertEqual([each.measure for each in found if each.how == "together"], ["moves"])

    def test_it_is_as_if_every_lag_were_looked_at(self) -> None:
        found = 0
        for seed in range(40):
            draw = np.random.default_rng(seed)
            seconds = (200, 500)[seed % 2]
            load = (None, np.linspace(1, 50, seconds), np.repeat(np.arange(10.0), seconds // 10))[seed % 3]
            base = noise(seed, seconds)
            step = base + (0 if load is None else 0.02 * load)
            step[draw.random(seconds) < 0.2 * (seed % 4)] = np.nan
            candidates = {}
            for n, lag in enumerate(draw.integers(-14, 15, 8).tolist()):
                trace = np.roll(base, lag) + draw.uniform(0, 3) * noise(100 * seed + n, seconds)
                trace[np.arange(seconds) % (10 if n % 4 == 0 else 1) != 0] = np.nan  # read every ten seconds
                candidates[f"measure {n}"] = np.round(trace) if n % 3 == 0 else trace
            if load is not None:  # hardly anything is left that the load does not explain, at some lags
                candidates["follows"] = load + np.where(np.arange(seconds) % 17 == 0, 0.3, 0) + 1e-3 * base
            begin, end = (10, seconds - 5) if seed % 2 else (seconds // 10, seconds)
            told = {each.measure: (each.lag_s, each.score)
                    for each in suspects(step, (begin, end), candidates, load)}  # fmt: skip
            for name, trace in candidates.items():
                best, best_lag = 0.0, 0
                for lag in lags_of(LONGEST_LAG_S):
                    low, high = max(0, begin + lag), min(seconds, end + lag)
                    given = None if load is None else load[low - lag : high - lag]
                    rho = partial(step[low - lag : high - lag], trace[low:high], given)
                    if abs(rho) > abs(best) + 0.01:
                        best, best_lag = rho, lag
                with self.subTest(seed=seed, name=name):
                    self.assertEqual(told.pop(name, None), (best_lag, abs(best)) if abs(best) >= 0.5 else None)
                    found += abs(best) >= 0.5
            self.assertEqual(told, {})
        self.assertGreater(found, 20)

    def test_ranks_and_partial_correlation(self) -> None:
        self.assertEqual(ranks(np.array([3.0, 1.0, 3.0, 9.0])).tolist(), [2.5, 1.0, 2.5, 4.0])
        draw = np.random.default_rng(1)
        a, b, c = draw.normal(size=(3, 400))
        self.assertLess(abs(partial(a + c, b + c, c)), 0.15)
        self.assertGreater(correlation(a + c, b + c), 0.35)

    def test_window_means_leave_out_what_is_not_known(self) -> None:
        means = window_means(np.array([1.0, 3.0, np.nan, np.nan, 5.0, 7.0]), 2)
        self.assertEqual(means[[0, 1, 4]].tolist(), [2.0, 3.0, 6.0])
        self.assertTrue(np.isnan(means[2]))


class Looks(TestCase):
    def test_three_seconds_running_above(self) -> None:
        trace = np.exp(4 + noise(5, 300, 0.05))
        trace[100:106] *= 5
        trace[200] *= 50
        self.assertEqual(worth_a_look(trace), [(100, 106)])


class Capacities(TestCase):
    def levels(self, law, noisy: float = 0.0) -> list[Level]:  # type: ignore[no-untyped-def]
        draw = np.random.default_rng(2)
        return [
            Level(n, law(n) * (1 + noisy * draw.normal()), n / law(n) - 0.5) for n in (5, 10, 20, 30, 40, 55, 70, 90)
        ]

    def test_the_law_of_the_textbook_is_found_again(self) -> None:
        def law(n: float) -> float:
            return 40 * n / (1 + 0.02 * (n - 1) + 0.0005 * n * (n - 1))

        found = capacity(self.levels(law))
        self.assertEqual(found.curve.law, "scalability")  # type: ignore[union-attr]
        load, rate = found.peak or (0, 0)
        self.assertAlmostEqual(load, 44.27, 1)
        self.assertAlmostEqual(rate, 627.2, 0)
        noisy = fitted(self.levels(law, 0.01)).parameters
        for name, truth in (("λ", 40), ("σ", 0.02), ("κ", 0.0005)):
            self.assertLess(abs(noisy[name][0] - truth), noisy[name][1] * 2 + 1e-9)

    def test_a_line_with_a_ceiling_is_named_so(self) -> None:
        found = capacity(self.levels(lambda n: min(2.0 * n, 85.0), 0.002), {"pool": 0.0117, "web": 0.004})
        self.assertEqual(found.curve.law, "ceiling")  # type: ignore[union-attr]
        self.assertAlmostEqual((found.peak or (0, 0))[1], 85, delta=1)
        self.assertEqual(found.first and found.first[0], "pool")
        self.assertAlmostEqual(found.first[1] if found.first else 0, 85.5, delta=0.1)

    def test_from_a_run_of_stairs_to_the_resource_that_gives_way_first(self) -> None:
        stairs = (Stretch(stretch="stairs", to=48, steps=8, seconds=480),)
        small = {"look": (6, 0.02), "search": (4, 0.03), "book": (1, 0.04)}  # 25 bookings a second at most
        scene = Scene(4, seconds=480, users=48, arrives=lambda user: user // 6 * 60.0, profile=stairs, stations=small)
        shares = [Measured(f"{step} utilization", "%", np.array(scene.busy[step][:480]) * 100 / servers)
                  for step, (servers, _) in small.items()]  # fmt: skip
        found = capacity_of(scene.evidence(measures=shares))
        assert found is not None and found.first is not None and found.full_at is not None
        self.assertEqual([round(level.load) for level in found.levels], [6, 12, 18, 24, 30, 36, 42, 48])
        self.assertEqual(found.first[0], "book utilization")
        self.assertAlmostEqual(found.first[1], 25, delta=1)
        self.assertAlmostEqual(found.full_at, 25 * 1.09, delta=2)  # a round takes 0.09 s and a second of thinking
        self.assertAlmostEqual(found.levels[-1].rate, 25, delta=1)
        self.assertEqual(found.why_not, "")
        assert found.knee is not None
        self.assertIn(round(found.knee.load), (18, 24, 30))
        self.assertIsNone(capacity_of(Scene(5, seconds=120).evidence()), "one level says nothing")

    def test_what_can_not_be_said_is_not(self) -> None:
        few = capacity([Level(1, 1, 0.1)] * 3)
        self.assertIn("a curve needs 6", few.why_not)
        self.assertIsNone(few.curve)
        straight = capacity(self.levels(lambda n: 3.0 * n))
        self.assertIn("still grows", straight.why_not)
        self.assertIsNone(straight.peak)
        draw = np.random.default_rng(3)
        wild = capacity([Level(n, float(draw.uniform(10, 90)), 0.1) for n in range(1, 12)])
        self.assertIn("No law fits", wild.why_not)
