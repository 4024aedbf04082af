"""Going on in one of several ways: by a condition, or by weight."""

from dynamikos.core.journeys.kinds import Choosing, Deciding
from dynamikos.engine.guard import bounded
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.kinds.base import Binding, Doing, Outcome, Stage


class Decides(Doing[Deciding]):
    """The first branch whose condition holds; one without a condition always does."""

    def __init__(self, step: Deciding, bind: Binding) -> None:
        super().__init__(step, bind)
        self._branches = [
            (each, bind.condition(each.when), bind.steps(each.steps)) for each in step.branches
        ]

    async def perform(self, stage: Stage, at: CompiledStep, *, leaving: bool) -> Outcome:
        for branch, holds, steps in self._branches:
            if holds is None or bounded(holds, stage.values):
                stage.say(
                    at, branch.name or (f"when {branch.when}" if branch.when else "otherwise")
                )
                return await stage.user.run_steps(steps, leaving=leaving)
        stage.say(at, "no condition holds")
        return ""


class Chooses(Doing[Choosing]):
    """A branch drawn by weight, or so that all users together keep to the weights."""

    def __init__(self, step: Choosing, bind: Binding) -> None:
        super().__init__(step, bind)
        self._weights = [each.weight for each in step.branches]
        self._branches = [(each.name, bind.steps(each.steps)) for each in step.branches]

    async def perform(self, stage: Stage, at: CompiledStep, *, leaving: bool) -> Outcome:
        if self.step.choose == "evenly":
            chosen = self._evenly(stage)
        else:
            chosen = stage.values.maker.random.choices(range(len(self._weights)), self._weights)[0]
        name, steps = self._branches[chosen]
        stage.say(at, name or f"branch {chosen + 1}")
        return await stage.user.run_steps(steps, leaving=leaving)

    def _evenly(self, stage: Stage) -> int:
        """The branch that lags most behind its share; shards begin at different places."""
        weights, turns, key = self._weights, stage.context.turns, self.step.step
        total, counts = sum(weights), turns.get(key)

        def one(had: list[float]) -> int:
            given = sum(had) + 1
            return max(range(len(weights)), key=lambda at: weights[at] * given / total - had[at])

        if counts is None:
            counts = turns[key] = [0.0] * len(weights)
            for _ in range(stage.context.shard[0]):
                counts[one(counts)] += 1
        chosen = one(counts)
        counts[chosen] += 1
        return chosen
