"""Arrivals at given instants: what is read, how it is scaled, and what follows from it."""

from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from dynamikos.core.errors import DynamikosError
from dynamikos.core.plans import parse_plan, write_plan
from dynamikos.core.plans.crowds import Crowd, CrowdRow, crowd_problems
from dynamikos.core.plans.workloads import KINDS, Replayed
from dynamikos.core.plans.workloads.replayed import MOST, read_times
from dynamikos.core.profiles import duration_s, segments
from dynamikos.core.profiles.instants import evenly, expected
from dynamikos.engine.schedule.scheduler import SCHEDULERS
from dynamikos.web.plans.workloads import FIELDS

ROWS = (CrowdRow(row="phone", journey="j"), CrowdRow(row="desk", name="At a desk", journey="j"))


def crowd(times: str, **more: float) -> Crowd:
    return Crowd(crowd="c", load=Replayed(times=times, ceiling=5, **more), rows=ROWS)  # type: ignore[arg-type]


def played(times: str, **more: float) -> list[float]:
    made = crowd(times, **more)
    return [round(at, 6) for at in made.load.instants(made, evenly())]


class Lists(TestCase):
    def test_each_kind_is_on_all_three_floors(self) -> None:
        self.assertEqual(set(KINDS), set(FIELDS))
        self.assertEqual({KINDS[key] for key in KINDS}, set(SCHEDULERS))
        for key, kind in KINDS.items():
            self.assertEqual(kind.__struct_config__.tag, key)


class Times(TestCase):
    def test_seconds_and_stamps_with_rows_and_a_heading_in_any_order(self) -> None:
        for text in (
            "0.5,phone\n2,At a desk\n",
            "at,row\n2,At a desk\n0.5,phone",
            '"0.5","phone"\r\n\r\n"2","At a desk"',
        ):
            with self.subTest(text):
                self.assertEqual(read_times(text), ((0.5, 2.0), ("phone", "At a desk")))
        for text in (
            "2026-11-30T20:00:00Z\n2026-11-30T20:00:01.25Z",
            "2026-11-30T21:00:01.25+01:00,\n2026-11-30T20:00:00",
        ):
            with self.subTest(text):
                self.assertEqual(read_times(text), ((0.0, 1.25), ("", "")))

    def test_what_can_not_be_read_is_said_with_its_line(self) -> None:
        for text, said in (
            ("", "No instants are given"),
            ("at\n", "No instants are given"),
            ("1\nsoon", "Line 2 of the instants: “soon” is neither"),
            ("1\n2026-11-30T20:00:00Z", "Line 2 of the instants: seconds and time stamps"),
            ("0\n-1", "Line 2 of the instants: “-1” is before"),
            ("nan\n", "Line 1 of the instants"),
            ("0\n1764532800\n", "more than a week"),
            ("1\n" * (MOST + 1), "more than 50,000 instants"),
            ("1" * 3_000_001, "3,000,001 characters"),
        ):
            with self.subTest(said), self.assertRaisesRegex(DynamikosError, said):
                read_times(text)
            with self.subTest(said, problems=True):
                self.assertIn(said, " ".join(crowd_problems([crowd(text)])))

    def test_rows_that_are_not_there_or_only_sometimes(self) -> None:
        self.assertIn("“tablet”, which the crowd has not", crowd_problems([crowd("1,tablet")])[0])
        self.assertIn("name it for all of them", crowd_problems([crowd("1,phone\n2")])[0])
        self.assertEqual(crowd_problems([crowd("1,phone\n2,desk\n3,At a desk")]), [])


class Scaled(TestCase):
    def test_rate_and_length(self) -> None:
        self.assertEqual(played("0\n1\n4"), [0, 1, 4])
        self.assertEqual(played("0\n1\n4", rate=2.0), [0, 0.5, 1, 2.5, 4, 4])
        self.assertEqual(played("0\n1\n4\n5", rate=0.5), [0, 4])
        self.assertEqual(played("0\n1\n4", length=2.0), [0, 2, 8])

    @given(
        st.lists(st.floats(0, 1000), min_size=1, max_size=60), st.floats(0.1, 8), st.floats(0.1, 8)
    )
    def test_as_many_as_the_rate_says_in_order_and_the_curve_counts_them(
        self, at: list[float], rate: float, length: float
    ) -> None:
        made = crowd("\n".join(map(repr, at)), rate=rate, length=length)
        instants = list(made.load.instants(made, evenly()))
        self.assertEqual(instants, sorted(instants))
        self.assertEqual(len(instants), made.load.numbers(made))
        self.assertLess(abs(len(instants) - rate * len(at)), 1)
        self.assertLessEqual(instants[-1], duration_s(made.profile))
        # a part at the end of the curve may be shorter than the others
        counted = expected(segments(made.profile), 1.0)
        self.assertLessEqual(counted, len(instants) + 1e-6)
        self.assertGreaterEqual(
            counted, sum(each < duration_s(made.profile) - 9 for each in instants) - 1e-6
        )

    def test_rows_decide_shares(self) -> None:
        made = crowd("0,phone\n1,phone\n2,phone\n3,At a desk")
        self.assertEqual(made.load.row_of_each(made), [0, 0, 0, 1])
        self.assertEqual(made.load.row_shares(made), [3, 1])
        self.assertEqual(made.load.row_shares(made, (2, 9)), [1, 1])
        self.assertEqual(crowd("0\n1").load.row_shares(crowd("0\n1")), [100, 100])

    def test_the_text_form_comes_back(self) -> None:
        text = """\
form: 2
plan: p
name: P
environment: e
crowds:
  - crowd: c
    load: {workload: replayed, times: "0,a\\n1.5,a\\n", rate: 2, ceiling: 9}
    rows: [{row: a, journey: j}]
"""
        plan = parse_plan(text)
        again = parse_plan(write_plan(plan))
        self.assertEqual(again, plan)
        self.assertEqual(plan.everybody()[0].ends_s, 2)
