"""What a pin names: a run, a window, a slice of it, a step or request."""

import uuid
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits
from dynamikos.core.frozen import FrozenRun, Series
from dynamikos.web.projects.models import Project
from dynamikos.web.runs import generator_filter, queries, reading
from dynamikos.web.runs.models import Run, Shard

LEVELS = ("step", "request", "repeat", "item")
GONE = "the run was deleted"


@dataclass(frozen=True)
class Seen:
    """What a pin names, as the project has it now. Raises DynamikosError for what is not there."""

    project: Project
    of: Mapping[str, str]

    @cached_property
    def run(self) -> Run:
        try:
            found = Run.objects.filter(
                project=self.project, pk=uuid.UUID(self.of.get("run", ""))
            ).first()
        except ValueError:
            found = None
        if found is None:
            raise DynamikosError(f"{GONE}.")
        return found

    @cached_property
    def inputs(self) -> FrozenRun:
        return queries.as_run(self.run, queries.frozen(self.run))

    @cached_property
    def window(self) -> tuple[int, int]:
        """That in which it was seen, else the measured part."""
        begin, end = digits(self.of.get("from", "")), digits(self.of.get("to", ""))
        low, high = self.inputs.measured
        begin = int(low) if begin is None else begin
        end = min(int(high) if end is None else end, self.run.watermark + 1)
        if end <= begin:
            raise DynamikosError(f"run {self.run.number} has nothing from second {begin} on.")
        return begin, end

    @cached_property
    def row(self) -> str:
        """A row, or all of a persona or a journey; "" for everybody."""
        row = self.of.get("row", "")
        if not row or len(self.inputs.places.rows) == 1:
            return ""
        if row not in dict(reading.slices_of(self.inputs)):
            raise DynamikosError(f"run {self.run.number} has no row {row[:60]}.")
        return row

    @cached_property
    def shards(self) -> list[int] | None:
        """Those of a generator or a place; None for all."""
        named = self.of.get("generator", "")
        those = generator_filter.chosen(self._shards, named)
        if named and those is None:
            raise DynamikosError(
                f"run {self.run.number} had no generator, or no place, {named[:60]}."
            )
        return those

    @cached_property
    def _shards(self) -> list[Shard]:
        return list(self.run.shards.defer("by_value"))

    @property
    def name(self) -> str:
        """What the step or request is called."""
        each = self.series
        step = queries.names_of_steps(self.inputs).get(each.journey, {}).get(each.step, each.step)
        return f"{step}: {each.request}" if each.request else step or each.name

    @property
    def where(self) -> str:
        begin, end = self.window
        of_row = f", of {dict(reading.slices_of(self.inputs))[self.row]} only" if self.row else ""
        times = ", times of what failed" if self.of_failed else ""
        of_place = ""
        if self.shards is not None:
            named = self.of["generator"]
            of_place = f", {dict(generator_filter.choices(self._shards)).get(named, named)} only"
        return (
            f"{self.run.name}, run {self.run.number}, second {begin} to "
            f"{end}{of_row}{of_place}{times}"
        )

    @property
    def of_failed(self) -> bool:
        return self.of.get("outcome", "") == "failed"

    @cached_property
    def series(self) -> Series:
        """The step or request that is named."""
        wanted = self.of.get("journey", ""), self.of.get("step", ""), self.of.get("request", "")
        for each in reading.shown_series(self.inputs, self.row or None):
            if (each.journey, each.step, each.request) == wanted and each.level in LEVELS:
                return each
        raise DynamikosError(
            f"run {self.run.number} has no step or request {'/'.join(filter(None, wanted))}."
        )
