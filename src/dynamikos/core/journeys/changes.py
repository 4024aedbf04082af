"""Changes of a journey as values: the interface, the shell and whoever else make them alike.

A change is plain data (JSON: `{"change": "switch", "at": "sign-in"}`), knows what it refers to by
keys, and says what is to be selected afterwards. `at` is "step" or "step/request". `apply` raises
DynamikosError with what to do, and the journey is untouched then. `Change` is the one list of them.
"""

from collections.abc import Mapping
from typing import Any, Literal, NamedTuple, get_args

import msgspec
from msgspec.structs import fields, replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import background, columns
from dynamikos.core.journeys import editing as edit
from dynamikos.core.journeys.kinds import Branch, Kind, Step, StepBase, tagged, untagged
from dynamikos.core.journeys.kinds.base import Seconds
from dynamikos.core.journeys.model import Journey, Part, walk
from dynamikos.core.journeys.request import Authorization, Request
from dynamikos.core.journeys.shared import Shared
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import Pair
from dynamikos.core.values.template import NAME

Thinking = Literal["fixed", "even", "log-normal"]
Shares = Mapping[str, Shared]
NO_NAME = "A step needs a name: what the person does, such as “Sign in”."
KEPT = frozenset(
    (*StepBase.__struct_fields__, "steps", "requests", "use", "recorded")
)  # never a kind's own


class Changed(NamedTuple):
    """The journey after a change, and what is selected in it then ("" for nothing)."""

    journey: Journey
    at: str = ""


class Told(Frozen, frozen=True, kw_only=True, tag_field="change"):
    """What JSON calls `change` says which one it is."""


class At(Told, frozen=True, kw_only=True):
    """A change of one step or request."""

    at: str

    @property
    def step(self) -> str:
        return self.at.partition("/")[0]

    @property
    def request(self) -> str:
        return self.at.partition("/")[2]


# what is typed ------------------------------------------------------------------------------------


class WriteRequest(At, frozen=True, kw_only=True, tag="write-request"):
    """A request as it is to be; its key stays."""

    value: Request

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        changes = {
            each.name: getattr(self.value, each.name)
            for each in fields(self.value)
            if each.name != "request"
        }
        return Changed(edit.change_request(journey, self.step, self.request, **changes), self.at)


class Think(At, frozen=True, kw_only=True, tag="think"):
    """A step's think time. `think_to_s` 0 with a spread: twice the median, at least one second."""

    think: Thinking = "fixed"
    think_s: Seconds = 0.0
    think_to_s: Seconds = 0.0

    def fields(self) -> dict[str, object]:
        """Raises DynamikosError for limits that make no sense."""
        low, high = self.think_s, self.think_to_s
        if self.think != "fixed" and not high:
            high = 2 * low or 1.0  # the kind was chosen just now; the figure follows
        _spread(self.think, low, high)
        return {"think": self.think, "think_s": low, "think_to_s": high}

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        return Changed(edit.change_step(journey, self.step, **self.fields()), self.at)


def _spread(think: str, low: float, high: float) -> None:
    """Raises DynamikosError for limits that make no sense."""
    if think in ("even", "log-normal") and high <= low:
        what = "the longest" if think == "even" else "the 95th percentile"
        raise DynamikosError(
            f"With {think} think times {what} must be more than {low:g} s; it is {high:g} s."
        )


class WriteStep(Think, frozen=True, kw_only=True, tag="write-step"):
    """A step's name, think time and note, the part it stands in, and in `does` the fields of its
    kind as plain values (docs/journey.schema.json); what stands inside it stays.
    """

    name: str
    note: str = ""
    part: Part | None = None
    does: dict[str, Any] = {}

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        if not self.name.strip():
            raise DynamikosError(NO_NAME)
        _, _, old = edit.find(journey, self.step)
        journey = edit.change_step(
            journey,
            self.step,
            name=self.name,
            note=self.note,
            **self.fields(),
            **_own(old, self.does),
        )
        home, _ = edit.home_of(journey, self.step)
        if self.part not in (None, home.part) and not home.owner:
            journey = edit.place_step(journey, self.step, self.part, len(journey.part(self.part)))
        return Changed(journey, self.at)


