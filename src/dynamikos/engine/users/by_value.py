"""Counts what fails by the values that were dealt."""

from collections.abc import Mapping, Sequence
from itertools import islice

from dynamikos.core.frozen import DataPile
from dynamikos.core.reports.by_value import MOST_VALUES, ByValue, OfMany, OfValue
from dynamikos.engine.users.dealing import Rows, Spec

LOOKED_AT = 20_000  # rows, for how many values a column has: more are looked at as they are dealt
MOST_KEPT = 20_000  # failing values of one request, of a column with many


class _Many:
    """A request's failures by values that are too many to be told."""

    def __init__(self) -> None:
        self.failed = self.most = 0
        self.counts: dict[str, int] = {}

    def add(self, value: str, count: int = 1) -> None:
        self.failed += count
        if value in self.counts or len(self.counts) < MOST_KEPT:
            self.counts[value] = self.counts.get(value, 0) + count
            self.most = max(self.most, self.counts[value])


class Tally:
    """Of one shard. Of columns with secrets nothing is counted; of those with more than MOST_VALUES
    only how many failed. What that takes does not grow with the tables.
    """

    def __init__(self, specs: Sequence[Spec], piles: Sequence[DataPile]) -> None:
        secret = {f"{pile.key}.{column}" for pile in piles for column in pile.secret}
        self._rows: dict[int, Rows] = {spec.no: spec.rows for spec in specs}
        self._columns = {
            spec.no: [each for each in spec.columns if each[1] not in secret] for spec in specs
        }
        self._wide = {name for spec in specs for name in _wide(spec.rows, self._columns[spec.no])}
        self._dealt: dict[str, dict[str, int]] = {}
        self._failed: dict[str, dict[str, dict[int, int]]] = {}
        self._many: dict[tuple[str, int], _Many] = {}

    def dealt(self, no: int, row: int) -> None:
        """A user got a row."""
        cells = self._rows[no][row]
        for at, name in self._columns[no]:
            if name not in self._wide:
                counts = self._dealt.setdefault(name, {})
                counts[cells[at]] = counts.get(cells[at], 0) + 1
                if len(counts) > MOST_VALUES:
                    self._widen(name)

    def failed(self, series: int, rows: Mapping[int, int]) -> None:
        """A request failed for a user who held these rows, by number of what is dealt."""
        for no, row in rows.items():
            cells = self._rows[no][row]
            for at, name in self._columns[no]:
                if name in self._wide:
                    self._many.setdefault((name, series), _Many()).add(cells[at])
                else:
                    counts = self._failed.setdefault(name, {}).setdefault(cells[at], {})
                    counts[series] = counts.get(series, 0) + 1

    def _widen(self, name: str) -> None:
        """A column has more values than were seen at first: what was counted of it by value is so
        no more.
        """
        self._wide.add(name)
        del self._dealt[name]
        for value, counts in self._failed.pop(name, {}).items():
            for series, count in counts.items():
                self._many.setdefault((name, series), _Many()).add(value, count)

    def counted(self) -> ByValue | None:
        """All since the begin; None while nothing failed."""
        if not self._failed and not self._many:
            return None
        return ByValue(
            values=[
                OfValue(
                    name=name,
                    value=value,
                    dealt=count,
                    failed=dict(self._failed.get(name, {}).get(value, {})),
                )
                for name, counts in self._dealt.items()
                for value, count in counts.items()
            ],
            many=[
                OfMany(
                    name=name,
                    series=series,
                    failed=each.failed,
                    values=len(each.counts),
                    most=each.most,
                )
                for (name, series), each in self._many.items()
            ],
        )


def _wide(rows: Rows, columns: Sequence[tuple[int, str]]) -> list[str]:
    """Those whose first rows already have more than MOST_VALUES."""
    seen: dict[str, set[str]] = {name: set() for _, name in columns}
    left = list(columns)
    for cells in islice(rows, LOOKED_AT):
        for at, name in left:
            seen[name].add(cells[at])
        left = [each for each in left if len(seen[each[1]]) <= MOST_VALUES]
        if not left:
            break
    return [name for name, values in seen.items() if len(values) > MOST_VALUES]
