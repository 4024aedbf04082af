"""What the ladder and its panel ask for, as changes of a core journey."""

from collections.abc import Callable, Mapping

from django.http import QueryDict
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Branch, Journey, Shared, background
from dynamikos.core.journeys import editing as edit
from dynamikos.core.journeys.model import PARTS, walk
from dynamikos.web.journeys import forms

THINKING = ("fixed", "even", "log-normal")
Changed = tuple[Journey, str]  # the journey, and what is selected in it then


def apply(core: Journey, what: str, at: str, data: QueryDict, shared: Mapping[str, Shared]) -> Changed:
    """One change. Raises DynamikosError with what to do; `core` is untouched then."""
    several = data.getlist("also")
    if several:
        return _several(core, what, several, data)
    made = CHANGES.get(what)
    if made is None:
        raise DynamikosError(f"'{what}' is not a change of a journey.")
    if what == "add-shared":
        key = data.get("shared", "")
        if key not in shared:
            raise DynamikosError(
                "Choose a shared step; one is made from a step of a journey by “Share with other journeys”."
            )
        core = edit.use_shared(core, "rounds", key, shared[key])
        return core, core.rounds[-1].step
    return made(core, at, data)


def _several(core: Journey, what: str, chosen: list[str], data: QueryDict) -> Changed:
    def single(function: Callable[[Journey, str, str], Journey]) -> Journey:
        return edit.each_of(core, chosen, lambda made, at: function(made, *_split(at)))

    if what == "switch":
        return single(edit.switch), ""
    if what == "duplicate":
        return single(edit.duplicate), ""
    if what == "remove":
        return single(
            lambda made, step, request: (
                edit.remove_request(made, step, request) if request else edit.remove_step(made, step)
            )
        ), ""
    if what == "gather":
        to = data.get("to", "")
        return edit.gather(core, chosen, to), to
    raise DynamikosError(f"'{what}' can't be done with several at once.")


def _split(at: str) -> tuple[str, str]:
    step, _, request = at.partition("/")
    return step, request


def _request(core: Journey, at: str, data: QueryDict) -> Changed:
    step, request = _split(at)
    _, _, old = edit.find_request(core, step, request)
    return edit.change_request(core, step, request, **forms.request_changes(data, old)), at


def _step(core: Journey, at: str, data: QueryDict) -> Changed:
    name = data.get("name", "").strip()
    if not name:
        raise DynamikosError("A step needs a name: what the person does, such as “Sign in”.")
    note = data.get("note", "").strip()
    _, _, old = edit.find(core, at)
    fields = forms.item_changes(data, old)
    core = edit.change_step(
        core, at, name=name, think_s=seconds(data.get("think_s", "0")), **_thinking(data), note=note, **fields
    )
    part = data.get("part", "")
    if part in PARTS and edit.find(core, at)[0] != part and not edit.home_of(core, at)[0].owner:
        core = edit.place_step(core, at, part, len(core.part(part)))
    return core, at


def _journey(core: Journey, at: str, data: QueryDict) -> Changed:
    name = data.get("name", "").strip()
    if not name:
        raise DynamikosError("A journey needs a name.")
    headers, proof = forms.headers_from(data, "common"), forms.authorization_from(data)
    return replace(core, name=name, note=data.get("note", "").strip(), headers=headers, authorization=proof), at


def _move(by: int) -> Callable[[Journey, str, QueryDict], Changed]:
    def move(core: Journey, at: str, data: QueryDict) -> Changed:
        step, request = _split(at)
        return (edit.move_request(core, step, request, by) if request else edit.move_step(core, step, by)), at

    return move


def _place(core: Journey, at: str, data: QueryDict) -> Changed:
    changed = edit.place_before(core, at, data.get("before", ""))
    request = _split(at)[1]
    return changed, follow(changed, request, at) if request else at


def _split_step(core: Journey, at: str, data: QueryDict) -> Changed:
    step, request = _split(at)
    changed = edit.split_step(core, step, request)
    first = ((s, r) for _, s in changed.steps() for r in s.requests[:1])
    return changed, next(f"{s.step}/{r.request}" for s, r in first if r.request == request and s.step != step)


def _remove(core: Journey, at: str, data: QueryDict) -> Changed:
    step, request = _split(at)
    return (edit.remove_request(core, step, request) if request else edit.remove_step(core, step)), ""


