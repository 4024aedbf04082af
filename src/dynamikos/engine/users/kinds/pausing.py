"""Waiting, whatever the think times."""

from dynamikos.core.errors import TemplateError
from dynamikos.core.journeys.kinds import Pausing
from dynamikos.core.journeys.kinds.base import LONGEST_S
from dynamikos.core.values.masking import MASK
from dynamikos.core.values.numbers import as_number
from dynamikos.engine.guard import bounded
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.kinds.base import Binding, Doing, Outcome, Stage


class Pauses(Doing[Pausing]):
    """Waits; how long is known when it is asked."""

    def __init__(self, step: Pausing, bind: Binding) -> None:
        super().__init__(step, bind)
        self._text = bind.text(step.pause)

    async def perform(self, stage: Stage, at: CompiledStep, *, leaving: bool) -> Outcome:
        text = bounded(self._text, stage.values)
        seconds = as_number(text)
        if seconds is None or not 0 <= seconds <= LONGEST_S:
            raise TemplateError(f"“{text[:40]}” is no number of seconds from 0 to 86,400")
        stage.say(at, f"{MASK if self.secret else f'{seconds:g}'} s")
        await stage.user.wait(stage.now() + float(seconds))
        return ""
