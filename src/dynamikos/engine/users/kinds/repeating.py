"""Doing steps again and again: so many times, while a condition holds, or until it does."""

import asyncio

from dynamikos.core.errors import TemplateError
from dynamikos.core.journeys.kinds import Repeating
from dynamikos.core.values.numbers import as_number
from dynamikos.engine.guard import bounded
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.kinds.base import Binding, Doing, Outcome, Stage

SLACK_S = 1e-6  # of comparing instants


class Repeats(Doing[Repeating]):
    """Its whole time is a figure; one that does not come about is a failure of its own."""

    def __init__(self, step: Repeating, bind: Binding) -> None:
        super().__init__(step, bind)
        rule = step.repeat
        self._times = bind.text(rule.times) if rule.times else None
        self._while, self._until = bind.condition(rule.while_), bind.condition(rule.until)
        self._steps = bind.steps(step.steps)

    async def perform(self, stage: Stage, at: CompiledStep, *, leaving: bool) -> Outcome:
        most = self._most(stage)
        begun, last, tries, late_s = stage.now(), stage.now(), 0, stage.own.late_s
        came = False
        worst: Outcome = ""
        while True:
            if self._while is not None and not bounded(self._while, stage.values):
                came = True
                break
            if tries and (
                (stage.user.leaving and not leaving)
                or stage.now() - begun >= self._limit_s - SLACK_S
            ):
                break
            if tries >= most:
                break
            started = stage.now()
            tries += 1
            worst = await stage.user.run_steps(self._steps, leaving=leaving)
            last = stage.now()
            if worst:
                break
            if self._until is not None and bounded(self._until, stage.values):
                came = True
                break
            if tries < most:
                await self._wait(stage, started, begun)
        stage.around.recorder.tried(at.series, last, tries)
        told = f"{tries} {'try' if tries == 1 else 'tries'} in {stage.now() - begun:.2f} s"
        if worst:
            stage.say(at, told)
            stage.around.recorder.missed(
                at.series, last, round((last - begun) * 1e6), "a step failed"
            )
            return worst
        came = came or (self._times is not None and tries >= most)
        stage.say(at, told + ("" if came else ", and it has not come about"))
        if came or (stage.user.leaving and not leaving):
            stage.around.recorder.passed(at.series, begun, last, stage.own.late_s - late_s)
            return ""
        return self._not_come(stage, at, most, tries, begun, last)

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
        stage.around.recorder.missed(at.series, last, round((last - begun) * 1e6), kind)
        if rule.then == "user":
            stage.user.retire("repeat", f"{self.step.name}: {kind}")
        return "step" if rule.then == "step" else "round" if rule.then in ("round", "user") else ""
