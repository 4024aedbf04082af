"""A report: everything in one file, figures as they are, nothing that could be run, and what can't
be said.
"""

import dataclasses
import re
from collections.abc import Sequence
from unittest import TestCase
from xml.etree import ElementTree

import numpy as np
from msgspec.structs import replace

from dynamikos.core.analysis.evidence import Found, Measured
from dynamikos.core.journeys import parse_journey
from dynamikos.core.objectives import Judgement, Mark, Objective
from dynamikos.core.plans import Plan, parse_plan
from dynamikos.core.profiles import Stretch
from dynamikos.core.reports import Row
from dynamikos.core.reports.by_value import Failing
from dynamikos.core.statistics import Histogram
from dynamikos.core.telling import as_html, as_markdown, report_of
from dynamikos.core.telling.drawing import drawn
from dynamikos.core.telling.model import Lane, Report, lanes_of, lanes_of_objectives, limit_of
from dynamikos.core.verdicts import Outcome
from dynamikos.core.verdicts.outcome import ArrivalFigures
from dynamikos.engine.testing import frozen_of_one

JOURNEY = parse_journey(
    "form: 1\njourney: j\nname: Evening <b>booking</b>\nrounds:\n  - step: s\n    name: S\n    "
    "requests:\n"
    '      - {request: r, address: "http://127.0.0.1:9/"}\n'
)


def outcome(**more: object) -> Outcome:
    rows = [
        Row(
            level="step",
            step="a",
            name="Fast",
            count=1200,
            per_s=20.0,
            mean_ms=12.0,
            p50_ms=11.0,
            p95_ms=20.5,
            max_ms=90,
        ),
        Row(
            level="step",
            step="b",
            name="Slow | wide",
            count=1000,
            failures=3,
            per_s=16.0,
            p95_ms=1450.0,
            p99_ms=2000.0,
        ),
        Row(level="step", step="c", name="Never", count=0),
        Row(level="request", step="a", request="r", name="r", count=9),
    ]
    marks = (
        Mark(from_s=10, to_s=20, word="missed", value=500.0),
        Mark(from_s=20, to_s=30, word="met", value=1.0),
    )
    judged = [
        Judgement(
            objective="m",
            word="met",
            value=20.5,
            limit=100,
            sentence="p95 of Fast ≤ 100 ms",
            samples=1200,
        ),
        Judgement(
            objective="x",
            word="missed",
            value=1450,
            limit=400,
            sentence="p95 of Slow ≤ 400 ms",
            marks=marks,
        ),
    ]
    given = {
        "rows": rows,
        "judgements": judged,
        "from_s": 10.0,
        "to_s": 60.0,
        "exit_code": 1,
        **more,
    }
    return Outcome(**given)  # type: ignore[arg-type]


def told(**more: object) -> Report:
    plan = Plan(
        form=2, plan="p", name='<script>alert("x")</script>', journey="j", environment="e",
        profile=(Stretch(stretch="climb", to=20, seconds=60),),
    )  # fmt: skip
    frozen = replace(frozen_of_one(plan, JOURNEY, run="r", seed=1), secret_names=("secrets.word",))
    users = np.arange(61.0)
    measured = [
        Measured('target: busy{of="a"}', "%", np.full(61, 40.0), "target", False),
        Measured("target: utilization", "%", np.full(61, 80.0), "target", False),
    ]
    lanes = lanes_of(
        users, users * 2, users * 0, {"p95": users * 10, "p50": users}, measured, all_of=True
    )
    found = [
        Found(
            rule="r",
            about="target",
            sentence="It stood still.",
            means="So.",
            try_="Look.",
            evidence={"p95": "2 s"},
        )
    ]
    given = {
        "run": "run 7",
        "when": "2026-11-29",
        "findings": found,
        "changed": ["engine 1 → 2"],
        "against": "run 6",
    }
    return report_of(frozen, outcome(), lanes, **{**given, **more})  # type: ignore[arg-type]


def report_of_rows(rows: list[Row], failing: Sequence[Failing] = ()) -> Report:
    plan = Plan(form=2, plan="p", name="P", journey="j", environment="e")
    return report_of(
        frozen_of_one(plan, JOURNEY), outcome(rows=rows, failing=list(failing)), [], run="", when=""
    )


