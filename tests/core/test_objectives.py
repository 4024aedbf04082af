"""Objectives: every measure, both sides of a limit, interval by interval, and what ends a run."""

from typing import ClassVar
from unittest import TestCase

from dynamikos.core.journeys import parse_journey
from dynamikos.core.objectives import (
    Mark,
    Objective,
    Slice,
    by_interval,
    describe,
    intervals_of,
    judge,
    mark,
    tripped,
)
from dynamikos.core.objectives.problems import SENSELESS, problems
from dynamikos.core.objectives.scope import (
    Number,
    Performed,
    ProbeReading,
    Scope,
    fields_of,
    read_scope,
    scope_of,
)
from dynamikos.core.plans import Plan, plan_problems
from dynamikos.core.profiles import Stretch
from dynamikos.core.reports import SeriesSecond, ShardSecond, decode, encode
from dynamikos.core.statistics import Histogram, Moments
from dynamikos.core.verdicts import Watching
from dynamikos.engine.testing import frozen_of_one


def objective(measure: str = "p95", limit: float = 2000, **more: object) -> Objective:
    return Objective(objective="o", measure=measure, limit=limit, **more)  # type: ignore[arg-type]


def found(*seconds: float, **more: object) -> Slice:
    values = [round(each * 1e6) for each in seconds]
    moments = Moments(len(values), sum(values), sum(each * each for each in values))
    return Slice(passed=Histogram.of(values), moments=moments, **more)  # type: ignore[arg-type]


class Measures(TestCase):
    def test_each_measure_on_both_sides_of_its_limit(self) -> None:
        given = found(*[0.1] * 80, failed=20, left=25, checks=200, checks_passed=190, seconds=10)
        cases = (
            ("throughput", 8.0, "/s"),
            ("checks", 95.0, "%"),
            ("left", 20.0, "%"),
            ("failure-rate", 20.0, "%"),
            ("mean", 100.0, "ms"),
            ("max", 100.0, "ms"),
            ("p87.5", 100.0, "ms"),
        )
        for measure, value, unit in cases:
            for at_least in (False, True):
                with self.subTest(measure, at_least=at_least):
                    beyond, within = (
                        (value * 1.2, value * 0.8) if at_least else (value * 0.8, value * 1.2)
                    )
                    words = [
                        judge(objective(measure, limit, at_least=at_least), given)
                        for limit in (beyond, within)
                    ]
                    self.assertEqual([each.word for each in words], ["missed", "met"])
                    self.assertAlmostEqual(words[0].value or 0, value, delta=value * 0.001)
                    self.assertEqual(words[0].unit, unit)

    def test_what_is_open_can_turn_a_lower_limit_too(self) -> None:
        given = found(*[0.1] * 200, open_us=[5_000_000] * 40)
        self.assertEqual(judge(objective("p95", 3000, at_least=True), given).word, "met")
        self.assertEqual(judge(objective("mean", 3000, at_least=True), given).word, "not judged")

    def test_described(self) -> None:
        self.assertEqual(
            describe(objective("p99.5", 650), "Find a slot"), "p99.5 of Find a slot ≤ 650 ms"
        )
        self.assertEqual(
            describe(objective("throughput", 5, at_least=True)), "throughput of rounds ≥ 5 /s"
        )
        span = objective("mean", 3, step="a", until="b", every_s=10)
        self.assertEqual(describe(span, "A", "B"), "mean of A to B ≤ 3 ms every 10 s")
        self.assertEqual(
            describe(objective("max", 3, number="left_seats")), "max of left_seats ≤ 3"
        )


