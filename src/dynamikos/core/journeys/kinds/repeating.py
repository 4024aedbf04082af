"""The kind that does its steps again and again."""

from collections.abc import Collection, Iterator
from typing import Annotated, Any, ClassVar, Self

import msgspec
from msgspec.structs import replace

from dynamikos.core.checks import Then
from dynamikos.core.journeys import kinds
from dynamikos.core.journeys.kinds.base import LONGEST_S, Nesting, Seconds
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import Change


class Repeat(Frozen, frozen=True, kw_only=True):
    """Its steps again and again: `times` of them, `while` a condition holds (asked before each try)
    or `until` it does (asked after).

    `every_s` is from the begin of one try to the begin of the next; after `limit_s` or `at_most`
    tries it ends. A `while` or `until` that has not come about by then, or `times` that are not
    done by then, are a failure, which means what `then` says.
    """

    times: str = ""
    while_: str = msgspec.field(name="while", default="")
    until: str = ""
    every_s: Seconds = 0.0
    limit_s: Annotated[float, msgspec.Meta(gt=0, le=LONGEST_S)] = 60.0
    at_most: Annotated[int, msgspec.Meta(ge=1, le=100_000)] = 1000
    then: Then = "round"

    def with_texts(self, change: Change) -> Self:
        return replace(
            self,
            times=change("repeat", self.times) if self.times else "",
            while_=change("repeat", self.while_) if self.while_ else "",
            until=change("repeat", self.until) if self.until else "",
        )


class Repeating(Nesting, frozen=True, kw_only=True, tag="repeat"):
    """Repeats its steps."""

    repeat: Repeat
    steps: "tuple[kinds.Step, ...]" = ()

    begins_as: ClassVar[str] = "Repeat"
    begins_with: ClassVar[dict[str, Any]] = {"repeat": Repeat(times="3")}
    measured: ClassVar[bool] = True

    def with_texts(self, change: Change) -> Self:
        return replace(self, repeat=self.repeat.with_texts(change))

    def problems(self, functions: Collection[str] | None) -> Iterator[str]:
        yield from super().problems(functions)
        if sum(map(bool, (self.repeat.times, self.repeat.while_, self.repeat.until))) != 1:
            yield "repeat: give one of times, while or until"

    def says(self) -> str:
        rule = self.repeat
        what = (
            f"{rule.times} times"
            if rule.times
            else f"while {rule.while_}"
            if rule.while_
            else f"until {rule.until}"
        )
        every = f", every {rule.every_s:g} s" if rule.every_s else ""
        return what + every + ("" if rule.times else f", {rule.limit_s:g} s at most")
