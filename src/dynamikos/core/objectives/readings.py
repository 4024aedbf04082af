"""Objectives about a probe's measure, which are judged on its values by second of the run."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dynamikos.core.objectives.intervals import by_interval, intervals_of
from dynamikos.core.objectives.judge import Judgement, Mark, Word, word_of
from dynamikos.core.objectives.model import Objective, describe
from dynamikos.core.statistics.histogram import enough_for

LEAST = 0.5  # of the values that were due: with fewer nothing is said
FEW = 0.02  # share of what was due that may be missing without a word


@dataclass(frozen=True, slots=True)
class Told:
    """What a probe told of one measure: `values` by second of the run (NaN: none), due every
    `every_s`, in `unit`.
    """

    values: NDArray[np.float64]
    unit: str = ""
    every_s: float = 1.0

    def within(self, begin: float, end: float) -> NDArray[np.float64]:
        """Those of the seconds in [begin, end)."""
        part = self.values[max(0, int(begin)) : max(0, int(end))]
        return part[~np.isnan(part)]


Source = tuple[str, str]  # probe and measure
Readings = Mapping[Source, Told]


def source_of(objective: Objective) -> Source:
    """Which probe's which measure it is about."""
    return objective.probe or "", objective.reading or ""


def value_of(objective: Objective, values: NDArray[np.float64]) -> float | None:
    """The objective's measure of values; a percentile is the smallest value that so many of them
    don't exceed. None without any.
    """
    if not len(values):
        return None
    if objective.measure == "mean":
        return float(values.mean())
    if objective.measure == "max":
        return float(values.max())
    return float(np.percentile(values, objective.percent or 0.0, method="inverted_cdf"))


def judge_readings(
    objective: Objective, readings: Readings, part_s: tuple[float, float]
) -> Judgement:
    """Judged on what was told in [from, to) of the run. Not judged where less than half of what was
    due came, or too little for a percentile (n·(100−p) < 100).
    """
    told = readings.get(source_of(objective))
    values = told.within(*part_s) if told is not None else np.empty(0)
    due = (part_s[1] - part_s[0]) / told.every_s if told is not None else 0.0
    value = value_of(objective, values)
    word: Word = "not judged"
    reason = ""
    if told is None or value is None:
        reason = f"the probe told nothing of {objective.reading}"
    elif len(values) < LEAST * due:
        reason = f"the probe told of it only {len(values):,} times, where {due:,.0f} were due"
    elif objective.percent is not None and enough_for(objective.percent, len(values)) == "no":
        needed = -(-100 // (100 - objective.percent))
        value, reason = (
            None,
            f"{len(values)} values are too few for {objective.measure}; {needed:.0f} are needed",
        )
    else:
        word = word_of(objective, value, value)
        if due - len(values) > max(1.0, FEW * due):  # what it would have told then nobody knows
            reason = f"the probe told of it {len(values):,} of {due:,.0f} times"
    unit = told.unit if told is not None else ""
    return Judgement(
        objective=objective.objective,
        word=word,
        value=value,
        limit=objective.limit,
        unit=unit,
        samples=len(values),
        sentence=describe(objective, unit=unit),
        reason=reason,
        then=objective.then,
    )


def mark_readings(
    objective: Objective, begin: int, end: int, values: Sequence[float] | NDArray[np.float64]
) -> Mark:
    """The mark of one interval, from what was told in it."""
    value = value_of(objective, np.asarray(values, float))
    if value is None:
        return Mark(from_s=begin, to_s=end, word="not judged")
    is_kept = value >= objective.limit if objective.at_least else value <= objective.limit
    return Mark(from_s=begin, to_s=end, word="met" if is_kept else "missed", value=value)


def marks_of_readings(
    objective: Objective, readings: Readings, measured_s: tuple[float, float], until_s: float
) -> Iterator[Mark]:
    """Those of all intervals that were over by second `until_s`."""
    told = readings.get(source_of(objective))
    for begin, end in intervals_of(objective, measured_s):
        if end > until_s:
            return
        yield mark_readings(
            objective, begin, end, told.within(begin, end) if told is not None else ()
        )


def judged_readings(
    objective: Objective, readings: Readings, measured_s: tuple[float, float], until_s: float
) -> Judgement:
    """Over the measured part of a run that lasted `until_s`, by interval where it asks for that."""
    over_all = judge_readings(objective, readings, (measured_s[0], min(measured_s[1], until_s)))
    if objective.every_s is None:
        return over_all
    return by_interval(
        objective, over_all, list(marks_of_readings(objective, readings, measured_s, until_s))
    )
