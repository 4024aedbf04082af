"""What findings are made of: a run by second, and its measured part added up."""

import itertools
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import msgspec
import numpy as np
from numpy.typing import NDArray

from dynamikos.core.frozen import FrozenRun, Series
from dynamikos.core.profiles.changing import Change
from dynamikos.core.profiles.steady import FEWEST_ROUNDS, SETTLES_S, STEADY_S
from dynamikos.core.reports import KeptExchange, Ledger
from dynamikos.core.reports.by_value import Failing
from dynamikos.core.statistics import Histogram

Trace = NDArray[np.float64]


@dataclass(slots=True)
class Line:
    """One series over the run, by `width` seconds: how many passed and failed, and the times of
    those passed.
    """

    series: Series
    passed: Trace
    failed: Trace
    times: Sequence[Histogram | None]

    def mean_ms(self) -> Trace:
        """NaN where none passed."""
        made = np.full(len(self.passed), np.nan)
        for at, times in enumerate(self.times):
            if times is not None and times.counts:
                n = sum(times.counts.values())
                made[at] = times.sum_us() / n / 1000
        return made

    def over(self, begin: int, end: int) -> Histogram:
        """The times of a part of it, by places."""
        total = Histogram()
        for times in self.times[begin:end]:
            if times is not None:
                total.merge(times)
        return total


@dataclass(frozen=True, slots=True)
class Measured:
    """A measure of a probe by second; `is_host`: of a machine, as the host probe tells it."""

    name: str
    unit: str
    trace: Trace
    probe: str = ""
    is_host: bool = False


@dataclass(slots=True)
class Evidence:
    """`lines` are the steps and requests of everybody (what several rows do as one), `by_row` the
    steps of each row; `users`, `planned`, `rate` (exchanges ended) and `failures` are by second, as
    is `late` (1 where a generator was). `ledger` holds the measured part, `whole` the counters of
    the whole run. `silent` are probes that fell silent: (title, second, why).
    """

    frozen: FrozenRun
    seconds: int
    users: Trace
    planned: Trace
    rate: Trace
    failures: Trace
    late: Trace
    lines: Sequence[Line]
    ledger: Ledger
    whole: Ledger
    by_row: Sequence[Line] = ()
    by_place: Sequence[
        tuple[str, Line]
    ] = ()  # the steps of everybody at each place, where there are several
    measures: Sequence[Measured] = ()
    kept: Sequence[KeptExchange] = ()
    changes: Sequence[Change] = ()
    silent: Sequence[tuple[str, int, str]] = ()
    failing: Sequence[Failing] = ()  # by values of dealt columns, of the whole run
    width: int = 1  # seconds of one place of `lines`
    names: Mapping[str, str] = field(default_factory=dict)

    @property
    def measured(self) -> tuple[int, int]:
        """From and to of the measured part, as far as the run went."""
        begin, end = self.frozen.measured
        return int(begin), min(int(end), self.seconds)

    def steps(self) -> list[Line]:
        return [each for each in self.lines if each.series.level == "step"]

    def requests(self) -> list[Line]:
        return [each for each in self.lines if each.series.level == "request"]

    def rounds(self, begin: int, end: int) -> tuple[float, float, float]:
        """(passed, failed, s that those passed took together) of the rounds that ended from second
        `begin` to `end`.
        """
        where = self.places(begin, end)
        every = [each for each in self.lines if each.series.level == "round"]
        passed, failed = (
            sum(float(getattr(e, name)[where].sum()) for e in every)
            for name in ("passed", "failed")
        )
        took_ms = sum(
            float(np.nansum(each.mean_ms()[where] * each.passed[where])) for each in every
        )
        return passed, failed, took_ms / 1000

    def round_s(self) -> float:
        """Mean time of a round with its thinking, in s; 0 where none ended."""
        mean = self.ledger.all_of("round").moments.mean_us
        return (mean or 0.0) / 1e6

    def steady(self) -> list[tuple[int, int]]:
        """Stretches in which the plan is constant and nothing was changed, without their first
        seconds: those that are long enough (maths: *Steady stretches*).
        """
        edges = {0.0, float(self.seconds)}
        sloped: list[tuple[float, float]] = []
        for crowd in self.frozen.crowds:
            edges |= {crowd.starts_s, crowd.ends_s, *crowd.load.edges(crowd)}
            sloped += crowd.load.slopes(crowd)
        edges |= {float(each.at_s) for each in self.changes}
        settles = max(SETTLES_S, 2 * self.round_s())
        made = []
        ordered = sorted(edge for edge in edges if edge <= self.seconds)
        per_s = self.ledger.all_of("round").passed.n / max(1, self.measured[1] - self.measured[0])
        for begin, end in itertools.pairwise(ordered):
            if any(low < end and high > begin for low, high in sloped):
                continue
            first = int(np.ceil(begin + settles))
            rounds = per_s * (end - first)
            if (
                end - first >= STEADY_S
                and rounds >= FEWEST_ROUNDS
                and not self._is_empty(first, int(end))
            ):
                made.append((first, int(end)))
        return made

    def _is_empty(self, begin: int, end: int) -> bool:
        return bool(np.nansum(self.rate[begin:end]) == 0)

    def places(self, begin: int, end: int) -> slice:
        """Seconds as places of lines."""
        return slice(begin // self.width, max(begin // self.width + 1, end // self.width))

    def is_arriving(self) -> bool:
        return all(crowd.load.is_open for crowd in self.frozen.crowds)


class Found(msgspec.Struct, frozen=True, kw_only=True):
    """A finding: `about` what, a `sentence`, what it means and what to `try_`; `evidence` are
    figures by what they are called. `window` is where to look, `step` and `request` what it is
    about, by key.
    """

    rule: str
    about: str  # "target", "measurement", "script"
    sentence: str
    means: str = ""
    try_: str = ""
    evidence: dict[str, str] = {}
    window: tuple[int, int] | None = None
    journey: str = ""
    step: str = ""
    request: str = ""
    impact: float = 0.0  # which part of what was measured it touches, for the order


def name_of(series: Series) -> str:
    """What a series is called in a sentence."""
    return f"“{series.name}”"


def joined(names: Iterable[str], most: int = 3) -> str:
    """Some of them, and how many more."""
    every = list(names)
    rest = f" and {len(every) - most} more" if len(every) > most else ""
    return ", ".join(every[:most]) + rest
