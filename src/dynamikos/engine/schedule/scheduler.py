"""All who have a shard's users come and go: a staff for each crowd."""

import asyncio
from collections.abc import Iterator

from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.seating import Numbering, seats_of
from dynamikos.core.plans.workloads import Arrivals, Base, Held, Replayed, UserRounds, Users
from dynamikos.engine.schedule.arriving import Arriving
from dynamikos.engine.schedule.crowd_scheduler import CrowdScheduler, Part, SchedulerContext
from dynamikos.engine.schedule.fixed_rate import FixedRate
from dynamikos.engine.schedule.planned import Planned
from dynamikos.engine.users.performer import User

SCHEDULERS: dict[type[Base], type[CrowdScheduler]] = {
    Users: Planned, UserRounds: Planned, Arrivals: Arriving, Replayed: Arriving, Held: FixedRate,
}  # fmt: skip


class Scheduler:
    """All staffs of a shard; `changes` of the load are theirs to follow."""

    def __init__(
        self, frozen: FrozenRun, shard: int, shards: int, context: SchedulerContext
    ) -> None:
        self._shard, self._shards, self._numbering = shard, shards, Numbering.of(frozen.crowds)
        self.seats = seats_of(frozen, shard, shards)
        self._staffs = [
            SCHEDULERS[type(crowd.load)].of(self._part(frozen, no), context)
            for no, crowd in enumerate(frozen.crowds)
        ]

    def _part(self, frozen: FrozenRun, no: int) -> Part:
        return Part(frozen, no, self._shard, self._shards, self._numbering)

    def replan(self, frozen: FrozenRun) -> None:
        """The load is changed from a second on that is still to come: `frozen` is the run with
        that.
        """
        self.seats = seats_of(frozen, self._shard, self._shards, self._numbering)
        for no, staff in enumerate(self._staffs):
            staff.replan(self._part(frozen, no))

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
