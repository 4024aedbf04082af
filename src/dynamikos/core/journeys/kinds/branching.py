"""The two kinds that go on in one of several ways: by a condition, or by weight."""

from collections.abc import Collection, Iterator
from typing import Annotated, Any, ClassVar, Literal, Self

import msgspec
from msgspec.structs import replace

from dynamikos.core.journeys import kinds
from dynamikos.core.journeys.kinds.base import StepBase
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import Change, each_with_texts


class Branch(Frozen, frozen=True, kw_only=True):
    """One way to go on: by its `weight` among the others, or when its condition `when` holds
    (without one: otherwise).
    """

    name: str = ""
    weight: Annotated[float, msgspec.Meta(ge=0, le=1_000_000)] = 1.0
    when: str = ""
    steps: "tuple[kinds.Step, ...]" = ()
    note: str = ""

    def with_texts(self, change: Change) -> Self:
        return replace(self, when=change("when", self.when)) if self.when else self


class Branching(StepBase, frozen=True, kw_only=True):
    """Goes on in one of its branches."""

    nests: ClassVar[bool] = True

    def with_texts(self, change: Change) -> Self:
        return replace(self, branches=each_with_texts(self.branches, change))

    def slots(self) -> "list[tuple[kinds.Step, ...]]":
        return [branch.steps for branch in self.branches]

    def with_slot(self, slot: int, steps: "tuple[kinds.Step, ...]") -> Self:
        made = tuple(
            replace(each, steps=steps) if at == slot else each
            for at, each in enumerate(self.branches)
        )
        return replace(self, branches=made)


class Deciding(Branching, frozen=True, kw_only=True, tag="if"):
    """Goes on in the first branch whose `when` holds."""

    branches: tuple[Branch, ...]

    begins_as: ClassVar[str] = "If"
    begins_with: ClassVar[dict[str, Any]] = {
        "branches": (Branch(when="{{ round.number == 1 }}"), Branch(name="else"))
    }

    def problems(self, functions: Collection[str] | None) -> Iterator[str]:
        yield from super().problems(functions)
        if any(not branch.when for branch in self.branches[:-1]):
            yield "if: only the last branch may be without a condition (when)"


class Choosing(Branching, frozen=True, kw_only=True, tag="choose"):
    """Goes on in one branch by weight: drawn at random, or evenly over all users."""

    choose: Literal["at random", "evenly"]
    branches: tuple[Branch, ...] = ()

    begins_as: ClassVar[str] = "Choose"
    begins_with: ClassVar[dict[str, Any]] = {
        "choose": "at random",
        "branches": (Branch(name="one way"), Branch(name="another")),
    }

    def problems(self, functions: Collection[str] | None) -> Iterator[str]:
        yield from super().problems(functions)
        if not any(branch.weight > 0 for branch in self.branches):
            yield "choose: at least one branch needs a weight above 0"

    def says(self) -> str:
        return f"one of {len(self.branches)}, {self.choose}"
