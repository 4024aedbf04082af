"""The part of a run that is looked at: a window of its clock, a row, generators, passed or failed.

Asked once, from plain values; whoever shows it (a page, a file, an API) asks it for what it shows.
"""

from collections.abc import Mapping
from functools import cached_property
from urllib.parse import urlencode

from dynamikos.core.figures import digits
from dynamikos.core.frozen import Series, every_series
from dynamikos.core.reports import Ledger, Row
from dynamikos.core.reports.folding import BY_SHARD
from dynamikos.web.runs import generator_filter, queries, reading
from dynamikos.web.runs.models import Run, Shard


def window_of(
    asked: Mapping[str, str], measured: tuple[float, float], total: float
) -> tuple[int, int]:
    """The window asked for, else the measured part (so far)."""

    def whole(name: str, default: float) -> int:
        given = digits(asked.get(name, ""))
        return int(default) if given is None else given

    begin, end = whole("from", measured[0]), whole("to", measured[1])
    return (begin, end) if end > begin else (0, int(total) + 60)


class Slice:
    """`asked` are the values of an address: from, to, row, generator, outcome, sort, down. What is
    asked for and is not there is left out.
    """

    def __init__(self, found: Run, asked: Mapping[str, str]) -> None:
        self.run = found
        self.inputs = queries.as_run(found, queries.frozen(found))
        self.measured = self.inputs.measured
        self.begin, self.end = window_of(asked, self.measured, self.inputs.ends_s)
        self.rows_to_choose = reading.slices_of(self.inputs)
        row = asked.get("row", "")
        self.row = row if row in dict(self.rows_to_choose) else ""
        self.is_of_failed = asked.get("outcome", "") == "failed"
        self.shards = list[Shard](found.shards.defer("by_value"))
        generator = asked.get("generator", "")
        self.generators = generator_filter.chosen(self.shards, generator)  # None: all of them
        self.generator = generator if self.generators is not None else ""
        sort = asked.get("sort", "")
        self.sort = sort if sort in (*Row.__struct_fields__, queries.WORST_FIRST) else ""
        self.is_down = asked.get("down", "1") == "1"

    @property
    def is_measured(self) -> bool:
        """Whether the window is the measured part."""
        return (self.begin, self.end) == (int(self.measured[0]), int(self.measured[1]))

    @property
    def seen(self) -> int:
        """Seconds of the window that have been."""
        return max(0, min(self.end, self.run.watermark + 1) - self.begin)

    @property
    def reached(self) -> int:
        """Where the window ends so far."""
        return min(self.end, self.run.watermark + 1)

    @cached_property
    def whose(self) -> set[str] | None:
        """The rows it is of; None for everybody."""
        return reading.rows_named(self.inputs, self.row or None)

    @property
    def is_part(self) -> bool:
        """Whether it is of some rows or generators only."""
        return self.whose is not None or self.generators is not None

    @cached_property
    def series(self) -> list[Series]:
        """Those that are shown."""
        shown = reading.shown_series(self.inputs, self.row or None)
        if self.generators is None:
            return shown
        return [each for each in shown if each.level in BY_SHARD]

    @cached_property
    def numbers(self) -> list[int] | None:
        """Of the series of its rows; None for all."""
        if self.whose is None:
            return None
        return [each.no for each in every_series(self.inputs) if each.row in self.whose]

    @cached_property
    def ledger(self) -> Ledger:
        """What was counted in it."""
        row, window = self.row or None, (self.begin, self.end)
        if self.generators is None:
            return queries.window(self.run, self.inputs, *window, row)
        return queries.of_generators(self.run, self.inputs, self.generators, *window, row)

    @cached_property
    def rows(self) -> list[tuple[Row, list[Row]]]:
        """Each step with what it is made of, sorted."""
        how = (self.seen, self.sort, self.is_down)
        return queries.table(self.ledger, self.series, *how, of_failed=self.is_of_failed)

    @property
    def lines(self) -> list[Row]:
        """The rows, one after the other."""
        return [each for step, below in self.rows for each in (step, *below)]

    def address(self, *, is_of_failed: bool | None = None) -> str:
        """The values of an address that asks for it; of the other outcome, where that is said."""
        failed = self.is_of_failed if is_of_failed is None else is_of_failed
        return urlencode({
            "from": self.begin, "to": self.end, "row": self.row, "generator": self.generator,
            "outcome": "failed" if failed else "",
        })  # fmt: skip
