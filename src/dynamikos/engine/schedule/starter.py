"""Starts users at their planned instants, tells them to leave, replaces those whose opening failed."""

import asyncio
from collections.abc import Callable

from dynamikos.engine.ports import Clock
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.schedule.plan import Planned
from dynamikos.engine.users.performer import User

FIRST_WAIT_S, LONGEST_WAIT_S = 1.0, 30.0


class Starter:
    """A closed workload of one shard. `begin` is the clock's instant of second 0."""

    def __init__(
        self, planned: list[Planned], begin: float, clock: Clock, health: HealthWatch, make: Callable[[int], User]
    ) -> None:
        self._planned, self._begin, self._clock, self._health, self._make = planned, begin, clock, health, make
        self._here: dict[int, User] = {}
        self._slots: set[asyncio.Task[None]] = set()
        self._stopping = False
        self._pause: set[asyncio.Future[None]] = set()
        self._open: list[tuple[int, float]] | None = None

    async def perform(self) -> None:
        """Returns when every user has left."""
        leaving = asyncio.create_task(self._leave_as_planned(), name="leave")
        try:
            for each in self._planned:
                instant = self._begin + each.start_s
                await self._wait(instant)
                if self._stopping:
                    break
                self._health.late(self._clock.now() - instant)
                task = asyncio.create_task(self._slot(each), name=f"user {each.number}")
                self._slots.add(task)
                task.add_done_callback(self._slots.discard)
            while self._slots:
                await asyncio.wait(
                    {*self._slots, *([] if leaving.done() else [leaving])}, return_when=asyncio.FIRST_COMPLETED
                )
                if leaving.done():
                    leaving.result()
        finally:
            leaving.cancel()
            for task in self._slots:
                task.cancel()

    def stop_gently(self) -> None:
        """All users leave: step finished, closing performed; nobody new starts."""
        self._stopping = True
        for waiter in self._pause:
            if not waiter.done():
                waiter.set_result(None)
        for user in list(self._here.values()):
            user.leave()

    def remember_open(self) -> None:
        """Before users are cut off: what each has under way."""
        self._open = [each for user in self._here.values() for each in user.open_now()]

    def open_now(self) -> list[tuple[int, float]]:
        """(series, due) of all that is, or was when users were cut off, under way."""
        return (
            self._open if self._open is not None else [each for user in self._here.values() for each in user.open_now()]
        )

    async def _wait(self, instant: float) -> None:
        waiter = self._clock.at(instant)
        self._pause.add(waiter)
        try:
            await waiter
        finally:
            self._pause.discard(waiter)

    async def _slot(self, each: Planned) -> None:
        """One planned user; if its opening fails, or a check makes it leave, a new one after a growing wait."""
        wait = FIRST_WAIT_S
        while not self._stopping:
            user = self._make(each.number)
            self._here[each.number] = user
            try:
                why = await user.perform()
            finally:
                self._here.pop(each.number, None)
            again = self._clock.now() + wait
            if why in ("done", "used up") or again >= self._begin + each.end_s:
                return
            await self._wait(again)
            wait = min(2 * wait, LONGEST_WAIT_S)

    async def _leave_as_planned(self) -> None:
        for each in sorted(self._planned, key=lambda planned: planned.end_s):
            await self._wait(self._begin + each.end_s)
            user = self._here.get(each.number)
            if user is not None:
                user.leave()
