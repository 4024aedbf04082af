"""Steps of requests one after the other, from answer to answer, think times and rounds between them
included.
"""

import asyncio
from collections.abc import Callable

from dynamikos.engine.ports import Clock
from dynamikos.engine.reporting.cells import pack_stretch
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.users.asking import Asker
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.lifecycle import Lifecycle
from dynamikos.engine.users.patience import Patience
from dynamikos.engine.users.spans import Spans
from dynamikos.engine.users.thinking import Thinking


def no_more_rounds(ended: float) -> bool:
    """For a walk that is over."""
    return False


def nobody_waits() -> None:
    """For a walk that is over."""


class Walk:
    """Performs steps until something else is to be done than sending their requests.

    `begin` gives a future: afterwards the step at `index` is for others to go on with. `kind`,
    `then` say how the step before it failed, if it did, and `missed` whether any did whose failure
    fails it alone.
    """

    def __init__(
        self,
        clock: Clock,
        recorder: Recorder,
        life: Lifecycle,
        thinking: Thinking,
        patience: Patience,
        spans: Spans,
        next_round: Callable[[float], bool],
        impatient: Callable[[], None],
    ) -> None:
        """`next_round` is called at the instant at which a round that passed has ended: it begins
        another one at once, or returns false when something has to be waited for or none follows.
        `impatient` is called when the user has waited for the step at hand as long as it does.
        """
        self._life, self._thinking, self._patience, self._spans = life, thinking, patience, spans
        self._next_round, self._impatient = next_round, impatient
        self._recorder, self._now = recorder, clock.now
        self.asker: Asker  # who asks for it, set by the user
        self.index = 0
        self.planned: float | None = (
            None  # the instant at which the next first request is due, where it is planned
        )
        self.kind = ""
        self.missed = False
        self.asked = self.went = (
            False  # whether a request of the round at hand was sent, and whether one went well
        )
        self._over_rounds = self._leaving = False
        self._steps: list[CompiledStep] = []
        self._at = 0
        self._begun = self._waited = self._last = self._late_s = 0.0
        self._pausing = False
        self._done: asyncio.Future[None] | None = None
        self._limit: asyncio.Future[None] | None = None  # done when the user is out of patience
        self._clock = clock

    def interrupt(self) -> None:
        """What is under way is nobody's any more: whoever waits goes on without it."""
        self.let_go()
        self._stop()

    def _watch(self, due: float, seconds: float) -> None:
        """The user waits for the step at hand so long."""
        self._limit = self._clock.at(due + seconds)
        self._limit.add_done_callback(self._too_long)

    def _too_long(self, limit: "asyncio.Future[None]") -> None:
        if limit.cancelled() or limit is not self._limit or self._done is None or self._done.done():
            return
        self._limit = None
        try:
            self._impatient()
        except Exception as problem:
            self.broke(problem)

    def _came_in_time(self) -> None:
        limit, self._limit = self._limit, None
        if limit is not None:
            limit.cancel()

    def let_go(self) -> None:
        """The user has left: nothing here holds on to it, so that all of it goes at once."""
        self._next_round, self._impatient = no_more_rounds, nobody_waits
        self.asker.let_go()

    def first_due(self, now: float) -> float:
        """When the first request of a step is due: at the planned instant, once, where there is
        one; else now. A late generator hides no waiting so.
        """
        planned, self.planned = self.planned, None
        return now if planned is None else min(planned, now)

    def open_now(self) -> list[tuple[int, float]]:
        """(series, due) of the step and the request under way."""
        if self._done is None or self._done.done() or self._pausing:
            return []
        return [(self._steps[self.index].series, self._begun), self.asker.asked]

    def step_now(self, *, under_way: bool = False) -> str:
        """The key of the step at hand, or of the one before the think time at hand; "" for none.
        `under_way`: only while it goes on.
        """
        if under_way and (self._done is None or self._done.done()):
            return ""
        at = self.index - 1 if self._pausing else self.index
        return self._steps[at].step.step if 0 <= at < len(self._steps) else ""

    def begin(
        self, steps: list[CompiledStep], index: int, *, leaving: bool, over_rounds: bool
    ) -> "asyncio.Future[None]":
        """From step `index` on, which sends requests one after the other. `leaving`: the user
        leaves, and these are its last steps, without think times. `over_rounds`: another round may
        follow the last step.
        """
        self._steps, self.index, self._leaving, self._over_rounds = (
            steps,
            index,
            leaving,
            over_rounds,
        )
        self.kind, self.missed = "", False
        self._done = done = asyncio.get_running_loop().create_future()
        self.go(over=False)
        return done

    def go(self, over: bool = True) -> None:
        """Goes on after a request that is `over`, else with the step at hand: until a request is
        under way. A loop, so that many steps that end at once are no recursion.
        """
        asker, steps, life = self.asker, self._steps, self._life
        while True:
            if over:
                step = steps[self.index]
                last = self._last = asker.ended
                self.asked = True
                if asker.kind:
                    if not self._failed(step, last):
                        return
                else:
                    self.went = True
                    self._at += 1
                    if self._at < len(step.requests):
                        due = self._now()
                        self._waited += (
                            due - last
                        )  # the engine's own computing is not the server's time
                        over = asker.ask(step.requests[self._at], step, due)
                        if not over:
                            return
                        continue
                    if step.whole < 0:
                        self._recorder.stretches.append(
                            pack_stretch(
                                step.series,
                                self._begun + self._waited,
                                last,
                                asker.late_s - self._late_s,
                            )
                        )
                    if step.ends:
                        self._spans.over(step, last, "")
                if self._limit is not None:
                    self._came_in_time()
                self.index += 1
                if step.thinks and not self._leaving and self._pauses(step):
                    return
            if self.index == len(steps):
                if not self._over_rounds or self.missed or not self._next_round(self._last):
                    return self._stop()
                self.index = 0
                self.asked = self.went = False
            step = steps[self.index]
            if not step.walks or (life.leaving and life.in_round and not self._leaving):
                return self._stop()
            self._begun = due = self.first_due(self._now())
            self._waited, self._at, self._late_s = 0.0, 0, asker.late_s
            if step.begins:
                self._spans.began(step, due)
            if self._patience.seconds > 0:
                self._watch(due, self._patience.seconds)
            over = asker.ask(step.requests[0], step, due)
            if not over:
                return

    def _failed(self, step: CompiledStep, last: float) -> bool:
        """Counts a step that failed; whether what follows is performed all the same."""
        if self._limit is not None:
            self._came_in_time()
        asker = self.asker
        took = last - self._begun - self._waited
        kind, asker.kind = asker.kind, ""
        self._recorder.missed(step.series, last, round(took * 1e6), kind)
        if step.ends:
            self._spans.over(step, last, kind)
        if asker.then == "step":
            self.missed = True
            return True
        self.kind = kind
        self.index += 1
        self._stop()
        return False

    def _pauses(self, step: CompiledStep) -> bool:
        pause = self._thinking.begin(step)
        if pause is None:
            return False
        self._pausing = True
        pause.add_done_callback(self._thought)
        return True

    def _thought(self, pause: "asyncio.Future[None]") -> None:
        if pause.cancelled() or self._done is None or self._done.done():
            return
        self._pausing = False
        try:
            self._thinking.end()
            self._last = self._now()
            self.go(over=False)
        except Exception as problem:
            self.broke(problem)

    def _stop(self) -> None:
        if self._done is not None and not self._done.done():
            self._done.set_result(None)

    def broke(self, problem: Exception) -> None:
        """An error of ours: whoever waits for the walk has it."""
        if self._done is not None and not self._done.done():
            self._done.set_exception(problem)
