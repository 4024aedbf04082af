"""Comparing runs: intervals that hold, what is called worse, what can't be said, and what differs of the inputs."""

from dataclasses import replace as replaced
from unittest import TestCase

import numpy as np
from bench.comparing import KEY, mean_of, run_of, shares, times_of
from msgspec.structs import replace
from scipy.stats import ttest_ind

from dynamikos.core.comparison import Line, OneRun, Wanted, compare, family_of
from dynamikos.core.frozen.differing import differing
from dynamikos.core.journeys import parse_journey
from dynamikos.core.objectives import Objective
from dynamikos.core.plans import Crowd, CrowdRow, Plan
from dynamikos.core.profiles import Arrivals, Stretch
from dynamikos.core.statistics import Histogram
from dynamikos.core.statistics.intervals import autocorrelation_s, percentile, ratio
from dynamikos.engine.testing import frozen_of_one


def line(
    mean_ms: float, *, n: int = 40, seconds: int = 120, failed: int = 0, seed: int = 1, spread: float = 0.3
) -> Line:
    """Independent log-normal times, so many a second; the first of some seconds fail."""
    draw = np.random.default_rng(seed)
    took = draw.lognormal(np.log(mean_ms * 1000) - spread**2 / 2, spread, (seconds, n)).astype(int)
    fails = np.zeros(seconds)
    fails[:failed] = 1
    times = [Histogram.of(each.tolist()) for each in took]
    return Line("Find a slot", np.full(seconds, float(n)), fails, took.sum(axis=1).astype(float), times)


def a_run(name: str, *lines: Line, **more: object) -> OneRun:
    keys = [("step", "j", f"s{at}", "") for at in range(len(lines))]
    return OneRun(name, dict(zip(keys, lines, strict=True)), 120, **more)  # type: ignore[arg-type]


def several(mean_ms: float, count: int, between: float, seed: int) -> list[OneRun]:
    """Runs whose means vary by `between`."""
    draw = np.random.default_rng(seed)
    return [a_run(f"r{at}", line(mean_ms * np.exp(draw.normal(0, between)), seed=seed + at)) for at in range(count)]


class Intervals(TestCase):
    def test_independent_seconds_have_the_error_of_a_mean_and_dependent_ones_a_larger(self) -> None:
        draw = np.random.default_rng(2)
        values = draw.normal(100, 10, 2000)
        found = ratio(values, np.ones(2000))
        assert found is not None and found.error is not None
        self.assertAlmostEqual(found.error, 10 / np.sqrt(2000), delta=0.05)
        self.assertLess(autocorrelation_s(values), 1.6)
        together = np.empty(4000)  # each second as the one before, mostly
        together[0] = 0.0
        for at in range(1, 4000):
            together[at] = 0.9 * together[at - 1] + draw.normal(0, 1)
        self.assertAlmostEqual(autocorrelation_s(together), (1 + 0.9) / (1 - 0.9), delta=6)
        much = ratio(together + 100, np.ones(4000))
        assert much is not None and much.error is not None
        self.assertGreater(much.error, 2.5 * float(together.std()) / np.sqrt(4000))

    def test_too_short_is_said_and_nothing_has_no_figure(self) -> None:
        short = ratio(np.arange(30.0), np.ones(30))
        assert short is not None
        self.assertIsNone(short.error)
        self.assertIsNone(ratio(np.zeros(5), np.zeros(5)))
        self.assertIsNone(percentile([Histogram()] * 60, 95))
        few = line(100, n=1, seconds=60)
        self.assertIsNone(few.figure("p99"))
        self.assertIsNotNone(few.figure("p50"))
        told = compare([a_run("a", few)], [a_run("b", few)]).others
        self.assertIn("too few values for p99", next(each for each in told if each.wanted.measure == "p99").reason)

    def test_a_percentile_is_that_of_all_values(self) -> None:
        given = line(100)
        found = given.figure("p95")
        assert found is not None and found.error is not None
        self.assertAlmostEqual(found.value, (given.whole.percentile_us(95) or 0) / 1000)
        # the error of a quantile of so many independent values: √(q(1−q)/n)/density
        self.assertAlmostEqual(found.error, 100 * 0.3 * 1.6 * np.sqrt(0.95 * 0.05 / 4800) / 0.103, delta=1.2)

    def test_a_share_has_an_error_although_nothing_failed(self) -> None:
        found = line(100).figure("failure-rate")
        assert found is not None and found.error is not None
        self.assertAlmostEqual(found.value, 0.5 / 4801)
        self.assertGreater(found.error, 0)