class Intervals(TestCase):
    def test_the_share_missed_and_by_how_much(self) -> None:
        each = objective(every_s=10)
        marks = [
            mark(each, at * 10, at * 10 + 10, found(*[value] * 40), 0, whole=True)
            for at, value in enumerate((1, 1, 3, 5, 1))
        ]
        told = by_interval(each, judge(each, found(1, 3)), marks)
        self.assertEqual((told.word, told.missed_percent), ("missed", 40.0))
        self.assertAlmostEqual(told.excess or 0, 1.0, delta=0.002)
        self.assertEqual(
            by_interval(objective(every_s=10, missed_allowed=40), told, marks).word, "met"
        )
        self.assertFalse(tripped(each, marks))

    def test_in_a_row_skips_what_was_not_judged(self) -> None:
        words = ("missed", "not judged", "missed", "met", "missed")
        marks = [Mark(from_s=at, to_s=at + 1, word=word) for at, word in enumerate(words)]  # type: ignore[arg-type]
        stops = objective(every_s=1, then="stop now", in_a_row=2)
        self.assertTrue(tripped(stops, marks))
        self.assertFalse(tripped(objective(every_s=1, then="stop now", in_a_row=3), marks))
        self.assertFalse(tripped(objective(every_s=1, in_a_row=2), marks))

    def test_half_of_them_have_to_be_judged(self) -> None:
        each = objective(every_s=1)
        marks = [mark(each, at, at + 1, found(*[0.1] * 30), 0, whole=at < 4) for at in range(10)]
        self.assertEqual(by_interval(each, judge(each, found()), marks).word, "not judged")
        self.assertEqual(by_interval(each, judge(each, found()), marks[:8]).word, "met")

    def test_what_is_open_for_too_long_counts_without_anything_ended(self) -> None:
        each = objective(every_s=1)
        self.assertEqual(mark(each, 0, 1, found(), 3, whole=True).word, "missed")
        self.assertEqual(mark(each, 0, 1, found(), 0, whole=True).word, "not judged")
        self.assertEqual(mark(each, 0, 1, found(*[0.1] * 99), 1, whole=True).word, "met")
        self.assertEqual(mark(each, 0, 1, found(*[0.1] * 90), 10, whole=True).word, "missed")
        self.assertEqual(
            mark(objective("mean", every_s=1), 0, 1, found(), 1, whole=True).word, "missed"
        )
        self.assertEqual(mark(each, 0, 1, found(0.1, failed=9), 0, whole=True).word, "missed")

    def test_they_lie_in_the_measured_part_after_grace(self) -> None:
        each = objective(every_s=10, grace_s=4.5)
        self.assertEqual(list(intervals_of(each, (10.5, 39))), [(15, 25), (25, 35)])
        self.assertEqual(
            next(intervals_of(objective(every_s=10, from_start=True), (10, 39))), (0, 10)
        )
        self.assertEqual(list(intervals_of(each, (10, 20))), [])


JOURNEY = parse_journey(
    "form: 1\njourney: j\nname: J\nrounds:\n"
    "  - {step: a, name: A, requests: [{request: r, address: '/a', captures: [{name: left, json: "
    "$.left}]}]}\n"
    "  - {step: b, name: B, requests: [{request: r, address: '/b', checks: [{status: 200}]}]}\n"
)


def plan(*objectives: Objective) -> Plan:
    profile = (Stretch(stretch="climb", to=4, seconds=0), Stretch(stretch="hold", seconds=20))
    return Plan(
        form=2,
        plan="p",
        name="P",
        journey="j",
        environment="e",
        profile=profile,
        objectives=objectives,
    )


