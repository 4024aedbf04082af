"""Resources with known capacity. Departures are computed, not slept.

Each resource is a first-come-first-served queue with c servers and exponential service. start =
max(arrival, earliest free server), end = start + drawn service; the next resource begins at that
end, taken in time order from one event heap.
"""

import heapq
import random
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field


@dataclass(slots=True)
class Resource:
    """`servers` servers with a mean service of `mean_s` seconds each."""

    name: str
    servers: int
    mean_s: float
    free_at: list[float] = field(default_factory=list)
    busy_s: float = 0.0
    waited_s: float = 0.0
    count: int = 0
    stalled: tuple[float, float] | None = None  # instants between which nothing is begun
    begun: deque[float] = field(
        default_factory=deque
    )  # instants at which those who had to wait begin, in order
    by_second: dict[int, list[float]] = field(
        default_factory=dict
    )  # busy server-seconds, waits, how many began

    def __post_init__(self) -> None:
        self.free_at = [0.0] * self.servers

    def serve(self, arrival: float, service: float) -> float:
        """Departure of a customer who arrives at `arrival` and needs `service` seconds."""
        start = max(arrival, heapq.heappop(self.free_at))
        if self.stalled is not None and self.stalled[0] <= start < self.stalled[1]:
            start = self.stalled[1]
        end = start + service
        heapq.heappush(self.free_at, end)
        self.count += 1
        self.busy_s += service
        self.waited_s += start - arrival
        if start > arrival:
            self.begun.append(start)
        self._note(start, end, start - arrival)
        return end

    def _note(self, start: float, end: float, waited_s: float) -> None:
        first = self.by_second.setdefault(int(start), [0.0, 0.0, 0.0])
        first[1] += waited_s
        first[2] += 1
        for second in range(int(start), int(end) + 1):
            part = min(end, second + 1) - max(start, second)
            if part > 0:
                self.by_second.setdefault(second, [0.0, 0.0, 0.0])[0] += part
        if len(self.by_second) > 120:
            for second in sorted(self.by_second)[:60]:
                del self.by_second[second]

    def in_use(self, now: float) -> int:
        """Servers busy at `now`."""
        return sum(1 for free in self.free_at if free > now)

    def queue_length(self, now: float) -> int:
        """Who waits for a server at `now`."""
        while self.begun and self.begun[0] <= now:
            self.begun.popleft()
        return len(self.begun)

    def last_second(self, now: float) -> tuple[float, float]:
        """(utilization, mean wait in s) of the last whole second."""
        busy, waits, began = self.by_second.get(int(now) - 1, (0.0, 0.0, 0.0))
        return min(1.0, busy / self.servers), waits / began if began else 0.0


@dataclass(slots=True)
class Visit:
    """A request on its way through its resources."""

    arrival: float
    route: tuple[str, ...]
    done: Callable[["Visit"], None]
    services: list[tuple[str, float]] = field(default_factory=list)
    waits_s: list[float] = field(default_factory=list)
    departure: float = 0.0


class Works:
    """All resources of the stand-in and the one event heap. Time is passed in (seconds, any
    origin).
    """

    def __init__(self, resources: dict[str, tuple[int, float]], seed: int) -> None:
        self.resources = {
            name: Resource(name, servers, mean) for name, (servers, mean) in resources.items()
        }
        self._random = random.Random(seed)
        self.slower: dict[str, float] = {}  # by resource, so many times its mean
        self._heap: list[tuple[float, int, int, Visit]] = []
        self._number = 0

    def enter(self, arrival: float, route: tuple[str, ...], done: Callable[[Visit], None]) -> Visit:
        """A request arrives; `done` is called by `advance` once its last departure is computed."""
        visit = Visit(arrival, route, done)
        self._push(arrival, 0, visit)
        return visit

    def _push(self, instant: float, stage: int, visit: Visit) -> None:
        self._number += 1
        heapq.heappush(self._heap, (instant, self._number, stage, visit))

    def next_instant(self, lead_s: float = 0.0) -> float | None:
        """When `advance` has something to do again."""
        if not self._heap:
            return None
        instant, _, stage, visit = self._heap[0]
        return instant - lead_s if stage == len(visit.route) else instant

    def advance(self, now: float, lead_s: float = 0.0) -> None:
        """Takes every event up to `now` in order of time. Later ones must wait: an earlier arrival
        may still come.

        Final departures are announced `lead_s` before their instant, so that the answer is on its
        way at it; they change no queue.
        """
        heap = self._heap
        while heap and (
            heap[0][0] <= now
            or (heap[0][0] <= now + lead_s and heap[0][2] == len(heap[0][3].route))
        ):
            instant, _, stage, visit = heapq.heappop(heap)
            if stage == len(visit.route):
                visit.departure = instant
                visit.done(visit)
                continue
            resource = self.resources[visit.route[stage]]
            service = self._random.expovariate(1 / resource.mean_s) * self.slower.get(
                resource.name, 1.0
            )
            end = resource.serve(instant, service)
            visit.services.append((resource.name, service))
            visit.waits_s.append(end - service - instant)
            self._push(end, stage + 1, visit)
