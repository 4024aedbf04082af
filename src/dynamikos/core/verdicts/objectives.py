"""The objectives of a run: what each is judged on, over all or interval by interval as the seconds
come.
"""

import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import msgspec
import numpy as np

from dynamikos.core.failure_kinds import kind_of
from dynamikos.core.frozen import FrozenRun, Series, every_check, every_series
from dynamikos.core.objectives import (
    Judgement,
    Mark,
    Objective,
    Readings,
    Slice,
    by_interval,
    describe,
    intervals_of,
    judge,
    judge_readings,
    judged_readings,
    mark,
    mark_readings,
    source_of,
    tripped,
)
from dynamikos.core.reports import Ledger, SeriesTotal, ShardSecond
from dynamikos.core.reports.ledger import series_at
from dynamikos.core.statistics import Histogram, Moments
from dynamikos.core.statistics.chance import BySecond
from dynamikos.core.statistics.histogram import bucket_mid_us
from dynamikos.core.verdicts.bursts import SHARE, bursts, share_of
from dynamikos.core.verdicts.ending import Ending, stopped


def series_of_objective(objective: Objective, series: Iterable[Series]) -> list[Series]:
    """Those that it is about."""
    request = objective.until or objective.number or objective.request
    return list(
        series_at(
            series,
            objective.level,
            objective.step,
            journey=objective.journey,
            row=objective.row,
            request=request,
        )
    )


def checks_of_objective(objective: Objective, frozen: FrozenRun) -> list[tuple[int, int]]:
    """(number of the first check of its request, own number) of the checks that it is about."""
    return [
        (each.first, each.no)
        for each in every_check(frozen)
        if objective.row in (None, each.row)
        and objective.journey in (None, each.journey)
        and objective.step in (None, each.step)
        and objective.request in (None, each.request)
    ]


def slice_of(
    objective: Objective,
    total: SeriesTotal,
    checks: Sequence[tuple[int, int]],
    judged: Mapping[int, int],
    missed: Mapping[int, int],
    seconds: float,
    by_second: BySecond | None = None,
) -> Slice:
    """What an objective is judged on: `total` of its series, and what became of its `checks`, over
    `seconds`.
    """
    asked = passed = 0
    if objective.measure == "checks":
        asked = sum(judged.get(first, 0) for first, _ in checks)
        passed = asked - sum(missed.get(no, 0) for _, no in checks)
    first_byte = objective.time == "first-byte"
    return Slice(
        passed=total.ttfb if first_byte else total.passed,
        moments=_moments(total.ttfb) if first_byte else total.moments,
        failed=total.failures,
        left=total.left,
        cut=Histogram() if first_byte else total.cut,
        cut_sum_us=0 if first_byte else total.cut_sum_us,
        later=Histogram() if first_byte else total.later,
        open_us=list(total.open_us),
        checks=asked,
        checks_passed=passed,
        seconds=seconds,
        count=total.passed.n,
        undelayed=None if first_byte else total.undelayed,
        by_second=by_second,
    )


def _moments(spread: Histogram) -> Moments:
    """From the midpoints of the buckets."""
    values = [(bucket_mid_us(index), count) for index, count in spread.counts.items()]
    return Moments(
        sum(count for _, count in values),
        sum(value * count for value, count in values),
        sum(value * value * count for value, count in values),
    )


def judgements_of(
    frozen: FrozenRun,
    window: Ledger,
    seconds: float,
    marks: Mapping[int, Sequence[Mark]] | None = None,
    *,
    readings: Readings | None = None,
    from_s: float | None = None,
    chances: Mapping[int, BySecond] | None = None,
) -> list[Judgement]:
    """The plan's objectives judged on what is in `window`, which lasts `seconds`: the one place for
    run, page and shell; those by interval by their `marks`, by number of the objective, where they
    are given, and against chance where its seconds are (`chances`, by number). Where more arrivals
    were turned away than the plan allows, response times are not judged: they are those of too
    little load. Those about probes are judged on their `readings` over the same seconds, from
    `from_s` (the measured part's begin) on.
    """
    begin = frozen.measured[0] if from_s is None else from_s
    too_many = turned_away(frozen, window)
    made = []
    for no, objective in enumerate(frozen.plan.objectives):
        if objective.probe is not None:
            told = readings or {}
            part = begin, begin + seconds
            judged = judge_readings(objective, told, part)
            if objective.every_s is not None and marks is not None:
                judged = judged_readings(objective, told, frozen.measured, begin + seconds)
            made.append(judged)
            continue
        total = window.sum_of(series_of_objective(objective, window.series))
        found = slice_of(
            objective,
            total,
            checks_of_objective(objective, frozen),
            window.judged,
            window.missed,
            seconds,
            chances.get(no) if chances is not None and objective.every_s is None else None,
        )
        step, until = names_of(frozen, objective)
        judged = judge(objective, found, step_name=step, until_name=until)
        if objective.every_s is not None and marks is not None:
            judged = by_interval(objective, judged, marks.get(no, ()))
        if too_many and judged.unit == "ms":
            judged = msgspec.structs.replace(judged, word="not judged", reason=too_many)
        made.append(judged)
    return made


