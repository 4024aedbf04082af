"""The stand-in's queueing law against textbook values, and its resources against the law."""

import random
from unittest import TestCase

from observatory.app import Observatory
from observatory.law import closed_law, erlang_c, saturation_per_s
from observatory.people import observer, password_of
from observatory.resources import Visit, Works


class Law(TestCase):
    def test_single_server(self) -> None:
        self.assertAlmostEqual(erlang_c(5, 1, 0.1), 0.1 / (1 - 0.5))  # M/M/1: S / (1 − ρ)
        self.assertEqual(erlang_c(10, 1, 0.1), float("inf"))
        # M/M/2, λ = 15, μ = 10: W = 1/μ + C/(cμ − λ) with C(2, 1.5) = 9/14
        self.assertAlmostEqual(erlang_c(15, 2, 0.1), 0.1 + (9 / 14) / 5)

    def test_mean_value_analysis(self) -> None:
        # one server without think time: X = 1/S for any number of users, R = n·S
        found = closed_law({"a": (1, 0.1)}, {"a": 1}, 0, 7)
        self.assertAlmostEqual(found["throughput_per_s"], 10)
        self.assertAlmostEqual(found["response_s"], 0.7)
        # as many servers as users: nobody waits
        self.assertAlmostEqual(closed_law({"a": (5, 0.1)}, {"a": 2}, 1, 5)["response_s"], 0.2)
        # machine repairman with one server, n = 2, Z = S: X = 2·(4/5)/2 … p(0) = 1/5, X = 0.8/S
        self.assertAlmostEqual(
            closed_law({"a": (1, 1.0)}, {"a": 1}, 1.0, 2)["throughput_per_s"], 0.8
        )
        self.assertEqual(
            saturation_per_s({"a": (2, 0.1), "b": (1, 0.02)}, {"a": 1, "b": 3}), (1 / 0.06, "b")
        )


class Resources(TestCase):
    def test_open_station_obeys_erlang_c(self) -> None:
        works, draw, times = Works({"a": (3, 0.1)}, 5), random.Random(3), []
        now = 0.0
        for _ in range(60_000):
            now += draw.expovariate(20)
            works.enter(now, ("a",), lambda visit: times.append(visit.departure - visit.arrival))
        works.advance(float("inf"))
        self.assertEqual(len(times), 60_000)
        self.assertAlmostEqual(
            sum(times) / len(times), erlang_c(20, 3, 0.1), delta=0.05 * erlang_c(20, 3, 0.1)
        )

    def test_same_seed_same_services(self) -> None:
        def services() -> list[float]:
            works, found = Works({"a": (1, 0.1), "b": (1, 0.1)}, 9), []
            for number in range(20):
                works.enter(number * 0.01, ("a", "b"), lambda visit: found.append(visit.departure))
            works.advance(100)
            return found

        self.assertEqual(services(), services())
        self.assertEqual(len(services()), 20)


class Weathers(TestCase):
    def test_whoever_waits_when_the_weather_changes_is_answered(self) -> None:
        made, done = Observatory(), list[Visit]()
        for _ in range(20):
            made.works.enter(made.begun, ("web", "pool"), done.append)
        made.set_weather("gust")
        self.assertEqual(len(done), 20)


class People(TestCase):
    def test_no_two_share_an_address_or_a_night(self) -> None:
        rows = [observer(number) for number in range(5000)]
        self.assertEqual(len({row[0] for row in rows}), 5000)
        self.assertEqual(len({row[4] for row in rows}), 5000)
        self.assertEqual(rows[7][1], password_of(rows[7][0]))
