"""Writing a row back."""

from dynamikos.core.journeys.kinds import Keeping
from dynamikos.engine.guard import bounded
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.kinds.base import Binding, Doing, Outcome, Stage


class Keeps(Doing[Keeping]):
    """Writes it, in runs only. A secret is never written where anybody may read it, nor what is
    computed from one.
    """

    def __init__(self, step: Keeping, bind: Binding) -> None:
        super().__init__(step, bind)
        bind.texts(
            step.keep.row
        )  # so that what is wrong with it is said at once, whatever is written of it
        self._told = bind.masked_texts(step.keep.row)

    async def perform(self, stage: Stage, at: CompiledStep, *, leaving: bool) -> Outcome:
        into, write, mask = self.step.keep.into, stage.context.write, stage.witness.mask()
        row = {name: mask.text(bounded(fill, stage.values)) for name, fill in self._told}
        if write is not None:
            write(into, row)
        told = ", ".join(f"{name} {value[:80]}" for name, value in row.items())
        stage.say(at, f"{told} into {into}" + ("" if write else " (written in runs only)"))
        return ""