class Steps(TestCase):
    def test_steps_of_the_same_name_stand_with_their_journey_or_row(self) -> None:
        rows = [
            Row(level="step", journey=journey, step="in", name=name, row=row, count=3)
            for journey, name, row in (
                ("booking", "Sign in", "a"), ("admin", "Sign in", "b"), ("booking", "Book", "a"),
                ("booking", "Book", "c"), ("admin", "Approve", "b"),
            )
        ]  # fmt: skip
        self.assertEqual(
            sorted(each.name for each in report_of_rows(rows).rows),
            ["Approve", "Book (a)", "Book (c)", "Sign in (admin)", "Sign in (booking)"],
        )


class Lanes(TestCase):
    def test_those_that_matter(self) -> None:
        users = np.arange(1, 61.0)
        measured = [
            Measured("target: memory", "MB", users, "target", False),
            Measured("target: utilization", "%", users, "target", False),
            Measured('target: queue{of="disk"}', "", users, "target", False),
            Measured("target: waiting", "s", users * 0, "target", False),
        ]
        goals = [
            Objective(objective=name, measure="p95", limit=limit, step=step)
            for name, limit, step in (("a", 300, "look"), ("b", 200, "book"), ("c", 100, None))
        ]
        judged = [
            Judgement(objective="a", word="met", sentence="p95 of Look ≤ 300 ms"),
            Judgement(objective="b", word="missed", sentence="p95 of Book ≤ 200 ms"),
        ]
        of = {"a": 50_000, "b": 250_000}
        own = lanes_of_objectives(
            judged, goals, lambda goal: {3: Histogram.of([of[goal.objective]] * 9)}, 60
        )  # fmt: skip
        self.assertEqual(
            [(lane.title, lane.limit) for lane in own], [("p95 of Book", 200), ("p95 of Look", 300)]
        )
        self.assertAlmostEqual(own[0].lines[0][1][3], 250, delta=3)
        self.assertEqual(int(np.isfinite(own[0].lines[0][1]).sum()), 1)
        lanes = lanes_of(
            users, users, users * 0, {}, measured, goals, own, ['target: queue{of="disk"}']
        )
        self.assertEqual(
            [lane.title for lane in lanes],
            [
                "Users",
                "Exchanges",
                "Response time of steps",
                "p95 of Book",
                "p95 of Look",
                "target: queue",
                "target: utilization",
                "target: memory",
            ],
        )
        self.assertIn(
            "Failures", [lane.title for lane in lanes_of(users, users, users, {}, measured)]
        )


class Page(TestCase):
    def test_it_asks_for_nothing_and_runs_nothing(self) -> None:
        page = as_html(told())
        self.assertIn("default-src 'none'", page)
        self.assertNotIn("<script", page)
        self.assertIn("&lt;script&gt;", page)
        self.assertEqual(re.findall(r"(?:src|href)=|url\(|@import", page), [])
        self.assertNotIn("<b>booking</b>", page)

    def test_figures_and_order_are_those_of_the_run(self) -> None:
        report = told()
        self.assertEqual([each.name for each in report.rows], ["Slow | wide", "Fast"])
        self.assertEqual([each.objective for each in report.objectives], ["x", "m"])
        for page in (as_html(report), as_markdown(report)):
            for figure in ("1.45 s", "20.5 ms", "400 ms", "engine 1 → 2", "It stood still."):
                self.assertIn(figure, page)
            self.assertLess(
                page.index("Slow | wide".replace("|", "\\|") if page[0] == "#" else "Slow | wide"),
                page.index("Fast", page.index("slowest first")),
            )
        self.assertIn("1,200", as_html(report))
        self.assertIn("10 s beyond the limit", as_html(report))

    def test_what_it_can_not_say(self) -> None:
        report = told()
        self.assertIn("Too few samples for a 99th percentile: Fast.", report.limits)
        self.assertTrue(any("only repetitions tell" in each for each in report.limits))
        self.assertTrue(any("No probe read the servers" in each for each in report.limits))

    def test_markdown_tables_keep_their_columns(self) -> None:
        tables = [line for line in as_markdown(told()).splitlines() if line.startswith("| ")]
        self.assertTrue(tables)
        widths = {len(re.split(r"(?<!\\)\|", line)) for line in tables}
        self.assertEqual(widths, {6, 11})


