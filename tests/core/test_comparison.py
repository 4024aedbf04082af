"""Comparing runs: intervals that hold, what is called worse, what can't be said, and what differs
of the inputs.
"""

from dataclasses import replace as replaced
from unittest import TestCase

import numpy as np
from bench.comparing import false_alarms, pairs, sets
from bench.simulated import line_of, sample
from msgspec.structs import replace
from scipy.stats import ttest_ind

from dynamikos.core.comparison import (
    Comparison,
    Difference,
    History,
    Line,
    OneRun,
    Wanted,
    compare,
    family_of,
)
from dynamikos.core.comparison.bounds import bound_of
from dynamikos.core.comparison.compare import between_runs
from dynamikos.core.frozen.differing import differing
from dynamikos.core.journeys import parse_journey
from dynamikos.core.objectives import Objective
from dynamikos.core.plans import Crowd, CrowdRow, Plan
from dynamikos.core.plans.workloads import Arrivals
from dynamikos.core.profiles import Stretch
from dynamikos.core.statistics import Histogram, bucket_mid_us
from dynamikos.core.statistics.intervals import Estimate
from dynamikos.engine.testing import frozen_of_one

KEY0 = ("step", "j", "s0", "")


def mean_of(found: Comparison) -> Difference:
    """What was found of the mean."""
    return next(each for each in found.differences if each.wanted.measure == "mean")


def line(
    mean_ms: float,
    *,
    n: int = 40,
    seconds: int = 120,
    failed: int = 0,
    seed: int = 1,
    spread: float = 0.3,
) -> Line:
    """Independent log-normal times, so many a second; the first of some seconds fail."""
    draw = np.random.default_rng(seed)
    took = draw.lognormal(np.log(mean_ms * 1000) - spread**2 / 2, spread, (seconds, n)).astype(int)
    fails = np.zeros(seconds)
    fails[:failed] = 1
    times = [Histogram.of(each.tolist()) for each in took]
    return Line(
        "Find a slot", np.full(seconds, float(n)), fails, took.sum(axis=1).astype(float), times
    )


def a_run(name: str, *lines: Line, **more: object) -> OneRun:
    keys = [("step", "j", f"s{at}", "") for at in range(len(lines))]
    return OneRun(name, dict(zip(keys, lines, strict=True)), 120, **more)  # type: ignore[arg-type]


def several(mean_ms: float, count: int, between: float, seed: int) -> list[OneRun]:
    """Runs whose means vary by `between`."""
    draw = np.random.default_rng(seed)
    return [
        a_run(f"r{at}", line(mean_ms * np.exp(draw.normal(0, between)), seed=seed + at))
        for at in range(count)
    ]


