"""Users who are planned one by one: so many at once, or so many rounds each."""

import asyncio
from collections.abc import Callable, Sequence

from dynamikos.core.frozen.seating import Seat
from dynamikos.engine.schedule.staff import FIRST_WAIT_S, LONGEST_WAIT_S, Around, Staff
from dynamikos.engine.users.performer import Gate, User


class Planned(Staff):
    """Users who are planned one by one: concurrent ones, and those who perform so many rounds. `leaving`: when those
    leave whom a fall of the profile takes away (see Users); at its end, `ends_s`, all of them finish their step.
    """

    def __init__(
        self, seats: Sequence[Seat], ends_s: float, leaving: str, pacing: Callable[[], Gate] | None, around: Around
    ) -> None:
        super().__init__(around)
        self._seats, self._ends_s, self._leaving, self._pacing = seats, ends_s, leaving, pacing
        self._on: dict[Seat, User] = {}

    async def perform(self) -> None:
        leaving = asyncio.create_task(self._leave_as_planned(), name="leave")
        try:
            await super().perform()
            if leaving.done():
                leaving.result()
        finally:
            leaving.cancel()

    async def _come(self) -> None:
        for each in self._seats:
            instant = self._begin + each.start_s
            await self._wait(instant)
            if self._stopping:
                return
            self._health.late(self._clock.now() - instant)
            self._start(self._slot(each), f"user {each.number}")

    async def _slot(self, each: Seat) -> None:
        """One planned user; if its opening fails, or a check makes it leave, a new one after a growing wait."""
        wait = FIRST_WAIT_S
        while not self._stopping:
            gate = self._pacing() if self._pacing is not None else None
            user = self._on[each] = self._make(each.row, each.number, seat=each.seat, rounds=each.rounds, gate=gate)
            try:
                why = await self._perform(user)
            finally:
                self._on.pop(each, None)
            again = self._clock.now() + wait
            if why in ("done", "used up", "abandoned") or again >= self._begin + each.end_s:
                return
            await self._wait(again)
            wait = min(2 * wait, LONGEST_WAIT_S)

    async def _leave_as_planned(self) -> None:
        for each in sorted(self._seats, key=lambda seat: seat.end_s):
            await self._wait(self._begin + each.end_s)
            user = self._on.get(each)
            if user is None:
                continue
            if self._leaving == "step" or each.end_s >= self._ends_s:
                user.leave()
            elif self._leaving == "round":
                user.leave_after_round()
            else:
                user.abandon()