def _own(old: Step, plain: Mapping[str, Any]) -> dict[str, object]:
    """Fields of a step's kind from plain values; branches keep the steps that stand in them.

    Raises DynamikosError for what the kind does not take.
    """
    if strange := sorted(set(plain) & KEPT):
        raise DynamikosError(f"{', '.join(strange)} can't be changed with what the step does.")
    given = dict(plain)
    if "branches" in given:
        given["branches"] = _branches(old, given["branches"])
    whole = {**msgspec.to_builtins(old), **given}
    try:
        made = msgspec.convert(whole, type(old))
    except msgspec.ValidationError as problem:
        said = str(problem)
        if "matching regex" in said:
            said = (
                "a name has small letters, digits and _; a function is written as module.function"
            )
        raise DynamikosError(f"This can't be kept: {said}") from problem
    if (
        tagged(untagged([whole]))[0]["does"] != old.kind
    ):  # an empty text is not written, and it says what is done
        raise DynamikosError(
            f"“{old.name}” needs its {' and '.join(plain)}: empty it would do nothing."
        )
    return {
        each.name: getattr(made, each.name) for each in fields(old) if each.encode_name in plain
    }


def _branches(old: Step, given: Any) -> list[dict[str, Any]]:
    """Branches as given, with the steps that stand in them. Raises DynamikosError when there are
    more or fewer.
    """
    if not isinstance(given, list | tuple) or not all(isinstance(each, Mapping) for each in given):
        raise DynamikosError(
            'This can\'t be kept: branches are a list, such as [{"when": "{{ round.number > 1 '
            '}}"}].'
        )
    if len(given) != len(old.branches):
        raise DynamikosError(
            f"“{old.name}” has {len(old.branches)} branches, and {len(given)} were sent; "
            "add-branch and remove-branch"
            " change how many there are."
        )
    return [
        {**each, "steps": msgspec.to_builtins(has.steps)}
        for each, has in zip(given, old.branches, strict=True)
    ]


class WriteJourney(Told, frozen=True, kw_only=True, tag="write-journey"):
    """A journey's name, note, common headers and authorization."""

    name: str
    note: str = ""
    headers: tuple[Pair, ...] = ()
    authorization: Authorization | None = None

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        if not self.name.strip():
            raise DynamikosError("A journey needs a name.")
        return Changed(
            replace(
                journey,
                name=self.name,
                note=self.note,
                headers=self.headers,
                authorization=self.authorization,
            )
        )


class ThinkAll(Told, frozen=True, kw_only=True, tag="think-all"):
    """Think times of all steps that have one: the recorded ones × `value`, or of one kind with
    `value` (and `to`) seconds.
    """

    think: Literal["recorded", "fixed", "even", "log-normal"]
    value: Seconds
    to: Seconds = 0.0

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        _spread(self.think, self.value, self.to)
        return Changed(edit.set_thinking(journey, self.think, self.value, self.to))


class PutColumn(Told, frozen=True, kw_only=True, tag="put-column"):
    """A text replaced by a column of the test data, in places as `occurrences` names them."""

    value: str
    name: str
    places: tuple[str, ...]

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        if not self.value:
            raise DynamikosError("Say which text the column is to replace.")
        if not NAME.match(self.name):
            raise DynamikosError(f"'{self.name}' is no name of a column, such as observers.email.")
        if gone := set(self.places) - {
            each.key for each in columns.occurrences(journey, self.value)
        }:
            where = ", ".join(sorted(gone))
            raise DynamikosError(
                f"“{self.value}” does not stand in {where} any more; reload the page."
            )
        return Changed(columns.put_column(journey, self.value, self.name, self.places))


# where it stands ----------------------------------------------------------------------------------