class Verdicts(TestCase):
    def test_the_same_is_not_worse_and_twice_as_slow_is_and_half_is_better(self) -> None:
        base = a_run("a", line(100))
        same = compare([base], [a_run("b", line(100, seed=9))])
        self.assertEqual((same.word, same.exit_code, same.tolerated), ("not worse", 0, 0.3))
        slow = compare([base], [a_run("b", line(200, seed=9))])
        self.assertEqual((slow.word, slow.exit_code), ("worse", 1))
        self.assertAlmostEqual(mean_of(slow).change or 0, 1.0, delta=0.05)
        self.assertFalse(mean_of(slow).is_real)
        fast = compare([base], [a_run("b", line(50, seed=9))])
        self.assertEqual((mean_of(fast).word, fast.exit_code), ("better", 0))

    def test_failures_alone_make_it_worse(self) -> None:
        found = compare([a_run("a", line(100))], [a_run("b", line(100, failed=120, seed=5))])
        self.assertEqual(found.word, "worse")
        self.assertEqual(
            {each.wanted.measure for each in found.differences if each.word == "worse"},
            {"failure-rate"},
        )

    def test_more_than_chance_inside_two_runs_may_be_what_runs_of_one_build_differ_by(self) -> None:
        told = mean_of(compare([a_run("a", line(100))], [a_run("b", line(106, seed=9))]))
        self.assertLess(told.p_within or 1, 0.001)
        self.assertGreater(told.p or 0, 0.05)
        self.assertEqual(told.word, "not worse")  # by more than 30 %
        self.assertIn("usually differ by up to 15 %, so it may be no change", told.reason)
        strict = compare([a_run("a", line(100))], [a_run("b", line(106, seed=9))], 0.05)
        self.assertEqual((strict.word, strict.exit_code), ("inconclusive", 3))

    def test_earlier_sets_tell_what_runs_of_one_build_differ_by(self) -> None:
        close, apart = History(0.02**2 + 1e-5, 1e-5, 20), History(0.3**2, 1e-5, 5)
        self.assertAlmostEqual(between_runs(), 0.05**2)
        self.assertLess(between_runs([close]), 0.03**2)
        self.assertGreater(between_runs([apart]), 0.2**2)
        pair = [a_run("a", line(100))], [a_run("b", line(115, seed=9))]
        self.assertEqual(mean_of(compare(*pair, 0.1, [close] * 5)).word, "worse")
        self.assertEqual(mean_of(compare(*pair, 0.1, [apart])).word, "inconclusive")

    def test_slower_but_tolerated_is_said_as_such(self) -> None:
        told = compare([a_run("a", line(100))], [a_run("b", line(120, seed=9))], 0.5)
        self.assertEqual((mean_of(told).word, told.exit_code), ("slower, tolerated", 0))
        self.assertIn("within the 50 %", told.sentence)

    def test_a_plan_whose_only_objective_is_about_failures_lets_no_slower_step_through(
        self,
    ) -> None:
        """Four quiet runs against four, a step 30 % slower: the family has each step's mean as
        well.
        """
        only = (Objective(objective="f", measure="failure-rate", limit=1),)
        side_a = [replaced(run, objectives=only) for run in several(100, 4, 0.02, 1)]
        side_b = [replaced(run, objectives=only) for run in several(130, 4, 0.02, 50)]
        found = compare(side_a, side_b)
        self.assertEqual((found.word, found.exit_code), ("worse", 1))
        self.assertEqual(mean_of(found).word, "worse")

    def test_what_varies_too_much_is_inconclusive_and_how_many_runs_would_tell(self) -> None:
        found = compare(several(100, 3, 0.2, 1), several(105, 3, 0.2, 50))
        told = mean_of(found)
        self.assertEqual((told.word, found.exit_code), ("inconclusive", 3))
        self.assertGreater(told.repetitions or 0, 3)
        self.assertTrue(found.sets)

    def test_doubts_are_stated_and_throw_no_run_away(self) -> None:
        doubted = a_run("bad", line(150), doubts=["the load was 97 % of what was planned"])
        found = compare(several(100, 5, 0.02, 1), [*several(150, 5, 0.02, 50), doubted])
        self.assertEqual((found.word, mean_of(found).is_real), ("worse", True))
        self.assertEqual(
            (found.left_out, found.doubts), ([], [("bad", "the load was 97 % of what was planned")])
        )
        self.assertAlmostEqual(mean_of(found).change or 0, 0.5, delta=0.06)

    def test_left_out_are_lost_and_empty_runs_and_others_visitors_each_named(self) -> None:
        mixes = (
            {"a": 60.0, "b": 40.0},
            {"a": 61.5, "b": 38.5},
            {"a": 59.0, "b": 41.0},
            {"a": 53.0, "b": 47.0},
        )
        side = [
            replaced(run, mix=mix) for run, mix in zip(several(100, 4, 0.02, 1), mixes, strict=True)
        ]
        lost, empty = a_run("l", line(100), lost="its generator here was lost"), OneRun("e", {}, 10)
        found = compare(
            [*side, lost, empty], [replaced(run, mix=mixes[0]) for run in several(100, 3, 0.02, 50)]
        )
        self.assertEqual([name for name, _ in found.left_out], ["l", "e", "r3"])
        self.assertIn("the share of a was 53 %", found.left_out[2][1])
        self.assertTrue(found.sets)
        nothing = compare([lost], side)
        self.assertEqual((nothing.word, nothing.exit_code), ("inconclusive", 3))
        self.assertIn("its generator here was lost", nothing.sentence)

    def test_a_few_that_remain_fall_back_to_one_against_one(self) -> None:
        found = compare(several(100, 2, 0.02, 1), several(150, 5, 0.02, 50))
        self.assertEqual((found.word, found.sets, found.tolerated), ("worse", False, 0.3))

    def test_pooled_variances_of_one_measure_agree_with_another_library(self) -> None:
        a, b = several(100, 4, 0.05, 1), several(104, 6, 0.08, 50)
        told = mean_of(compare(a, b))
        logs = [
            [np.log(each.lines[KEY0].sum_us.sum() / each.lines[KEY0].passed.sum()) for each in side]
            for side in (a, b)
        ]
        other = ttest_ind(logs[1], logs[0])
        low, high = other.confidence_interval(0.95)
        self.assertAlmostEqual(told.p or 0, float(other.pvalue), places=6)
        self.assertAlmostEqual(told.low or 0, float(np.expm1(low)), places=6)
        self.assertAlmostEqual(told.high or 0, float(np.expm1(high)), places=6)

    def test_only_the_step_that_was_slowed_is_called_worse(self) -> None:
        a = a_run("a", *(line(100 + at, seed=at) for at in range(8)))
        b = a_run(
            "b", *(line((100 + at) * (1.5 if at == 3 else 1), seed=20 + at) for at in range(8))
        )
        found = compare([a], [b])
        self.assertEqual(
            [each.wanted.key[2] for each in found.differences if each.word == "worse"], ["s3"]
        )

    def test_steps_of_one_side_alone_and_nothing_in_common(self) -> None:
        found = compare([a_run("a", line(100))], [a_run("b", line(100), line(50))])
        self.assertEqual((found.only_a, found.only_b), ([], ["Find a slot"]))
        other = OneRun("b", {("step", "j", "else", ""): line(100)}, 120)
        nothing = compare([a_run("a", line(100))], [other])
        self.assertEqual(nothing.exit_code, 3)
        self.assertIn("no step with figures in common", nothing.sentence)

    def test_the_family_is_what_objectives_are_about_and_means_and_failures(self) -> None:
        plain = a_run("a", line(1), line(1))
        self.assertEqual({each.measure for each in family_of([plain])}, {"mean", "failure-rate"})
        objectives = (
            Objective(objective="o", measure="p95", limit=1, step="s1"),
            Objective(objective="t", measure="throughput", limit=1, step="s0", at_least=True),
            Objective(objective="r", measure="mean", limit=1, probe="x", reading="y"),
        )
        asked = family_of([a_run("a", line(1), line(1), objectives=objectives)])
        self.assertEqual(
            asked[:2],
            [Wanted(("step", "j", "s1", ""), "p95"), Wanted(("step", "j", "s0", ""), "throughput")],
        )
        self.assertEqual(len(asked), 6)

    def test_too_short_says_how_long_is_enough(self) -> None:
        short = a_run("a", line(100, seconds=20))
        found = compare([short], [a_run("b", line(100, seconds=20, seed=2))])
        self.assertEqual(found.exit_code, 3)
        self.assertIn(
            "about 30 s of measured time in each run would be enough", mean_of(found).reason
        )
        seldom = compare(
            [a_run("a", line(100, n=1, seconds=60))],
            [a_run("b", line(100, n=1, seconds=60, seed=2))],
        )
        self.assertIn(
            "about 200 s of measured time", mean_of(seldom).reason
        )  # the runs have 120 s for 60 samples
        self.assertTrue(found.is_rough)

    def test_the_generators_own_delay_makes_no_difference_real(self) -> None:
        """As measured b is twice as slow; half of that may be its generator's, which is then not
        said to be the target's.
        """
        slow = line(200, seed=9)
        low = Histogram.of([round(each / 2) for hist in slow.times for each in _values(hist)])
        doubted = compare([a_run("a", line(100))], [a_run("b", replaced(slow, low=low))])
        self.assertEqual((mean_of(doubted).word, doubted.exit_code), ("inconclusive", 3))
        self.assertIn("own delay decides", mean_of(doubted).reason)
        little = Histogram.of([round(each * 0.97) for hist in slow.times for each in _values(hist)])
        self.assertEqual(
            compare([a_run("a", line(100))], [a_run("b", replaced(slow, low=little))]).word, "worse"
        )

    def test_stations_that_are_the_same_are_seldom_called_worse_and_twice_as_slow_is_found(
        self,
    ) -> None:
        self.assertLessEqual(pairs("mm1 0.5", 120, 20, 0.05, seed=4)[0], 0.1)
        self.assertGreaterEqual(pairs("mm1 0.5", 60, 20, 0.05, 2.0, seed=4)[1], 0.7)
        self.assertLessEqual(sets(3, 20, 100, seed=4)[0], 0.1)
        self.assertGreaterEqual(sets(3, 20, 100, 0.2, seed=4)[1], 0.6)

    def test_gathered_by_minutes_it_is_the_same(self) -> None:
        draw = np.random.default_rng(8)
        fine = line_of(*sample("mm1 0.8", 1200, draw), 1200)

        def by_minute(values: np.ndarray) -> np.ndarray:  # type: ignore[type-arg]
            return values.reshape(20, 60).sum(axis=1)

        times = [
            Histogram.joined(each.to_bytes() for each in fine.times[at : at + 60])
            for at in range(0, 1200, 60)
        ]
        coarse = Line(
            "s", by_minute(fine.passed), by_minute(fine.failed), by_minute(fine.sum_us), times, 60
        )
        one, other = fine.figure("mean"), coarse.figure("mean")
        assert (
            one is not None
            and other is not None
            and one.error is not None
            and other.error is not None
        )
        self.assertAlmostEqual(one.value, other.value)
        self.assertLess(abs(np.log(one.error / other.error)), 0.7)

    def test_a_bound_from_a_baseline_is_what_one_more_run_seldom_exceeds(self) -> None:
        self.assertLessEqual(false_alarms(3, 40), 0.15)
        known = [Estimate(100.0, 1000, error=0.02, freedom=12)]
        self.assertGreater(bound_of(known, 20), bound_of(known, 1))
        self.assertGreater(bound_of(known, 1), 100)


