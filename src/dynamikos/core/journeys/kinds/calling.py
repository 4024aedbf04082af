"""The kind that calls a function."""

from collections.abc import Collection, Iterator
from typing import Annotated, Any, ClassVar, Self

import msgspec
from msgspec.structs import replace

from dynamikos.core.journeys.kinds.base import StepBase
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import Change, Pair, pairs_with_texts


class Call(Frozen, frozen=True, kw_only=True):
    """A Python function of the project, `module.function`, called with named texts; what it returns
    becomes the value `into`.
    """

    function: Annotated[str, msgspec.Meta(pattern=r"^[a-z_][a-z0-9_]*\.[A-Za-z_][A-Za-z0-9_]*$")]
    with_: tuple[Pair, ...] = msgspec.field(name="with", default=())
    into: str = ""


class Calling(StepBase, frozen=True, kw_only=True, tag="call"):
    """Calls a function."""

    call: Call

    begins_as: ClassVar[str] = "Call a function"
    begins_with: ClassVar[dict[str, Any]] = {"call": Call(function="starter.luhn")}

    def with_texts(self, change: Change) -> Self:
        return replace(
            self, call=replace(self.call, with_=pairs_with_texts(self.call.with_, "call,", change))
        )

    def gives(self) -> list[str]:
        return [self.call.into] if self.call.into else []

    def problems(self, functions: Collection[str] | None) -> Iterator[str]:
        yield from super().problems(functions)
        if functions is not None and self.call.function not in functions:
            there = (
                f"there are {', '.join(sorted(functions)[:12])}"
                if functions
                else "the project has none yet; an owner, or who may, adds a module under Functions"
            )
            yield f"call: there is no function {self.call.function}; {there}"

    def says(self) -> str:
        called = f"{self.call.function}()"
        return f"{self.call.into} = {called}" if self.call.into else called
