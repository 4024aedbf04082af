"""Sharing out: which row of a crowd the k-th user has, which generator the j-th of a row."""

import math
from collections.abc import Sequence
from fractions import Fraction

LONGEST = 20_000  # terms of a period that are kept


class Turns:
    """Tijdeman's chairman assignment (The chairman assignment problem, Discrete Mathematics 32,
    1980): for every prefix each row is within 1 − 1/(2m − 2) of its quota, and one more never takes
    one away from a row.
    """

    def __init__(self, shares: Sequence[float]) -> None:
        """`shares` are in proportion; those of 0 get nothing. Raises ValueError when none is
        above 0.
        """
        exact = [Fraction(str(share)) for share in shares]
        scale = sum(exact, Fraction(0))
        if scale <= 0 or min(exact) < 0:
            raise ValueError("shares have to be 0 or more, and one of them more")
        common = math.lcm(*((share / scale).denominator for share in exact))
        self._at = [at for at, share in enumerate(exact) if share > 0]
        self._weights = [int(exact[at] / scale * common) for at in self._at]
        self._all = common  # of so many terms each row gets its weight, and then it begins anew
        self._given = [0] * len(self._at)
        self._terms: list[int] = []

    def __getitem__(self, k: int) -> int:
        """The row, from 0, of the k-th, from 0."""
        if len(self._at) == 1:
            return self._at[0]
        if self._all <= LONGEST:
            k %= self._all
        while len(self._terms) <= k:
            self._terms.append(self._next(len(self._terms) + 1))
        return self._terms[k]

    def _next(self, k: int) -> int:
        """Among the rows with share·k − given ≥ e the one with the least (1 − e − (share·k −
        given)) / share, all times (2m − 2)·S so that it is decided in integers.
        """
        double, whole = 2 * len(self._at) - 2, self._all
        best, best_room, best_weight = -1, 0, 1
        for row, weight in enumerate(self._weights):
            behind = (weight * k - self._given[row] * whole) * double
            if behind < whole:
                continue
            room = (double - 1) * whole - behind
            if best < 0 or room * best_weight < best_room * weight:
                best, best_room, best_weight = row, room, weight
        self._given[best] += 1
        return self._at[best]


def shard_of(turn: int, row: int, shards: int) -> int:
    """The generator of the j-th user, from 0, of row number `row`: in turn, begun at another one by
    each row, so that rows and generators are not confounded.
    """
    return (turn + row) % shards
