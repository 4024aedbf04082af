"""Saying something in the log."""

from dynamikos.core.journeys.kinds import Logging
from dynamikos.engine.guard import bounded
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.kinds.base import Binding, Doing, Outcome, Stage


class Logs(Doing[Logging]):
    """Logs its text, without secrets."""

    def __init__(self, step: Logging, bind: Binding) -> None:
        super().__init__(step, bind)
        bind.text(
            step.log
        )  # so that what is wrong with it is said at once, whatever is shown of it
        self._told = bind.masked(step.log)

    async def perform(self, stage: Stage, at: CompiledStep, *, leaving: bool) -> Outcome:
        stage.log(at, bounded(self._told, stage.values))
        return ""
