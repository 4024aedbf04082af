"""Stops of the process are seen, and the band of a figure holds the truth."""

import asyncio
import math
import os
import signal
import subprocess
import sys
import time
from unittest import TestCase, skipUnless

import numpy as np

from dynamikos.engine.http.connection import Arrivals
from dynamikos.engine.reporting.cells import PASSED, Cell
from dynamikos.engine.reporting.stops import EVERY_S, Beat, Stops, pieces, stopped_before, unnoted
from dynamikos.machine import stops

WATCHES = """
import sys, time
from dynamikos.machine.stops import loaded
import ctypes, threading
library = loaded()
library.stops_begin(threading.main_thread().native_id)
print("ready", flush=True)
sys.stdin.readline()
buffer = (ctypes.c_double * 8192)()
count = library.stops_take(buffer, 4096)
print(*(f"{buffer[2 * at + 1]:.4f}" for at in range(count)), flush=True)
library.stops_end()
"""


class Overlap(TestCase):
    def test_a_sample_loses_what_of_it_the_process_was_stopped(self) -> None:
        watch = Stops()
        watch._known = [(1.2, 0.2), (2.2, 0.2)]  # from 1.0 to 1.2, and from 2.0 to 2.2
        watch._before = stopped_before(watch._known)
        slack = round(EVERY_S * 1e6)
        for begun, ended, lost in (
            (0.0, 0.9, 0),
            (0.9, 1.3, 200_000),
            (1.1, 1.3, 100_000),
            (0.5, 2.5, 400_000),
        ):
            found = watch.lost(np.array([begun]), np.array([ended]))[0]
            self.assertGreaterEqual(found, lost - 1)
            self.assertLessEqual(found, lost + 2 * slack + 1)
        self.assertEqual(Stops().lost(np.zeros(3), np.ones(3)).tolist(), [0, 0, 0])

    def test_a_second_with_much_delay_tells_each_sample_without_it(self) -> None:
        rows = np.zeros(100, PASSED)
        rows["due"], rows["last"] = np.linspace(0, 0.9, 100), np.linspace(0, 0.9, 100) + 0.05
        rows["last"][40:60] += 0.2
        cell = Cell()
        cell.add(np.rint((rows["last"] - rows["due"]) * 1e6).astype(np.int64))
        cell.samples.append(rows)
        quiet = cell.wire(1)
        self.assertEqual((quiet.own_us, quiet.low_hist), (0, b""))
        self.assertAlmostEqual(quiet.quiet_us, 50_000, delta=2)

        def lost(begun: np.ndarray, ended: np.ndarray) -> np.ndarray:  # type: ignore[type-arg]
            return np.where(ended - begun > 0.1, 200_000, 0)

        from dynamikos.core.statistics import Histogram

        stopped = cell.wire(1, lost)
        self.assertAlmostEqual(
            Histogram.from_bytes(stopped.low_hist).max_us() or 0, 50_000, delta=60
        )
        self.assertAlmostEqual(Histogram.from_bytes(stopped.hist).max_us() or 0, 250_000, delta=130)


