"""The kind that does its steps for each of a list."""

from typing import Annotated, Any, ClassVar, Self

import msgspec
from msgspec.structs import replace

from dynamikos.core.journeys import kinds
from dynamikos.core.journeys.kinds.base import Nesting
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import Change


class Each(Frozen, frozen=True, kw_only=True):
    """Its steps for each of a list, `in`: a JSON list or an expression that gives one; the value at
    hand is called `name`.
    """

    name: Annotated[str, msgspec.Meta(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$")]
    in_: str = msgspec.field(name="in")
    at_most: Annotated[int, msgspec.Meta(ge=1, le=100_000)] = 100
    note: str = ""


class Listing(Nesting, frozen=True, kw_only=True, tag="each"):
    """Does its steps for each of a list."""

    each: Each
    steps: "tuple[kinds.Step, ...]" = ()

    begins_as: ClassVar[str] = "For each"
    begins_with: ClassVar[dict[str, Any]] = {"each": Each(name="item", in_="[]")}

    def with_texts(self, change: Change) -> Self:
        return replace(self, each=replace(self.each, in_=change("for each", self.each.in_)))

    def gives(self) -> list[str]:
        return [self.each.name]

    def says(self) -> str:
        return f"{self.each.name} in {self.each.in_}"
