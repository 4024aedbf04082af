"""The deal: whose rows, in what order, when a new one, and what then. All of it follows from the
rules, a seed and numbers.

Positions and rows count from 0, users from 1. A *taking* is one new row; takings of a user, or of
the pile, are counted from 0.
"""

import hashlib
import math
from collections.abc import Sequence
from functools import lru_cache
from typing import Literal

import msgspec
from msgspec.structs import replace

from dynamikos.core.forms import VersionedCodec

Whose = Literal["pile", "slice", "whole"]
Order = Literal["in order", "shuffled", "at random"]
When = Literal["round", "use", "user", "run"]
Then = Literal["start over", "stay", "leave", "stop"]


class Deal(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True
):
    """The rules of one data set.

    `whose`: one pile for everyone, a slice for each user, the whole table for everyone. `when` a
    new row is taken: each round, each use (each request that needs one), once per user, once per
    run. `then`, when they are used up: start over, stay on the last, the user leaves, the run
    stops. `follow` names a data set whose row number is taken instead, by all columns but those
    that are `apart`: they are dealt on their own.
    """

    whose: Whose = "pile"
    order: Order = "in order"
    when: When = "round"
    then: Then = "start over"
    follow: str = ""
    apart: tuple[str, ...] = ()

    def alone(self) -> "Deal":
        """The rules of a column dealt on its own: by the sentence, whatever the other columns
        follow.
        """
        return replace(self, follow="", apart=())

    @property
    def shared(self) -> bool:
        """Whether takings are counted over all users, so that shards must agree on them."""
        return (
            self.whose == "pile"
            and self.order != "at random"
            and self.when != "run"
            and not self.follow
        )

    @property
    def endless(self) -> bool:
        """Whether rows can't be used up."""
        return (
            self.order == "at random"
            or self.then == "start over"
            or self.when == "run"
            or bool(self.follow)
        )


DEAL = VersionedCodec("deal", Deal)


@lru_cache(maxsize=256)
def _key(seed: int, name: str) -> bytes:
    return hashlib.sha256(f"{seed}\0deal\0{name}".encode()).digest()


