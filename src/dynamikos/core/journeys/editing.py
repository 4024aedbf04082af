"""Changes to a journey as pure functions: old value in, new value out. A part that is not there raises EditError."""

from collections.abc import Callable, Iterable
from typing import Any

from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys.model import PARTS, Journey, Part, Request, Step, key_from
from dynamikos.core.journeys.shared import Shared


class EditError(DynamikosError):
    """The thing to change is not in the journey (any more)."""


def find(journey: Journey, step_key: str) -> tuple[Part, int, Step]:
    """(part, index in it, step). Raises EditError."""
    for part in PARTS:
        for index, step in enumerate(journey.part(part)):
            if step.step == step_key:
                return part, index, step
    raise EditError(f"there is no step '{step_key}' in this journey any more; reload the page")


def find_request(journey: Journey, step_key: str, request_key: str) -> tuple[Step, int, Request]:
    """(step, index in it, request). Raises EditError."""
    _, _, step = find(journey, step_key)
    for index, request in enumerate(step.requests):
        if request.request == request_key:
            return step, index, request
    raise EditError(f"there is no request '{request_key}' in step '{step_key}' any more; reload the page")


def change_step(journey: Journey, step_key: str, **changes: Any) -> Journey:
    """With fields of one step replaced; its key stays."""
    part, index, step = find(journey, step_key)
    steps = list(journey.part(part))
    steps[index] = replace(step, **changes)
    return _with(journey, part, steps)


def change_request(journey: Journey, step_key: str, request_key: str, **changes: Any) -> Journey:
    """With fields of one request replaced; its key stays."""
    step, index, request = find_request(journey, step_key, request_key)
    requests = list(step.requests)
    requests[index] = replace(request, **changes)
    return change_step(journey, step_key, requests=tuple(requests))


def move_step(journey: Journey, step_key: str, by: int) -> Journey:
    """One place up (−1) or down (+1); at the edge of a part, over into the neighbouring part."""
    part, index, step = find(journey, step_key)
    steps = list(journey.part(part))
    steps.pop(index)
    to = index + by
    if 0 <= to <= len(steps):
        steps.insert(to, step)
        return _with(journey, part, steps)
    neighbour = PARTS.index(part) + (1 if by > 0 else -1)
    if not 0 <= neighbour < len(PARTS):
        return journey
    other = list(journey.part(PARTS[neighbour]))
    other.insert(0 if by > 0 else len(other), step)
    return _with(_with(journey, part, steps), PARTS[neighbour], other)


def place_step(journey: Journey, step_key: str, part: Part, index: int) -> Journey:
    """Moved to `index` of `part` (counted without the step itself)."""
    old, at, step = find(journey, step_key)
    steps = list(journey.part(old))
    steps.pop(at)
    journey = _with(journey, old, steps)
    target = list(journey.part(part))
    target.insert(max(0, min(index, len(target))), step)
    return _with(journey, part, target)


def place_before(journey: Journey, at: str, before: str) -> Journey:
    """A step ("step") or request ("step/request") put before another one; a request dropped on a step comes last in it."""
    step_key, _, request_key = at.partition("/")
    other_step, _, other_request = before.partition("/")
    part, index, _ = find(journey, other_step)
    if not request_key:
        old, own, _ = find(journey, step_key)
        if step_key == other_step:
            return journey
        return place_step(journey, step_key, part, index - 1 if old == part and own < index else index)
    if at == before:
        return journey
    _, _, request = find_request(journey, step_key, request_key)
    without = remove_request(journey, step_key, request_key)
    _, _, home = find(without, other_step)
    place = find_request(without, other_step, other_request)[1] if other_request else len(home.requests)
    if step_key != other_step:
        request = replace(request, request=key_from(request.request, {each.request for each in home.requests}))
    return change_step(without, other_step, requests=(*home.requests[:place], request, *home.requests[place:]))


