"""Changes to a journey as pure functions: old value in, new value out. A part that is not there
raises EditError.
"""

from collections.abc import Callable, Iterable
from typing import Any, NamedTuple

from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys.kinds import KINDS, NESTING, Kind, Sending, Step, new_step
from dynamikos.core.journeys.kinds.base import LONGEST_S
from dynamikos.core.journeys.model import PARTS, Journey, Part, key_from, mapped, walk
from dynamikos.core.journeys.request import Request
from dynamikos.core.journeys.shared import Shared


class EditError(DynamikosError):
    """The thing to change is not in the journey (any more)."""


def find(journey: Journey, step_key: str) -> tuple[Part, int, Step]:
    """(part, index where it stands, step). Raises EditError."""
    home, index = home_of(journey, step_key)
    step = journey.find_step(step_key)
    assert step is not None
    return home.part, index, step


class Home(NamedTuple):
    """Where a step stands: in a part, or in list `slot` of the step `owner`."""

    part: Part
    owner: str = ""
    slot: int = 0


def home_of(journey: Journey, step_key: str) -> tuple[Home, int]:
    """(home, index in it) of a step. Raises EditError."""

    def look(steps: tuple[Step, ...], home: Home) -> tuple[Home, int] | None:
        for index, step in enumerate(steps):
            if step.step == step_key:
                return home, index
            for slot, inner in enumerate(step.slots()):
                if found := look(inner, Home(home.part, step.step, slot)):
                    return found
        return None

    for part in PARTS:
        if found := look(journey.part(part), Home(part)):
            return found
    raise EditError(f"there is no step '{step_key}' in this journey any more; reload the page")


def place_of(journey: Journey, step_key: str) -> list[tuple[Home, int]]:
    """Where a step stands, then where the steps stand that hold it, outwards: (home, index in it)
    each. Raises EditError.
    """
    made = [home_of(journey, step_key)]
    while made[-1][0].owner:
        made.append(home_of(journey, made[-1][0].owner))
    return made


def list_of(journey: Journey, home: Home) -> list[Step]:
    """The steps that stand in `home`."""
    if not home.owner:
        return list(journey.part(home.part))
    _, _, owner = find(journey, home.owner)
    slots = owner.slots()
    return list(slots[home.slot]) if home.slot < len(slots) else []


def with_list(journey: Journey, home: Home, steps: Iterable[Step]) -> Journey:
    """With the steps of `home` replaced."""
    if not home.owner:
        return replace(journey, **{home.part: tuple(steps)})
    made = tuple(steps)
    return journey.mapped(
        lambda step: step.with_slot(home.slot, made) if step.step == home.owner else step
    )


def find_request(journey: Journey, step_key: str, request_key: str) -> tuple[Step, int, Request]:
    """(step, index in it, request). Raises EditError."""
    _, _, step = find(journey, step_key)
    for index, request in enumerate(step.requests):
        if request.request == request_key:
            return step, index, request
    raise EditError(
        f"there is no request '{request_key}' in step '{step_key}' any more; reload the page"
    )


def change_step(journey: Journey, step_key: str, **changes: Any) -> Journey:
    """With fields of one step replaced; its key stays."""
    _, _, found = find(journey, step_key)
    if strange := sorted(changes.keys() - set(found.__struct_fields__)):
        raise EditError(
            f"“{found.name}” has no {' or '.join(strange)}; this is a change of another kind of "
            "step."
        )
    return journey.mapped(lambda step: replace(step, **changes) if step.step == step_key else step)


def change_request(journey: Journey, step_key: str, request_key: str, **changes: Any) -> Journey:
    """With fields of one request replaced; its key stays."""
    step, index, request = find_request(journey, step_key, request_key)
    requests = list(step.requests)
    requests[index] = replace(request, **changes)
    return change_step(journey, step_key, requests=tuple(requests))


