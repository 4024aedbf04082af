"""One precise timer on the event loop (timerfd): a departure is announced within some ten
microseconds of its instant.
"""

import asyncio
import ctypes
import os
import time
from collections.abc import Callable


class _Spec(ctypes.Structure):
    _fields_ = [
        ("interval_s", ctypes.c_long),
        ("interval_ns", ctypes.c_long),
        ("value_s", ctypes.c_long),
        ("value_ns", ctypes.c_long),
    ]


class Timer:
    """Calls `ring` at or after the instant it was last set to (seconds of time.perf_counter)."""

    def __init__(self, ring: Callable[[], None]) -> None:
        self._libc = ctypes.CDLL(None, use_errno=True)
        self._descriptor = self._libc.timerfd_create(1, 0o4000 | 0o2000000)
        self._ring = ring
        asyncio.get_running_loop().add_reader(self._descriptor, self._fired)

    def set(self, instant: float) -> None:
        nanoseconds = max(int(instant * 1e9) + 1, time.perf_counter_ns() + 1000)
        spec = _Spec(0, 0, nanoseconds // 1_000_000_000, nanoseconds % 1_000_000_000)
        self._libc.timerfd_settime(self._descriptor, 1, ctypes.byref(spec), None)

    def _fired(self) -> None:
        try:
            os.read(self._descriptor, 8)
        except BlockingIOError:
            return
        self._ring()
