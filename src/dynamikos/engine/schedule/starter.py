"""Has a shard's users come and go as they are planned: one Staff a crowd, all of them a Company."""

import asyncio
import heapq
from abc import ABC, abstractmethod
from collections import deque
from collections.abc import Callable, Coroutine, Iterator, Sequence
from typing import Any, Protocol

from dynamikos.core.frozen.seating import Arrival, Seat
from dynamikos.engine.ports import Clock
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.users.performer import Gate, User

FIRST_WAIT_S, LONGEST_WAIT_S = 1.0, 30.0
TOO_LATE_S = 1.0  # an arrival that could not be started for so long is not started any more
LATE_S = 0.01  # a planned round that begins so much later is late
AT_A_TIME = 50  # users that are started before others get the processor


class Make(Protocol):
    """Makes a user of a row; see User."""

    def __call__(
        self, number: int, seat: int, row: int, *, rounds: int | None = None, gate: Gate | None = None,
        planned: float | None = None,
    ) -> User: ...  # fmt: skip


class Staff(ABC):
    """The users of one crowd on one shard. `begin` is the clock's instant of second 0."""

    def __init__(self, begin: float, clock: Clock, health: HealthWatch, recorder: Recorder, make: Make) -> None:
        self._begin, self._clock, self._health, self._recorder, self._make = begin, clock, health, recorder, make
        self._here: set[User] = set()
        self._slots: set[asyncio.Task[None]] = set()
        self._stopping = False
        self._pause: set[asyncio.Future[None]] = set()
        self._open: list[tuple[int, float]] | None = None

    async def perform(self) -> None:
        """Returns when every user has left."""
        try:
            await self._come()
            while self._slots:
                await asyncio.wait(set(self._slots), return_when=asyncio.FIRST_COMPLETED)
        finally:
            for task in self._slots:
                task.cancel()

    @abstractmethod
    async def _come(self) -> None:
        """Starts users at their instants, until the last has come or the staff is stopping."""

    def stop_gently(self) -> None:
        """All users leave: step finished, closing performed; nobody new starts."""
        self._stopping = True
        for waiter in self._pause:
            if not waiter.done():
                waiter.set_result(None)
        for user in list(self._here):
            user.leave()

    def remember_open(self) -> None:
        """Before users are cut off: what each has under way."""
        self._open = self._under_way()

    def open_now(self) -> list[tuple[int, float]]:
        """(series, due) of all that is, or was when users were cut off, under way."""
        return self._open if self._open is not None else self._under_way()

    def _under_way(self) -> list[tuple[int, float]]:
        return [each for user in self._here for each in user.open_now()]

    async def _wait(self, instant: float) -> None:
        waiter = self._clock.at(instant)
        self._pause.add(waiter)
        try:
            await waiter
        finally:
            self._pause.discard(waiter)

    def _start(self, program: Coroutine[Any, Any, None], name: str) -> None:
        task = asyncio.create_task(program, name=name)
        self._slots.add(task)
        task.add_done_callback(self._slots.discard)

    async def _perform(self, user: User) -> str:
        self._here.add(user)
        try:
            return await user.perform()
        finally:
            self._here.discard(user)


class Planned(Staff):
    """Users who are planned one by one: concurrent ones, and those who perform so many rounds. `leaving`: when those
    leave whom a fall of the profile takes away (see Users); at its end, `ends_s`, all of them finish their step.
    """

    def __init__(
        self, seats: Sequence[Seat], ends_s: float, leaving: str, pacing: Callable[[], Gate] | None, begin: float,
        clock: Clock, health: HealthWatch, recorder: Recorder, make: Make,
    ) -> None:  # fmt: skip
        super().__init__(begin, clock, health, recorder, make)
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
            user = self._on[each] = self._make(each.number, each.seat, each.row, rounds=each.rounds, gate=gate)
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


class Arriving(Staff):
    """Each planned arrival is a new user for one round. `places` are those under the ceiling that this shard has."""

    def __init__(
        self, arrivals: Iterator[Arrival], places: Sequence[int], begin: float, clock: Clock, health: HealthWatch,
        recorder: Recorder, make: Make,
    ) -> None:  # fmt: skip
        super().__init__(begin, clock, health, recorder, make)
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
            await self._perform(self._make(each.number, place, each.row, rounds=1, planned=instant))
        finally:
            heapq.heappush(self._free, place)


class Holding(Staff):
    """Rounds are begun at planned instants: by a user of the row who is free, else by a new one up to the ceiling, else
    by the next who is free, late.
    """

    def __init__(
        self, rounds: Iterator[Arrival], places: Sequence[int], before: int, begin: float, clock: Clock,
        health: HealthWatch, recorder: Recorder, make: Make,
    ) -> None:  # fmt: skip
        """`before`: users' numbers that other crowds have; `places` are numbered within this one, from 1."""
        super().__init__(begin, clock, health, recorder, make)
        self._rounds, self._free, self._before = rounds, list(places), before
        self._waiting: dict[int, deque[float]] = {}  # planned instants that nobody has taken, by row
        self._idle: dict[int, deque[_Turn]] = {}
        self._over = False
        self._pause_s = FIRST_WAIT_S  # after the next user who has to leave

    async def _come(self) -> None:
        for each in self._rounds:
            instant = self._begin + each.at_s
            await self._wait(instant)
            if self._stopping:
                break
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
            self._start(self._one(row, place), f"user {self._before + place}")

    async def _one(self, row: int, place: int) -> None:
        """One user; if it has to leave (no opening, no rows, a check), its place is free after a growing wait."""
        number = self._before + place
        why = await self._perform(self._make(number, number, row, gate=_Gate(self, row).turn))
        if why == "done":
            self._pause_s = FIRST_WAIT_S
        else:
            pause, self._pause_s = self._pause_s, min(2 * self._pause_s, LONGEST_WAIT_S)
            await self._wait(self._clock.now() + pause)
        heapq.heappush(self._free, place)
        self._hand_out(row)

    async def turn(self, user: User, row: int) -> float | None:
        """When the user's next round was planned to begin; None when there is none for it any more."""
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

    def __init__(self, staff: Holding, row: int) -> None:
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


class Pace:
    """The gate of one user with pacing: its next round begins `low_s` to `high_s` after its last one began."""

    def __init__(self, low_s: float, high_s: float, clock: Clock, recorder: Recorder) -> None:
        self._low_s, self._high_s, self._clock, self._recorder = low_s, high_s, clock, recorder
        self._next: float | None = None

    async def turn(self, user: User) -> float | None:
        """Waits for it; a round that could not begin in time begins at once, and counts as late."""
        if self._next is not None:
            if self._clock.now() - self._next > LATE_S:
                self._recorder.late_round(self._clock.now())
            else:
                await user.wait(self._next)
        now = self._clock.now()
        self._next = now + user.own.values.maker.random.uniform(self._low_s, self._high_s)
        return now


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
