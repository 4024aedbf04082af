"""The kind that sets values."""

from typing import Any, ClassVar, Self

from msgspec.structs import replace

from dynamikos.core.journeys.kinds.base import StepBase
from dynamikos.core.text.template_walk import Change, Pair, pairs_with_texts


class Setting(StepBase, frozen=True, kw_only=True, tag="set"):
    """Values with their names, one after the other: a later one may use an earlier one."""

    set: tuple[Pair, ...]

    begins_as: ClassVar[str] = "Set a value"
    begins_with: ClassVar[dict[str, Any]] = {"set": (("name", ""),)}
    in_turn: ClassVar[bool] = True

    def with_texts(self, change: Change) -> Self:
        return replace(self, set=pairs_with_texts(self.set, "set", change))

    def gives(self) -> list[str]:
        return [name for name, _ in self.set]

    def says(self) -> str:
        return ", ".join(f"{name} = {value}" for name, value in self.set)
