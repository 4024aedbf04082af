"""Doing steps again and again: so many times, while a condition holds, or until it does."""

import asyncio
from dataclasses import dataclass

from dynamikos.core.errors import TemplateError
from dynamikos.core.journeys.kinds import Repeating
from dynamikos.core.values.numbers import as_number
from dynamikos.engine.guard import bounded
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.kinds.base import Binding, Doing, Outcome, Stage

SLACK_S = 1e-6  # of comparing instants


@dataclass(slots=True)
class _Tried:
    """What the tries came to; `last` is when the last one ended."""

    last: float
    count: int = 0
    came: bool = False  # whether it has come about
    worst: Outcome = ""


class Repeats(Doing[Repeating]):
    """Its whole time is a figure; one that does not come about is a failure of its own."""

    def __init__(self, step: Repeating, bind: Binding) -> None:
        super().__init__(step, bind)
        rule = step.repeat
        self._times = bind.text(rule.times) if rule.times else None
        self._while, self._until = bind.condition(rule.while_), bind.condition(rule.until)
        self._steps = bind.steps(step.steps)

    async def perform(self, stage: Stage, at: CompiledStep, *, leaving: bool) -> Outcome:
        most, late_s = self._most(stage), stage.own.late_s
        begun = stage.now()
        tried = await self._try(stage, most, begun, leaving=leaving)
        stage.context.recorder.tried(at.series, tried.last, tried.count)
        tries = f"{tried.count} {'try' if tried.count == 1 else 'tries'}"
        told = f"{tries} in {stage.now() - begun:.2f} s"
        if tried.worst:
            stage.say(at, told)
            took = round((tried.last - begun) * 1e6)
            stage.context.recorder.missed(at.series, tried.last, took, "a step failed")
            return tried.worst
        came = tried.came or (self._times is not None and tried.count >= most)
        stage.say(at, told + ("" if came else ", and it has not come about"))
        if came or (stage.user.leaving and not leaving):
            own_s = stage.own.late_s - late_s
            stage.context.recorder.passed(at.series, begun, tried.last, own_s)
            return ""
        return self._not_come(stage, at, most, tried.count, begun, tried.last)

    async def _try(self, stage: Stage, most: int, begun: float, *, leaving: bool) -> "_Tried":
        """Again and again: until it came about, a step failed, or it may not go on."""
        tried = _Tried(last=begun)
        while True:
            if self._while is not None and not bounded(self._while, stage.values):
                tried.came = True
                return tried
            if tried.count >= most or (tried.count and self._is_over(stage, begun, leaving)):
                return tried
            started = stage.now()
            tried.count += 1
            tried.worst = await stage.user.run_steps(self._steps, leaving=leaving)
            tried.last = stage.now()
            if tried.worst:
                return tried
            if self._until is not None and bounded(self._until, stage.values):
                tried.came = True
                return tried
            if tried.count < most:
                await self._wait(stage, started, begun)

    def _is_over(self, stage: Stage, begun: float, leaving: bool) -> bool:
        """Whether no further try is made: the user leaves, or the time is up."""
        is_late = stage.now() - begun >= self._limit_s - SLACK_S
        return is_late or (stage.user.leaving and not leaving)

    @property
    def _limit_s(self) -> float:
        return self.step.repeat.limit_s

    def _most(self, stage: Stage) -> int:
        """How many tries there are at most."""
        most = self.step.repeat.at_most
        if self._times is None:
            return most
        text = bounded(self._times, stage.values)
        found = as_number(text)
        if found is None or found < 0 or found != found.to_integral_value():
            raise TemplateError(f"“{text[:40]}” is no number of times")
        if found > most:
            raise TemplateError(
                f"{found:,} times are more than the {most:,} that are allowed here; raise “at most”"
            )
        return int(found)

    async def _wait(self, stage: Stage, started: float, begun: float) -> None:
        """Until the next try is due, at most until the limit."""
        again = min(started + self.step.repeat.every_s, begun + self._limit_s)
        await stage.user.wait(again, thinks=False)
        await asyncio.sleep(0)

    def _not_come(
        self, stage: Stage, at: CompiledStep, most: int, tries: int, begun: float, last: float
    ) -> Outcome:
        rule, kind = self.step.repeat, "repeat-limit"
        shown = (
            f"until {rule.until}"
            if rule.until
            else f"while {rule.while_}"
            if rule.while_
            else f"{most:,} times"
        )
        said = f"{shown}: not so after {tries} tries in {stage.now() - begun:.1f} s"
        stage.witness.item(at, said, failed=kind)
        stage.context.recorder.missed(at.series, last, round((last - begun) * 1e6), kind)
        if rule.then == "user":
            stage.user.retire("repeat", f"{self.step.name}: {kind}")
        return "step" if rule.then == "step" else "round" if rule.then in ("round", "user") else ""