def names_of(frozen: FrozenRun, objective: Objective) -> tuple[str | None, str | None]:
    """What its step, and the one until whose end it is, are called in the journey that it is
    about.
    """
    rows = [row.journey for row in frozen.places.rows if objective.row in (None, row.row)]
    for key in [objective.journey] if objective.journey is not None else rows:
        names = (
            {step.step: step.name for _, step in frozen.journeys[key].steps()}
            if key in frozen.journeys
            else {}
        )
        if objective.step in names:
            return names[objective.step or ""], names.get(objective.until or "")
    return None, None


def turned_away(frozen: FrozenRun, window: Ledger) -> str:
    """Why response times can't be judged, if more arrivals were turned away than the plan allows;
    else "".
    """
    turned, every = window.arrivals_measured[1], sum(window.arrivals_measured)
    if not turned or turned <= every * frozen.plan.turned_away_allowed / 100:
        return ""
    return f"{turned:,} of {every:,} arrivals were turned away at the ceiling of users"


@dataclass(frozen=True, slots=True)
class Older:
    """An objective for which a generator counts what is under way: of which series, and how long is
    too long.
    """

    no: int
    series: frozenset[int]
    limit_us: float


def counted_while_open(frozen: FrozenRun) -> list[Older]:
    """The objectives on times that are judged by interval."""
    series = every_series(frozen)
    return [
        Older(
            no,
            frozenset(each.no for each in series_of_objective(objective, series)),
            objective.limit * 1000,
        )
        for no, objective in enumerate(frozen.plan.objectives)
        if objective.every_s is not None and objective.unit == "ms" and not objective.at_least
    ]


@dataclass(slots=True)
class _Watched:
    """One objective, and what is added up of the interval at hand."""

    no: int
    objective: Objective
    series: frozenset[int]
    checks: list[tuple[int, int]]
    intervals: Iterator[tuple[int, int]]
    at: tuple[int, int] | None
    total: SeriesTotal = field(default_factory=SeriesTotal)
    judged: dict[int, int] = field(default_factory=dict)
    missed: dict[int, int] = field(default_factory=dict)
    whole: bool = True

    def add(self, second: int, messages: Sequence[ShardSecond], *, whole: bool) -> Mark | None:
        """The mark of an interval that ends with this second."""
        while self.at is not None and second >= self.at[1]:  # seconds of which there is nothing
            self._next()
        if self.at is None or second < self.at[0]:
            return None
        self.whole = self.whole and whole
        for message in messages:
            for part in message.series:
                if part.no in self.series:
                    self.total.add(part)
            if self.checks:
                for counts, more in ((self.judged, message.judged), (self.missed, message.missed)):
                    for no, number in more.items():
                        counts[no] = counts.get(no, 0) + number
        begin, end = self.at
        if second + 1 < end:
            return None
        older = sum(message.older.get(self.no, 0) for message in messages)
        found = slice_of(
            self.objective, self.total, self.checks, self.judged, self.missed, end - begin
        )
        made = mark(self.objective, begin, end, found, older, whole=self.whole)
        self._next()
        return made

    def _next(self) -> None:
        self.at = next(self.intervals, None)
        self.total, self.judged, self.missed, self.whole = SeriesTotal(), {}, {}, True


