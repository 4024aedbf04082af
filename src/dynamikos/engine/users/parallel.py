"""All requests of a step at once: the step is over with the last of them."""

import asyncio
from collections.abc import Callable
from functools import partial

from dynamikos.core.checks import Then
from dynamikos.engine.ports import Clock
from dynamikos.engine.users.asking import Asker
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.judging import SEVERITY

MakeAsker = Callable[
    [Callable[[], None], Callable[[Exception], None]], Asker
]  # told of its end, of an error of ours


class ParallelStep:
    """One time that a step is performed. After `perform`: when the last request ended, and which
    failed.
    """

    def __init__(self, step: CompiledStep, due: float, clock: Clock, make: MakeAsker) -> None:
        self._step, self._due, self._clock, self._make = step, due, clock, make
        self._askers: list[Asker] = []
        self._open = [(step.series, due), *((request.series, due) for request in step.requests)]

    def open_now(self) -> list[tuple[int, float]]:
        """(series, due) of the step and of those of its requests that are under way."""
        return self._open

    async def perform(self, patience_s: float) -> bool:
        """Sends all and waits for their ends; false where the user was out of patience before (0:
        never is).
        """
        loop = asyncio.get_running_loop()
        waits: list[asyncio.Future[None]] = []
        for request in self._step.requests:
            over: asyncio.Future[None] = loop.create_future()
            ended = partial(self._one_over, over, (request.series, self._due))
            asker = self._make(ended, partial(self._one_broke, over))
            self._askers.append(asker)
            waits.append(over)
            if asker.ask(request, self._step, self._due):
                ended()
        if patience_s <= 0:
            await asyncio.gather(*waits)
        elif not await self._in_time(waits, patience_s):
            return False
        self._open = []
        return True

    @property
    def ended(self) -> float:
        """The instant of the last byte of the last request."""
        return max(asker.ended for asker in self._askers)

    @property
    def went_well(self) -> bool:
        """Whether one of its requests did at least."""
        return any(not asker.kind for asker in self._askers)

    @property
    def failure(self) -> tuple[str, Then]:
        """(kind of the first that failed or "", the worst of what failures mean)."""
        failed = [asker for asker in self._askers if asker.kind]
        if not failed:
            return "", "round"
        return failed[0].kind, max(
            (asker.then for asker in failed), key=lambda then: SEVERITY[then]
        )

    async def _in_time(self, waits: "list[asyncio.Future[None]]", patience_s: float) -> bool:
        limit = self._clock.at(self._due + patience_s)
        pending: set[asyncio.Future[None]] = set(waits)
        while pending and not limit.done():
            await asyncio.wait({*pending, limit}, return_when=asyncio.FIRST_COMPLETED)
            pending = {each for each in waits if not each.done()}
        if pending:
            return False
        limit.cancel()
        for each in waits:
            each.result()
        return True

    def _one_over(self, over: "asyncio.Future[None]", asked: tuple[int, float]) -> None:
        if asked in self._open:
            self._open.remove(asked)
        if not over.done():
            over.set_result(None)

    @staticmethod
    def _one_broke(over: "asyncio.Future[None]", problem: Exception) -> None:
        if not over.done():
            over.set_exception(problem)
