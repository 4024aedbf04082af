"""Arrivals: new users for one round each."""

import asyncio
import heapq
from collections.abc import Callable, Iterator, Sequence
from itertools import islice

from dynamikos.core.frozen.seating import Arrival
from dynamikos.engine.schedule.crowd_scheduler import CrowdScheduler, Part, SchedulerContext

TOO_LATE_S = 1.0  # an arrival that could not be started for so long is not started any more
AT_A_TIME = 50  # users that are started before others get the processor
Arrivals = Callable[[], Iterator[Arrival]]


class Coming:
    """What is planned to come, one after the other; where the plan is changed, what came already is
    not given again.
    """

    def __init__(self, planned: Arrivals) -> None:
        self._left, self._given = planned(), 0

    def __iter__(self) -> "Coming":
        return self

    def __next__(self) -> Arrival:
        found = next(self._left)
        self._given += 1
        return found

    def replan(self, planned: Arrivals) -> None:
        """Until now the new plan is the same as the old one."""
        self._left = islice(planned(), self._given, None)

    def take_back(self) -> None:
        """The last one given has not come yet."""
        self._given -= 1


class Arriving(CrowdScheduler):
    """Each planned arrival is a new user for one round. `places` are those under the ceiling that
    this shard has.
    """

    def __init__(
        self, arrivals: Arrivals, places: Sequence[int], context: SchedulerContext
    ) -> None:
        super().__init__(context)
        self._coming, self._free = Coming(arrivals), list(places)
        self._pending: Arrival | None = None

    @classmethod
    def of(cls, part: Part, context: SchedulerContext) -> "Arriving":
        before = part.numbering.seats[part.no]
        return cls(part.coming, [before + place for place in part.places()], context)

    def replan(self, part: Part) -> None:
        if self._pending is not None:
            self._coming.take_back()
        self._coming.replan(part.coming)
        self._plan_anew()

    async def _come(self) -> None:
        at_once = 0
        for each in self._coming:
            instant = self._begin + each.at_s
            if instant > self._clock.now():
                self._pending = each
                as_planned = await self._wait_for_next(instant)
                self._pending = None
                if not as_planned and not self._stopping:
                    continue
                at_once = 0
            elif (at_once := at_once + 1) % AT_A_TIME == 0:
                await asyncio.sleep(0)
            if self._stopping:
                return
            late = self._clock.now() - instant
            self._health.late(late)
            if late > TOO_LATE_S:
                self._recorder.arrived(instant, "not started")
            elif not self._free:
                self._recorder.arrived(instant, "turned away")
            else:
                self._recorder.arrived(instant, "started")
                self._start(
                    self._one(each, instant, heapq.heappop(self._free)), f"user {each.number}"
                )

    async def _one(self, each: Arrival, instant: float, place: int) -> None:
        try:
            await self._perform(
                self._make(each.row, each.number, seat=place, rounds=1, planned=instant)
            )
        finally:
            heapq.heappush(self._free, place)
