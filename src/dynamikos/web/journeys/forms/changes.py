"""What the ladder and its panel ask for, as changes of a journey."""

from collections.abc import Callable

import msgspec
from django.http import QueryDict
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits
from dynamikos.core.journeys import Journey, changes
from dynamikos.core.journeys import editing as edit
from dynamikos.core.journeys.changes import Change
from dynamikos.core.journeys.kinds.base import LONGEST_S
from dynamikos.core.journeys.model import PARTS
from dynamikos.web.journeys.forms.kinds import item_changes
from dynamikos.web.journeys.forms.proofs import authorization_from, headers_from
from dynamikos.web.journeys.forms.requests import request_changes
from dynamikos.web.ui.numbers import number

THINKING = ("fixed", "even", "log-normal")
Make = Callable[[Journey, str, QueryDict], Change]


def change_from(core: Journey, data: QueryDict) -> Change:
    """The change that was asked for of `core`. Raises DynamikosError with what to do."""
    what, several = data.get("what", ""), data.getlist("also")
    if several:
        if what == "gather":
            return changes.Gather(chosen=tuple(several), to=data.get("to", ""))
        if what not in ("switch", "duplicate", "remove"):
            raise DynamikosError(f"'{what}' can't be done with several at once.")
        return changes.Several(chosen=tuple(several), each=what)  # type: ignore[arg-type]
    make = MAKERS.get(what)
    if make is None:
        raise DynamikosError(f"'{what}' is not a change of a journey.")
    return make(core, data.get("at", ""), data)


def think_from(at: str, data: QueryDict) -> changes.Think:
    """Only a step's think time. Raises DynamikosError."""
    return changes.Think(at=at, **_thinking(data))  # type: ignore[arg-type]


def think_all_from(data: QueryDict) -> changes.ThinkAll:
    """Think times of the whole journey. Raises DynamikosError."""
    kind = data.get("kind", "")
    if kind not in ("recorded", *THINKING):
        raise DynamikosError(f"'{kind}' is no way to set think times.")
    value, to = seconds(data.get("value") or "0"), seconds(data.get("to") or "0")
    return changes.ThinkAll(think=kind, value=value, to=to)  # type: ignore[arg-type]


def _request(core: Journey, at: str, data: QueryDict) -> Change:
    step, _, request = at.partition("/")
    _, _, old = edit.find_request(core, step, request)
    return changes.WriteRequest(at=at, value=replace(old, **request_changes(data, old)))


def _step(core: Journey, at: str, data: QueryDict) -> Change:
    _, _, old = edit.find(core, at)
    part = data.get("part", "")
    return changes.WriteStep(
        at=at,
        name=data.get("name", "").strip(),
        note=data.get("note", "").strip(),
        part=part if part in PARTS else None,
        does=msgspec.to_builtins(item_changes(data, old)),
        **_thinking(data),  # type: ignore[arg-type]
    )


def _journey(core: Journey, at: str, data: QueryDict) -> Change:
    return changes.WriteJourney(
        name=data.get("name", "").strip(),
        note=data.get("note", "").strip(),
        headers=headers_from(data, "common"),
        authorization=authorization_from(data),
    )


def _branch(core: Journey, at: str, data: QueryDict) -> Change:
    gone = digits(data.get("branch", ""))
    return changes.AddBranch(at=at) if gone is None else changes.RemoveBranch(at=at, branch=gone)


def _into(core: Journey, at: str, data: QueryDict) -> Change:
    owner, _, slot = data.get("into", "").partition("/")
    return changes.PutInto(at=at, owner=owner, slot=digits(slot) or 0)


MAKERS: dict[str, Make] = {
    "request": _request,
    "step": _step,
    "journey": _journey,
    "up": lambda core, at, data: changes.Move(at=at, by=-1),
    "down": lambda core, at, data: changes.Move(at=at, by=1),
    "place": lambda core, at, data: changes.Place(at=at, before=data.get("before", "")),
    "split": lambda core, at, data: changes.Split(at=at),
    "merge": lambda core, at, data: changes.Merge(at=at),
    "duplicate": lambda core, at, data: changes.Duplicate(at=at),
    "switch": lambda core, at, data: changes.Switch(at=at),
    "own": lambda core, at, data: changes.Own(at=at),
    "remove": lambda core, at, data: changes.Remove(at=at),
    "add-step": lambda core, at, data: changes.AddStep(
        name=data.get("name", "").strip() or "New step", after=at
    ),
    "add-item": lambda core, at, data: changes.AddItem(item=data.get("item", ""), after=at),  # type: ignore[arg-type]
    "add-shared": lambda core, at, data: changes.UseShared(shared=data.get("shared", "")),
    "wrap": lambda core, at, data: changes.Wrap(at=at, item=data.get("item", "")),  # type: ignore[arg-type]
    "unwrap": lambda core, at, data: changes.Unwrap(at=at),
    "branch": _branch,
    "into": _into,
    "background-off": lambda core, at, data: changes.LeaveOutBackground(),
    "background-by-time": lambda core, at, data: changes.BackgroundByTime(),
}


def _thinking(data: QueryDict) -> dict[str, object]:
    """How think time is drawn. Raises DynamikosError."""
    kind = data.get("think", "fixed")
    if kind not in THINKING:
        raise DynamikosError(
            f"'{kind}' is no way to draw think times; there are {', '.join(THINKING)}."
        )
    return {
        "think": kind,
        "think_s": seconds(data.get("think_s") or "0"),
        "think_to_s": seconds(data.get("think_to_s") or "0"),
    }


def seconds(text: str) -> float:
    """Raises DynamikosError for what is no think time."""
    return number(text, "Think time in seconds", 0, LONGEST_S)
