"""Who has the users of one crowd come and go: what all kinds of it share."""

import asyncio
from abc import ABC, abstractmethod
from collections.abc import Coroutine
from dataclasses import dataclass
from typing import Any, Protocol

from dynamikos.engine.ports import Clock
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.users.performer import Gate, User

FIRST_WAIT_S, LONGEST_WAIT_S = 1.0, 30.0  # after users who had to leave
LATE_S = 0.01  # a planned round that begins so much later is late


class Make(Protocol):
    """Makes a user of a row; see User."""

    def __call__(
        self, row: int, number: int, *, seat: int, rounds: int | None = None, gate: Gate | None = None,
        planned: float | None = None,
    ) -> User: ...  # fmt: skip


@dataclass(frozen=True, slots=True)
class Around:
    """What all staffs of a shard share. `begin` is the clock's instant of second 0."""

    begin: float
    clock: Clock
    health: HealthWatch
    recorder: Recorder
    make: Make


class Staff(ABC):
    """The users of one crowd on one shard."""

    def __init__(self, around: Around) -> None:
        self._begin, self._clock, self._health = around.begin, around.clock, around.health
        self._recorder, self._make = around.recorder, around.make
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
