"""Going on in one of several ways."""

from django.http import QueryDict
from msgspec.structs import replace

from dynamikos.core.journeys.kinds import Branch, Choosing, Deciding
from dynamikos.web.journeys.forms.kinds.base import KindFields
from dynamikos.web.ui.numbers import number


def branches(data: QueryDict, old: tuple[Branch, ...]) -> tuple[Branch, ...]:
    """The branches with what was sent of each; their steps stay."""
    names, weights, whens = (data.getlist(f"branch-{each}") for each in ("name", "weight", "when"))
    made = []
    for at, branch in enumerate(old):
        changed: dict[str, object] = {}
        if at < len(names):
            changed["name"] = names[at].strip()
        if at < len(weights):
            changed["weight"] = number(weights[at] or "0", "weight")
        if at < len(whens):
            changed["when"] = whens[at].strip()
        made.append(replace(branch, **changed))
    return tuple(made)


class DecidingFields(KindFields[Deciding]):
    """The condition of each branch."""

    template = "journeys/kinds/deciding.html"

    @classmethod
    def changes(cls, data: QueryDict, old: Deciding) -> dict[str, object]:
        return {"branches": branches(data, old.branches)}


class ChoosingFields(KindFields[Choosing]):
    """The weight and the name of each branch, and how one is chosen."""

    template = "journeys/kinds/choosing.html"

    @classmethod
    def changes(cls, data: QueryDict, old: Choosing) -> dict[str, object]:
        how = "evenly" if data.get("choose") == "evenly" else "at random"
        return {"branches": branches(data, old.branches), "choose": how}
