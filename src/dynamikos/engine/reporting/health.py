"""The generator measures itself: processor, lateness of planned instants, loop stalls, memory,
sockets.
"""

import asyncio
import time
from collections.abc import Callable
from pathlib import Path

import psutil

from dynamikos.core.reports import Health
from dynamikos.engine.reporting.stops import Stops


def _waited() -> tuple[int, int]:
    """(ns that this process's main thread has been ready to go on without a processor, how often it
    was given one) (Linux, Documentation/scheduler/sched-stats).
    """
    try:
        _, waited_ns, times = Path("/proc/self/schedstat").read_text().split()
        return int(waited_ns), int(times)
    except (OSError, ValueError):
        return 0, 0


def _throttled_us() -> int:
    """How long the container's limit on processor time has held it back (cgroup v2,
    cpu.stat); 0 where there is none.
    """
    try:
        for line in Path("/sys/fs/cgroup/cpu.stat").read_text().splitlines():
            if line.startswith("throttled_usec "):
                return int(line.split()[1])
    except (OSError, ValueError):
        pass
    return 0


class HealthWatch:
    """Collects between two readings. `late` is told each planned instant's lateness in seconds."""

    def __init__(self, unsent: Callable[[], int] = lambda: 0) -> None:
        self._process = psutil.Process()
        self._unsent = unsent
        self._late_us: list[int] = []
        self._stall_us = 0
        self._wall, self._cpu = time.perf_counter(), time.process_time()
        self._machine = psutil.cpu_times()
        self._waited, self._throttled_us = _waited(), _throttled_us()
        self._task: asyncio.Task[None] | None = None
        self._stops = Stops()
        self.lost = self._stops.lost

    def start(self) -> None:
        self._stops.begin()
        self._task = asyncio.create_task(self._stalls(), name="stalls")

    def stop(self) -> None:
        self._stops.end()
        if self._task is not None:
            self._task.cancel()

    def late(self, seconds: float) -> None:
        self._late_us.append(int(seconds * 1e6) if seconds > 0 else 0)

    async def _stalls(self) -> None:
        while True:
            before = time.perf_counter()
            await asyncio.sleep(0.05)
            self._stall_us = max(self._stall_us, int((time.perf_counter() - before - 0.05) * 1e6))

    def read(self) -> Health:
        """Health since the last reading, which begins a new one."""
        wall, cpu = time.perf_counter(), time.process_time()
        late = sorted(self._late_us)
        machine = psutil.cpu_times()
        total = sum(machine) - sum(self._machine)
        idle = (machine.idle + getattr(machine, "iowait", 0.0)) - (
            self._machine.idle + getattr(self._machine, "iowait", 0.0)
        )
        memory = self._process.memory_info().rss
        waited, throttled, took = _waited(), _throttled_us(), max(1e-6, wall - self._wall)
        waited_s, times = (waited[0] - self._waited[0]) / 1e9, waited[1] - self._waited[1]
        stopped_s, long_s, longest_s = self._stops.take(
            wall, waited_s / times if times > 0 else 0.0
        )
        stolen = getattr(machine, "steal", 0.0) - getattr(self._machine, "steal", 0.0)
        health = Health(
            cpu_share=(cpu - self._cpu) / max(1e-6, wall - self._wall),
            late_p50_us=late[(len(late) - 1) // 2] if late else 0,
            late_p99_us=late[max(0, -(-99 * len(late) // 100) - 1)] if late else 0,
            late_max_us=late[-1] if late else 0,
            stall_max_us=max(0, self._stall_us),
            memory_bytes=memory,
            sockets=self._process.num_fds(),
            unsent=self._unsent(),
            machine_share=1 - idle / total if total > 0.2 else 0.0,
            wait_share=min(1.0, max(0.0, waited_s) / took),
            throttled_share=min(1.0, max(0, throttled - self._throttled_us) / 1e6 / took),
            stolen_share=max(0.0, stolen / total) if total > 0.2 else 0.0,
            stopped_us=round(stopped_s * 1e6),
            stopped_long_us=round(long_s * 1e6),
            stopped_max_us=round(longest_s * 1e6),
            stops_by=self._stops.by,
        )
        self._wall, self._cpu, self._machine = wall, cpu, machine
        self._waited, self._throttled_us = waited, throttled
        self._late_us, self._stall_us = [], 0
        return health