@dataclass(slots=True)
class _Seconds:
    """One objective that is judged over the measured part, second by second: samples, those beyond
    its limit (or that failed, or were left), the sum of times in µs, and Σx² of all.
    """

    objective: Objective
    series: frozenset[int]
    told: dict[int, tuple[int, int, int]] = field(default_factory=dict)
    squares: dict[int, int] = field(default_factory=dict)

    def add(self, second: int, messages: Sequence[ShardSecond]) -> None:
        total = SeriesTotal()
        for message in messages:
            total.add(*(part for part in message.series if part.no in self.series))
        if self.objective.is_spread:
            first_byte = self.objective.time == "first-byte"
            times = total.ttfb if first_byte else total.passed
            hits = times.over(self.objective.limit * 1000) + (
                0 if first_byte else total.cut.over(self.objective.limit * 1000)
            )
            moments = _moments(times) if first_byte else total.moments
            n, sum_us = (
                times.n + (0 if first_byte else total.cut.n),
                moments.sum_us + total.cut_sum_us,
            )
            self.squares[second] = moments.squares_us2
        else:
            hits = total.left if self.objective.measure == "left" else total.failures
            n, sum_us = (
                total.passed.n
                + total.failures
                + (total.left if self.objective.measure == "left" else 0),
                0,
            )
        self.told[second] = (n, hits, sum_us)

    def within(self, begin: int, end: int) -> BySecond | None:
        """Of the seconds from `begin` to `end` of which something was told."""
        seconds = [second for second in sorted(self.told) if begin <= second < end]
        if not seconds:
            return None
        counts, hits, sums = (
            np.array(each, float) for each in zip(*(self.told[at] for at in seconds), strict=True)
        )
        n = float(counts.sum())
        sd_us = 0.0
        if n and self.objective.is_spread:
            mean = float(sums.sum()) / n
            sd_us = math.sqrt(
                max(0.0, sum(self.squares.get(at, 0) for at in seconds) / n - mean * mean)
            )
        return BySecond(counts, hits, sums, sd_us)


@dataclass(slots=True)
class _Read:
    """One objective about a probe, and what was told of its measure since the interval at hand
    began, by second.
    """

    no: int
    objective: Objective
    intervals: Iterator[tuple[int, int]]
    at: tuple[int, int] | None
    told: dict[int, float] = field(default_factory=dict)

    def over(self, second: int) -> Iterator[Mark]:
        """The marks of intervals that were over before this second began, so that their last value
        had time to come.
        """
        while self.at is not None and second >= self.at[1]:
            begin, end = self.at
            yield mark_readings(
                self.objective,
                begin,
                end,
                [each for at, each in self.told.items() if begin <= at < end],
            )
            self.told = {at: each for at, each in self.told.items() if at >= end}
            self.at = next(self.intervals, None)


class Fuse:
    """Ends a run that fails from its beginning on: where more of the requests of the first minute
    fail than the plan allows, looked at as soon as there are enough of them.
    """

    FROM_S, TO_S, ENOUGH = 5, 60, 20

    def __init__(self, frozen: FrozenRun) -> None:
        self._percent = frozen.plan.fuse_percent
        self._requests = frozenset(
            each.no for each in every_series(frozen) if each.level == "request"
        )
        self._passed = self._failed = 0

    def add(self, second: int, messages: Sequence[ShardSecond]) -> Ending | None:
        if self._percent >= 100 or second >= self.TO_S:
            return None
        for message in messages:
            for part in message.series:
                if part.no in self._requests:
                    self._passed += part.n
                    self._failed += sum(
                        count for kind, count in part.failed.items() if not kind_of(kind).is_own
                    )
        every = self._passed + self._failed
        if (
            second < self.FROM_S
            or every < self.ENOUGH
            or 100 * self._failed <= self._percent * every
        ):
            return None
        why = (
            f"{self._failed:,} of the first {every:,} requests failed, more than {self._percent:g} "
            "%"
        )
        return stopped("rule", why, now=True)


