"""Suspects and capacity, on traces and curves whose truth is known."""

from unittest import TestCase

import numpy as np
from bench.suspects import followers, innocents, later, planted

from dynamikos.core.analysis.capacity import Level, capacity, fitted
from dynamikos.core.analysis.evidence import Measured
from dynamikos.core.analysis.levels import PIECE_S, capacity_of, demand
from dynamikos.core.analysis.suspects import Look, suspects, worth_a_look
from dynamikos.core.figures import short
from dynamikos.core.profiles import Stretch
from dynamikos.core.telling.capacity import sentences
from tests.core.scenes import Scene


def noise(seed: int, seconds: int, by: float = 1.0):  # type: ignore[no-untyped-def]
    """Autocorrelated, as measures are."""
    draw = np.random.default_rng(seed)
    made = np.zeros(seconds)
    for at in range(1, seconds):
        made[at] = 0.7 * made[at - 1] + draw.normal()
    return by * made


class Suspects(TestCase):
    def scene(self, seed: int, seconds: int, at: int, length: int):  # type: ignore[no-untyped-def]
        """A cause that moves two seconds before the step, one that moves as one with it, and forty
        that don't.
        """
        step = np.exp(4 + noise(seed, seconds, 0.1))
        step[at : at + length] *= 6
        candidates = {f"other {n}": 50 + noise(1000 * seed + n, seconds, 3) for n in range(40)}
        cause = 5 + noise(seed + 7, seconds, 0.3)
        cause[at - 2 : at - 2 + length] += 40
        candidates["cause"], candidates["cause, twice"] = cause, 2 * cause + 3
        return step, candidates

    def test_the_cause_is_named_first_with_its_lag_and_its_double_folded(self) -> None:
        for seed in range(6):
            step, candidates = self.scene(seed, 1800, 900, 6)
            found = suspects(step, (900, 906), candidates)
            with self.subTest(seed):
                self.assertEqual([each.measure for each in found.named], ["cause"])
                first = found.named[0]
                self.assertEqual(
                    (first.lag_s, first.sign, first.folded), (-2, 1, ("cause, twice",))
                )
                self.assertEqual(first.words, "2 s before")
                self.assertIn(
                    "1 measure moved with it; so closely by chance in 1 of", found.sentence
                )

    def test_where_the_step_was_not_slower_nothing_is_said(self) -> None:
        step, candidates = self.scene(1, 1800, 900, 6)
        found = suspects(step, (300, 306), candidates)
        self.assertEqual((found.named, found.closest, found.is_slower), ((), (), False))
        self.assertIn("not slower here", found.sentence)

    def test_a_short_run_proves_nothing_and_says_so(self) -> None:
        step, candidates = self.scene(3, 120, 60, 6)
        found = suspects(step, (60, 66), candidates)
        self.assertEqual(found.named, [])
        self.assertIn("cause", (found.closest[0].measure, *found.closest[0].folded))
        self.assertIsNone(found.closest[0].p)
        self.assertIn("Too short to tell a cause from coincidence", found.sentence)
        self.assertLessEqual(len(found.closest), 3)

    def test_one_that_is_raised_once_and_one_that_is_read_every_ten_seconds(self) -> None:
        step, candidates = self.scene(1, 1800, 900, 30)
        del candidates["cause"], candidates["cause, twice"]
        flag = np.zeros(1800)
        flag[898:928] = 1
        self.assertEqual(
            suspects(step, (900, 930), {**candidates, "flag": flag}).named[0].measure, "flag"
        )
        slow = np.full(1800, np.nan)
        slow[9::10] = 5.0
        slow[900:930][9::10] = 90.0
        self.assertEqual(
            suspects(step, (900, 930), {**candidates, "slow": slow}).every[0].measure, "slow"
        )

    def test_still_measures_and_none_at_all(self) -> None:
        step = np.ones(600)
        step[200:206] = 9.0
        self.assertEqual(suspects(step, (200, 206), {"still": np.full(600, 7.0)}).every, [])
        self.assertEqual(suspects(step, (200, 206), {}).every, [])
        self.assertEqual(
            suspects(np.full(600, np.nan), (200, 206), {"a": np.arange(600.0)}).every, []
        )
        self.assertEqual(suspects(step, (700, 706), {"a": np.arange(600.0)}).every, [])

    def test_whoever_asks_for_a_score_sees_all_from_there_on(self) -> None:
        step, candidates = self.scene(1, 1800, 900, 6)
        self.assertGreater(len(suspects(step, (900, 906), candidates, least=-9.0).every), 1)
        named = suspects(step, (900, 906), candidates).named
        self.assertEqual(
            [each.measure for each in suspects(step, (900, 906), candidates, least=1e9).every],
            [each.measure for each in named],
        )

    def test_how_often_it_is_wrong(self) -> None:
        """The bench has 500 trials of each."""
        self.assertLessEqual(innocents(20, 20, 31), 0.1)
        self.assertGreaterEqual(planted(3600, 20, 6, 6, 32)[0], 0.8)
        self.assertEqual(later(6, 33), 0)
        self.assertEqual(followers(6, 34), 0)
        self.assertGreaterEqual(planted(600, 20, 6, 12, 35)[1], 0.7)

    def test_what_follows_the_load_is_told_apart(self) -> None:
        draw = np.random.default_rng(4)
        load = 50 + draw.normal(size=1800)
        load[900:930] += 40
        step = 100 * np.exp(0.1 * draw.normal(size=1800)) * (load / 50) ** 2
        found = suspects(
            step, (900, 930), {"lamps": 2 * load + draw.normal(size=1800)}, load, least=0.0
        )
        self.assertEqual((found.followers, found.every), (["lamps"], []))


