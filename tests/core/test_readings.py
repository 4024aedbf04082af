"""Objectives about a probe's measure: over all, by interval, as the seconds come, and what makes no
sense.
"""

from unittest import TestCase

import numpy as np

from dynamikos.core.journeys import parse_journey
from dynamikos.core.objectives import (
    Judgement,
    Mark,
    Objective,
    Told,
    describe,
    judge_readings,
    judged_readings,
    worst_first,
)
from dynamikos.core.plans import Plan, plan_problems
from dynamikos.core.probes import Host, Probe
from dynamikos.core.profiles import Stretch
from dynamikos.core.verdicts import Watching
from dynamikos.engine.testing import frozen_of_one

SOURCE = ("machine", "processor")
JOURNEY = parse_journey(
    "form: 1\njourney: j\nname: J\nrounds:\n  - step: s\n    name: S\n    requests:\n"
    '      - {request: r, address: "http://127.0.0.1:9/"}\n'
)


def objective(measure: str = "mean", limit: float = 80, **more: object) -> Objective:
    given = {"probe": "machine", "reading": "processor", **more}
    return Objective(objective="o", measure=measure, limit=limit, **given)  # type: ignore[arg-type]


def told(*values: float, unit: str = "%", every_s: float = 1.0) -> dict[tuple[str, str], Told]:
    return {SOURCE: Told(np.array(values, float), unit, every_s)}


def plan(*objectives: Objective, every_s: float = 1.0) -> Plan:
    return Plan(
        form=2,
        plan="p",
        name="P",
        journey="j",
        environment="e",
        profile=(Stretch(stretch="climb", to=1, seconds=60),),
        probes=(Probe(probe="machine", host=Host(), every_s=every_s),),
        objectives=objectives,
    )


class OverAll(TestCase):
    def test_mean_largest_and_percentile_as_numpy_has_them(self) -> None:
        values = np.random.default_rng(3).uniform(0, 100, 500)
        for measure, value in (
            ("mean", values.mean()),
            ("max", values.max()),
            ("p95", np.sort(values)[int(np.ceil(0.95 * 500)) - 1]),
        ):
            for limit, word in (
                (value * 0.9, "missed"),
                (value * 1.05, "close"),
                (value * 1.5, "met"),
            ):
                with self.subTest(measure, limit=limit):
                    found = judge_readings(objective(measure, limit), told(*values), (0, 500))
                    self.assertEqual((found.word, found.samples, found.unit), (word, 500, "%"))
                    self.assertAlmostEqual(found.value or 0, value)

    def test_at_least(self) -> None:
        self.assertEqual(
            judge_readings(objective("mean", 10, at_least=True), told(5, 5), (0, 2)).word, "missed"
        )

    def test_only_the_part_that_is_asked_for_and_never_a_gap_as_zero(self) -> None:
        nan = float("nan")
        some = judge_readings(objective(), told(*[50.0] * 8, nan, nan, nan, nan), (0, 12))
        self.assertEqual((some.word, some.reason), ("met", "the probe told of it 8 of 12 times"))
        self.assertEqual(judge_readings(objective(), told(*[50.0] * 99, nan), (0, 100)).reason, "")
        self.assertEqual(judge_readings(objective(), told(0, 0, 90, nan, 92, 0), (2, 5)).value, 91)

    def test_too_little_is_not_judged_and_says_so(self) -> None:
        nan = float("nan")
        for given, measure, said in (
            ({}, "mean", "told nothing of processor"),
            (told(nan, nan), "mean", "told nothing of processor"),
            (told(1, nan, nan, nan), "mean", "only 1 times, where 4 were due"),
            (told(1, 2, 3, 4), "p95", "4 values are too few for p95; 20 are needed"),
        ):
            with self.subTest(said):
                found = judge_readings(objective(measure), given, (0, 4))
                self.assertEqual(found.word, "not judged")
                self.assertIn(said, found.reason)
        slow = told(*[each if at % 5 == 4 else nan for at, each in enumerate(range(20))], every_s=5)
        self.assertEqual(
            judge_readings(objective(), slow, (0, 20)).word, "met"
        )  # all four that were due

    def test_in_words_with_the_unit_that_the_probe_knows(self) -> None:
        found = judge_readings(objective(), told(1), (0, 1))
        self.assertEqual(found.sentence, "mean of processor (machine) ≤ 80 %")
        self.assertEqual(describe(objective()), "mean of processor (machine) ≤ 80")


