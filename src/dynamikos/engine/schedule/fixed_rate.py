"""A held rate: rounds at planned instants, by whoever is free."""

import asyncio
import heapq
from collections import deque
from collections.abc import Sequence

from dynamikos.core.frozen.seating import Arrival
from dynamikos.engine.schedule.arriving import Arrivals, Coming
from dynamikos.engine.schedule.crowd_scheduler import (
    FIRST_WAIT_S,
    LATE_S,
    LONGEST_WAIT_S,
    CrowdScheduler,
    Part,
    SchedulerContext,
)
from dynamikos.engine.users.performer import User


class FixedRate(CrowdScheduler):
    """Rounds are begun at planned instants: by a user of the row who is free, else by a new one up
    to the ceiling, else by the next who is free, late.
    """

    def __init__(
        self,
        rounds: Arrivals,
        places: Sequence[int],
        numbers: int,
        seats: int,
        context: SchedulerContext,
    ) -> None:
        """`places` are those under the ceiling, from 1, that this shard has; `numbers` and `seats`
        how many of them other crowds have.
        """
        super().__init__(context)
        self._coming, self._free, self._numbers, self._seats = (
            Coming(rounds),
            list(places),
            numbers,
            seats,
        )
        self._pending: Arrival | None = None
        self._waiting: dict[
            int, deque[float]
        ] = {}  # planned instants that nobody has taken, by row
        self._idle: dict[int, deque[_Turn]] = {}
        self._over = False
        self._pause_s = FIRST_WAIT_S  # after the next user who has to leave

    @classmethod
    def of(cls, part: Part, context: SchedulerContext) -> "FixedRate":
        before = part.numbering
        return cls(
            part.coming, part.places(), before.users[part.no], before.seats[part.no], context
        )

    def replan(self, part: Part) -> None:
        if self._pending is not None:
            self._coming.take_back()
        self._coming.replan(part.coming)
        self._plan_anew()

    async def _come(self) -> None:
        self._over = False
        for each in self._coming:
            instant = self._begin + each.at_s
            self._pending = each
            as_planned = await self._wait_for_next(instant)
            self._pending = None
            if self._stopping:
                break
            if not as_planned:
                continue
            self._health.late(self._clock.now() - instant)
            self._recorder.arrived(instant, "started")
            self._waiting.setdefault(each.row, deque()).append(instant)
            self._hand_out(each.row)
        self._over = True
        for idle in self._idle.values():
            for turn in idle:
                turn.give(None)

    def _hand_out(self, row: int) -> None:
        """The oldest planned instant of a row goes to whoever can take it."""
        waiting, idle = self._waiting[row], self._idle.setdefault(row, deque())
        while waiting and idle:
            turn = idle.popleft()
            if not turn.ready.done():
                turn.give(waiting.popleft())
        if waiting and self._free and not self._stopping:
            place = heapq.heappop(self._free)
            self._start(self._one(row, place), f"user {self._numbers + place}")

    async def _one(self, row: int, place: int) -> None:
        """One user; if it has to leave (no opening, no rows, a check), its place is free after a
        growing wait.
        """
        user = self._make(
            row, self._numbers + place, seat=self._seats + place, gate=_Gate(self, row).turn
        )
        why = await self._perform(user)
        if why == "done":
            self._pause_s = FIRST_WAIT_S
        else:
            pause, self._pause_s = self._pause_s, min(2 * self._pause_s, LONGEST_WAIT_S)
            await self._wait(self._clock.now() + pause)
        heapq.heappush(self._free, place)
        self._hand_out(row)

    async def turn(self, user: User, row: int) -> float | None:
        """When the user's next round was planned to begin; None when there is none for it any
        more.
        """
        waiting = self._waiting.setdefault(row, deque())
        due: float | None
        if waiting:
            due = waiting.popleft()
        elif self._over or self._stopping or user.leaving:
            return None
        else:
            turn = _Turn()
            self._idle.setdefault(row, deque()).append(turn)
            await user.attend(turn.ready)
            due = turn.due
        if due is not None and self._clock.now() - due > LATE_S:
            self._recorder.late_round(self._clock.now())
        return due


class _Gate:
    """The turns of one row."""

    def __init__(self, staff: FixedRate, row: int) -> None:
        self._staff, self._row = staff, row

    async def turn(self, user: User) -> float | None:
        return await self._staff.turn(user, self._row)


class _Turn:
    """A user who waits for its next round."""

    def __init__(self) -> None:
        self.ready: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self.due: float | None = None

    def give(self, due: float | None) -> None:
        if not self.ready.done():
            self.due = due
            self.ready.set_result(None)