class Told(TestCase):
    """What somebody who was not there needs."""

    def said(self, plan: str, **more: object) -> str:
        head = "form: 2\nplan: p\nname: P\nenvironment: e\ncrowds:\n  - crowd: c\n"
        text = f"{head}{plan}    rows: [{{row: r, journey: j}}]\n"
        frozen = replace(
            frozen_of_one(Plan(form=2, plan="p", name="P", journey="j", environment="e"), JOURNEY),
            crowds=parse_plan(text).everybody(),
        )
        return " ".join(report_of(frozen, outcome(**more), [], run="run 7", when="").tested)

    def test_how_many_come_is_said_with_the_curve(self) -> None:
        climb = (
            "{stretch: climb, to: 30, seconds: 5}, {stretch: hold, seconds: 25}, {stretch: climb, "
            "to: 10, seconds: 5}"
        )
        said = self.said(f"    profile: [{climb}]\n", planned_peak=30, peak_users=28)
        self.assertIn("Up to 30 users in 5 s, 30 users for 25 s, down to 10 users in 5 s.", said)
        self.assertIn("At most 28 of 30 planned users were there at once", said)
        steps = (
            "{stretch: stairs, to: 40, steps: 4, seconds: 80}, {stretch: burst, to: 90, seconds: 3}"
        )
        said = self.said(f"    profile: [{steps}, {{stretch: hold, seconds: 9}}]\n")
        self.assertIn(
            "In 4 steps to 40 users in 80 s, a jump to 90 users for 3 s, 40 users for 9 s.", said
        )

    def test_of_arrivals_how_many_came_and_nothing_of_planned_users(self) -> None:
        load = (
            "    load: {workload: arrivals, ceiling: 50}\n    profile: [{stretch: burst, to: 80, "
            "seconds: 120}]\n"
        )
        came = ArrivalFigures(planned=9600, started=9550, turned_away=50)
        said = self.said(load, arrivals=came, peak_users=117)
        self.assertIn("A jump to 80 arrivals a second for 120 s.", said)
        self.assertIn("9,550 of 9,600 that were planned came. 50 were turned away.", said)
        self.assertIn("At most 117 users were there at once", said)

    def test_what_failed_by_kind_and_by_value(self) -> None:
        rows = [
            Row(
                level="step",
                step="a",
                name="Look",
                count=90,
                failures=32,
                kinds={"status-500": 30, "check": 2},
            ),
            Row(level="request", step="a", request="find", name="find", kinds={"status-500": 30}),
            Row(
                level="request",
                row="other",
                step="a",
                request="find",
                name="find",
                kinds={"status-500": 4},
            ),
            Row(
                level="step",
                row="other",
                step="a",
                name="Look",
                count=10,
                failures=4,
                kinds={"status-500": 4},
            ),
            Row(level="round", name="Round", kinds={"a step failed": 31}),
        ]
        failing = [
            Failing(("j", "a", "find"), "t.term", "cyg|nus", 30, 30, 40, 100, 8),
            Failing(("j", "a", "find"), "t.id", "", 1, 30, values=30, is_many=True),
        ]
        report = dataclasses.replace(
            told(),
            failed=report_of_rows(rows).failed,
            failing=report_of_rows(rows, failing).failing,
        )
        self.assertEqual(
            list(report.failed), [("Look: find", "status-500", 34), ("Look", "check", 2)]
        )
        self.assertEqual([each.value for each in report.failing], ["cyg|nus"])
        self.assertIn("What failed", as_html(report))
        self.assertIn("| find | t.term | cyg\\|nus | 30 | 30 | 40 |", as_markdown(report))
        self.assertNotIn("What failed", as_html(told()))
        self.assertIn("36 of 100 steps failed", " ".join(report_of_rows(rows).tested))


