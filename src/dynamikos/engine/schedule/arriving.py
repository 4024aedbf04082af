"""Arrivals: new users for one round each."""

import asyncio
import heapq
from collections.abc import Iterator, Sequence

from dynamikos.core.frozen.seating import Arrival
from dynamikos.engine.schedule.staff import Around, Staff

TOO_LATE_S = 1.0  # an arrival that could not be started for so long is not started any more
AT_A_TIME = 50  # users that are started before others get the processor


class Arriving(Staff):
    """Each planned arrival is a new user for one round. `places` are those under the ceiling that this shard has."""

    def __init__(self, arrivals: Iterator[Arrival], places: Sequence[int], around: Around) -> None:
        super().__init__(around)
        self._arrivals, self._free = arrivals, list(places)

    async def _come(self) -> None:
        at_once = 0
        for each in self._arrivals:
            instant = self._begin + each.at_s
            if instant > self._clock.now():
                await self._wait(instant)
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
                self._start(self._one(each, instant, heapq.heappop(self._free)), f"user {each.number}")

    async def _one(self, each: Arrival, instant: float, place: int) -> None:
        try:
            await self._perform(self._make(each.row, each.number, seat=place, rounds=1, planned=instant))
        finally:
            heapq.heappush(self._free, place)
