"""Times in which the generator's process could not run: what they can have added to a response
time.

Seen by a thread in C inside the process (`dynamikos.machine.stops`): a Python thread would wait for
the loop, and another process sees neither a stop of this one nor its place in the run queue. That
thread has a processor of its own, which a machine's host may take from it while the loop goes on,
or leave to it while the loop's is taken. So a timer of the loop stands beside it: between two beats
of it the loop was stopped for as long as it was late and did not compute, or as the thread saw; and
never for longer than it was late. Without a compiler there is the timer alone. Since each sample's
begin and end are known, it can have lost at most what of it the process could not run.
"""

import asyncio
import ctypes
import threading
import time

import numpy as np
from numpy.typing import NDArray

from dynamikos.machine.stops import loaded

EVERY_S, LEAST_S = 0.004, 0.002  # of the loop's timer, and what is a stop; see `pieces`
SHARED_S, SPREAD = 50e-6, 20.0  # see `unnoted`
AT_ONCE, LONG_S = 4096, 0.02
KEPT_S = 120.0
Beat = tuple[float, float, float]
Seconds = NDArray[np.float64]
Microseconds = NDArray[np.int64]


def pieces(beats: list[Beat], seen: list[tuple[float, float]]) -> list[tuple[float, float, float]]:
    """Stops of the loop as (end, lost, late) in order, one between two beats at most: how long it
    was stopped, and how late it was, of which some may have been its own computing. `beats`: (begun
    to wait, went on, computed meanwhile) in order; `seen`: stops of the process as its thread saw
    them, (end, lost) in order.
    """
    made, at = [], 0
    for begun, went_on, computed in beats:
        late = went_on - begun - EVERY_S
        while at < len(seen) and seen[at][0] <= begun:
            at += 1
        if late <= LEAST_S:
            continue
        overlap, look = 0.0, at
        while look < len(seen) and seen[look][0] - seen[look][1] < went_on:
            end, lost = seen[look]
            overlap += max(0.0, min(end, went_on) - max(end - lost, begun))
            look += 1
        lost = min(late, max(late - computed, overlap))
        if lost > LEAST_S:
            made.append((went_on, lost, late))
    return made


def unnoted(mean_wait_s: float) -> float:
    """What a sample can have lost by waits for a processor that are too short to be stops, s.
    `mean_wait_s`: the mean one, over all times the process was given a processor. Beside others
    that want it most waits are naught and a few take a millisecond or two, so one may well be
    twenty times the mean; alone on its processor it waits some µs.
    """
    return min(LEAST_S, SPREAD * mean_wait_s) if mean_wait_s > SHARED_S else 0.0


def stopped_before(stops: list[tuple[float, float]]) -> tuple[Seconds, Seconds]:
    """(instants, how long the process could not run before each) of stops as (end, lost) in order:
    between the instants that is linear. When exactly a stop began is known to EVERY_S, so each is
    taken as that much longer.
    """
    ends, lost = (np.array(each) for each in zip(*stops, strict=True))
    begins = ends - lost - EVERY_S
    begins[1:] = np.maximum(begins[1:], ends[:-1])
    sums = (ends - begins).cumsum()
    at = np.stack([begins, ends], axis=1).ravel()
    before = np.stack([sums - (ends - begins), sums], axis=1).ravel()
    return at, before


class Stops:
    """Collects them. `take` what came since; `lost` says what samples can hold of those taken."""

    def __init__(self) -> None:
        self._library: ctypes.CDLL | None = None
        self._buffer = (ctypes.c_double * (2 * AT_ONCE))()
        self._known: list[tuple[float, float]] = []
        self._beats: list[Beat] = []
        self._seen: list[tuple[float, float]] = []  # by the thread, of beats that are still to come
        self._timer: asyncio.TimerHandle | None = None
        self._begun = self._computed = 0.0  # of the beat at hand
        self._before: tuple[Seconds, Seconds] | None = (
            None  # see stopped_before; None: there are none
        )
        self._unnoted_us = 0.0  # in what was taken last

    @property
    def by(self) -> str:
        """What sees them."""
        return "thread" if self._library is not None else "loop" if self._timer is not None else ""

    def begin(self) -> None:
        """From now on."""
        library = loaded()
        if library is not None and library.stops_begin(threading.main_thread().native_id or 0) == 0:
            self._library = library
            self._taken()
        self._begun, self._computed = time.perf_counter(), time.thread_time()
        self._timer = asyncio.get_running_loop().call_later(EVERY_S, self._beat)

    def end(self) -> None:
        if self._library is not None:
            self._library.stops_end()
        if self._timer is not None:
            self._timer.cancel()

    def _beat(self) -> None:
        """A plain callback, two hundred times a second: a task would cost half as much again."""
        now, computed = time.perf_counter(), time.thread_time()
        if now - self._begun - EVERY_S > LEAST_S:
            self._beats.append((self._begun, now, computed - self._computed))
        self._begun, self._computed = now, computed
        self._timer = asyncio.get_running_loop().call_later(EVERY_S, self._beat)

    def _taken(self) -> list[tuple[float, float]]:
        if self._library is None:
            return []
        count = self._library.stops_take(self._buffer, AT_ONCE)
        return [(self._buffer[2 * at], self._buffer[2 * at + 1]) for at in range(count)]

    def take(self, now: float, mean_wait_s: float = 0.0) -> tuple[float, float, float]:
        """(s in all, in long ones, the longest) of what was noted since this was asked last.
        `mean_wait_s`: see `unnoted`.
        """
        self._unnoted_us = unnoted(mean_wait_s) * 1e6
        self._seen += self._taken()
        fresh = pieces(self._beats, self._seen)
        self._seen = [each for each in self._seen if each[0] > self._begun]
        self._beats = []
        # when in it the loop was stopped is not known, so a sample may have lost all of what it was
        # late
        self._known = [each for each in self._known if each[0] > now - KEPT_S] + [
            (end, late) for end, _, late in fresh
        ]
        self._before = stopped_before(self._known) if self._known else None
        lengths = [lost for _, lost, _ in fresh]
        return (
            sum(lengths),
            sum(each for each in lengths if each >= LONG_S),
            max(lengths, default=0.0),
        )

    def lost(self, begun: Seconds, ended: Seconds) -> Microseconds:
        """What samples from and to these instants of the clock can have lost at most, µs; shape as
        given.
        """
        if self._before is None:
            return np.full(len(begun), int(self._unnoted_us), np.int64)
        lost = np.interp(ended, *self._before) - np.interp(begun, *self._before)
        made: Microseconds = np.ceil(lost * 1e6 + self._unnoted_us).astype(np.int64)
        return made
