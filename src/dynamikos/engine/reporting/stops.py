"""Times in which the generator's process could not run: what they can have added to a response time.

Seen by a thread in C inside the process (`dynamikos.machine.stops`): a Python thread would wait for the loop, and
another process sees neither a stop of this one nor its place in the run queue. Without a compiler a timer of the loop's
own sees them: what the loop was late and did not compute meanwhile.
"""

import asyncio
import ctypes
import threading
import time

import numpy as np
from numpy.typing import NDArray

from dynamikos.machine.stops import loaded

EVERY_S, LEAST_S = 0.002, 0.0005  # of the loop's timer, as in stops.c
AT_ONCE = 4096
KEPT_S = 120.0
# lengths of samples for which what they can have lost is computed, s; longer ones: everything
LENGTHS_S = np.array([0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 60.0])
Microseconds = NDArray[np.int64]


def lost_in(ends_s: NDArray[np.float64], lost_s: NDArray[np.float64], length_s: float) -> float:
    """The most that a window of `length_s` can hold of stops that ended at `ends_s`, in order, each whole: a sample
    begins by being sent and ends by being read, neither of which is done while the process is stopped. In s.
    """
    if not len(ends_s):
        return 0.0
    begins = ends_s - lost_s
    sums = np.concatenate(([0.0], lost_s.cumsum()))
    last = np.arange(1, len(ends_s) + 1)
    first = np.minimum(np.searchsorted(begins, ends_s - length_s - 1e-9), last)
    return float((sums[last] - sums[first]).max())


class Stops:
    """Collects them. `take` what came since; `lost` says what samples that end now can hold of them."""

    def __init__(self) -> None:
        self._library: ctypes.CDLL | None = None
        self._buffer = (ctypes.c_double * (2 * AT_ONCE))()
        self._known: list[tuple[float, float]] = []
        self._fresh: list[tuple[float, float]] = []
        self._task: asyncio.Task[None] | None = None
        self._most: NDArray[np.float64] | None = None  # by LENGTHS_S, of the stops that are known; None: nothing

    @property
    def by(self) -> str:
        """What sees them."""
        return "thread" if self._library is not None else "loop" if self._task is not None else ""

    def begin(self) -> None:
        """From now on."""
        library = loaded()
        if library is not None and library.stops_begin(threading.main_thread().native_id or 0) == 0:
            self._library = library
            self._taken()
        else:
            self._task = asyncio.create_task(self._loop(), name="stops")

    def end(self) -> None:
        if self._library is not None:
            self._library.stops_end()
        if self._task is not None:
            self._task.cancel()

    async def _loop(self) -> None:
        while True:
            before, computed = time.perf_counter(), time.thread_time()
            await asyncio.sleep(EVERY_S)
            now = time.perf_counter()
            lost = now - before - EVERY_S - (time.thread_time() - computed)
            if lost > LEAST_S:
                self._fresh.append((now, lost))

    def _taken(self) -> list[tuple[float, float]]:
        if self._library is None:
            fresh, self._fresh = self._fresh, []
            return fresh
        count = self._library.stops_take(self._buffer, AT_ONCE)
        return [(self._buffer[2 * at], self._buffer[2 * at + 1]) for at in range(count)]

    def take(self, now: float) -> tuple[float, float]:
        """(s in all, the longest) of what was noted since this was asked last."""
        fresh = self._taken()
        self._known = [each for each in self._known if each[0] > now - KEPT_S] + fresh
        self._most = None
        if self._known:
            ends, lost = (np.array(each) for each in zip(*self._known, strict=True))
            self._most = np.array([*(lost_in(ends, lost, length) for length in LENGTHS_S), lost.sum()])
        return sum(lost for _, lost in fresh), max((lost for _, lost in fresh), default=0.0)

    def lost(self, durations_us: Microseconds) -> Microseconds:
        """What samples of these lengths can have lost at most, µs; shape as given."""
        if self._most is None:
            return np.zeros(len(durations_us), np.int64)
        at = np.searchsorted(LENGTHS_S * 1e6, durations_us)
        made: Microseconds = np.ceil(self._most[at] * 1e6).astype(np.int64)
        return made