class Watching:
    """The objectives that are judged by interval, and the fuse, as the seconds of all shards come
    in order, and what probes tell beside them (`read`). `marks` are by the number of the objective.
    """

    def __init__(self, frozen: FrozenRun) -> None:
        self._frozen = frozen
        self.marks: dict[int, list[Mark]] = {}
        self._fuse = Fuse(frozen)
        self._watched: list[_Watched] = []
        self._read: list[_Read] = []
        self._seconds: dict[int, _Seconds] = {}
        self._from_s = int(frozen.measured[0])
        self._sent: dict[int, int] = {}  # by second, and the longest stop of a generator in it
        self._stopped_us: dict[int, int] = {}
        series = every_series(frozen)
        for no, objective in enumerate(frozen.plan.objectives):
            if objective.every_s is None:
                if objective.probe is None and objective.measure not in (
                    "max",
                    "throughput",
                    "checks",
                ):
                    of = frozenset(each.no for each in series_of_objective(objective, series))
                    self._seconds[no] = _Seconds(objective, of)
                continue
            self.marks[no] = []
            intervals = intervals_of(objective, frozen.measured)
            if objective.probe is not None:
                self._read.append(_Read(no, objective, intervals, next(intervals, None)))
                continue
            about = frozenset(each.no for each in series_of_objective(objective, series))
            checks = checks_of_objective(objective, frozen) if objective.measure == "checks" else []
            self._watched.append(
                _Watched(no, objective, about, checks, intervals, next(intervals, None))
            )

    def add(
        self, second: int, messages: Sequence[ShardSecond], *, whole: bool = True
    ) -> Ending | None:
        """One second of all shards that told of it; `whole`: all did. What is to be done, if it is
        to end the run.
        """
        stop = self._fuse.add(second, messages)
        self._sent[second] = sum(each.sent for each in messages)
        self._stopped_us[second] = max((each.health.stopped_max_us for each in messages), default=0)
        if second >= self._from_s:
            for each in self._seconds.values():
                each.add(second, messages)
        for no, objective, made in self._made(second, messages, whole):
            marks = self.marks[no]
            marks.append(made)
            if made.word == "missed" and tripped(objective, marks):
                found = self._stop(objective)
                stop = found if stop is None or found.now else stop
        return stop

    def _made(
        self, second: int, messages: Sequence[ShardSecond], whole: bool
    ) -> Iterator[tuple[int, Objective, Mark]]:
        for each in self._watched:
            made = each.add(second, messages, whole=whole)
            if made is not None:
                yield each.no, each.objective, made
        for told in self._read:
            for made in told.over(second):
                yield told.no, told.objective, made

    def chances(self, to_s: float) -> dict[int, BySecond]:
        """What objectives are about, by their number, second by second of the measured part, which
        ended at `to_s`.
        """
        found = {no: each.within(self._from_s, int(to_s)) for no, each in self._seconds.items()}
        return {no: each for no, each in found.items() if each is not None}

    def bursts(self, to_s: float) -> list[int]:
        """The seconds of the measured part, which ended at `to_s`, in which generators sent at once
        what was overdue after a stop; none where that is too little to matter.
        """
        part = float(self._from_s), float(to_s)
        found = bursts(self._sent, self._stopped_us, *part)
        return found if share_of(found, self._sent, *part) > SHARE else []

    @property
    def sources(self) -> set[tuple[str, str]]:
        """(probe, measure) of all that `read` is waited for."""
        return {source_of(each.objective) for each in self._read}

    def read(self, probe: str, measure: str, second: int, value: float) -> None:
        """What a probe told of a measure at the end of a second."""
        for each in self._read:
            if source_of(each.objective) == (probe, measure):
                each.told[second] = value

    @property
    def marked(self) -> int:
        """How many marks there are."""
        return sum(map(len, self.marks.values()))

    def replan(self, frozen: FrozenRun) -> None:
        """The load, and with it the measured part, was changed from a second on that is still to
        come.
        """
        still: list[_Watched | _Read] = [*self._watched, *self._read]
        for each in still:
            if each.at is not None:
                each.intervals = _later(each.objective, frozen, each.at[0])

    def _stop(self, objective: Objective) -> Ending:
        said = describe(objective, *names_of(self._frozen, objective))
        times = (
            f" missed {objective.in_a_row} times in a row" if objective.in_a_row > 1 else " missed"
        )
        return Ending(
            cause="stopped",
            by="objective",
            now=objective.then == "stop now",
            objective=said + times,
        )


def _later(objective: Objective, frozen: FrozenRun, begin: int) -> Iterator[tuple[int, int]]:
    return (at for at in intervals_of(objective, frozen.measured) if at[0] > begin)