def move_step(journey: Journey, step_key: str, by: int) -> Journey:
    """One place up (−1) or down (+1); at an edge out of the step it stands in, or over into the
    neighbouring part.
    """
    home, index = home_of(journey, step_key)
    steps = list_of(journey, home)
    step = steps.pop(index)
    to = index + by
    if 0 <= to <= len(steps):
        steps.insert(to, step)
        return with_list(journey, home, steps)
    if home.owner:
        journey = with_list(journey, home, steps)
        outer, at = home_of(journey, home.owner)
        around = list_of(journey, outer)
        around.insert(at + (1 if by > 0 else 0), step)
        return with_list(journey, outer, around)
    neighbour = PARTS.index(home.part) + (1 if by > 0 else -1)
    if not 0 <= neighbour < len(PARTS):
        return journey
    other = list(journey.part(PARTS[neighbour]))
    other.insert(0 if by > 0 else len(other), step)
    return _with(with_list(journey, home, steps), PARTS[neighbour], other)


def place_step(journey: Journey, step_key: str, part: Part, index: int) -> Journey:
    """Moved to `index` of `part` (counted without the step itself)."""
    return _put(journey, step_key, Home(part), index)


def _put(journey: Journey, step_key: str, to: Home, index: int) -> Journey:
    home, at = home_of(journey, step_key)
    steps = list_of(journey, home)
    step = steps.pop(at)
    if to.owner and any(each.step == to.owner for each in walk((step,))):
        raise EditError(f"“{step.name}” can't stand inside itself.")
    journey = with_list(journey, home, steps)
    target = list_of(journey, to)
    target.insert(max(0, min(index, len(target))), step)
    return with_list(journey, to, target)


def place_before(journey: Journey, at: str, before: str) -> Journey:
    """A step ("step") or request ("step/request") put before another one; a request dropped
    on a step comes last in it.
    """
    step_key, _, request_key = at.partition("/")
    other_step, _, other_request = before.partition("/")
    if not request_key:
        if step_key == other_step:
            return journey
        own_home, own = home_of(journey, step_key)
        home, index = home_of(journey, other_step)
        return _put(
            journey, step_key, home, index - 1 if own_home == home and own < index else index
        )
    find(journey, other_step)
    if at == before:
        return journey
    _, _, request = find_request(journey, step_key, request_key)
    without = remove_request(journey, step_key, request_key)
    _, _, target = find(without, other_step)
    if not isinstance(target, Sending):
        raise EditError(
            f"“{target.name}” sends no requests of its own; drop it on a step that does."
        )
    place = (
        find_request(without, other_step, other_request)[1]
        if other_request
        else len(target.requests)
    )
    if step_key != other_step:
        request = replace(
            request, request=key_from(request.request, {each.request for each in target.requests})
        )
    return change_step(
        without, other_step, requests=(*target.requests[:place], request, *target.requests[place:])
    )


def put_into(journey: Journey, step_key: str, owner: str, slot: int) -> Journey:
    """A step moved to the end of list `slot` of the step `owner`."""
    _, _, there = find(journey, owner)
    if not there.nests or slot >= len(there.slots()):
        raise EditError(f"“{there.name}” holds no steps.")
    return _put(journey, step_key, Home(home_of(journey, owner)[0].part, owner, slot), 10**6)


def move_request(journey: Journey, step_key: str, request_key: str, by: int) -> Journey:
    """One place up or down; at the edge of its step, over into the step beside it in the same
    journey.
    """
    step, index, request = find_request(journey, step_key, request_key)
    requests = list(step.requests)
    requests.pop(index)
    to = index + by
    if 0 <= to <= len(requests):
        requests.insert(to, request)
        return change_step(journey, step_key, requests=tuple(requests))
    order = [each for _, each in journey.steps() if isinstance(each, Sending)]
    at = next(i for i, each in enumerate(order) if each.step == step_key) + (1 if by > 0 else -1)
    if not 0 <= at < len(order):
        return journey
    neighbour = order[at]
    renamed = replace(
        request, request=key_from(request.request, {each.request for each in neighbour.requests})
    )
    joined = (renamed, *neighbour.requests) if by > 0 else (*neighbour.requests, renamed)
    journey = change_step(journey, step_key, requests=tuple(requests))
    return change_step(journey, neighbour.step, requests=joined)


