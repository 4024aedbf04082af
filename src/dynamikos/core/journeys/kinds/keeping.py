"""The kind that writes a row back."""

from collections.abc import Collection, Iterator
from typing import Annotated, Any, ClassVar, Self

import msgspec
from msgspec.structs import replace

from dynamikos.core.journeys.kinds.base import StepBase
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import Change, Pair, pairs_with_texts
from dynamikos.core.values.template import NAME


class Keep(Frozen, frozen=True, kw_only=True):
    """A row written back: into the data set `into` (made when it is not there), columns with their
    texts.
    """

    into: Annotated[str, msgspec.Meta(pattern=r"^[a-z][a-z0-9_]{0,79}$")]
    row: tuple[Pair, ...]


class Keeping(StepBase, frozen=True, kw_only=True, tag="keep"):
    """Writes a row back."""

    keep: Keep

    begins_as: ClassVar[str] = "Write a row"
    begins_with: ClassVar[dict[str, Any]] = {"keep": Keep(into="results", row=())}

    def with_texts(self, change: Change) -> Self:
        return replace(
            self, keep=replace(self.keep, row=pairs_with_texts(self.keep.row, "row,", change))
        )

    def problems(self, functions: Collection[str] | None) -> Iterator[str]:
        yield from super().problems(functions)
        if not self.keep.row:
            yield "write a row: name at least one column and its text"
        for name, _ in self.keep.row:
            if not NAME.match(name) or "." in name:
                yield (
                    f"'{name}' can't be the name of a column: letters, digits and _, not beginning "
                    "with a digit"
                )

    def says(self) -> str:
        return f"a row into {self.keep.into}"
