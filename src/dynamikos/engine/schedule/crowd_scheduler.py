"""Who has the users of one crowd come and go: what all kinds of it share."""

import asyncio
from abc import ABC, abstractmethod
from collections.abc import Coroutine, Iterator
from dataclasses import dataclass
from typing import Any, Protocol

from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.seating import Arrival, Numbering, Seat, arrivals_of, seats_of
from dynamikos.core.plans.crowds import Crowd
from dynamikos.engine.ports import Clock
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.users.performer import Gate, Parting, User

FIRST_WAIT_S, LONGEST_WAIT_S = 1.0, 30.0  # after users who had to leave
LATE_S = 0.01  # a planned round that begins so much later is late


class Make(Protocol):
    """Makes a user of a row; see User."""

    def __call__(
        self,
        row: int,
        number: int,
        *,
        seat: int,
        rounds: int | None = None,
        gate: Gate | None = None,
        planned: float | None = None,
    ) -> User: ...


@dataclass(frozen=True, slots=True)
class SchedulerContext:
    """What all staffs of a shard share. `begin` is the clock's instant of second 0."""

    begin: float
    clock: Clock
    health: HealthWatch
    recorder: Recorder
    make: Make


@dataclass(frozen=True, slots=True)
class Part:
    """The part that one shard has of one crowd, `no` of the run's; `numbering` is as the run was
    planned at first.
    """

    frozen: FrozenRun
    no: int
    shard: int
    shards: int
    numbering: Numbering

    @property
    def crowd(self) -> Crowd:
        return self.frozen.crowds[self.no]

    def seats(self) -> list[Seat]:
        """Its planned users, in order of their start."""
        return seats_of(self.frozen, self.shard, self.shards, self.numbering, only=self.no)

    def coming(self) -> Iterator[Arrival]:
        """What is planned to begin, in order."""
        return arrivals_of(self.frozen, self.no, self.shard, self.shards, self.numbering)

    def places(self) -> range:
        """The shard's places among the crowd's seats, from 1."""
        return range(self.shard + 1, self.crowd.seats + 1, self.shards)


class CrowdScheduler(ABC):
    """The users of one crowd on one shard."""

    @classmethod
    @abstractmethod
    def of(cls, part: Part, context: SchedulerContext) -> "CrowdScheduler":
        """For a part of a crowd."""

    @abstractmethod
    def replan(self, part: Part) -> None:
        """The load is changed from a second on that is still to come; until then the plan is as
        before.
        """

    def __init__(self, context: SchedulerContext) -> None:
        self._begin, self._clock, self._health = context.begin, context.clock, context.health
        self._recorder, self._make = context.recorder, context.make
        self._loop = asyncio.get_running_loop()
        self._here: set[User] = set()
        self._slots: set[asyncio.Task[None]] = set()
        self._stopping = False
        self._pause: set[asyncio.Future[None]] = set()
        self._next: asyncio.Future[None] | None = None  # what is waited for until somebody comes
        self._besides: set[asyncio.Task[None]] = set()
        self._wake = asyncio.Event()
        self._replanned = False
        self._arrive: asyncio.Task[None] | None = None
        self._open: list[tuple[int, float]] | None = None

    async def perform(self) -> None:
        """Returns when every user has left; what goes wrong in who has them come, or go, ends
        it.
        """
        self._arrive = self._beside(self._come(), "come")
        try:
            while self._slots or not self._arrive.done():
                self._wake.clear()
                await self._wake.wait()
                self._look_beside()
            self._arrive.result()
        finally:
            for task in self._besides | self._slots:
                task.cancel()

    def _look_beside(self) -> None:
        """Takes away what is done; an error in it comes out here."""
        for task in [each for each in self._besides if each.done()]:
            self._besides.discard(task)
            if not task.cancelled():
                task.result()

    def _beside(self, program: Coroutine[Any, Any, None], name: str) -> asyncio.Task[None]:
        """Performed beside the users."""
        task = asyncio.create_task(program, name=name)
        self._besides.add(task)
        task.add_done_callback(lambda _: self._wake.set())
        return task

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

    @property
    def here(self) -> set[User]:
        """The users that are there."""
        return self._here

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

    async def _wait_for_next(self, instant: float) -> bool:
        """Until an instant at which somebody is to come; false when the plan was changed
        meanwhile.
        """
        self._next = self._clock.at(instant)
        self._pause.add(self._next)
        try:
            await self._next
        finally:
            self._pause.discard(self._next)
            self._next = None
        changed, self._replanned = self._replanned, False
        return not changed

    def _plan_anew(self) -> None:
        """Whoever waits until somebody comes looks at the plan again."""
        if self._next is not None and not self._next.done():
            self._replanned = True
            self._next.set_result(None)
        elif self._arrive is not None and self._arrive.done() and not self._stopping:
            self._arrive = self._beside(self._come(), "come")

    def _start(self, program: Coroutine[Any, Any, None], name: str) -> None:
        task = self._loop.create_task(program, name=name)
        self._slots.add(task)
        task.add_done_callback(self._gone)

    def _gone(self, task: asyncio.Task[None]) -> None:
        """Nobody looks for the end before the last user has left, of whom nobody comes after."""
        self._slots.discard(task)
        if not self._slots and (self._arrive is None or self._arrive.done()):
            self._wake.set()

    async def _perform(self, user: User) -> Parting:
        self._here.add(user)
        try:
            return await user.perform()
        finally:
            self._here.discard(user)
