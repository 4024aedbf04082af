"""The rate that is allowed is kept by those who wait, too; series of any number are told apart."""

import asyncio
from collections import Counter
from unittest import TestCase

from msgspec.structs import replace

from dynamikos.core.plans import parse_target
from dynamikos.engine.failures import Failure
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.testing import VirtualClock, run_virtual
from dynamikos.engine.users.user_context import Cap

ORIGIN = ("http", "127.0.0.1", 80)


class Waiting(TestCase):
    def passed(self, cap: Cap, many: int) -> list[float]:
        async def program() -> list[float]:
            clock, found = VirtualClock(), list[float]()

            async def one() -> None:
                await cap.pass_one(clock, ORIGIN, waits=True)
                found.append(clock.now())

            await asyncio.gather(*(one() for _ in range(many)))
            return found

        return run_virtual(program())

    def test_whoever_waits_counts_in_the_second_it_goes_in(self) -> None:
        seconds = Counter(int(each) - 1000 for each in self.passed(Cap(5, self.fail), 45))
        self.assertEqual(seconds, dict.fromkeys(range(9), 5))

    def test_the_smallest_of_several_limits_holds(self) -> None:
        target = replace(parse_target("http://127.0.0.1:80"), cap_per_s=3.0)
        seconds = Counter(int(each) - 1000 for each in self.passed(Cap(5, self.fail, [target]), 9))
        self.assertEqual(seconds, {0: 3, 1: 3, 2: 3})

    def test_one_too_many_that_does_not_wait_is_refused_and_ends_the_run(self) -> None:
        said: list[str] = []

        async def program() -> None:
            cap = Cap(2, said.append)
            for _ in range(3):
                await cap.pass_one(VirtualClock(), ORIGIN, waits=False)

        with self.assertRaises(Failure):
            run_virtual(program())
        self.assertIn("more than the 2 requests/s", said[0])


class Many(TestCase):
    def test_a_series_beyond_sixteen_bits_is_no_other_one_of_the_next_second(self) -> None:
        recorder = Recorder(0, 0.0, 100.0)
        recorder.passed(65_540, 0.1, 0.5)
        recorder.passed(4, 1.1, 1.5)
        recorder.count()
        self.assertEqual(
            {second: sorted(each.cells) for second, each in recorder._seconds.items()},
            {0: [65_540], 1: [4]},
        )
