"""The real clock: planned instants from one timerfd, exact to some ten microseconds and never
early.
"""

import asyncio
import ctypes
import heapq
import os
import time

CLOCK_MONOTONIC, TFD_TIMER_ABSTIME, TFD_NONBLOCK, TFD_CLOEXEC = 1, 1, 0o4000, 0o2000000


class _Timespec(ctypes.Structure):
    _fields_ = [("tv_sec", ctypes.c_long), ("tv_nsec", ctypes.c_long)]


class _Itimerspec(ctypes.Structure):
    _fields_ = [("it_interval", _Timespec), ("it_value", _Timespec)]


class RealClock:
    """perf_counter (CLOCK_MONOTONIC on Linux) and a heap of waiters behind one timerfd. Close it
    after use.
    """

    def __init__(self) -> None:
        self._libc = ctypes.CDLL(None, use_errno=True)
        self._descriptor: int = self._libc.timerfd_create(
            CLOCK_MONOTONIC, TFD_NONBLOCK | TFD_CLOEXEC
        )
        if self._descriptor < 0:
            raise OSError(ctypes.get_errno(), "timerfd_create failed")
        self._spec = _Itimerspec()
        self._settime, self._at_spec = self._libc.timerfd_settime, ctypes.byref(self._spec)
        self._heap: list[tuple[float, int, asyncio.Future[None]]] = []
        self._number = 0
        self._armed = float("inf")
        self._will_arm = (
            False  # as soon as those have gone on whose instant has come, who want others, mostly
        )
        self._loop = asyncio.get_running_loop()
        self._loop.add_reader(self._descriptor, self._fire)

    is_real = True  # its instants are those that stops of the process are known by
    now = staticmethod(time.perf_counter)
    wall = staticmethod(time.time)

    def at(self, instant: float) -> "asyncio.Future[None]":
        """A future that is done at `instant`; whoever holds it may set it earlier."""
        waiter: asyncio.Future[None] = self._loop.create_future()
        if instant <= time.perf_counter():
            waiter.set_result(None)
            return waiter
        self._number += 1
        heapq.heappush(self._heap, (instant, self._number, waiter))
        if instant < self._armed and not self._will_arm:
            self._arm(instant)
        return waiter

    def _arm(self, instant: float) -> None:
        self._armed = instant
        value = self._spec.it_value
        value.tv_sec, value.tv_nsec = divmod(max(1, int(instant * 1e9) + 1), 1_000_000_000)
        self._settime(self._descriptor, TFD_TIMER_ABSTIME, self._at_spec, None)

    def _fire(self) -> None:
        try:
            os.read(self._descriptor, 8)
        except BlockingIOError:
            pass
        self._armed = float("inf")
        heap = self._heap
        now = time.perf_counter()
        while heap and heap[0][0] <= now:
            waiter = heapq.heappop(heap)[2]
            if not waiter.done():
                waiter.set_result(None)
        if not self._will_arm:
            self._will_arm = True
            self._loop.call_soon(self._arm_next)

    def _arm_next(self) -> None:
        self._will_arm = False
        heap = self._heap
        while heap and heap[0][2].done():
            heapq.heappop(heap)
        if heap and heap[0][0] < self._armed and self._descriptor >= 0:
            self._arm(heap[0][0])

    def close(self) -> None:
        if self._descriptor >= 0:
            self._loop.remove_reader(self._descriptor)
            os.close(self._descriptor)
            self._descriptor = -1