def _add_step(core: Journey, at: str, data: QueryDict) -> Changed:
    core = edit.add_step(core, "rounds", data.get("name", "").strip() or "New step")
    made, after = core.rounds[-1].step, _split(at)[0]
    if after:  # it comes after what is selected
        part = edit.find(core, after)[0]
        top = next(
            (n for n, each in enumerate(core.part(part)) if any(step.step == after for step in walk((each,)))), None
        )
        if top is not None:
            core = edit.place_step(core, made, part, top + 1)
    return core, made


def _branch(core: Journey, at: str, data: QueryDict) -> Changed:
    """A branch more, or one less; what stands in the one taken away goes with it."""
    _, _, step = edit.find(core, at)
    if not step.branches:
        raise DynamikosError(f"“{step.name}” has no branches.")
    gone = data.get("branch", "")
    if gone.isdigit() and int(gone) < len(step.branches):
        if len(step.branches) == 1:
            raise DynamikosError("One branch has to stay; delete the whole item instead.")
        kept = tuple(each for number, each in enumerate(step.branches) if number != int(gone))
    else:
        new = Branch(name="another") if step.kind == "choose" else Branch(when="{{ round.number > 1 }}")
        otherwise = step.kind == "if" and not step.branches[-1].when
        kept = (*step.branches[:-1], new, step.branches[-1]) if otherwise else (*step.branches, new)
    return edit.change_step(core, at, branches=kept), at


def _into(core: Journey, at: str, data: QueryDict) -> Changed:
    owner, _, slot = data.get("into", "").partition("/")
    return edit.put_into(core, at, owner, int(slot) if slot.isdigit() else 0), at


CHANGES: dict[str, Callable[[Journey, str, QueryDict], Changed]] = {
    "request": _request,
    "step": _step,
    "journey": _journey,
    "up": _move(-1),
    "down": _move(1),
    "place": _place,
    "split": _split_step,
    "merge": lambda core, at, data: (edit.merge_step(core, at), at),
    "duplicate": lambda core, at, data: (edit.duplicate(core, *_split(at)), at),
    "switch": lambda core, at, data: (edit.switch(core, *_split(at)), at),
    "own": lambda core, at, data: (edit.own_requests(core, at), at),
    "remove": _remove,
    "add-step": _add_step,
    "add-item": lambda core, at, data: edit.add_item(core, data.get("item", ""), _split(at)[0]),  # type: ignore[arg-type]
    "wrap": lambda core, at, data: edit.wrap(core, at, data.get("item", "")),  # type: ignore[arg-type]
    "unwrap": lambda core, at, data: (edit.unwrap(core, at), ""),
    "branch": _branch,
    "into": _into,
    "background-off": lambda core, at, data: (background.leave_out(core), ""),
    "background-by-time": lambda core, at, data: (background.by_time(core), ""),
    "add-shared": lambda core, at, data: (core, at),
}


def follow(core: Journey, request_key: str, at: str) -> str:
    """Where a moved request is now."""
    return next((f"{s.step}/{r.request}" for _, s in core.steps() for r in s.requests if r.request == request_key), at)


def think(core: Journey, at: str, data: QueryDict) -> Journey:
    """Only a step's think time. Raises DynamikosError."""
    return edit.change_step(core, at, think_s=seconds(data.get("think_s") or "0"), **_thinking(data))


def _thinking(data: QueryDict) -> dict[str, object]:
    """How think time is drawn. Raises DynamikosError for limits that make no sense."""
    kind = data.get("think", "fixed")
    if kind not in THINKING:
        raise DynamikosError(f"'{kind}' is no way to draw think times; there are {', '.join(THINKING)}.")
    low, high = seconds(data.get("think_s", "0")), seconds(data.get("think_to_s") or "0")
    if kind != "fixed" and not high:
        high = 2 * low or 1.0  # the kind was chosen just now; the figure follows
    if kind != "fixed" and high <= low:
        what = "the longest" if kind == "even" else "the 95th percentile"
        raise DynamikosError(f"With {kind} think times {what} must be more than {low:g} s; it is {high:g} s.")
    return {"think": kind, "think_to_s": high}


def seconds(text: str) -> float:
    try:
        value = float(text.replace(",", "."))
    except ValueError as problem:
        raise DynamikosError(f"Think time is a number of seconds, such as 2.5; '{text}' is not.") from problem
    if not 0 <= value <= 86_400:
        raise DynamikosError("Think time is between 0 and 86,400 seconds.")
    return value