class Limits(TestCase):
    def test_only_an_objective_about_all_steps_is_drawn(self) -> None:
        over_all = Objective(objective="a", measure="p95", limit=400)
        others = [
            replace(over_all, objective="b", limit=1, **more)
            for more in (
                {"step": "s"},
                {"journey": "j"},
                {"row": "r"},
                {"measure": "p99"},
                {"step": "s", "request": "q"},
                {"probe": "t", "reading": "x"},
            )
        ]
        self.assertEqual(limit_of([*others, over_all, replace(over_all, limit=500)]), 400)
        self.assertIsNone(limit_of(others))


class Drawings(TestCase):
    def test_lines_are_where_their_values_are_and_gaps_stay(self) -> None:
        values = np.array([0.0, 10.0, np.nan, 5.0, 10.0])
        found = drawn(Lane("x", "ms", [("a", values)], limit=20.0), 5, (1, 4))
        path = found.paths[0][1]
        self.assertEqual(path.count("M"), 2)
        self.assertEqual([text for _, text in found.rows], ["0", "10", "20"])
        points = [tuple(map(float, each.split())) for each in re.split("[ML]", path) if each]
        self.assertEqual([y for _, y in points], [102.0, 54.0, 78.0, 54.0])
        self.assertEqual(sorted(x for x, _ in points), [x for x, _ in points])
        self.assertEqual(found.limit, (6.0, "20 ms"))

    def test_an_axis_of_zeros_alone_ends_at_one(self) -> None:
        found = drawn(Lane("x", "s", [("a", np.zeros(9))]), 9, (0, 9))
        self.assertEqual([text for _, text in found.rows], ["0", "0.5", "1"])
        nothing = drawn(Lane("x", "s", [("a", np.full(9, np.nan))]), 9, (0, 9))
        self.assertEqual(nothing.paths, [("a", "")])

    def test_a_part_of_a_run_begins_where_it_does(self) -> None:
        found = drawn(Lane("x", "s", [("a", np.arange(100.0))]), 60, (50, 90), begin=40)
        self.assertEqual(found.columns[0][1], "00:40")
        first, last = (
            tuple(map(float, each.split()))
            for each in (
                re.split("[ML]", found.paths[0][1])[1],
                re.split("[ML]", found.paths[0][1])[-1],
            )
        )
        self.assertLess(first[0], last[0])
        self.assertEqual(len(re.split("[ML]", found.paths[0][1])) - 1, 20)
        self.assertEqual(found.measured, (478.0, 422.0))  # the half of it that is measured

    def test_a_long_run_has_few_points_with_the_mean_of_their_seconds(self) -> None:
        found = drawn(Lane("x", "", [("a", np.arange(36_000.0))]), 36_000, (0, 36_000))
        self.assertLessEqual(found.paths[0][1].count("L"), 400)

    def test_servers_that_tell_most_come_first_and_measures_alike_share_a_lane(self) -> None:
        lanes = told().lanes
        self.assertEqual(
            [each.title for each in lanes[4:]], ["target: utilization", "target: busy"]
        )
        self.assertEqual([name for name, _ in lanes[5].lines], ["a"])

    def test_every_drawing_is_well_formed(self) -> None:
        for each in re.findall(r"<svg.*?</svg>", as_html(told()), re.S):
            ElementTree.fromstring(each)

    def test_an_hour_of_six_hundred_steps_is_a_small_file(self) -> None:
        draw = np.random.default_rng(1)
        rows = [
            Row(level="step", step=f"s{n}", name=f"Step {n}", count=99, p95_ms=float(n))
            for n in range(600)
        ]
        users = draw.uniform(0, 1000, 3600)
        lanes = lanes_of(users, users, users, {"p95": users, "p50": users}, [])
        frozen = frozen_of_one(
            Plan(form=2, plan="p", name="P", journey="j", environment="e",
                 profile=(Stretch(stretch="climb", to=20, seconds=3600),)), JOURNEY,
        )  # fmt: skip
        page = as_html(report_of(frozen, outcome(rows=rows), lanes, run="r", when=""))
        self.assertLess(len(page), 3_000_000)
        self.assertIn("400 more steps are left out", page)