class ByInterval(TestCase):
    def test_marks_of_a_whole_run(self) -> None:
        values = [50.0] * 10 + [90.0] * 10 + [float("nan")] * 10 + [70.0] * 10
        found = judged_readings(
            objective(every_s=10, missed_allowed=20), told(*values), (0, 40), 40
        )
        self.assertEqual(
            [each.word for each in found.marks], ["met", "missed", "not judged", "met"]
        )
        self.assertEqual((found.word, found.seconds_over), ("missed", 10))
        self.assertAlmostEqual(found.excess or 0, 0.125)

    def test_a_run_is_stopped_as_soon_as_enough_were_missed(self) -> None:
        each = objective(every_s=5, then="stop gently", in_a_row=2)
        watching = Watching(frozen_of_one(plan(each), JOURNEY, run="r", seed=1))
        self.assertEqual(watching.sources, {SOURCE})
        stops = []
        for second in range(30):
            # a second is told of after it ended, so that its value comes with the next one
            if second:
                watching.read(*SOURCE, second - 1, 95.0 if second > 10 else 20.0)
            watching.read("other", "processor", second, 99.0)
            stops.append(watching.add(second, []))
        self.assertEqual(next(at for at, stop in enumerate(stops) if stop is not None), 20)
        self.assertIn("mean of processor (machine) ≤ 80", str(stops[20]))
        self.assertEqual(
            [each.word for each in watching.marks[0]], ["met", "met", "missed", "missed", "missed"]
        )


class Senseless(TestCase):
    def test_what_a_plan_can_not_mean(self) -> None:
        for wrong, said in (
            (objective(probe="elsewhere"), "the probe 'elsewhere', which the plan does not have"),
            (objective(reading=None), "say both which probe"),
            (objective("throughput"), "take a percentile, the mean or the largest"),
            (objective(step="s"), "belongs to no step"),
            (objective(time="first-byte"), "belongs to no step"),
            (objective(then="stop now"), "say over which intervals"),
        ):
            with self.subTest(said):
                self.assertIn(said, "\n".join(plan_problems(plan(wrong), {"j": JOURNEY})))
        seldom = plan_problems(plan(objective(every_s=2), every_s=5), {"j": JOURNEY})
        self.assertIn("is read every 5 s only", "\n".join(seldom))
        self.assertEqual(plan_problems(plan(objective(every_s=10)), {"j": JOURNEY}), [])


class WorstFirst(TestCase):
    def test_longest_beyond_the_limit_first_and_those_that_decide_nothing_later(self) -> None:
        def made(
            name: str, word: str, missed: int = 0, excess: float | None = None, then: str = "fail"
        ) -> Judgement:
            marks = tuple(Mark(from_s=at, to_s=at + 1, word="missed") for at in range(missed))
            return Judgement(objective=name, word=word, marks=marks, excess=excess, then=then)  # type: ignore[arg-type]

        given = [
            made("met", "met"),
            made("noted", "missed", 9, 3, "note"),
            made("short", "missed", 2, 2.0),
            made("close", "close"),
            made("none", "not judged"),
            made("long", "missed", 7, 0.1),
            made("far", "missed", 2, 4.0),
        ]
        names = [each.objective for each in worst_first(given)]
        self.assertEqual(names, ["long", "far", "short", "noted", "none", "close", "met"])
