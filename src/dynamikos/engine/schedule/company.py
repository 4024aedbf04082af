"""All who have a shard's users come and go: a staff for each crowd."""

import asyncio
from collections.abc import Sequence

from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.seating import Seat, arrivals_of, numbers_before
from dynamikos.core.profiles import Arrivals, Held, Users
from dynamikos.engine.schedule.arriving import Arriving
from dynamikos.engine.schedule.holding import Holding
from dynamikos.engine.schedule.pacing import Pace
from dynamikos.engine.schedule.planned import Planned
from dynamikos.engine.schedule.staff import Around, Staff


class Company:
    """All staffs of a shard."""

    def __init__(self, staffs: Sequence[Staff]) -> None:
        self._staffs = staffs

    async def perform(self) -> None:
        """Returns when every user of every crowd has left; what goes wrong in one ends all."""
        tasks = [asyncio.create_task(each.perform(), name="crowd") for each in self._staffs]
        try:
            done, _ = await asyncio.wait(tasks, return_when=asyncio.FIRST_EXCEPTION)
            for task in done:
                task.result()
        finally:
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)

    def stop_gently(self) -> None:
        for each in self._staffs:
            each.stop_gently()

    def remember_open(self) -> None:
        for each in self._staffs:
            each.remember_open()

    def open_now(self) -> list[tuple[int, float]]:
        return [each for staff in self._staffs for each in staff.open_now()]


def company_of(frozen: FrozenRun, seats: Sequence[Seat], shard: int, shards: int, around: Around) -> Company:
    """The staffs of one shard; `seats` are its planned users."""
    staffs: list[Staff] = []
    numbers, taken = numbers_before(frozen.crowds), frozen.places.before
    for no, crowd in enumerate(frozen.crowds):
        load = crowd.load
        if isinstance(load, Arrivals | Held):
            planned = arrivals_of(frozen, no, shard, shards)
            places = range(shard + 1, load.ceiling + 1, shards)
            if isinstance(load, Held):
                staffs.append(Holding(planned, places, numbers[no], taken[no], around))
            else:
                staffs.append(Arriving(planned, [taken[no] + place for place in places], around))
            continue
        pacing = load.pacing_s
        gate = None if pacing is None else lambda p=pacing: Pace(p[0], p[-1], around.clock, around.recorder).turn
        leaving = load.leaving if isinstance(load, Users) else "step"
        staffs.append(Planned([seat for seat in seats if seat.crowd == no], crowd.ends_s, leaving, gate, around))
    return Company(staffs)
