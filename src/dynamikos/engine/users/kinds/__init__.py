"""How each kind of step that sends no requests is performed; DOING is the one list of them.

The kinds themselves stand in `core/journeys/kinds`, by the same names of files. Start reading at
`base`.
"""

from collections.abc import Callable
from typing import Any

from dynamikos.core.errors import TemplateError
from dynamikos.core.journeys import Step
from dynamikos.core.journeys.kinds import (
    Calling,
    Choosing,
    Deciding,
    Keeping,
    Listing,
    Logging,
    Pausing,
    Repeating,
    Setting,
)
from dynamikos.engine.failures import Failure
from dynamikos.engine.guard import OverBudget
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.filling import Values
from dynamikos.engine.users.items import Item
from dynamikos.engine.users.kinds.base import Binding, Doing, Outcome, Performs, Stage
from dynamikos.engine.users.kinds.branching import Chooses, Decides
from dynamikos.engine.users.kinds.calling import Calls
from dynamikos.engine.users.kinds.keeping import Keeps
from dynamikos.engine.users.kinds.listing import Lists
from dynamikos.engine.users.kinds.logging import Logs
from dynamikos.engine.users.kinds.pausing import Pauses
from dynamikos.engine.users.kinds.repeating import Repeats
from dynamikos.engine.users.kinds.setting import Sets

DOING: dict[type, type[Doing[Any]]] = {
    Setting: Sets,
    Pausing: Pauses,
    Logging: Logs,
    Calling: Calls,
    Keeping: Keeps,
    Repeating: Repeats,
    Listing: Lists,
    Deciding: Decides,
    Choosing: Chooses,
}

__all__ = ["DOING", "Outcome", "Performs", "Stage", "item_of", "perform"]


def item_of(
    step: Step,
    known: Values,
    secret: frozenset[str],
    steps: Callable[[tuple[Step, ...]], list[CompiledStep]],
) -> Item | None:
    """A step that sends no requests as what performs it; None for one that does. Raises
    TemplateError.
    """
    made = DOING.get(type(step))
    return None if made is None else made(step, Binding(known, secret, steps))


async def perform(stage: Stage, at: CompiledStep, *, leaving: bool) -> Outcome:
    """What performing a step that sends no requests came to. One that can't be done is a failure of
    its own, and what is left of the round is skipped.
    """
    item = at.item
    assert isinstance(item, Doing)
    try:
        return await item.perform(stage, at, leaving=leaving)
    except OverBudget as problem:
        kind, detail = "over-budget", str(problem)
    except TemplateError as problem:
        kind, detail = "value-missing", str(problem)
    except Failure as failure:
        kind, detail = failure.kind, failure.detail
    if item.secret:
        detail = (
            "it could not be done; what it needs comes from a secret, so nothing of it is shown"
        )
    stage.context.recorder.missed(stage.context.script.item_series, stage.now(), 0, kind)
    stage.witness.item(at, detail, failed=kind)
    return "round"