def _values(hist: Histogram) -> list[int]:
    return [bucket_mid_us(index) for index, count in hist.counts.items() for _ in range(count)]


class Inputs(TestCase):
    def test_runs_of_different_plans_say_so(self) -> None:
        journey = parse_journey(
            "form: 1\njourney: j\nname: Evening\nrounds:\n  - step: s\n    name: S\n    requests:\n"
            '      - {request: r, address: "http://127.0.0.1:9/"}\n'
        )
        plan = Plan(
            form=2, plan="p", name="P", journey="j", environment="e",
            profile=(Stretch(stretch="climb", to=20, seconds=60),),
        )  # fmt: skip
        one, other = (
            frozen_of_one(each, journey) for each in (plan, replace(plan, plan="q", name="Peak"))
        )
        self.assertEqual(differing(one, other), ["plan P → Peak"])

    def test_each_kind_of_difference_in_words(self) -> None:
        journey = parse_journey(
            "form: 1\njourney: j\nname: Evening\nrounds:\n  - step: s\n    name: S\n    requests:\n"
            '      - {request: r, address: "http://127.0.0.1:9/"}\n'
        )
        goal = Objective(objective="o", measure="p95", limit=400)
        plan = Plan(
            form=2, plan="p", name="P", journey="j", environment="e", objectives=(goal,),
            profile=(Stretch(stretch="climb", to=20, seconds=60),),
        )  # fmt: skip
        before = frozen_of_one(plan, journey, run="r", seed=1)
        self.assertEqual(differing(before, frozen_of_one(plan, journey, run="other", seed=2)), [])
        more = replace(
            plan,
            profile=(Stretch(stretch="climb", to=40, seconds=60),),
            objectives=(
                replace(goal, limit=300.0),
                Objective(objective="n", measure="failure-rate", limit=1),
            ),
            environment="staging",
            think_factor=2.0,
            cache="round",
        )
        after = frozen_of_one(more, replace(journey, note="new"), run="r", seed=1)
        after = replace(after, values={"env.site": "http://x"}, engine="0.2")
        found = differing(before, after)
        for said in (
            "journey Evening: ",
            "load: 20 users at most, 60 s → 40 users at most, 60 s",
            "think times × 1 → 2",
            "cache of users: none → emptied before each round",
            "objective p95 of all steps ≤ 400 ms: limit 400 → 300",
            "objective failures of all steps ≤ 1 %: new",
            "environment e → staging",
            "env.site: — → http://x",
            "engine 0.1 → 0.2",
        ):
            self.assertTrue(any(each.startswith(said) for each in found), (said, found))
        arriving = Crowd(
            crowd="c",
            load=Arrivals(ceiling=9),
            profile=(Stretch(stretch="burst", to=80, seconds=60),),
            rows=(CrowdRow(row="r", journey=journey.journey),),
        )
        self.assertIn("load: 20 users at most, 60 s → 80 arrivals a second at most, 60 s",
                      list(differing(before, replace(before, crowds=(arriving,)))))  # fmt: skip