def move_request(journey: Journey, step_key: str, request_key: str, by: int) -> Journey:
    """One place up or down; at the edge of its step, over into the step beside it in the same journey."""
    step, index, request = find_request(journey, step_key, request_key)
    requests = list(step.requests)
    requests.pop(index)
    to = index + by
    if 0 <= to <= len(requests):
        requests.insert(to, request)
        return change_step(journey, step_key, requests=tuple(requests))
    order = [each for _, each in journey.steps()]
    at = next(i for i, each in enumerate(order) if each.step == step_key) + (1 if by > 0 else -1)
    if not 0 <= at < len(order):
        return journey
    neighbour = order[at]
    renamed = replace(request, request=key_from(request.request, {each.request for each in neighbour.requests}))
    joined = (renamed, *neighbour.requests) if by > 0 else (*neighbour.requests, renamed)
    journey = change_step(journey, step_key, requests=tuple(requests))
    return change_step(journey, neighbour.step, requests=joined)


def remove_step(journey: Journey, step_key: str) -> Journey:
    part, index, _ = find(journey, step_key)
    steps = list(journey.part(part))
    steps.pop(index)
    return _with(journey, part, steps)


def remove_request(journey: Journey, step_key: str, request_key: str) -> Journey:
    step, index, _ = find_request(journey, step_key, request_key)
    return change_step(journey, step_key, requests=step.requests[:index] + step.requests[index + 1 :])


def _own(step: Step) -> None:
    if step.use:
        raise EditError(f"“{step.name}” is a shared step; give it requests of its own in this journey first.")


def own_requests(journey: Journey, step_key: str) -> Journey:
    """A step that used a shared one, with a copy of its requests as its own."""
    return change_step(journey, step_key, use="", recorded=())


def use_shared(journey: Journey, part: Part, key: str, shared: Shared) -> Journey:
    """With a step at the end of `part` that uses the shared step `key`."""
    step_key = key_from(shared.name, {step.step for _, step in journey.steps()})
    return _with(journey, part, [*journey.part(part), Step(step=step_key, name=shared.name, use=key, requests=shared.requests)])


def each_of(journey: Journey, chosen: Iterable[str], edit: Callable[[Journey, str], Journey]) -> Journey:
    """`edit` applied to several steps ("step") and requests ("step/request") in the journey's order, to each once.

    A request whose step is chosen too is left to its step. Raises EditError when one is not there any more.
    """
    wanted = set(chosen)
    places = []
    for _, step in journey.steps():
        if step.step in wanted:
            places.append(step.step)
        else:
            places.extend(at for at in (f"{step.step}/{each.request}" for each in step.requests) if at in wanted)
    missing = sorted(at for at in wanted - set(places) if at.partition("/")[0] not in places)
    if missing:
        raise EditError(f"“{missing[0]}” is not in this journey any more; reload the page")
    for at in places:
        journey = edit(journey, at)
    return journey


def gather(journey: Journey, chosen: Iterable[str], to: str) -> Journey:
    """The chosen requests, and all requests of chosen steps, moved in their order to the end of step `to`."""

    def move(made: Journey, at: str) -> Journey:
        step_key, _, request_key = at.partition("/")
        if step_key == to:
            return made
        if request_key:
            return place_before(made, at, to)
        _, _, step = find(made, step_key)
        _own(step)
        for each in step.requests:
            made = place_before(made, f"{step_key}/{each.request}", to)
        return remove_step(made, step_key)

    find(journey, to)
    return each_of(journey, chosen, move)


def split_step(journey: Journey, step_key: str, request_key: str) -> Journey:
    """With a new step that begins with this request and takes what comes after it. Raises EditError for the first request."""
    part, at, step = find(journey, step_key)
    _, index, _ = find_request(journey, step_key, request_key)
    _own(step)
    if index == 0:
        raise EditError("This is the first request of its step, so there is nothing to split off before it.")
    name = f"{step.name}, continued"
    key = key_from(name, {each.step for _, each in journey.steps()})
    later = Step(step=key, name=name, think_s=step.think_s, think=step.think, think_to_s=step.think_to_s, requests=step.requests[index:])
    steps = list(journey.part(part))
    steps[at : at + 1] = [replace(step, requests=step.requests[:index], think_s=0.0, think="fixed"), later]
    return _with(journey, part, steps)