class Move(At, frozen=True, kw_only=True, tag="move"):
    """One place up (−1) or down (+1)."""

    by: Literal[-1, 1]

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        if not self.request:
            return Changed(edit.move_step(journey, self.step, self.by), self.at)
        made = edit.move_request(journey, self.step, self.request, self.by)
        return Changed(made, _where(made, self.request, self.at))


class Place(At, frozen=True, kw_only=True, tag="place"):
    """Before another step or request; a request dropped on a step comes last in it."""

    before: str

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        made = edit.place_before(journey, self.at, self.before)
        return Changed(made, _where(made, self.request, self.at) if self.request else self.at)


def _where(journey: Journey, request: str, at: str) -> str:
    """Where a moved request is now."""
    return next(
        (
            f"{step.step}/{each.request}"
            for step, each in journey.requests()
            if each.request == request
        ),
        at,
    )


class PutInto(At, frozen=True, kw_only=True, tag="put-into"):
    """To the end of list `slot` of a step that holds steps."""

    owner: str
    slot: int = 0

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        return Changed(edit.put_into(journey, self.step, self.owner, self.slot), self.at)


class Split(At, frozen=True, kw_only=True, tag="split"):
    """A new step that begins with this request."""

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        made = edit.split_step(journey, self.step, self.request)
        begins = ((step, step.requests[0]) for _, step in made.steps() if step.requests)
        return Changed(
            made,
            next(
                f"{step.step}/{first.request}"
                for step, first in begins
                if first.request == self.request and step.step != self.step
            ),
        )


class Merge(At, frozen=True, kw_only=True, tag="merge"):
    """With the step after it."""

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        return Changed(edit.merge_step(journey, self.step), self.at)


class Gather(Told, frozen=True, kw_only=True, tag="gather"):
    """Requests, and all of chosen steps, moved to the end of a step."""

    chosen: tuple[str, ...]
    to: str

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        return Changed(edit.gather(journey, self.chosen, self.to), self.to)


# what is there ------------------------------------------------------------------------------------


class Switch(At, frozen=True, kw_only=True, tag="switch"):
    """Off if it was on, and the other way round."""

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        return Changed(edit.switch(journey, self.step, self.request), self.at)


class Duplicate(At, frozen=True, kw_only=True, tag="duplicate"):
    """A copy right after it."""

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        return Changed(edit.duplicate(journey, self.step, self.request), self.at)


class Remove(At, frozen=True, kw_only=True, tag="remove"):
    """Taken away, with what stands in it."""

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        if self.request:
            return Changed(edit.remove_request(journey, self.step, self.request))
        return Changed(edit.remove_step(journey, self.step))


SINGLE: dict[str, type[Switch | Duplicate | Remove]] = {
    "switch": Switch,
    "duplicate": Duplicate,
    "remove": Remove,
}


class Several(Told, frozen=True, kw_only=True, tag="several"):
    """The same with several steps and requests, in the journey's order."""

    chosen: tuple[str, ...]
    each: Literal["switch", "duplicate", "remove"]

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        single = SINGLE[self.each]
        return Changed(
            edit.each_of(
                journey, self.chosen, lambda made, at: single(at=at).apply(made, shared).journey
            )
        )


class AddStep(Told, frozen=True, kw_only=True, tag="add-step"):
    """An empty step after the one named, or at the end of the rounds."""

    name: str = "New step"
    after: str = ""

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        if not self.name.strip():
            raise DynamikosError(NO_NAME)
        made = edit.add_step(journey, "rounds", self.name)
        key, after = made.rounds[-1].step, self.after.partition("/")[0]
        if after:
            part = edit.find(made, after)[0]
            outer = (
                n
                for n, top in enumerate(made.part(part))
                if any(each.step == after for each in walk((top,)))
            )
            at = next(outer, None)
            if at is not None:
                made = edit.place_step(made, key, part, at + 1)
        return Changed(made, key)