class Watched(TestCase):
    def test_a_run_is_to_be_stopped_once_enough_were_missed(self) -> None:
        stops = objective(limit=500, every_s=2, then="stop gently", in_a_row=2, step="b")
        watching = Watching(frozen_of_one(plan(stops), JOURNEY))
        said = []
        for second in range(12):
            took = 900_000 if second >= 5 else 100_000
            hist = Histogram.of([took] * 30).to_bytes()
            series = [
                SeriesSecond(no=no, n=30, sum_us=30 * took, squares="0", hist=hist)
                for no in range(8)
            ]
            message = decode(encode(ShardSecond(shard=0, second=second, series=series)))
            said.append(watching.add(second, [message], whole=second != 3))
        words = [each.word for each in watching.marks[0]]
        self.assertEqual(words, ["met", "not judged", "missed", "missed", "missed", "missed"])
        self.assertEqual([at for at, each in enumerate(said) if each is not None], [7, 9, 11])
        ended = said[7]
        assert ended is not None
        self.assertEqual(ended.why, "p95 of B ≤ 500 ms every 2 s missed 2 times in a row")

    def test_what_makes_no_sense_is_said(self) -> None:
        cases = (
            ({"then": "stop now"}, "over which intervals"),
            ({"until": "b"}, "from which step"),
            ({"step": "b", "until": "a"}, "does not come after it"),
            ({"step": "a", "until": "x"}, "does not have"),
            ({"step": "a", "request": "x"}, "the request 'x'"),
            ({"number": "right"}, "does not capture"),
            ({"number": "left", "step": "a"}, "leave the step away"),
            ({"measure": "checks", "time": "first-byte"}, "first byte"),
            ({"measure": "failure-rate", "number": "left"}, "about a number"),
            ({"row": "x"}, "which no crowd has"),
        )  # fmt: skip
        for given, words in cases:
            with self.subTest(given):
                problems = plan_problems(plan(objective(**given)), {"j": JOURNEY})  # type: ignore[arg-type]
                self.assertTrue(any(words in each for each in problems), problems)
        fine = (
            {"step": "a", "until": "b"},
            {"number": "left"},
            {"step": "a", "request": "r", "time": "first-byte"},
        )
        for given in fine:
            self.assertEqual(plan_problems(plan(objective(**given)), {"j": JOURNEY}), [])  # type: ignore[arg-type]


class Scopes(TestCase):
    TEXTS: ClassVar[dict[str, Scope]] = {
        "": Performed(),
        "find-slot": Performed(step="find-slot"),
        "find-slot#get": Performed(step="find-slot", request="get"),
        "evening/find-slot": Performed(journey="evening", step="find-slot"),
        "evening/": Performed(journey="evening"),
        "row=booking": Performed(row="booking"),
        "number=minutes": Number(number="minutes"),
        "probe=target#queue=all": ProbeReading(probe="target", reading="queue=all"),
    }

    def test_each_kind_goes_from_its_text_through_an_objective_and_back(self) -> None:
        for text, scope in self.TEXTS.items():
            with self.subTest(text):
                self.assertEqual(read_scope(text), scope)
                made = Objective(objective="o", measure="p95", limit=1, **fields_of(scope))
                self.assertEqual(scope_of(made), scope)
                self.assertEqual(scope_of(made).text, text)
                self.assertEqual(list(problems(made, "o")), [])

    def test_what_makes_no_sense_is_said_wherever_it_comes_from(self) -> None:
        cases: dict[str, dict[str, object]] = {
            "over which intervals": {"then": "stop now"},
            "take a percentile, the mean or the longest": {
                "time": "first-byte", "measure": "throughput",
            },
            "say from which step": {"until": "s"},
            "no part of that": {"step": "a", "until": "b", "request": "r"},
            "say of which step": {"request": "r"},
            "both which probe": {"probe": "p"},
            "the mean or the largest": {"probe": "p", "reading": "q", "measure": "checks"},
            "belongs to no step, row or number": {"probe": "p", "reading": "q", "row": "r"},
            "is about a number: take": {"number": "n", "measure": "left"},
            "leave the step away": {"number": "n", "step": "s"},
            "has no throughput": {"step": "a", "until": "b", "measure": "throughput"},
        }  # fmt: skip
        for words, fields in cases.items():
            with self.subTest(words):
                said = " ".join(problems(objective(**fields), "Objective 'o'"))  # type: ignore[arg-type]
                self.assertIn(words, said)
        self.assertEqual(len(cases), len(SENSELESS))
