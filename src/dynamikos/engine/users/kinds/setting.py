"""Setting values."""

from dynamikos.core.journeys.kinds import Setting
from dynamikos.engine.guard import bounded
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.kinds.base import Binding, Doing, Outcome, Stage


class Sets(Doing[Setting]):
    """One after the other: a later one may use an earlier one."""

    def __init__(self, step: Setting, bind: Binding) -> None:
        super().__init__(step, bind)
        self._texts = bind.texts(step.set)

    async def perform(self, stage: Stage, at: CompiledStep, *, leaving: bool) -> Outcome:
        for name, fill in self._texts:
            stage.values[name] = bounded(fill, stage.values)
        stage.say(at, ", ".join(f"{name} = {stage.shown(name)[:200]}" for name, _ in self._texts))
        return ""
