"""Two slices of measured time side by side: what both have, by identity, those that differ most
first.
"""

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from dynamikos.core.frozen import Series
from dynamikos.core.reports import Ledger, Row
from dynamikos.core.reports.ledger import row_of_total

Key = tuple[str, str, str, str]  # level, journey, step, request


@dataclass(frozen=True, slots=True)
class Pair:
    """A step or request in both slices, None where one has none of it. `times_as_long` is b's p95
    over a's, None where one of them is not known well enough; `more_failed` the difference of their
    shares of failures in percentage points.
    """

    a: Row | None
    b: Row | None
    times_as_long: float | None
    more_failed: float

    @property
    def either(self) -> Row:
        found = self.a or self.b
        assert found is not None
        return found

    @property
    def differs(self) -> float:
        """How much, for the order: a doubled time counts as much as 20 points of failures."""
        ratio = abs(math.log2(self.times_as_long)) if self.times_as_long else 0.0
        return (
            ratio + abs(self.more_failed) / 20 + (1e3 if self.a is None or self.b is None else 0.0)
        )


def key_of(series: Series) -> Key:
    """What identifies a series in any slice and any run: its numbers do not."""
    return series.level, series.journey, series.step, series.request


def rows_of(
    ledger: Ledger, series: Iterable[Series], seconds: float, *, of_failed: bool = False
) -> dict[Key, Row]:
    """Those steps and requests of which there is something; with the times of what failed, where
    that is wanted.
    """
    made = {}
    for each in series:
        if each.level in ("step", "request", "repeat", "item", "embedded"):
            row = row_of_total(each, ledger.totals[each.no], seconds, of_failed=of_failed)
            if row.count:
                made[key_of(each)] = row
    return made


def side_by_side(a: dict[Key, Row], b: dict[Key, Row]) -> Sequence[Pair]:
    """Those that differ most first; those that one side alone has before all."""
    made = []
    for key in {**a, **b}:
        one, other = a.get(key), b.get(key)
        ratio = None
        if one is not None and other is not None and one.p95_ms and other.p95_ms:
            ratio = other.p95_ms / one.p95_ms
        failed = [row.failure_percent or 0.0 if row is not None else 0.0 for row in (one, other)]
        made.append(Pair(one, other, ratio, failed[1] - failed[0]))
    return sorted(made, key=lambda pair: -pair.differs)