def remove_step(journey: Journey, step_key: str) -> Journey:
    """Without the step, and what stands in it."""
    find(journey, step_key)
    return journey.mapped(lambda step: None if step.step == step_key else step)


def remove_request(journey: Journey, step_key: str, request_key: str) -> Journey:
    step, index, _ = find_request(journey, step_key, request_key)
    return change_step(
        journey, step_key, requests=step.requests[:index] + step.requests[index + 1 :]
    )


def _own(step: Step) -> None:
    if step.use:
        raise EditError(
            f"“{step.name}” is a shared step; give it requests of its own in this journey first."
        )


def _sends(step: Step) -> None:
    if not isinstance(step, Sending):
        raise EditError(f"“{step.name}” sends no requests of its own, so it can't be merged.")


def own_requests(journey: Journey, step_key: str) -> Journey:
    """A step that used a shared one, with a copy of its requests as its own."""
    return change_step(journey, step_key, use="", recorded=())


def use_shared(journey: Journey, part: Part, key: str, shared: Shared) -> Journey:
    """With a step at the end of `part` that uses the shared step `key`."""
    step_key = key_from(shared.name, {step.step for _, step in journey.steps()})
    return _with(
        journey,
        part,
        [
            *journey.part(part),
            Sending(step=step_key, name=shared.name, use=key, requests=shared.requests),
        ],
    )


def each_of(
    journey: Journey, chosen: Iterable[str], edit: Callable[[Journey, str], Journey]
) -> Journey:
    """`edit` applied to several steps ("step") and requests ("step/request") in the journey's
    order, to each once.

    A request whose step is chosen too is left to its step. Raises EditError when one is not there
    any more.
    """
    wanted = set(chosen)
    places = []
    for _, step in journey.steps():
        if step.step in wanted:
            places.append(step.step)
        else:
            places.extend(
                at
                for at in (f"{step.step}/{each.request}" for each in step.requests)
                if at in wanted
            )
    missing = sorted(at for at in wanted - set(places) if at.partition("/")[0] not in places)
    if missing:
        raise EditError(f"“{missing[0]}” is not in this journey any more; reload the page")
    for at in places:
        journey = edit(journey, at)
    return journey


def gather(journey: Journey, chosen: Iterable[str], to: str) -> Journey:
    """The chosen requests, and all requests of chosen steps, moved in their order to the end of
    step `to`.
    """

    def move(made: Journey, at: str) -> Journey:
        step_key, _, request_key = at.partition("/")
        if step_key == to:
            return made
        if request_key:
            return place_before(made, at, to)
        _, _, step = find(made, step_key)
        _sends(step)
        _own(step)
        for each in step.requests:
            made = place_before(made, f"{step_key}/{each.request}", to)
        return remove_step(made, step_key)

    _sends(find(journey, to)[2])
    return each_of(journey, chosen, move)


def split_step(journey: Journey, step_key: str, request_key: str) -> Journey:
    """With a new step that begins with this request and takes what comes after it.

    Raises EditError for the first request.
    """
    _, _, step = find(journey, step_key)
    home, at = home_of(journey, step_key)
    _, index, _ = find_request(journey, step_key, request_key)
    _own(step)
    if index == 0:
        raise EditError(
            "This is the first request of its step, so there is nothing to split off before it."
        )
    name = f"{step.name}, continued"
    key = key_from(name, {each.step for _, each in journey.steps()})
    later = Sending(
        step=key,
        name=name,
        think_s=step.think_s,
        think=step.think,
        think_to_s=step.think_to_s,
        requests=step.requests[index:],
    )
    steps = list_of(journey, home)
    steps[at : at + 1] = [
        replace(step, requests=step.requests[:index], think_s=0.0, think="fixed"),
        later,
    ]
    return with_list(journey, home, steps)


