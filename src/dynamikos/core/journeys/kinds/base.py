"""What all kinds of steps have in common."""

import math
from collections.abc import Callable, Collection, Iterator
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal, Self, cast

import msgspec
from msgspec.structs import replace

from dynamikos.core.journeys.request import Key, Request
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import Change, Pair, texts_in
from dynamikos.core.values.template import NAME

if TYPE_CHECKING:
    from dynamikos.core.journeys.kinds import Step
    from dynamikos.core.journeys.kinds.branching import Branch

Kind = Literal["step", "set", "pause", "log", "call", "keep", "repeat", "each", "if", "choose"]
LONGEST_S = 86_400.0  # of a think time or a pause
Seconds = Annotated[float, msgspec.Meta(ge=0, le=LONGEST_S)]


class StepBase(Frozen, frozen=True, kw_only=True, tag_field="does"):
    """One thing a person does, as they would name it; after it they think for `think_s` seconds.

    `think: even` draws evenly from `think_s` to `think_to_s`; `log-normal` has its median at
    `think_s` and its p95 at `think_to_s`. `recorded_think_s` is what the recording had. `off`
    leaves the step out.

    A step does one thing, its kind: sends requests, sets values, waits, logs, calls a function,
    keeps a row, or holds further steps. Each kind is a file here.
    """

    step: Key
    name: str
    think_s: Seconds = 0.0
    think: Literal["fixed", "even", "log-normal"] = "fixed"
    think_to_s: Seconds = 0.0
    recorded_think_s: Seconds | None = None
    off: bool = False
    note: str = ""

    begins_as: ClassVar[str] = ""  # the name of a new one
    begins_with: ClassVar[dict[str, Any]] = {}  # and its fields
    nests: ClassVar[bool] = False  # whether it holds steps
    measured: ClassVar[bool] = False  # whether its time is a figure of its own
    in_turn: ClassVar[bool] = False  # whether each value it gives is known to its next text

    @property
    def kind(self) -> Kind:
        return cast(Kind, self.__struct_config__.tag)

    # what only some kinds have --------------------------------------------------------------------

    @property
    def requests(self) -> tuple[Request, ...]:
        return ()

    @property
    def use(self) -> str:
        return ""

    @property
    def at_once(self) -> bool:
        return False

    @property
    def steps(self) -> "tuple[Step, ...]":
        return ()

    @property
    def branches(self) -> "tuple[Branch, ...]":
        return ()

    def with_requests(self, change: Callable[[Request], Request | None]) -> Self:
        """With `change` applied to each of its requests; None leaves one out."""
        return self

    def slots(self) -> "list[tuple[Step, ...]]":
        """Its lists of steps: of each branch, or its own."""
        return []

    def with_slot(self, slot: int, steps: "tuple[Step, ...]") -> Self:
        """With one of its lists replaced."""
        raise IndexError(slot)

    # what each kind says of itself ----------------------------------------------------------------

    def with_texts(self, change: Change) -> Self:
        """With `change(what it is, text)` in place of each text of its own that may have holes,
        conditions and lists too; its requests and the steps inside apart.
        """
        return self

    def texts(self) -> list[Pair]:
        """(what it is, text) for each text of its own."""
        return texts_in(self)

    def gives(self) -> list[str]:
        """Names of values that it gives itself, in order (its requests' captures apart)."""
        return []

    def known_after(self) -> list[str]:
        """Names of all values that are known once it is done, by its requests' captures too."""
        return [
            *self.gives(),
            *(capture.name for request in self.requests for capture in request.captures),
        ]

    def problems(self, functions: Collection[str] | None) -> Iterator[str]:
        """What is wrong with it, in words. `functions` are those of the project; None: not
        looked at.
        """
        for name in self.gives():
            if not NAME.match(name) or "." in name:
                yield (
                    f"'{name}' can't be the name of a value: letters, digits and _, not beginning "
                    "with a digit"
                )

    def says(self) -> str:
        """What it does, in a line."""
        return ""

    # think time -----------------------------------------------------------------------------------

    def mean_think_s(self) -> float:
        """Mean seconds of think time (of a log-normal: exp(μ + σ²/2))."""
        if self.think == "even":
            return (self.think_s + max(self.think_s, self.think_to_s)) / 2
        if self.think == "log-normal" and self.think_s > 0:
            return float(self.think_s * math.exp(self.sigma() ** 2 / 2))
        return self.think_s

    def sigma(self) -> float:
        """σ of the log-normal whose median is `think_s` and p95 `think_to_s`."""
        return (
            math.log(self.think_to_s / self.think_s) / 1.6448536
            if self.think_to_s > self.think_s > 0
            else 0.0
        )


class Nesting(StepBase, frozen=True, kw_only=True):
    """A kind that holds one list of steps."""

    nests: ClassVar[bool] = True

    def slots(self) -> "list[tuple[Step, ...]]":
        return [self.steps]

    def with_slot(self, slot: int, steps: "tuple[Step, ...]") -> Self:
        return replace(self, steps=steps)
