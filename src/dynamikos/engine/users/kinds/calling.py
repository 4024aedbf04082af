"""Calling a function of the project."""

from dynamikos.core.journeys.kinds import Calling
from dynamikos.core.values.masking import MASK
from dynamikos.engine.failures import Failure
from dynamikos.engine.guard import bounded
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.kinds.base import Binding, Doing, Outcome, Stage


class Calls(Doing[Calling]):
    """Calls it on the generator, in a process of its own."""

    def __init__(self, step: Calling, bind: Binding) -> None:
        super().__init__(step, bind)
        self._given = bind.texts(step.call.with_)
        self._told = bind.masked_texts(step.call.with_)

    async def perform(self, stage: Stage, at: CompiledStep, *, leaving: bool) -> Outcome:
        call, functions, values = self.step.call, stage.context.functions, stage.values
        if functions is None:
            raise Failure(
                "function", "Python functions are not performed here; they run on a generator"
            )
        given = {name: bounded(fill, values) for name, fill in self._given}
        # queueing is the generator's lateness
        result = await functions.call(call.function, given, stage.context.health.late)
        if call.into:
            values[call.into] = result
        told = ", ".join(f"{name}={bounded(fill, values)[:60]!r}" for name, fill in self._told)
        stage.say(at, f"{call.function}({told}) → {MASK if self.secret else result[:200]}")
        return ""