def merge_step(journey: Journey, step_key: str) -> Journey:
    """With the next step of the same part taken into this one; its think time stays at the end.

    Raises EditError for the last.
    """
    _, _, step = find(journey, step_key)
    home, at = home_of(journey, step_key)
    steps = list_of(journey, home)
    if at + 1 >= len(steps):
        raise EditError(
            f"“{step.name}” is the last step of the {home.part}, so there is none after it to "
            "merge with."
        )
    following = steps[at + 1]
    for each in (step, following):
        _sends(each)
        _own(each)
    requests = list(step.requests)
    for request in following.requests:
        requests.append(
            replace(request, request=key_from(request.request, {each.request for each in requests}))
        )
    steps[at : at + 2] = [
        replace(
            step,
            requests=tuple(requests),
            think_s=following.think_s,
            think=following.think,
            think_to_s=following.think_to_s,
            recorded_think_s=following.recorded_think_s,
        )
    ]
    return with_list(journey, home, steps)


def duplicate(journey: Journey, step_key: str, request_key: str = "") -> Journey:
    """With a copy of the step, or of the request, right after it."""
    _, _, step = find(journey, step_key)
    if request_key:
        _, index, request = find_request(journey, step_key, request_key)
        copy = replace(
            request, request=key_from(request.request, {each.request for each in step.requests})
        )
        return change_step(
            journey,
            step_key,
            requests=(*step.requests[: index + 1], copy, *step.requests[index + 1 :]),
        )
    taken = {each.step for _, each in journey.steps()}

    def renamed(each: Step) -> Step:
        key = key_from(each.name, taken)
        taken.add(key)
        return replace(each, step=key)

    copy_of = replace(mapped((step,), renamed)[0], name=f"{step.name} (copy)")
    home, at = home_of(journey, step_key)
    steps = list_of(journey, home)
    steps.insert(at + 1, copy_of)
    return with_list(journey, home, steps)


def switch(journey: Journey, step_key: str, request_key: str = "") -> Journey:
    """Switched off if it was on, and the other way round."""
    if request_key:
        _, _, request = find_request(journey, step_key, request_key)
        return change_request(journey, step_key, request_key, off=not request.off)
    _, _, step = find(journey, step_key)
    return change_step(journey, step_key, off=not step.off)


def excerpt(journey: Journey, start: str = "", until: str = "") -> Journey:
    """What a rehearsal performs that begins at step `start` (after the opening) and halts before
    `until` ("step" or "step/request").

    Raises EditError when either is not in the journey.
    """
    parts = {part: list(journey.part(part)) for part in PARTS}
    if start:
        start = _outermost(journey, start)
        part, index, _ = find(journey, start)
        if part == "cleanup":
            raise EditError(
                "The clean-up is performed after a rehearsal, when it is asked for there; begin "
                "with another step."
            )
        if part == "opening":
            parts["opening"] = parts["opening"][index:]
        else:
            parts[part] = parts[part][index:]
            if part == "closing":
                parts["rounds"] = []
    if until:
        step_key, _, request_key = until.partition("/")
        # halting inside of something repeated or chosen: before all of it
        if _outermost(journey, step_key) != step_key:
            step_key, request_key = _outermost(journey, step_key), ""
        part, _, step = find(journey, step_key)
        at = 0
        if request_key:
            _, at, _ = find_request(journey, step_key, request_key)
        keys = [each.step for each in parts[part]]
        if step_key not in keys:
            raise EditError(
                f"“{step.name}” comes before the step it would begin with, so there is nothing to "
                "rehearse."
            )
        kept = parts[part][: keys.index(step_key)]
        parts[part] = [*kept, replace(step, requests=step.requests[:at])] if at else kept
        for later in PARTS[
            PARTS.index(part) + 1 : -1
        ]:  # what was done until then may still be cleaned up
            parts[later] = []
    return replace(journey, **{part: tuple(steps) for part, steps in parts.items()})