class Looks(TestCase):
    def test_three_seconds_running_above(self) -> None:
        trace = np.exp(4 + noise(5, 300, 0.05))
        trace[100:106] *= 5
        trace[200] *= 50
        self.assertEqual(worth_a_look(trace), [(100, 106)])


class SeveralIncidents(TestCase):
    def looked(self, size: float, seconds: int = 1800) -> Look:
        """Half an hour with five windows of 30 s that were `size` times as slow; the last one is
        looked at.
        """
        draw = np.random.default_rng(5)
        step = 100 * np.exp(0.2 * draw.normal(size=seconds))
        windows = [200, 550, 900, 1250, 1600]
        cause = draw.normal(size=seconds)
        for begin in windows:
            step[begin : begin + 30] *= size
        cause[1600:1630] += 8
        return suspects(step, (1600, 1630), {"cause": cause}, np.full(seconds, 50.0))

    def test_others_of_the_run_do_not_hide_one(self) -> None:
        found = self.looked(3.0)
        self.assertTrue(found.is_slower)
        self.assertEqual(found.every[0].measure, "cause")

    def test_what_is_as_slow_as_others_says_so_and_not_that_it_was_not_slower(self) -> None:
        found = self.looked(1.0)
        self.assertFalse(found.is_slower)
        self.assertIn("This step was not slower here", found.sentence)
        said = Look(is_slower=False, slower=1.9).sentence
        self.assertIn("1.90 times as slow here as in the middle one", said)
        self.assertNotIn("not slower", said)


