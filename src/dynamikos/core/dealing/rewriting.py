"""A column put in, made anew, taken out or moved: the one change that touches every row of a
table.
"""

from collections.abc import Iterable, Iterator
from itertools import repeat
from typing import Literal

import msgspec

from dynamikos.core.dealing.blocks import Block, pack
from dynamikos.core.dealing.generate import ColumnRule, column


class Rewrite(msgspec.Struct, frozen=True, kw_only=True):
    """What is done to each row.

    insert: a cell before column `at`, made by `rule`, empty without one. fill: column `at` made
    anew by `rule`. delete: column `at`. move: column `at` to where column `to` is.
    """

    what: Literal["insert", "fill", "delete", "move"]
    at: int
    to: int = 0
    rule: ColumnRule | None = None

    def row(self, cells: list[str], new: str = "") -> list[str]:
        """A row, or the columns' names, after it."""
        at = self.at
        if self.what == "insert":
            return [*cells[:at], new, *cells[at:]]
        if self.what == "fill":
            return [*cells[:at], new, *cells[at + 1 :]]
        rest = cells[:at] + cells[at + 1 :]
        return rest if self.what == "delete" else [*rest[: self.to], cells[at], *rest[self.to :]]


def rewritten(blocks: Iterable[list[list[str]]], change: Rewrite, rows: int) -> Iterator[Block]:
    """The blocks of a table of `rows` rows after `change`, each as many rows as it had.

    Raises ImportRefused for rules that make nothing.
    """
    new = column(change.rule, rows) if change.rule is not None else repeat("")
    for block in blocks:
        yield pack([change.row(cells, cell) for cells, cell in zip(block, new, strict=False)])