def _outermost(journey: Journey, step_key: str) -> str:
    """The step of a part in which `step_key` stands, or itself."""
    home, _ = home_of(journey, step_key)
    while home.owner:
        step_key = home.owner
        home, _ = home_of(journey, step_key)
    return step_key


ITEMS: tuple[Kind, ...] = tuple(kind for kind in KINDS if kind != "step")


def add_item(
    journey: Journey, kind: Kind, after: str = "", part: Part = "rounds"
) -> tuple[Journey, str]:
    """(journey with a new item of `kind` after step `after`, or at the end of `part`; the item's
    key).

    Raises EditError.
    """
    if kind not in ITEMS:
        raise EditError(f"'{kind}' is nothing that can be added; there are {', '.join(ITEMS)}")
    key = key_from(KINDS[kind].begins_as, {each.step for _, each in journey.steps()})
    made = new_step(kind, key)
    home, at = home_of(journey, after) if after else (Home(part), len(journey.part(part)) - 1)
    steps = list_of(journey, home)
    steps.insert(at + 1, made)
    return with_list(journey, home, steps), made.step


def wrap(journey: Journey, step_key: str, kind: Kind) -> tuple[Journey, str]:
    """(journey with the step inside a new item of `kind` that holds steps; the item's key). Raises
    EditError.
    """
    if kind not in NESTING:
        raise EditError(f"'{kind}' holds no steps; there are {', '.join(NESTING)}")
    _, _, step = find(journey, step_key)
    made, key = add_item(journey, kind, step_key)
    made = put_into(made, step_key, key, 0)
    name = {
        "repeat": f"Repeat: {step.name}",
        "each": f"For each: {step.name}",
        "if": f"If: {step.name}",
        "choose": f"Perhaps: {step.name}",
    }[kind]
    return change_step(made, key, name=name), key


def unwrap(journey: Journey, step_key: str) -> Journey:
    """Without an item that holds steps; they take its place, those of all its branches one after
    the other.

    Raises EditError.
    """
    _, _, step = find(journey, step_key)
    if not step.nests:
        raise EditError(f"“{step.name}” holds no steps.")
    home, at = home_of(journey, step_key)
    steps = list_of(journey, home)
    steps[at : at + 1] = [inner for slot in step.slots() for inner in slot]
    return with_list(journey, home, steps)


def set_thinking(journey: Journey, kind: str, value: float, to: float) -> Journey:
    """Think times of all steps that have one: "recorded" × `value`, or "fixed", "even" and
    "log-normal" with `value` (and `to`) seconds.
    """
    made = journey
    for _, step in journey.steps():
        recorded = step.recorded_think_s if step.recorded_think_s is not None else step.think_s
        if kind == "recorded":
            made = change_step(
                made,
                step.step,
                think="fixed",
                think_s=round(min(LONGEST_S, recorded * value), 3),
                think_to_s=0.0,
                recorded_think_s=recorded,
            )
        elif step.think_s or recorded:
            made = change_step(
                made,
                step.step,
                think=kind,
                think_s=value,
                think_to_s=0.0 if kind == "fixed" else to,
                recorded_think_s=recorded,
            )
    return made


def add_step(journey: Journey, part: Part, name: str) -> Journey:
    """With an empty step at the end of `part`."""
    key = key_from(name, {step.step for _, step in journey.steps()})
    return _with(journey, part, [*journey.part(part), Sending(step=key, name=name)])


def _with(journey: Journey, part: Part, steps: list[Step]) -> Journey:
    return replace(journey, **{part: tuple(steps)})
