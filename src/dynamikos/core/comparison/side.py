"""What is compared: runs, each with its steps second by second over its measured part."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dynamikos.core.objectives import Objective
from dynamikos.core.reports import SeriesSecond
from dynamikos.core.statistics import Histogram, Spread, Undelayed, bucket_mid_us
from dynamikos.core.statistics.delayed import least
from dynamikos.core.statistics.histogram import enough_for
from dynamikos.core.statistics.intervals import Estimate, mean_of, percentile_of, share_of

Trace = NDArray[np.float64]
# level, journey, step, request: what identifies a series in any run
Key = tuple[str, str, str, str]
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
    def is_time(self) -> bool:
        return not self.is_share and self.more_is_worse

    @property
    def more_is_worse(self) -> bool:
        return self.measure not in BETTER_IF_MORE


@dataclass(frozen=True)
class Line:
    """A step by second (or longer parts, of `unit_s` each): how many passed and failed, the sum of
    the times of what passed and of what was cut off at its age (µs), and how many those are; their
    times; all times without the generators' own delay, and what each of those can have lost
    besides.
    """

    name: str
    passed: Trace
    failed: Trace
    sum_us: Trace
    times: Sequence[Histogram] = ()
    unit_s: float = 1.0
    timed: Trace | None = None  # None: those that passed
    low: Histogram | None = None
    own_us: int = 0
    quiet_us: int = 0

    @property
    def n(self) -> int:
        return int(self.passed.sum() + self.failed.sum())

    @property
    def seconds(self) -> float:
        return len(self.passed) * self.unit_s

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

    @cached_property
    def _mean(self) -> Estimate | None:
        """In µs."""
        counts = self.passed if self.timed is None else self.timed
        return mean_of(self.sum_us, counts, _sd(self.whole), seconds=self.seconds)

    def figure(self, measure: str) -> Estimate | None:
        """ms of a time, passes a second, or the part that failed; None where there is nothing of
        it, or too little for a percentile (n·(100−p) < 100).
        """
        if measure == "failure-rate":
            return share_of(self.failed, self.passed + self.failed, seconds=self.seconds)
        if measure == "throughput":
            unit = np.full(len(self.passed), self.unit_s)
            return mean_of(self.passed, unit, seconds=self.seconds) if self.n else None
        if measure == "mean":
            return self._mean.scaled(0.001) if self._mean is not None else None
        percent = float(measure[1:])
        if not len(self.times) or enough_for(percent, self.whole.n) == "no":
            return None
        found = percentile_of(percent, self.times, self.whole, self._mean, seconds=self.seconds)
        return found.scaled(0.001) if found is not None else None

    def own_delay(self, measure: str) -> float:
        """Which part of a time may be the generators' own delay, 0…1."""
        if self.low is None or measure in (*SHARES, *BETTER_IF_MORE) or not self.whole.counts:
            return 0.0
        low = Undelayed(Spread(self.low), self.own_us, self.quiet_us)
        whole = Undelayed(Spread(self.whole))
        if measure == "mean":
            least, most = low.mean_us, whole.mean_us
        else:
            least, most = (
                low.percentile_us(float(measure[1:])),
                whole.percentile_us(float(measure[1:])),
            )
        return max(0.0, 1 - least / most) if least is not None and most else 0.0


def _sd(whole: Histogram) -> float:
    """Of single values in µs, by midpoints of bins."""
    n = whole.n
    if not n:
        return 0.0
    mids = np.array([bucket_mid_us(each) for each in whole.counts], float)
    counts = np.array(list(whole.counts.values()), float)
    mean = float(mids @ counts) / n
    return float(np.sqrt(((mids - mean) ** 2) @ counts / n))


