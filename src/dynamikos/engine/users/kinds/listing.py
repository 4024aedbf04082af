"""Doing steps for each of a list."""

import asyncio

from dynamikos.core.journeys.kinds import Listing
from dynamikos.engine.guard import bounded
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.kinds.base import Binding, Doing, Outcome, Stage


class Lists(Doing[Listing]):
    """The first `at_most` of the list."""

    def __init__(self, step: Listing, bind: Binding) -> None:
        super().__init__(step, bind)
        self._listed = bind.listed(step.each.in_)
        self._steps = bind.steps(step.steps)

    async def perform(self, stage: Stage, at: CompiledStep, *, leaving: bool) -> Outcome:
        each, user = self.step.each, stage.user
        values = bounded(self._listed, stage.values)
        first = f", the first {each.at_most}" if len(values) > each.at_most else ""
        stage.say(at, f"{len(values)} of {each.name}{first}")
        worst: Outcome = ""
        for value in values[: each.at_most]:
            stage.values[each.name] = value
            outcome = await user.run_steps(self._steps, leaving=leaving)
            worst = outcome or worst
            if outcome == "round" or (user.leaving and not leaving):
                break
            await asyncio.sleep(0)  # steps that send nothing must not keep all others waiting
        return worst
