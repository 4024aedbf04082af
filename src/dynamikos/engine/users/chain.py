"""Steps of one plain request each, one after the other, while nothing asks for more: the user's coroutine sleeps
meanwhile.
"""

import asyncio
from typing import TYPE_CHECKING

from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.ports import Link
from dynamikos.engine.reporting.recorder import BATCH
from dynamikos.engine.users.compiled import CompiledRequest, CompiledStep

if TYPE_CHECKING:
    from dynamikos.engine.users.performer import User


class Chain:
    """Performs quick steps from callback to callback, over one connection, rounds included.

    `begin` gives a future: None when the step at `index` is for the user to go on with (`pause` is a step whose think
    time comes first), the Reply to the request of `step` when there is more to do about it, or its Failure.
    """

    __slots__ = (
        "_choice",
        "_compiled",
        "_deals",
        "_exchanges",
        "_floor",
        "_flying",
        "_link",
        "_note",
        "_now",
        "_over_rounds",
        "_round",
        "_sends",
        "_spans",
        "_steps",
        "_user",
        "_wake",
        "due",
        "index",
        "pause",
        "span",
        "step",
    )

    def __init__(self, user: "User") -> None:
        around = user.around
        recorder = around.recorder
        self._user, self._choice, self._now, self._spans = user, around.choice, around.clock.now, around.spans
        self._floor, self._flying, self._deals = around.choice.floor, recorder.flying, around.deals
        self._exchanges, self._note, self._round, self._sends = (
            recorder.exchanges, recorder.exchanges.append, recorder.stretches.append, recorder.sends.append,
        )  # fmt: skip
        self.span, self.due, self.index = 0, 0.0, 0
        self.pause: CompiledStep | None = None
        self._wake: asyncio.Future[Reply | None] | None = None

    def open_now(self) -> list[tuple[int, float]]:
        """(series, due) of the step and the request under way."""
        if self._wake is None or self._wake.done():
            return []
        return [(self.step.series, self.due), (self._compiled.series, self.due)]

    def begin(
        self, link: Link, steps: list[CompiledStep], index: int, compiled: CompiledRequest, *, over_rounds: bool
    ) -> "asyncio.Future[Reply | None]":
        """Sends the only request of step `index` over `link`, which stands open.

        `over_rounds`: another round may follow the last step.
        """
        self._link, self._steps, self._over_rounds, self.pause = link, steps, over_rounds, None
        wake: asyncio.Future[Reply | None] = asyncio.get_running_loop().create_future()
        self._wake = wake
        self._go(steps[index], compiled, index)
        return wake

    def _go(self, step: CompiledStep, compiled: CompiledRequest, index: int) -> None:
        self.step, self._compiled, self.index = step, compiled, index
        self._choice.until -= 1
        self.span = span = next(self._spans)
        self.due = due = self._now()
        self._flying[span] = due
        self._sends(due)
        assert self._wake is not None
        self._link.start(compiled.start + b"%016x-01\r\n\r\n" % span, due, self, self._wake)

    def landed(self, now: float, bytes_out: int, bytes_in: int) -> bool:
        """A plain answer is complete: notes it and goes on; false, with nothing noted, when all
        of the reply is wanted.
        """
        step, series, due, user = self.step, self._compiled.series, self.due, self._user
        if (now - due) * 1e6 > self._floor.get(series, -1):
            return False  # among the slowest: to be kept
        del self._flying[self.span]
        self._note((series, step.series, due, due, now, now, bytes_out, bytes_in))
        if len(self._exchanges) >= BATCH:
            user.around.recorder.count()
        index = self.index + 1
        if step.thinks:
            self.pause = step
            return self._stop(index)
        if index == len(self._steps):
            if user.leaving or not self._over_rounds or self._deals:
                return self._stop(index)
            self._round((0, user.begun, now))
            user.begun = now
            user.round += 1
            index = 0
        elif user.leaving:
            return self._stop(index)
        step = self._steps[index]
        compiled = step.quick
        if (
            compiled is None
            or compiled.origin != self._compiled.origin
            or self._choice.until <= 1
            or not self._link.alive
        ):
            return self._stop(index)
        self._go(step, compiled, index)
        return True

    def _stop(self, index: int) -> bool:
        self.index = index
        self._link.rest()
        if self._wake is not None and not self._wake.done():
            self._wake.set_result(None)
        return True
