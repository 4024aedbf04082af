"""All who have a shard's users come and go: a staff for each crowd."""

import asyncio
from collections.abc import Callable, Iterator, Sequence
from functools import partial

from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.seating import Arrival, Numbering, Seat, arrivals_of, seats_of
from dynamikos.core.profiles import Arrivals, Held, Users
from dynamikos.engine.schedule.arriving import Arriving
from dynamikos.engine.schedule.holding import Holding
from dynamikos.engine.schedule.pacing import Pace
from dynamikos.engine.schedule.planned import Planned
from dynamikos.engine.schedule.staff import Around, Staff
from dynamikos.engine.users.performer import User


class Company:
    """All staffs of a shard; `changes` of the load are theirs to follow."""

    def __init__(self, frozen: FrozenRun, shard: int, shards: int, around: Around) -> None:
        self._frozen, self._shard, self._shards = frozen, shard, shards
        self._numbering = Numbering.of(frozen.crowds)
        self.seats = seats_of(frozen, shard, shards)
        self._staffs = [self._staff(no, around) for no in range(len(frozen.crowds))]

    def _staff(self, no: int, around: Around) -> Staff:
        crowd = self._frozen.crowds[no]
        load = crowd.load
        if isinstance(load, Arrivals | Held):
            places = range(self._shard + 1, load.ceiling + 1, self._shards)
            seats = self._numbering.seats[no]
            if isinstance(load, Held):
                return Holding(self._coming(self._frozen, no), places, self._numbering.users[no], seats, around)
            return Arriving(self._coming(self._frozen, no), [seats + place for place in places], around)
        pacing = load.pacing_s
        gate = None if pacing is None else lambda p=pacing: Pace(p[0], p[-1], around.clock, around.recorder).turn
        leaving = load.leaving if isinstance(load, Users) else "step"
        return Planned(self._seats_in(self.seats, no), crowd.ends_s, leaving, gate, around)

    def _coming(self, frozen: FrozenRun, no: int) -> Callable[[], Iterator[Arrival]]:
        return partial(arrivals_of, frozen, no, self._shard, self._shards, self._numbering)

    @staticmethod
    def _seats_in(seats: Sequence[Seat], no: int) -> list[Seat]:
        return [seat for seat in seats if seat.crowd == no]

    def replan(self, frozen: FrozenRun) -> None:
        """The load is changed from a second on that is still to come: `frozen` is the run with that."""
        self.seats = seats_of(frozen, self._shard, self._shards, self._numbering)
        for no, staff in enumerate(self._staffs):
            if isinstance(staff, Planned):
                staff.replan(self._seats_in(self.seats, no), frozen.crowds[no].ends_s)
            elif isinstance(staff, Arriving | Holding):
                staff.replan(self._coming(frozen, no))

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

    def here(self) -> Iterator[User]:
        """All users that are there."""
        return (user for staff in self._staffs for user in staff.here)

    def open_now(self) -> list[tuple[int, float]]:
        return [each for staff in self._staffs for each in staff.open_now()]