def merge_step(journey: Journey, step_key: str) -> Journey:
    """With the next step of the same part taken into this one; its think time stays at the end. Raises EditError for the last."""
    part, at, step = find(journey, step_key)
    steps = list(journey.part(part))
    if at + 1 >= len(steps):
        raise EditError(f"“{step.name}” is the last step of the {part}, so there is none after it to merge with.")
    following = steps[at + 1]
    _own(step)
    _own(following)
    requests = list(step.requests)
    for request in following.requests:
        requests.append(replace(request, request=key_from(request.request, {each.request for each in requests})))
    steps[at : at + 2] = [
        replace(
            step, requests=tuple(requests), think_s=following.think_s, think=following.think, think_to_s=following.think_to_s,
            recorded_think_s=following.recorded_think_s,
        )
    ]  # fmt: skip
    return _with(journey, part, steps)


def duplicate(journey: Journey, step_key: str, request_key: str = "") -> Journey:
    """With a copy of the step, or of the request, right after it."""
    part, at, step = find(journey, step_key)
    if request_key:
        _, index, request = find_request(journey, step_key, request_key)
        copy = replace(request, request=key_from(request.request, {each.request for each in step.requests}))
        return change_step(journey, step_key, requests=(*step.requests[: index + 1], copy, *step.requests[index + 1 :]))
    key = key_from(step.name, {each.step for _, each in journey.steps()})
    steps = list(journey.part(part))
    steps.insert(at + 1, replace(step, step=key, name=f"{step.name} (copy)"))
    return _with(journey, part, steps)


def switch(journey: Journey, step_key: str, request_key: str = "") -> Journey:
    """Switched off if it was on, and the other way round."""
    if request_key:
        _, _, request = find_request(journey, step_key, request_key)
        return change_request(journey, step_key, request_key, off=not request.off)
    _, _, step = find(journey, step_key)
    return change_step(journey, step_key, off=not step.off)


def excerpt(journey: Journey, start: str = "", until: str = "") -> Journey:
    """What a rehearsal performs that begins at step `start` (after the opening) and halts before `until` ("step" or "step/request").

    Raises EditError when either is not in the journey.
    """
    parts = {part: list(journey.part(part)) for part in PARTS}
    if start:
        part, index, _ = find(journey, start)
        if part == "cleanup":
            raise EditError("The clean-up is performed after a rehearsal, when it is asked for there; begin with another step.")
        if part == "opening":
            parts["opening"] = parts["opening"][index:]
        else:
            parts[part] = parts[part][index:]
            if part == "closing":
                parts["rounds"] = []
    if until:
        step_key, _, request_key = until.partition("/")
        part, _, step = find(journey, step_key)
        at = 0
        if request_key:
            _, at, _ = find_request(journey, step_key, request_key)
        keys = [each.step for each in parts[part]]
        if step_key not in keys:
            raise EditError(f"“{step.name}” comes before the step it would begin with, so there is nothing to rehearse.")
        kept = parts[part][: keys.index(step_key)]
        parts[part] = [*kept, replace(step, requests=step.requests[:at])] if at else kept
        for later in PARTS[PARTS.index(part) + 1 : -1]:  # what was done until then may still be cleaned up
            parts[later] = []
    return replace(journey, **{part: tuple(steps) for part, steps in parts.items()})


def set_thinking(journey: Journey, kind: str, value: float, to: float) -> Journey:
    """Think times of all steps that have one: "recorded" × `value`, or "fixed", "even" and "log-normal" with `value` (and `to`) seconds."""
    made = journey
    for _, step in journey.steps():
        recorded = step.recorded_think_s if step.recorded_think_s is not None else step.think_s
        if kind == "recorded":
            made = change_step(
                made, step.step, think="fixed", think_s=round(min(86_400.0, recorded * value), 3), think_to_s=0.0, recorded_think_s=recorded
            )
        elif step.think_s or recorded:
            made = change_step(
                made, step.step, think=kind, think_s=value, think_to_s=0.0 if kind == "fixed" else to, recorded_think_s=recorded
            )
    return made


def add_step(journey: Journey, part: Part, name: str) -> Journey:
    """With an empty step at the end of `part`."""
    key = key_from(name, {step.step for _, step in journey.steps()})
    return _with(journey, part, [*journey.part(part), Step(step=key, name=name)])


def _with(journey: Journey, part: Part, steps: list[Step]) -> Journey:
    return replace(journey, **{part: tuple(steps)})
