"""A run whose load was changed while it ran: the same document with other profiles."""

from collections.abc import Sequence

from msgspec.structs import replace

from dynamikos.core.frozen.document import FrozenRun
from dynamikos.core.plans.model import whole_seconds
from dynamikos.core.profiles.changing import Change, delayed


def with_changes(frozen: FrozenRun, changes: Sequence[Change]) -> FrozenRun:
    """As `frozen`, but for what `changes`, in order, make of its profiles and its measured part."""
    if not changes:
        return frozen
    begin, end = frozen.measured
    crowds = tuple(crowd.load.changed(crowd, changes) for crowd in frozen.crowds)
    return replace(
        frozen,
        crowds=crowds,
        measured=whole_seconds((delayed(begin, changes), delayed(end, changes))),
    )


def said(change: Change) -> str:
    """A change in words."""
    if change.verb == "change":
        what = (
            f"raised to {100 * change.factor:g} %"
            if change.factor > 1
            else f"lowered to {100 * change.factor:g} %"
        )
        return f"the load was {what} of what was left at second {change.at_s}"
    return f"the load {'was held' if change.verb == 'hold' else 'went on'} at second {change.at_s}"
