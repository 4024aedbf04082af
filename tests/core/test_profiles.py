"""Profiles, deals, objectives, plans."""

from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from dynamikos.core.errors import PlanError
from dynamikos.core.objectives import Objective, Slice, judge
from dynamikos.core.plans import parse_target
from dynamikos.core.profiles import (
    Stretch,
    duration_s,
    measured_part_s,
    peak,
    start_instants_s,
    users_at,
    users_by_second,
)
from dynamikos.core.statistics import Histogram, Moments


def climb(to: int, seconds: float) -> Stretch:
    return Stretch(stretch="climb", to=to, seconds=seconds)


def hold(seconds: float) -> Stretch:
    return Stretch(stretch="hold", seconds=seconds)


class Profile(TestCase):
    def test_climb_and_hold(self) -> None:
        profile = (climb(20, 10), hold(30))
        self.assertEqual(
            (duration_s(profile), peak(profile), measured_part_s(profile)), (40, 20, (10, 40))
        )
        self.assertEqual(
            [users_at(profile, t) for t in (-1, 0, 5, 10, 39.9, 40)], [0, 0, 10, 20, 20, 0]
        )
        starts = start_instants_s(profile)
        self.assertEqual(len(starts), 20)
        self.assertEqual(starts[0], (0.25, 40))
        self.assertEqual(starts[-1], (9.75, 40))

    def test_at_once_and_falling(self) -> None:
        self.assertEqual(start_instants_s((climb(3, 0), hold(10))), [(0, 10)] * 3)
        profile = (climb(4, 0), hold(10), climb(0, 8))
        self.assertEqual(start_instants_s(profile), [(0, 11), (0, 13), (0, 15), (0, 17)])
        self.assertEqual(measured_part_s(profile), (0, 10))

    @settings(max_examples=80, deadline=None)
    @given(
        st.lists(
            st.one_of(
                st.builds(climb, st.integers(0, 30), st.integers(1, 20)),
                st.builds(hold, st.integers(1, 20)),
            ),
            min_size=1,
            max_size=5,
        ),
        st.floats(0, 100),
    )
    def test_starts_agree_with_the_curve(self, profile: list[Stretch], at: float) -> None:
        active = sum(start <= at < end for start, end in start_instants_s(profile))
        near = {users_at(profile, at + shift) for shift in (-1e-6, 0, 1e-6)}
        times = [-1.0, *(each / 3 for each in range(300))]
        self.assertEqual(
            users_by_second(profile, times), [users_at(profile, each) for each in times]
        )
        self.assertIn(active, near | {users_at(profile, at)})


class Judging(TestCase):
    def word(
        self, limit: float, measure: str = "p95", failed: int = 0, values_ms: range = range(1, 201)
    ) -> str:
        values = [v * 1000 for v in values_ms]
        moments = Moments(len(values), sum(values), sum(v * v for v in values))
        found = Slice(passed=Histogram.of(values), moments=moments, failed=failed)
        return judge(Objective(objective="o", measure=measure, limit=limit), found).word

    def test_words(self) -> None:  # p95 of 1…200 ms is 190 ms, the mean 100.5 ms
        self.assertEqual(
            [self.word(limit) for limit in (189, 191, 211, 212)],
            ["missed", "close", "close", "met"],
        )
        self.assertEqual(self.word(100, "mean"), "missed")
        self.assertEqual(self.word(200, "max"), "close")
        self.assertEqual(
            [self.word(limit, "failure-rate", failed=2) for limit in (0.5, 1, 5)],
            ["missed", "close", "met"],
        )
        self.assertEqual(self.word(0, "failure-rate"), "met")

    def test_never_met_without_samples(self) -> None:
        self.assertEqual(self.word(1000, "p99", values_ms=range(1, 90)), "not judged")
        self.assertEqual(self.word(1000, values_ms=range(0)), "not judged")
        self.assertEqual(self.word(1, "failure-rate", values_ms=range(0)), "not judged")


class Targets(TestCase):
    def test_covers(self) -> None:
        exact, wild = (
            parse_target("https://Staging.Example:8443"),
            parse_target("http://*.staging.example"),
        )
        self.assertTrue(exact.covers("https", "staging.example", 8443))
        self.assertFalse(
            exact.covers("http", "staging.example", 8443)
            or exact.covers("https", "staging.example", 443)
            or exact.covers("https", "x.staging.example", 8443)
        )
        self.assertTrue(wild.covers("http", "a.staging.example", 80))
        self.assertFalse(
            wild.covers("http", "staging.example", 80)
            or wild.covers("http", "a.b.staging.example", 80)
            or wild.covers("http", "evilstaging.example", 80)
        )

    def test_refused(self) -> None:
        for text in (
            "staging.example",
            "ftp://x.example",
            "https://a.*.example",
            "https://*.example",
            "https://x*.staging.example",
            "https://x.example/path",
            "https://u:p@x.example",
            "https://x.example:99999",
            "https://x.example:0",
        ):
            with self.subTest(text), self.assertRaises(PlanError):
                parse_target(text)