class Pieces(TestCase):
    """Beats of 4 ms; what the thread saw is a stop only where the loop did not go on, and never
    more than it was.
    """

    def beats(
        self, *stops: tuple[float, float], busy: tuple[float, float] = (0.0, 0.0)
    ) -> list[Beat]:
        """Of a second in which the loop was stopped, and once busy, from an instant on for so
        long.
        """
        made, at = [], 0.0
        while at < 1:
            due, computed = at + EVERY_S, 0.0
            for begin, length in sorted((*stops, busy)):
                if length and begin < due and begin >= at:
                    due = begin + length
                    computed = length if (begin, length) == busy else computed
            made.append((at, due, computed))
            at = due
        return made

    def lost(self, beats: list[Beat], seen: list[tuple[float, float]]) -> float:
        return sum(lost for _, lost, _ in pieces(beats, seen))

    def test_a_stop_of_both_is_one(self) -> None:
        self.assertAlmostEqual(self.lost(self.beats((0.3, 0.2)), [(0.5, 0.2)]), 0.2, delta=EVERY_S)

    def test_the_processor_that_was_taken_is_the_loops_alone(self) -> None:
        self.assertAlmostEqual(self.lost(self.beats((0.3, 0.2)), []), 0.2, delta=EVERY_S)

    def test_or_the_threads_alone(self) -> None:
        self.assertEqual(self.lost(self.beats(), [(0.9, 0.8)]), 0.0)
        half = self.lost(self.beats((0.3, 0.1)), [(0.9, 0.8)])
        self.assertAlmostEqual(half, 0.1, delta=EVERY_S)

    def test_what_the_loop_computes_itself_is_no_stop_unless_the_thread_saw_one_in_it(self) -> None:
        self.assertEqual(self.lost(self.beats(busy=(0.3, 0.2)), []), 0.0)
        # a host that takes the processor from a busy loop lets it look as if it had computed
        self.assertAlmostEqual(
            self.lost(self.beats(busy=(0.3, 0.2)), [(0.45, 0.1)]), 0.1, delta=0.001
        )

    def test_a_sample_may_have_lost_all_of_what_the_loop_was_late_wherever_in_it_the_stop_was(
        self,
    ) -> None:
        ((end, lost, late),) = pieces(
            self.beats(busy=(0.3, 0.3)), [(0.4, 0.1)]
        )  # stopped first, then busy
        self.assertAlmostEqual(lost, 0.1, delta=0.001)
        self.assertAlmostEqual(late, 0.3, delta=EVERY_S)
        watch = Stops()
        watch._before = stopped_before([(end, late)])
        # read at 0.45, while the loop computed: it had waited for the 100 ms of the stop
        self.assertGreaterEqual(watch.lost(np.array([0.29]), np.array([0.45]))[0], 100_000)

    def test_the_load_is_not_said_to_be_lower_where_only_the_thread_was_kept_waiting(self) -> None:
        async def program() -> tuple[float, float, float]:
            watch = Stops()
            watch.begin()
            begun = time.perf_counter()
            await asyncio.sleep(0.2)
            now = time.perf_counter()
            watch._seen.append((now, now - begun))
            told = watch.take(now)
            late = sum(max(0.0, end - begin - EVERY_S) for begin, end, _ in watch._beats)
            watch.end()
            return (*told[:2], late)

        every, long_s, late = asyncio.run(program())
        self.assertLess(every, 0.18 + late)
        self.assertLessEqual(long_s, every)


class Unnoted(TestCase):
    def test_waits_too_short_to_be_stops_count_where_others_want_the_processor(self) -> None:
        for mean_s, most_s in (
            (0.0, 0.0),
            (20e-6, 0.0),
            (50e-6, 0.0),
            (60e-6, 0.0012),
            (0.0005, 0.002),
            (1, 0.002),
        ):
            with self.subTest(mean_s):
                self.assertAlmostEqual(unnoted(mean_s), most_s)
                watch = Stops()
                watch.take(time.perf_counter(), mean_s)
                self.assertEqual(
                    watch.lost(np.array([0.0]), np.array([0.05]))[0], round(most_s * 1e6)
                )
        watch.take(time.perf_counter())  # of the next second again nothing
        self.assertEqual(watch.lost(np.array([0.0]), np.array([0.05]))[0], 0)


class Readiness(TestCase):
    def test_bytes_may_have_been_there_as_long_as_the_thread_has_computed(self) -> None:
        arrivals = Arrivals()
        arrivals.look(time.perf_counter())
        until = time.thread_time() + 0.02
        while time.thread_time() < until:
            math.sqrt(2)
        time.sleep(0.05)  # idle: nothing would have been left unread
        arrivals.look(time.perf_counter())
        self.assertGreaterEqual(arrivals.computed_s, 0.02)
        self.assertLess(arrivals.computed_s, 0.045)


@skipUnless(stops.made() is not None, "there is no compiler here")
class Native(TestCase):
    def test_a_stopped_process_sees_how_long_it_was_stopped(self) -> None:
        child = subprocess.Popen(
            [sys.executable, "-c", WATCHES],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            env={**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)},
        )
        self.addCleanup(child.kill)
        assert child.stdout is not None
        self.assertEqual(child.stdout.readline().strip(), "ready")
        time.sleep(0.05)
        child.send_signal(signal.SIGSTOP)
        time.sleep(0.2)
        child.send_signal(signal.SIGCONT)
        time.sleep(0.05)
        told, _ = child.communicate("go\n", timeout=30)
        self.assertGreaterEqual(max(map(float, told.split())), 0.19)

    def test_begun_and_ended_again_in_the_loop_of_a_run(self) -> None:
        async def program() -> tuple[str, float]:
            watch = Stops()
            watch.begin()
            await asyncio.sleep(0.03)
            _, _, longest = watch.take(time.perf_counter())
            watch.end()
            return watch.by, longest

        for _ in range(2):
            by, longest = asyncio.run(program())
            self.assertEqual(by, "thread")
            self.assertLess(longest, 5)