class AddItem(Told, frozen=True, kw_only=True, tag="add-item"):
    """A step that does something else than sending requests."""

    item: Kind
    after: str = ""

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        return Changed(*edit.add_item(journey, self.item, self.after.partition("/")[0]))


class UseShared(Told, frozen=True, kw_only=True, tag="use-shared"):
    """A step at the end of the rounds that performs a shared one."""

    shared: str

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        if self.shared not in shared:
            raise DynamikosError(
                "Choose a shared step; one is made from a step of a journey by “Share with other "
                "journeys”."
            )
        made = edit.use_shared(journey, "rounds", self.shared, shared[self.shared])
        return Changed(made, made.rounds[-1].step)


class Own(At, frozen=True, kw_only=True, tag="own"):
    """A copy of a shared step's requests as its own."""

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        return Changed(edit.own_requests(journey, self.step), self.at)


class Wrap(At, frozen=True, kw_only=True, tag="wrap"):
    """Put into a new item that holds steps."""

    item: Kind

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        return Changed(*edit.wrap(journey, self.step, self.item))


class Unwrap(At, frozen=True, kw_only=True, tag="unwrap"):
    """An item that holds steps taken away; they take its place."""

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        return Changed(edit.unwrap(journey, self.step))


class AddBranch(At, frozen=True, kw_only=True, tag="add-branch"):
    """A branch more; before the one without a condition."""

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        step = _branching(journey, self.step)
        new = (
            Branch(name="another")
            if step.kind == "choose"
            else Branch(when="{{ round.number > 1 }}")
        )
        last = len(step.branches) - (step.kind == "if" and not step.branches[-1].when)
        made = (*step.branches[:last], new, *step.branches[last:])
        return Changed(edit.change_step(journey, self.step, branches=made), self.at)


class RemoveBranch(At, frozen=True, kw_only=True, tag="remove-branch"):
    """A branch less; what stands in it goes with it."""

    branch: int

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        step = _branching(journey, self.step)
        if not 0 <= self.branch < len(step.branches):
            raise DynamikosError(
                f"“{step.name}” has no branch {self.branch + 1} any more; reload the page."
            )
        if len(step.branches) == 1:
            raise DynamikosError("One branch has to stay; delete the whole item instead.")
        kept = tuple(each for number, each in enumerate(step.branches) if number != self.branch)
        return Changed(edit.change_step(journey, self.step, branches=kept), self.at)


def _branching(journey: Journey, key: str) -> Step:
    _, _, step = edit.find(journey, key)
    if not step.branches:
        raise DynamikosError(f"“{step.name}” has no branches.")
    return step


class LeaveOutBackground(Told, frozen=True, kw_only=True, tag="leave-out-background"):
    """Requests that the page sent by itself switched off."""

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        return Changed(background.leave_out(journey))


class BackgroundByTime(Told, frozen=True, kw_only=True, tag="background-by-time"):
    """Requests that the page sent by itself repeated by time."""

    def apply(self, journey: Journey, shared: Shares) -> Changed:
        return Changed(background.by_time(journey))


Change = (
    WriteRequest
    | WriteStep
    | WriteJourney
    | Think
    | ThinkAll
    | PutColumn
    | Move
    | Place
    | PutInto
    | Split
    | Merge
    | Gather
    | Switch
    | Duplicate
    | Remove
    | Several
    | AddStep
    | AddItem
    | UseShared
    | Own
    | Wrap
    | Unwrap
    | AddBranch
    | RemoveBranch
    | LeaveOutBackground
    | BackgroundByTime
)
CHANGES: tuple[type[Change], ...] = get_args(Change)


def read_change(plain: Any) -> Change:
    """A change from plain data, as JSON gives it. Raises DynamikosError in words for what is
    none.
    """
    try:
        made: Change = msgspec.convert(plain, Change)
    except msgspec.ValidationError as problem:
        known = ", ".join(str(each.__struct_config__.tag) for each in CHANGES)
        raise DynamikosError(
            f"This is no change of a journey: {problem}. There are {known}."
        ) from problem
    return made