class Verdicts(TestCase):
    def test_the_same_is_not_worse_and_twice_as_slow_is_and_half_is_better(self) -> None:
        base = a_run("a", line(100))
        same = compare([base], [a_run("b", line(100, seed=9))])
        self.assertEqual((same.word, same.exit_code), ("not worse", 0))
        slow = compare([base], [a_run("b", line(200, seed=9))])
        self.assertEqual((slow.word, slow.exit_code), ("worse", 1))
        self.assertAlmostEqual(mean_of(slow).change or 0, 1.0, delta=0.05)
        self.assertIn("between these runs", slow.sentence)
        self.assertFalse(mean_of(slow).is_real)
        fast = compare([base], [a_run("b", line(50, seed=9))])
        self.assertEqual((mean_of(fast).word, fast.exit_code), ("better", 0))

    def test_failures_alone_make_it_worse(self) -> None:
        found = compare([a_run("a", line(100))], [a_run("b", line(100, failed=120, seed=5))])
        self.assertEqual(found.word, "worse")
        self.assertEqual({each.wanted.measure for each in found.differences if each.word == "worse"}, {"failure-rate"})

    def test_a_change_that_is_seen_but_tolerated_is_not_worse(self) -> None:
        pair = [a_run("a", line(100))], [a_run("b", line(105, seed=9))]
        self.assertEqual(mean_of(compare(*pair, 0.2)).word, "not worse")
        self.assertEqual(mean_of(compare(*pair, 0.01)).word, "worse")

    def test_what_varies_too_much_can_not_be_said_and_how_many_runs_would(self) -> None:
        found = compare(several(100, 3, 0.2, 1), several(105, 3, 0.2, 50))
        told = mean_of(found)
        self.assertEqual((told.word, found.exit_code), ("can't be said", 3))
        self.assertGreater(told.repetitions or 0, 3)
        self.assertTrue(found.sets)

    def test_sets_speak_of_more_than_their_runs_and_leave_doubted_ones_out(self) -> None:
        doubted = a_run("bad", line(900), doubts=["generators were late"])
        found = compare(several(100, 5, 0.02, 1), [*several(150, 5, 0.02, 50), doubted])
        self.assertEqual((found.word, mean_of(found).is_real), ("worse", True))
        self.assertNotIn("between these runs", found.sentence)
        self.assertEqual(found.left_out, [("bad", "generators were late")])
        self.assertAlmostEqual(mean_of(found).change or 0, 0.5, delta=0.06)

    def test_a_run_to_which_others_came_counts_in_no_set(self) -> None:
        mixes = ({"a": 60.0, "b": 40.0}, {"a": 61.5, "b": 38.5}, {"a": 59.0, "b": 41.0}, {"a": 53.0, "b": 47.0})
        side = [replaced(run, mix=mix) for run, mix in zip(several(100, 4, 0.02, 1), mixes, strict=True)]
        found = compare(side, several(100, 3, 0.02, 50))
        self.assertEqual([name for name, _ in found.left_out], ["r3"])
        self.assertIn("the share of a was 53 %", found.left_out[0][1])
        self.assertTrue(found.sets)
        alone = compare(side[3:], side[:1])
        self.assertEqual(alone.left_out, [])

    def test_sets_agree_with_another_library(self) -> None:
        a, b = several(100, 4, 0.05, 1), several(104, 6, 0.08, 50)
        told = mean_of(compare(a, b))
        logs = [
            [
                np.log(each.lines["step", "j", "s0", ""].sum_us.sum() / each.lines["step", "j", "s0", ""].n)
                for each in side
            ]
            for side in (a, b)
        ]
        other = ttest_ind(logs[1], logs[0], equal_var=False)
        low, high = other.confidence_interval(0.95)
        self.assertAlmostEqual(told.p or 0, float(other.pvalue), places=4)
        self.assertAlmostEqual(told.low or 0, float(np.expm1(low)), places=4)
        self.assertAlmostEqual(told.high or 0, float(np.expm1(high)), places=4)

    def test_shares_of_sets_agree_with_another_library(self) -> None:
        counts = (30, 41, 36), (70, 58, 66, 75)
        a, b = ([a_run(f"r{n}", line(100, failed=n, seed=n)) for n in side] for side in counts)
        told = next(each for each in compare(a, b).differences if each.wanted.is_share)
        shares = [np.array([(n + 0.5) / (4800 + n + 1) for n in side]) for side in counts]
        other = ttest_ind(*(np.log(each / (1 - each)) for each in reversed(shares)), equal_var=False)
        middle = float(np.log(shares[0] / (1 - shares[0])).mean())
        low, high = (1 / (1 + np.exp(-middle - step)) - 1 / (1 + np.exp(-middle))
                     for step in other.confidence_interval(0.95))  # fmt: skip
        self.assertAlmostEqual(told.p or 0, float(other.pvalue), places=6)
        self.assertAlmostEqual(told.low or 0, float(low), places=6)
        self.assertAlmostEqual(told.high or 0, float(high), places=6)
        self.assertGreater(told.smallest or 0, 0)
        counted = [np.mean([n / (4800 + n) for n in side]) for side in counts]
        self.assertAlmostEqual(told.change or 0, float(counted[1] - counted[0]))

    def test_only_the_step_that_was_slowed_is_called_worse(self) -> None:
        a = a_run("a", *(line(100 + at, seed=at) for at in range(8)))
        b = a_run("b", *(line((100 + at) * (1.5 if at == 3 else 1), seed=20 + at) for at in range(8)))
        found = compare([a], [b])
        self.assertEqual([each.wanted.key[2] for each in found.differences if each.word == "worse"], ["s3"])

    def test_steps_of_one_side_alone_and_nothing_in_common(self) -> None:
        found = compare([a_run("a", line(100))], [a_run("b", line(100), line(50))])
        self.assertEqual((found.only_a, found.only_b), ([], ["Find a slot"]))
        nothing = compare([a_run("a", line(100))], [OneRun("b", {}, 10)])
        self.assertEqual(nothing.exit_code, 2)
        self.assertIn("Nothing could be compared", nothing.sentence)

    def test_the_family_is_what_objectives_are_about_else_means_and_failures(self) -> None:
        plain = a_run("a", line(1), line(1))
        self.assertEqual({each.measure for each in family_of([plain])}, {"mean", "failure-rate"})
        objectives = (
            Objective(objective="o", measure="p95", limit=1, step="s1"),
            Objective(objective="t", measure="throughput", limit=1, step="s0", at_least=True),
            Objective(objective="r", measure="mean", limit=1, probe="x", reading="y"),
        )
        asked = family_of([a_run("a", line(1), line(1), objectives=objectives)])
        self.assertEqual(asked, [Wanted(("step", "j", "s1", ""), "p95"), Wanted(("step", "j", "s0", ""), "throughput")])
        fewer = a_run("b", line(100, n=30, seed=8), objectives=objectives[1:2])
        found = compare([a_run("a", line(100), objectives=objectives[1:2])], [fewer])
        self.assertEqual(found.word, "can't be said")  # counts that never vary say nothing of chance

    def test_stations_that_are_the_same_are_seldom_called_worse_and_a_shift_is_found(self) -> None:
        worse, found, _ = shares(24, 400, seed=4)
        self.assertLessEqual(worse, 0.09)
        self.assertGreaterEqual(found, 0.85)

    def test_gathered_by_minutes_it_is_the_same(self) -> None:
        draw = np.random.default_rng(8)
        fine = run_of(*times_of(draw, 0.7, 1200), "a", 1200).lines[KEY]

        def by_minute(values: np.ndarray) -> np.ndarray:  # type: ignore[type-arg]
            return values.reshape(20, 60).sum(axis=1)

        coarse = Line("s", by_minute(fine.passed), by_minute(fine.failed), by_minute(fine.sum_us), (), 60)
        one, other = fine.figure("mean"), coarse.figure("mean")
        assert one is not None and other is not None and one.error is not None and other.error is not None
        self.assertAlmostEqual(one.value, other.value)
        self.assertLess(abs(np.log(one.error / other.error)), 0.7)


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
        one, other = (frozen_of_one(each, journey) for each in (plan, replace(plan, plan="q", name="Peak")))
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
            objectives=(replace(goal, limit=300.0), Objective(objective="n", measure="failure-rate", limit=1)),
            environment="staging", think_factor=2.0,
        )  # fmt: skip
        after = frozen_of_one(more, replace(journey, note="new"), run="r", seed=1)
        after = replace(after, values={"env.site": "http://x"}, engine="0.2")
        found = differing(before, after)
        for said in (
            "journey Evening: ", "load: 20 users at most, 60 s → 40 users at most, 60 s", "think times × 1 → 2",
            "objective p95 of all steps ≤ 400 ms: limit 400 → 300", "objective failures of all steps ≤ 1 %: new",
            "environment e → staging", "env.site: — → http://x", "engine 0.1 → 0.2",
        ):  # fmt: skip
            self.assertTrue(any(each.startswith(said) for each in found), (said, found))
        arriving = Crowd(crowd="c", load=Arrivals(ceiling=9), profile=(Stretch(stretch="burst", to=80, seconds=60),),
                         rows=(CrowdRow(row="r", journey=journey.journey),))  # fmt: skip
        self.assertIn("load: 20 users at most, 60 s → 80 arrivals a second at most, 60 s",
                      list(differing(before, replace(before, crowds=(arriving,)))))  # fmt: skip
