"""How long a user thinks, and what it waits for meanwhile."""

import asyncio

from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.lifecycle import Lifecycle, Phase
from dynamikos.engine.users.user_context import UserContext
from dynamikos.engine.users.user_state import UserState


class Thinking:
    """The think time at hand, if any; `total_s` is what the user has thought in all."""

    def __init__(self, own: UserState, context: UserContext, life: Lifecycle) -> None:
        self._own, self._context, self._life = own, context, life
        self._waited_for: asyncio.Future[None] | None = None
        self._since = self._due = 0.0
        self.total_s = 0.0

    def seconds_after(self, step: CompiledStep) -> float:
        """Of think time after a step, drawn where it is drawn."""
        seconds = step.step.think_s
        if step.step.think == "even":
            seconds = self._own.values.maker.random.uniform(
                seconds, max(seconds, step.step.think_to_s)
            )
        elif step.step.think == "log-normal" and seconds > 0:
            seconds *= self._own.values.maker.random.lognormvariate(0.0, step.step.sigma())
        return seconds * self._context.think_factor * self._own.manner.pace

    def begin(self, step: CompiledStep) -> "asyncio.Future[None] | None":
        """A future that is done when the think time after a step is over; None when there is none.
        `end` follows.
        """
        seconds = self.seconds_after(step)
        if seconds <= 0 or self._life.leaving:
            return None
        clock = self._context.clock
        self._life.think()
        self._since = clock.now()
        self._due = self._since + seconds
        self._waited_for = clock.at(self._due)
        return self._waited_for

    def end(self) -> None:
        """The think time that was begun is over, or cut short."""
        now = self._context.clock.now()
        self.total_s += now - self._since
        if not self._life.leaving:
            self._context.health.late(now - self._due)
            self._own.late_s += max(0.0, now - self._due)
        self._waited_for = None
        self._life.thought()

    def cut_short(self) -> None:
        """Whoever thinks, or attends to something, goes on now."""
        if self._waited_for is not None and not self._waited_for.done():
            self._waited_for.set_result(None)

    async def attend(self, ready: "asyncio.Future[None]") -> None:
        """Waits until something is `ready`, or the user is told to leave."""
        self._life.think()
        self._waited_for = ready
        try:
            await ready
        finally:
            self._waited_for = None
        self._life.thought()

    async def until(self, instant: float, *, counts: bool = True) -> None:
        """Waits until an instant, or until the user is told to leave. `counts`: it is think time,
        no part of what the user does.
        """
        clock = self._context.clock
        if (self._life.leaving and self._life.phase is not Phase.CLOSING) or instant <= clock.now():
            return
        since = clock.now()
        await self.attend(clock.at(instant))
        self.total_s += clock.now() - since if counts else 0.0
