"""What is compared: runs, each with its steps second by second over its measured part."""

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dynamikos.core.objectives import Objective
from dynamikos.core.statistics import Histogram
from dynamikos.core.statistics.histogram import enough_for
from dynamikos.core.statistics.intervals import Certain, percentile, ratio

Trace = NDArray[np.float64]
Key = tuple[str, str, str, str]  # level, journey, step, request: what identifies a series in any run
COMPARED = ("step", "request")  # levels
SHARES = ("failure-rate",)
BETTER_IF_MORE = ("throughput",)


@dataclass(frozen=True, slots=True)
class Wanted:
    """A measure of a step or request: mean, a percentile, throughput or failure-rate."""

    key: Key
    measure: str

    @property
    def is_share(self) -> bool:
        return self.measure in SHARES

    @property
    def more_is_worse(self) -> bool:
        return self.measure not in BETTER_IF_MORE


def pulled(failed: float, n: float) -> float:
    """A share pulled a little towards the middle, (k + ½)/(n + 1), so that none of few is no certainty."""
    return (failed + 0.5) / (n + 1)


@dataclass(frozen=True)
class Line:
    """A step by second (or longer parts, of `unit_s` each): how many passed and failed, the sum of the times of those
    that passed (µs), their times.
    """

    name: str
    passed: Trace
    failed: Trace
    sum_us: Trace
    times: Sequence[Histogram] = ()
    unit_s: float = 1.0

    @property
    def n(self) -> int:
        return int(self.passed.sum() + self.failed.sum())

    @property
    def share(self) -> float:
        """Of failed ones, as they were counted."""
        return float(self.failed.sum()) / self.n if self.n else 0.0

    @cached_property
    def whole(self) -> Histogram:
        """The times of all of it."""
        made = Histogram()
        for each in self.times:
            made.merge(each)
        return made

    def figure(self, measure: str) -> Certain | None:
        """ms of a time, passes a second, or the part that failed; None where there is nothing of it, or too little for
        a percentile (n·(100−p) < 100).
        """
        if measure == "failure-rate":
            return self._share()
        if measure == "throughput":
            return ratio(self.passed, np.full(len(self.passed), self.unit_s), self.unit_s) if self.n else None
        if measure == "mean":
            found = ratio(self.sum_us, self.passed, self.unit_s)
        else:
            percent = float(measure[1:])
            if enough_for(percent, self.whole.n) == "no":
                return None
            found = percentile(self.times, percent, self.unit_s, self.whole) if len(self.times) else None
        if found is None:
            return None
        return Certain(found.value / 1000, None if found.error is None else found.error / 1000, found.freedom, found.n)

    def _share(self) -> Certain | None:
        """(k + ½)/(n + 1), with the error of a binomial, or that of batches where failures come in bursts."""
        n, k = float(self.n), float(self.failed.sum())
        if not n:
            return None
        value = pulled(k, n)
        error = math.sqrt(value * (1 - value) / (n + 1))
        seen = ratio(self.failed, self.passed + self.failed, self.unit_s)
        if seen is not None and seen.error is not None and k >= 10:
            error = max(error, seen.error)
        return Certain(value, error, seen.freedom if seen is not None and seen.freedom else 30, int(n))


@dataclass(frozen=True)
class KeptLine:
    """A step of which only figures are kept, by measure."""

    name: str
    n: int
    share: float
    figures: Mapping[str, Certain]

    def figure(self, measure: str) -> Certain | None:
        """As a Line's."""
        return self.figures.get(measure)


AnyLine = Line | KeptLine


class Cells:
    """A line as its parts are gathered."""

    def __init__(self, parts: int, unit_s: float = 1.0) -> None:
        self._passed, self._failed, self._sum_us = np.zeros(parts), np.zeros(parts), np.zeros(parts)
        self._times: list[list[bytes]] = [[] for _ in range(parts)]
        self._unit_s = unit_s

    def add(self, at: int, passed: int, failed: int, sum_us: int, times: bytes) -> None:
        self._passed[at] += passed
        self._failed[at] += failed
        self._sum_us[at] += sum_us
        if times:
            self._times[at].append(times)

    def line(self, name: str) -> Line:
        times = [Histogram.joined(each) for each in self._times]
        return Line(name, self._passed, self._failed, self._sum_us, times, self._unit_s)


def mix_of(crowd: Iterable[Mapping[str, Any]]) -> dict[str, float]:
    """Of the lines of a verdict's `crowd`, the share that each row had."""
    return {each["row"]: each["share_achieved"] for each in crowd if each.get("share_achieved") is not None}


@dataclass(frozen=True)
class OneRun:
    """A run of a side; one with `doubts` does not count in a set. `mix` is the share of each crowd row in what came, in
    percent.
    """

    name: str
    lines: Mapping[Key, AnyLine]
    seconds: float
    plan: str = ""
    doubts: Sequence[str] = ()
    objectives: Sequence[Objective] = ()
    mix: Mapping[str, float] = field(default_factory=dict)


def family_of(runs: Iterable[OneRun]) -> list[Wanted]:
    """What verdicts are about, whatever a page shows of it: the measures that the plans' objectives are about, else
    each step's mean and failure share.
    """
    runs = list(runs)
    steps = {key: None for run in runs for key in run.lines if key[0] == "step"}
    made: dict[Wanted, None] = {}
    for each in (objective for run in runs for objective in run.objectives):
        if each.level not in ("step", "request") or each.time != "response" or each.row is not None:
            continue
        if each.measure not in ("mean", "failure-rate", "throughput") and each.percent is None:
            continue
        keys = {key: None for run in runs for key in run.lines if key[0] == each.level}
        about = [
            key
            for key in keys
            if each.step in (None, key[2])
            and each.journey in (None, key[1])
            and each.request in (None, key[3] if each.level == "request" else None)
        ]
        made |= dict.fromkeys(Wanted(key, each.measure) for key in about)
    if not made:
        made = dict.fromkeys(Wanted(key, measure) for measure in ("mean", "failure-rate") for key in steps)
    return list(made)