@dataclass(frozen=True)
class KeptLine:
    """A step of which only figures are kept, by measure; `own` by measure is which part the
    generators may have made.
    """

    name: str
    n: int
    share: float
    figures: Mapping[str, Estimate]
    own: Mapping[str, float] = field(default_factory=dict)

    def figure(self, measure: str) -> Estimate | None:
        """As a Line's."""
        return self.figures.get(measure)

    def own_delay(self, measure: str) -> float:
        """As a Line's."""
        return self.own.get(measure, 0.0)


AnyLine = Line | KeptLine


class Cells:
    """A line as its parts are gathered."""

    def __init__(self, parts: int, unit_s: float = 1.0) -> None:
        self._passed, self._failed, self._sum_us, self._timed = (np.zeros(parts) for _ in range(4))
        self._times: list[list[bytes]] = [[] for _ in range(parts)]
        self._low: list[bytes] = []
        self._own_us = self._quiet_us = 0
        self._unit_s = unit_s

    def add(self, at: int, part: SeriesSecond) -> None:
        """What is told of part `at`."""
        cut = Histogram.from_bytes(part.cut_hist).n if part.cut_hist else 0
        self._passed[at] += part.n
        self._failed[at] += sum(part.failed.values())
        self._sum_us[at] += part.sum_us + part.cut_sum_us
        self._timed[at] += part.n + cut
        self._times[at].extend(each for each in (part.hist, part.cut_hist) if each)
        self._low.extend(each for each in (part.low_hist or part.hist, part.cut_hist) if each)
        self._own_us, self._quiet_us = (
            max(self._own_us, part.own_us),
            least(self._quiet_us, part.quiet_us),
        )

    def line(self, name: str) -> Line:
        times = [Histogram.joined(each) for each in self._times]
        return Line(
            name, self._passed, self._failed, self._sum_us, times, self._unit_s, self._timed,
            Histogram.joined(self._low), self._own_us, self._quiet_us,
        )  # fmt: skip


def mix_of(crowd: Iterable[Mapping[str, Any]]) -> dict[str, float]:
    """Of the lines of a verdict's `crowd`, the share that each row had."""
    return {
        each["row"]: each["share_achieved"]
        for each in crowd
        if each.get("share_achieved") is not None
    }


@dataclass(frozen=True)
class OneRun:
    """A run of a side, with its `doubts`; `lost` says why it can't be compared. `mix` is the share
    of each crowd row in what came, in percent.
    """

    name: str
    lines: Mapping[Key, AnyLine]
    seconds: float
    plan: str = ""
    doubts: Sequence[str] = ()
    lost: str = ""
    objectives: Sequence[Objective] = ()
    mix: Mapping[str, float] = field(default_factory=dict)


def family_of(runs: Iterable[OneRun]) -> list[Wanted]:
    """What verdicts are about, whatever a page shows of it: the measures that the plans' objectives
    are about, and each step's mean and failure share, so that an objective about something else
    lets no slower step through.
    """
    runs = list(runs)
    keys = {key: None for run in runs for key in run.lines}
    objectives = (objective for run in runs for objective in run.objectives)
    made = {each: None for objective in objectives for each in _wanted_by(objective, keys)}
    steps = [key for key in keys if key[0] == "step"]
    made |= dict.fromkeys(Wanted(key, m) for m in ("mean", "failure-rate") for key in steps)
    return list(made)


def _wanted_by(objective: Objective, keys: Iterable[Key]) -> list[Wanted]:
    """What an objective is about, of the lines that there are."""
    o = objective
    if o.level not in ("step", "request") or o.time != "response" or o.row is not None:
        return []
    if o.measure not in ("mean", "failure-rate", "throughput") and o.percent is None:
        return []
    return [Wanted(key, o.measure) for key in keys if key[0] == o.level and _is_about(o, key)]


def _is_about(objective: Objective, key: Key) -> bool:
    _, journey, step, request = key
    is_of_step = objective.step in (None, step) and objective.journey in (None, journey)
    asked = request if objective.level == "request" else None
    return is_of_step and objective.request in (None, asked)
