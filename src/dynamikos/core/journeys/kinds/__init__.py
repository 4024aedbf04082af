"""What a step can do: a kind is a file, with its fields, texts, problems and words. KINDS is the
one list of them.

How a kind is performed stands in `engine/users/kinds`, its fields on the panel in
`web/journeys/forms/kinds`, each by the same names. Start reading at `base`.
"""

from typing import Any

from dynamikos.core.forms import ValidationError
from dynamikos.core.journeys.kinds.base import Kind, StepBase
from dynamikos.core.journeys.kinds.branching import Branch, Choosing, Deciding
from dynamikos.core.journeys.kinds.calling import Call, Calling
from dynamikos.core.journeys.kinds.keeping import Keep, Keeping
from dynamikos.core.journeys.kinds.listing import Each, Listing
from dynamikos.core.journeys.kinds.logging import Logging
from dynamikos.core.journeys.kinds.pausing import Pausing
from dynamikos.core.journeys.kinds.repeating import Repeat, Repeating
from dynamikos.core.journeys.kinds.sending import Sending
from dynamikos.core.journeys.kinds.setting import Setting

Step = (
    Sending
    | Setting
    | Pausing
    | Logging
    | Calling
    | Keeping
    | Repeating
    | Listing
    | Deciding
    | Choosing
)

KINDS: dict[Kind, type[Step]] = {
    "step": Sending,
    "set": Setting,
    "pause": Pausing,
    "log": Logging,
    "call": Calling,
    "keep": Keeping,
    "repeat": Repeating,
    "each": Listing,
    "if": Deciding,
    "choose": Choosing,
}
NESTING: tuple[Kind, ...] = tuple(kind for kind, made in KINDS.items() if made.nests)
MARKS = (
    "set",
    "pause",
    "log",
    "call",
    "keep",
    "repeat",
    "each",
)  # a key that says what a step does
TAG = "does"

__all__ = [
    "KINDS",
    "NESTING",
    "Branch",
    "Call",
    "Calling",
    "Choosing",
    "Deciding",
    "Each",
    "Keep",
    "Keeping",
    "Kind",
    "Listing",
    "Logging",
    "Pausing",
    "Repeat",
    "Repeating",
    "Sending",
    "Setting",
    "Step",
    "StepBase",
    "new_step",
    "tagged",
    "untagged",
]


def new_step(kind: Kind, step: str, name: str = "") -> Step:
    """A new step of a kind, as it begins."""
    made = KINDS[kind]
    return made(step=step, name=name or made.begins_as, **made.begins_with)


def tagged(steps: Any, path: tuple[str | int, ...] = ()) -> Any:
    """Plain steps as they are written, each with the kind that its keys say. Raises ValidationError
    where they are of several.

    What is no list of mappings is left for the type to refuse.
    """
    if not isinstance(steps, list | tuple):
        return steps
    return [
        _tagged(step, (*path, at)) if isinstance(step, dict) else step
        for at, step in enumerate(steps)
    ]


def _tagged(step: dict[str, Any], path: tuple[str | int, ...]) -> dict[str, Any]:
    if TAG in step:
        raise ValidationError(f"there is no key `{TAG}`", (*path, TAG))
    holding = (*MARKS, "branches", "requests", "steps")
    empty = {mark for mark in holding if mark in step and step[mark] in ("", None, [])}
    made = {name: value for name, value in step.items() if name not in empty}
    kind = _kind(made, path)
    if kind in ("choose", "if") and isinstance(made.get("branches"), list | tuple):
        at = (*path, "branches")
        made["branches"] = [_branch(each, (*at, n)) for n, each in enumerate(made["branches"])]
    if "steps" in made:
        if kind not in ("repeat", "each"):
            raise ValidationError(
                "steps stand in a step that repeats them, or does them for each of a list",
                (*path, "steps"),
            )
        made["steps"] = tagged(made["steps"], (*path, "steps"))
    return {TAG: kind, **made}


def _kind(made: dict[str, Any], path: tuple[str | int, ...]) -> str:
    """What kind a step is of, by the one key that says so. Raises ValidationError for several."""
    given = [mark for mark in MARKS if mark in made]
    given += ["branches"] * ("branches" in made or "choose" in made)
    given += ["requests"] * ("requests" in made)
    if len(given) > 1:
        raise ValidationError(
            f"a step does one thing; this one has {' and '.join(given)}. Make them steps of their "
            "own",
            (*path, given[1] if given[1] in made else "choose"),
        )
    if given == ["branches"]:
        return "choose" if made.get("choose") is not None else "if"
    return given[0] if given and given[0] in MARKS else "step"


def _branch(branch: Any, path: tuple[str | int, ...]) -> Any:
    if not isinstance(branch, dict) or "steps" not in branch:
        return branch
    return {**branch, "steps": tagged(branch["steps"], (*path, "steps"))}


def untagged(steps: Any) -> list[Any]:
    """The opposite of `tagged`, as it is written: what a step does before what is said about it."""
    made = []
    for step in steps:
        plain = {name: value for name, value in step.items() if name not in (TAG, "off", "note")}
        if "steps" in plain:
            plain["steps"] = untagged(plain["steps"])
        if "branches" in plain:
            plain["branches"] = [
                {**branch, "steps": untagged(branch["steps"])} if "steps" in branch else branch
                for branch in plain["branches"]
            ]
        made.append({**plain, **{name: step[name] for name in ("off", "note") if name in step}})
    return made
