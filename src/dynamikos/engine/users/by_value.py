"""Counts what fails by the values that were dealt."""

from collections.abc import Mapping, Sequence

from dynamikos.core.frozen import DataPile
from dynamikos.core.reports.by_value import MOST_VALUES, ByValue, OfMany, OfValue
from dynamikos.engine.users.dealing import Spec


class Tally:
    """Of one shard. Of columns with secrets nothing is counted; of those with many values only how many failed."""

    def __init__(self, specs: Sequence[Spec], piles: Sequence[DataPile]) -> None:
        secret = {f"{pile.key}.{column}" for pile in piles for column in pile.secret}
        self._told: dict[int, list[tuple[int, str]]] = {}  # columns by number of what is dealt
        self._wide: dict[int, list[tuple[int, str]]] = {}
        self._rows = {spec.no: spec.rows for spec in specs}
        for spec in specs:
            for at, name in spec.columns:
                if name not in secret:
                    few = len({row[at] for row in spec.rows}) <= MOST_VALUES
                    (self._told if few else self._wide).setdefault(spec.no, []).append((at, name))
        self._dealt: dict[tuple[str, str], int] = {}
        self._failed: dict[tuple[str, str], dict[int, int]] = {}
        self._many: dict[tuple[str, int], dict[str, int]] = {}

    def dealt(self, no: int, row: int) -> None:
        """A user got a row."""
        cells = self._rows[no][row]
        for at, name in self._told.get(no, ()):
            key = name, cells[at]
            self._dealt[key] = self._dealt.get(key, 0) + 1

    def failed(self, series: int, rows: Mapping[int, int]) -> None:
        """A request failed for a user who held these rows, by number of what is dealt."""
        for no, row in rows.items():
            cells = self._rows[no][row]
            for at, name in self._told.get(no, ()):
                counts = self._failed.setdefault((name, cells[at]), {})
                counts[series] = counts.get(series, 0) + 1
            for at, name in self._wide.get(no, ()):
                counted = self._many.setdefault((name, series), {})
                counted[cells[at]] = counted.get(cells[at], 0) + 1

    def told(self) -> ByValue | None:
        """All since the begin; None while nothing failed."""
        if not self._failed and not self._many:
            return None
        keys = dict.fromkeys((*self._dealt, *self._failed))
        return ByValue(
            values=[
                OfValue(name=name, value=value, dealt=self._dealt.get((name, value), 0),
                        failed=dict(self._failed.get((name, value), {})))
                for name, value in keys
            ],
            many=[
                OfMany(name=name, series=series, failed=sum(by.values()), values=len(by), most=max(by.values()))
                for (name, series), by in self._many.items()
            ],
        )  # fmt: skip
