"""Users who are planned one by one: so many at once, or so many rounds each."""

import asyncio
from collections.abc import Callable, Sequence

from dynamikos.core.frozen.seating import Seat
from dynamikos.engine.schedule.crowd_scheduler import (
    FIRST_WAIT_S,
    LONGEST_WAIT_S,
    CrowdScheduler,
    Part,
    SchedulerContext,
)
from dynamikos.engine.schedule.pacing import Pace
from dynamikos.engine.users.performer import Gate, User

VISITS = 10_000_000  # between the numbers of users who have the same seat one after the other


class Planned(CrowdScheduler):
    """Users who are planned one by one: concurrent ones, and those who perform so many rounds.
    `leaving`: when those leave whom a fall of the profile takes away (see Users); at its end,
    `ends_s`, all of them finish their step.
    """

    def __init__(
        self,
        seats: Sequence[Seat],
        ends_s: float,
        leaving: str,
        pacing: Callable[[], Gate] | None,
        context: SchedulerContext,
    ) -> None:
        super().__init__(context)
        self._seats, self._ends_s, self._leaving, self._pacing = seats, ends_s, leaving, pacing
        self._on: dict[int, User] = {}  # by the numbers of their seats
        self._came = (
            0  # how many of the seats, which are in order of their start, have had somebody
        )
        self._ends = {each.number: each.end_s for each in seats}
        self._leave: asyncio.Task[None] | None = None

    async def perform(self) -> None:
        self._leave = self._beside(self._leave_as_planned(), "leave")
        await super().perform()

    @classmethod
    def of(cls, part: Part, context: SchedulerContext) -> "Planned":
        load = part.crowd.load
        pacing = load.pacing_s
        gate = (
            None
            if pacing is None
            else lambda p=pacing: Pace(p[0], p[-1], context.clock, context.recorder).turn
        )
        return cls(part.seats(), part.crowd.ends_s, load.leaves, gate, context)

    def replan(self, part: Part) -> None:
        """Who is here stays until its new end."""
        self._seats, self._ends_s = part.seats(), part.crowd.ends_s
        self._ends.update({each.number: each.end_s for each in self._seats})
        if self._leave is not None:
            self._leave.cancel()
            self._leave = self._beside(self._leave_as_planned(), "leave")
        self._plan_anew()

    async def _come(self) -> None:
        while self._came < len(self._seats) and not self._stopping:
            each = self._seats[self._came]
            instant = self._begin + each.start_s
            if not await self._wait_for_next(instant) and not self._stopping:
                continue
            if self._stopping:
                return
            self._came += 1
            self._health.late(self._clock.now() - instant)
            self._start(self._slot(each), f"user {each.number}")

    async def _slot(self, each: Seat) -> None:
        """One planned user; if its opening fails, or a check makes it leave, a new one after a
        growing wait. Who comes for the first time each round, or leaves since it waited too long,
        makes room for a new one as well.
        """
        wait, visits, rounds = FIRST_WAIT_S, 0, each.rounds
        gate = self._pacing() if self._pacing is not None else None
        while not self._stopping:
            number = each.number + visits * VISITS
            user = self._on[each.number] = self._make(
                each.row, number, seat=each.seat, rounds=rounds, gate=gate
            )
            try:
                why = await self._perform(user)
            finally:
                self._on.pop(each.number, None)
            if why == "done" and user.comes_once and not user.leaving:
                visits, wait = visits + 1, FIRST_WAIT_S
                rounds = None if rounds is None else rounds - 1
                if rounds == 0 or self._clock.now() >= self._begin + self._ends[each.number]:
                    return
                continue
            if why == "left":
                visits, wait = visits + 1, FIRST_WAIT_S
            again = self._clock.now() + wait
            if (
                why in ("done", "used up", "abandoned")
                or again >= self._begin + self._ends[each.number]
            ):
                return
            if why == "left" and rounds is not None:
                return  # the rounds that were its own are not performed by others
            await self._wait(again)
            wait = min(2 * wait, LONGEST_WAIT_S)

    async def _leave_as_planned(self) -> None:
        for each in sorted(self._seats, key=lambda seat: seat.end_s):
            await self._wait(self._begin + each.end_s)
            user = self._on.get(each.number)
            if user is None:
                continue
            if self._leaving == "step" or each.end_s >= self._ends_s:
                user.leave()
            elif self._leaving == "round":
                user.leave_after_round()
            else:
                user.abandon()