def shuffled(position: int, size: int, seed: int, name: str) -> int:
    """Where `position` lies in a random order of 0…size−1 that depends on seed and name alone.

    A Feistel network of four rounds over the next even number of bits, walked until it is below
    size (Black and Rogaway 2002), so that an order of millions needs no memory.
    """
    if size < 2:
        return 0
    half = max(1, ((size - 1).bit_length() + 1) // 2)
    mask, key = (1 << half) - 1, _key(seed, name)
    while True:
        left, right = position >> half, position & mask
        for turn in range(4):
            drawn = hashlib.blake2b(
                right.to_bytes(8, "big"), digest_size=8, key=key, salt=bytes([turn])
            ).digest()
            left, right = right, left ^ (int.from_bytes(drawn, "big") & mask)
        position = (left << half) | right
        if position < size:
            return position


def drawn(seed: int, name: str, user: int, taking: int, size: int) -> int:
    """A row at random, the same for the same user and taking in every run of a seed."""
    material = hashlib.blake2b(
        f"{user}\0{taking}".encode(), digest_size=16, key=_key(seed, name)
    ).digest()
    return int.from_bytes(material, "big") % size


def slice_of(user: int, users: int, rows: int) -> tuple[int, int]:
    """(first row, row after the last) of a user's slice; slices differ by at most one row.

    Users beyond `users` share again.
    """
    at = (user - 1) % max(1, users)
    return at * rows // max(1, users), (at + 1) * rows // max(1, users)


def row_of(
    deal: Deal, name: str, seed: int, rows: int, users: int, user: int, taking: int
) -> int | None:
    """The row of a taking, or None when they are used up (never with `start over`, which goes
    round; staying is for the caller).

    `taking` is the pile's where `deal.shared`, else the user's own; `users` is how many slices
    there are. Raises ValueError for an empty table.
    """
    if rows < 1:
        raise ValueError("the data set has no rows to deal")
    first, last = slice_of(user, users, rows) if deal.whose == "slice" else (0, rows)
    size = last - first
    if size < 1:
        return None  # more slices than rows
    if deal.when == "run" and deal.whose != "slice":
        user, taking = 0, 0
    if deal.order == "at random":
        return first + drawn(seed, name, user, taking, size)
    cycle, position = divmod(taking, size)
    if cycle and not deal.endless:
        return None
    if deal.order == "shuffled":
        own = "" if deal.whose == "pile" else str(user)
        return first + shuffled(position, size, seed, f"{name}\0{own}\0{cycle}")
    return first + position


CellState = Literal["", "over", "stays", "again"]


class Cell(msgspec.Struct, frozen=True, kw_only=True):
    """What a user gets in a round, for the drawing: a row, or the first and last one of a range;
    `state` is "", over, stays or again.
    """

    first: int = 0
    last: int = 0
    state: CellState = ""


def drawing(
    deal: Deal, name: str, seed: int, rows: int, users: int, shown_users: int, shown_rounds: int
) -> list[list[Cell]]:
    """For each of the first users, what it gets in each of the first rounds, when all `users` go at
    one pace. Rows count from 1.

    With one pile in order the k-th round takes rows between two bounds, whichever user comes first;
    a shuffled pile may give any row.
    """
    grid = []
    for user in range(1, shown_users + 1):
        line: list[Cell] = []
        for turn in range(shown_rounds):
            line.append(
                _cell(deal, name, seed, rows, users, user, turn, line[-1] if line else None)
            )
        grid.append(line)
    return grid


def _cell(
    deal: Deal,
    name: str,
    seed: int,
    rows: int,
    users: int,
    user: int,
    turn: int,
    before: Cell | None,
) -> Cell:
    if rows < 1:
        return Cell(state="over")
    if deal.when in ("user", "run") and before is not None:
        return before
    if deal.shared and deal.when == "user":  # taken as they start, one after the other
        row = row_of(deal, name, seed, rows, users, user, user - 1)
        if row is None:
            return _at_end(deal, rows)
        return Cell(first=row + 1, last=row + 1, state="again" if user > rows else "")
    if deal.shared and users > 1:
        return _shared_cell(deal, rows, users, turn)
    found = row_of(deal, name, seed, rows, users, user, turn)
    if found is None:
        if deal.then == "stay" and before is not None and before.first:
            return Cell(first=before.first, last=before.last, state="stays")
        return Cell(state="over")
    first, last = slice_of(user, users, rows) if deal.whose == "slice" else (0, rows)
    again = turn >= last - first and deal.order != "at random"
    return Cell(first=found + 1, last=found + 1, state="again" if again else "")


def _shared_cell(deal: Deal, rows: int, users: int, turn: int) -> Cell:
    """Of a round in which all users take of one pile: who comes first is not known, so that it is
    the rows that all of them take.
    """
    low, high = turn * users, (turn + 1) * users - 1
    if low >= rows and not deal.endless:
        return _at_end(deal, rows)
    again: CellState = "again" if low >= rows else ""
    if deal.order == "shuffled" or high - low + 1 >= rows:
        return Cell(first=1, last=rows, state=again)
    if low < rows <= high:  # the rows end within this round
        if deal.endless:
            return Cell(first=low + 1, last=high % rows + 1, state="again")
        return Cell(first=low + 1, last=rows, state="")
    return Cell(first=low % rows + 1, last=high % rows + 1, state=again)


def _at_end(deal: Deal, rows: int) -> Cell:
    """When there are no more rows."""
    if deal.then == "stay":
        return Cell(first=rows, last=rows, state="stays")
    return Cell(state="over")


def used_up_s(
    deal: Deal, rows: int, starts_s: Sequence[tuple[float, float]], round_s: float
) -> float | None:
    """The second at which rows run out for somebody first, or None when they last.

    `starts_s` are the planned users' (start, end) in seconds; each is taken to need a row when it
    starts and one every `round_s`.
    """
    if deal.when == "run" or deal.order == "at random" or deal.follow or not starts_s:
        return None
    if deal.whose in ("slice", "whole"):
        own = rows // len(starts_s) if deal.whose == "slice" else rows
        return _own_used_up_s(deal, own, starts_s, round_s)
    if deal.when == "user" or round_s <= 0:
        starts = sorted(start for start, _ in starts_s)
        return starts[rows] if len(starts) > rows else None
    return _shared_used_up_s(rows, starts_s, round_s)


def _own_used_up_s(
    deal: Deal, own: int, starts_s: Sequence[tuple[float, float]], round_s: float
) -> float | None:
    """Where each user has `own` rows for itself."""
    if own == 0:
        return starts_s[0][0]
    if deal.when == "user" or round_s <= 0:
        return None
    ends = [start + own * round_s for start, end in starts_s if start + own * round_s < end]
    return min(ends, default=None)


def _shared_used_up_s(
    rows: int, starts_s: Sequence[tuple[float, float]], round_s: float
) -> float | None:
    """Where all users take of the same rows: by bisection of how many are needed until then."""
    if sum(math.ceil((end - start) / round_s) for start, end in starts_s) <= rows:
        return None

    def needed(until_s: float) -> int:
        return sum(
            math.floor((min(until_s, end) - start) / round_s) + 1
            for start, end in starts_s
            if start <= until_s
        )

    low, high = 0.0, max(end for _, end in starts_s)
    for _ in range(50):
        middle = (low + high) / 2
        low, high = (low, middle) if needed(middle) > rows else (middle, high)
    return high