class Capacities(TestCase):
    def levels(self, law, noisy: float = 0.0) -> list[Level]:  # type: ignore[no-untyped-def]
        draw = np.random.default_rng(2)
        return [
            Level(n, law(n) * (1 + noisy * draw.normal()), n / law(n) - 0.5)
            for n in (5, 10, 20, 30, 40, 55, 70, 90)
        ]

    def test_the_law_of_the_textbook_is_found_again(self) -> None:
        def law(n: float) -> float:
            return 40 * n / (1 + 0.02 * (n - 1) + 0.0005 * n * (n - 1))

        found = capacity(self.levels(law))
        self.assertEqual(found.curve.law, "scalability")  # type: ignore[union-attr]
        load, rate = found.peak or (0, 0)
        self.assertAlmostEqual(load, 44.27, 1)
        self.assertAlmostEqual(rate, 627.2, 0)
        noisy = fitted(self.levels(law, 0.01))[0].parameters
        for name, truth in (("λ", 40), ("σ", 0.02), ("κ", 0.0005)):
            self.assertLess(abs(noisy[name][0] - truth), noisy[name][1] * 2 + 1e-9)

    def test_a_throughput_that_falls_is_seldom_called_a_ceiling(self) -> None:
        def falls(n: float) -> float:
            return 2 * n / (1 + 0.03 * (n - 1) + 0.0009 * n * (n - 1))

        draw, named = np.random.default_rng(7), []
        for law in (falls, lambda n: min(2.0 * n, 60.0)):
            for _ in range(40):
                found = capacity(
                    [
                        Level(n, law(n) * (1 + 0.03 * draw.normal()), 1.0)
                        for n in np.linspace(7.5, 60, 8).tolist()
                    ]
                )
                named.append(
                    found.curve.law if found.curve is not None else found.why_not.partition(":")[0]
                )
        self.assertLessEqual(named[:40].count("ceiling"), 2)
        self.assertGreaterEqual(named[:40].count("scalability"), 30)
        self.assertGreater(named[:40].count("Undecided"), 0)
        self.assertLessEqual(named[40:].count("scalability"), 1)

    def test_a_line_with_a_ceiling_is_named_so(self) -> None:
        found = capacity(
            self.levels(lambda n: min(2.0 * n, 85.0), 0.002), {"pool": 0.0117, "web": 0.004}
        )
        self.assertEqual(found.curve.law, "ceiling")  # type: ignore[union-attr]
        self.assertAlmostEqual((found.peak or (0, 0))[1], 85, delta=1)
        self.assertEqual(found.first and found.first[0], "pool")
        self.assertAlmostEqual(found.first[1] if found.first else 0, 85.5, delta=0.1)

    def test_from_a_run_of_stairs_to_the_resource_that_gives_way_first(self) -> None:
        stairs = (Stretch(stretch="stairs", to=48, steps=8, seconds=480),)
        small = {
            "look": (6, 0.02),
            "search": (4, 0.03),
            "book": (1, 0.04),
        }  # 25 bookings a second at most
        scene = Scene(
            4,
            seconds=480,
            users=48,
            arrives=lambda user: user // 6 * 60.0,
            profile=stairs,
            stations=small,
        )
        shares = [
            Measured(f"{step} utilization", "%", np.array(scene.busy[step][:480]) * 100 / servers)
            for step, (servers, _) in small.items()
        ]
        found = capacity_of(scene.evidence(measures=shares))
        assert found is not None and found.first is not None and found.full_at is not None
        self.assertEqual(
            [round(level.load) for level in found.levels], [6, 12, 18, 24, 30, 36, 42, 48]
        )
        self.assertEqual(found.first[0], "book utilization")
        self.assertAlmostEqual(found.first[1], 25, delta=1)
        self.assertAlmostEqual(
            found.full_at, 25 * 1.09, delta=2
        )  # a round takes 0.09 s and a second of thinking
        self.assertAlmostEqual(found.levels[-1].rate, 25, delta=1)
        self.assertEqual(found.why_not, "")
        assert found.knee is not None
        self.assertIn(round(found.knee.load), (18, 24, 30))
        self.assertIsNone(capacity_of(Scene(5, seconds=120).evidence()), "one level says nothing")

    def test_one_level_with_a_probe_gives_the_bound_with_its_interval(self) -> None:
        small = {"look": (6, 0.02), "search": (4, 0.03), "book": (1, 0.04)}
        scene = Scene(6, seconds=120, users=12, stations=small)
        share = Measured("book utilization", "%", np.array(scene.busy["book"][:120]) * 100)
        found = capacity_of(scene.evidence(measures=[share]))
        assert found is not None and found.first is not None and found.first_range is not None
        self.assertEqual((found.curve, found.peak), (None, None))
        self.assertIn("There is 1 steady level of load; a curve needs 8", found.why_not)
        self.assertTrue(found.first_range[0] < 25 < found.first_range[1], found.first_range)
        said = " ".join(sentences(found))
        self.assertIn("First to run full: book utilization, at ", said)
        self.assertIn(
            f"(95 %: {short(found.first_range[0])} to {short(found.first_range[1])})", said
        )

    def test_the_bound_holds_the_truth_as_often_as_it_says(self) -> None:
        """One server, Poisson rounds, exponential demands: 300 runs of one or of three levels, X ≤
        1/D.
        """
        draw, held, true = np.random.default_rng(11), 0, 0.04
        for trial in range(300):
            of, rates, used = [], [], []
            for utilization in ((0.5,), (0.2, 0.4, 0.6))[trial % 2]:
                seconds = 60
                arrivals = np.cumsum(
                    draw.exponential(true / utilization, int(3 * seconds * utilization / true))
                )
                ends, busy, free = [], np.zeros(seconds // PIECE_S), 0.0
                for at, takes in zip(arrivals, draw.exponential(true, len(arrivals)), strict=True):
                    begin, free = max(at, free), max(at, free) + takes
                    ends.append(free)
                    for piece in range(
                        int(begin // PIECE_S), min(len(busy), int(free // PIECE_S) + 1)
                    ):
                        busy[piece] += min(free, (piece + 1) * PIECE_S) - max(
                            begin, piece * PIECE_S
                        )
                counts = np.histogram(ends, np.arange(0, seconds + 1, PIECE_S))[0] / PIECE_S
                of += [counts.mean()] * len(busy)
                rates += counts.tolist()
                used += (busy / PIECE_S).tolist()
            value, half = demand(np.array(of), np.array(rates), np.array(used)) or (0.0, 0.0)
            held += value - half <= true <= value + half
        self.assertGreaterEqual(held, 0.9 * 300)
        self.assertIsNone(demand(np.ones(5), np.ones(5), np.zeros(5)))

    def test_what_can_not_be_said_is_not(self) -> None:
        few = capacity([Level(1, 1, 0.1)] * 3)
        self.assertIn("a curve needs 8", few.why_not)
        self.assertIsNone(few.curve)
        self.assertIn("a curve needs 8", capacity(self.levels(lambda n: 3.0 * n)[:7]).why_not)
        straight = capacity(self.levels(lambda n: 3.0 * n))
        self.assertIn("still grows", straight.why_not)
        self.assertIsNone(straight.peak)
        draw = np.random.default_rng(3)
        wild = capacity([Level(n, float(draw.uniform(10, 90)), 0.1) for n in range(1, 12)])
        self.assertIn("No law fits", wild.why_not)
