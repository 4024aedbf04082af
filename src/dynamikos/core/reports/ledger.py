"""Adds up messages: per series, over any set of seconds; and the rows of the table of steps and
requests.
"""

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from itertools import starmap

import msgspec

from dynamikos.core.failure_kinds import Leaving, LeavingCause, kind_of, leaving_of
from dynamikos.core.frozen import Series
from dynamikos.core.reports.by_value import ByValue
from dynamikos.core.reports.chunk_extras import Beside
from dynamikos.core.reports.messages import Health, SeriesSecond, ShardSecond
from dynamikos.core.statistics import Histogram, Moments, Spread, Undelayed
from dynamikos.core.statistics.delayed import least
from dynamikos.core.statistics.histogram import enough_for


@dataclass(slots=True)
class SeriesTotal:
    """What one series adds up to."""

    passed: Histogram = field(default_factory=Histogram)
    moments: Moments = field(default_factory=Moments)
    failed: dict[str, int] = field(default_factory=dict)
    failed_hist: Histogram = field(default_factory=Histogram)
    ttfb: Histogram = field(default_factory=Histogram)
    bytes_out: int = 0
    bytes_in: int = 0
    tries: int = 0
    connects: int = 0
    connect_us: int = 0
    handshakes: int = 0
    tls_us: int = 0
    resumed: int = 0
    left: int = 0
    cached: int = 0
    cut: Histogram = field(default_factory=Histogram)  # ages of what was cut off; see SeriesSecond
    cut_sum_us: int = 0
    later: Histogram = field(
        default_factory=Histogram
    )  # times of those of `cut` that passed after the measured part
    open_us: list[int] = field(
        default_factory=list
    )  # ages of what was under way at the end and never ended
    low: Histogram = field(
        default_factory=Histogram
    )  # `passed` without the generators' own delay; see SeriesSecond
    own_us: int = 0  # what each of `low` can have lost besides
    quiet_us: int = 0

    @property
    def undelayed(self) -> Undelayed:
        """What passed, without what can have been the generators' own delay; cut off things as they
        are.
        """
        low = self.low if self.low.counts else self.passed
        return Undelayed(
            Spread(low, self.cut, self.open_us, self.later),
            self.own_us,
            self.quiet_us,
            self.cut_sum_us,
        )

    @property
    def times(self) -> Spread:
        """What passed, and what was cut off at its age."""
        return Spread(self.passed, self.cut, self.open_us, self.later)

    @property
    def timed(self) -> Histogram:
        """What passed, and what was cut off at its age, in one distribution."""
        made = Histogram(self.passed.counts)
        made.merge(self.cut)
        made.merge(Histogram.of(self.open_us))
        return made

    @property
    def mean_us(self) -> float | None:
        """Of what passed, and at least of what was cut off at its age as well; None where nothing
        passed or was cut.
        """
        n = self.moments.n + self.cut.n + len(self.open_us)
        if not n:
            return None
        aged = (self.moments.sum_us + self.cut_sum_us + sum(self.open_us)) / n
        return max(aged, self.moments.mean_us or 0.0)

    @property
    def failures(self) -> int:
        """All that failed, but for what the generator's own limits did (descriptors, ports): that
        is not the target's fault.
        """
        return sum(count for kind, count in self.failed.items() if not kind_of(kind).is_own)

    @property
    def own(self) -> int:
        """What failed by the generator's own doing."""
        return sum(count for kind, count in self.failed.items() if kind_of(kind).is_own)

    def add(self, *parts: SeriesSecond) -> None:
        self.passed.merge(Histogram.joined(part.hist for part in parts))
        self.failed_hist.merge(Histogram.joined(part.failed_hist for part in parts))
        self.ttfb.merge(Histogram.joined(part.ttfb_hist for part in parts))
        self.cut.merge(Histogram.joined(part.cut_hist for part in parts))
        self.low.merge(Histogram.joined(part.low_hist or part.hist for part in parts))
        for part in parts:
            self.moments.add(part.n, part.sum_us, int(part.squares))
            for kind, count in part.failed.items():
                self.failed[kind] = self.failed.get(kind, 0) + count
            self.bytes_out += part.bytes_out
            self.bytes_in += part.bytes_in
            self.tries += part.tries
            self.connects += part.connects
            self.connect_us += part.connect_us
            self.handshakes += part.handshakes
            self.tls_us += part.tls_us
            self.resumed += part.resumed
            self.left += part.left
            self.cached += part.cached
            self.cut_sum_us += part.cut_sum_us
            self.own_us = max(self.own_us, part.own_us)
            self.quiet_us = least(self.quiet_us, part.quiet_us)

    def carry(self, part: SeriesSecond) -> None:
        """Adds what was under way when the measured part ended and ended later: to the times alone,
        with the age that it had then (reports of earlier days lack it: the whole time instead).
        """
        passed = Histogram.from_bytes(part.hist) if part.hist else Histogram()
        self.later.merge(passed)
        if part.cut_hist:
            self.cut.merge(Histogram.from_bytes(part.cut_hist))
            self.cut_sum_us += part.cut_sum_us
        else:
            self.cut.merge(passed)
            self.cut_sum_us += part.sum_us

    def merge(self, other: "SeriesTotal") -> None:
        self.passed.merge(other.passed)
        self.moments.add(other.moments.n, other.moments.sum_us, other.moments.squares_us2)
        for kind, count in other.failed.items():
            self.failed[kind] = self.failed.get(kind, 0) + count
        self.failed_hist.merge(other.failed_hist)
        self.ttfb.merge(other.ttfb)
        self.bytes_out += other.bytes_out
        self.bytes_in += other.bytes_in
        self.tries += other.tries
        self.connects += other.connects
        self.connect_us += other.connect_us
        self.handshakes += other.handshakes
        self.tls_us += other.tls_us
        self.resumed += other.resumed
        self.left += other.left
        self.cached += other.cached
        self.cut.merge(other.cut)
        self.cut_sum_us += other.cut_sum_us
        self.later.merge(other.later)
        self.low.merge(other.low)
        self.own_us = max(self.own_us, other.own_us)
        self.quiet_us = least(self.quiet_us, other.quiet_us)
        self.open_us += other.open_us

    def part(self, no: int) -> SeriesSecond:
        """This total in the wire form of one series, to be stored."""
        return SeriesSecond(
            no=no,
            n=self.moments.n,
            sum_us=self.moments.sum_us,
            squares=str(self.moments.squares_us2),
            hist=self.passed.to_bytes(),
            failed=dict(self.failed),
            failed_hist=self.failed_hist.to_bytes(),
            ttfb_hist=self.ttfb.to_bytes(),
            bytes_out=self.bytes_out,
            bytes_in=self.bytes_in,
            tries=self.tries,
            connects=self.connects,
            connect_us=self.connect_us,
            handshakes=self.handshakes,
            tls_us=self.tls_us,
            resumed=self.resumed,
            left=self.left,
            cached=self.cached,
            cut_hist=self.cut.to_bytes() if self.cut.counts else b"",
            cut_sum_us=self.cut_sum_us,
            own_us=self.own_us,
            low_hist=b"" if self.low.counts == self.passed.counts else self.low.to_bytes(),
            quiet_us=self.quiet_us,
        )


OVER_ALL = ""  # the row of a series that stands for several


class Row(msgspec.Struct, frozen=True, kw_only=True):
    """One line of the table. Times in ms, None where there are no samples; rates per second of the
    window.

    `count` is what ended, passed or failed. Times are those of what passed, and of what was `cut`
    off (time-outs, patience, the end) at its age: `timed` of them, so that those named in
    `at_least` are lower bounds. `open` of them were under way at the end and never ended.
    Percentiles of fewer samples than they need are None.
    """

    no: int = 0
    level: str = ""
    row: str = ""
    journey: str = ""
    step: str = ""
    request: str = ""
    name: str = ""
    count: int = 0
    failures: int = 0
    failure_percent: float | None = None
    per_s: float = 0.0
    min_ms: float | None = None
    mean_ms: float | None = None
    sd_ms: float | None = None
    p50_ms: float | None = None
    p90_ms: float | None = None
    p95_ms: float | None = None
    p99_ms: float | None = None
    max_ms: float | None = None
    bytes_in: int = 0
    tries: int = 0
    kinds: dict[str, int] = {}
    open: int = 0
    timed: int = 0
    cut: int = 0
    # what figures would be without the generators' own delay, at least, by their names (p95_ms …);
    # each is as measured where it is not named. `own_delay_ms`: the greatest difference of them
    without_delay: dict[str, float] = {}
    own_delay_ms: float = 0.0
    at_least: tuple[str, ...] = ()
    own_failures: int = 0
    left: int = 0  # by users who did not wait for it
    cached: int = 0  # fresh in users' caches: not in `count`
    ttfb_p50_ms: float | None = None
    ttfb_p95_ms: float | None = None
    connects: int = 0
    connect_ms: float | None = None  # mean, names looked up too
    handshakes: int = 0
    resumed: int = 0
    tls_ms: float | None = None  # mean of all handshakes


def row_of_total(
    series: Series, total: SeriesTotal, seconds: float, *, of_failed: bool = False
) -> Row:
    """The figures of one series over `seconds` of measured time; `of_failed`: its times are those
    of what failed (of which no sums are kept, so neither mean nor deviation).
    """
    spread = Spread(total.failed_hist) if of_failed else total.times
    cut = 0 if of_failed else total.cut.n + len(total.open_us)
    moments = Moments() if of_failed else total.moments

    def ms(value_us: float | None) -> float | None:
        return None if value_us is None else value_us / 1000

    def share(total_us: int, count: int) -> float | None:
        return total_us / count / 1000 if count else None

    at_least = [f"p{percent}_ms" for percent in (50, 90, 95, 99) if spread.is_open(percent)]
    if cut:
        at_least += ["mean_ms", "max_ms"]
    n = total.passed.n + total.failures + total.own
    without = {} if of_failed else _without_delay(total)
    return Row(
        no=series.no,
        level=series.level,
        row=series.row,
        journey=series.journey,
        step=series.step,
        request=series.request,
        name=series.name,
        count=n,
        failures=total.failures,
        failure_percent=100 * total.failures / n if n else None,
        per_s=n / seconds if seconds > 0 else 0.0,
        min_ms=ms((total.failed_hist if of_failed else total.passed).min_us()),
        mean_ms=ms(None if of_failed else total.mean_us),
        sd_ms=ms(moments.sd_us),
        p50_ms=ms(spread.shown_us(50)),
        p90_ms=ms(spread.shown_us(90)),
        p95_ms=ms(spread.shown_us(95)),
        p99_ms=ms(spread.shown_us(99)),
        max_ms=ms(spread.max_us()),
        bytes_in=total.bytes_in,
        tries=total.tries,
        kinds=dict(total.failed),
        open=len(total.open_us),
        timed=spread.n,
        cut=cut,
        without_delay={name: low for name, (low, _) in without.items()},
        own_delay_ms=round(max((high - low for low, high in without.values()), default=0.0), 3),
        at_least=tuple(at_least),
        own_failures=total.own,
        left=total.left,
        cached=total.cached,
        ttfb_p50_ms=ms(total.ttfb.percentile_us(50)),
        ttfb_p95_ms=ms(total.ttfb.percentile_us(95))
        if enough_for(95, total.ttfb.n) != "no"
        else None,
        connects=total.connects,
        connect_ms=share(total.connect_us, total.connects),
        handshakes=total.handshakes,
        resumed=total.resumed,
        tls_ms=share(total.tls_us, total.handshakes),
    )


def _without_delay(total: SeriesTotal) -> dict[str, tuple[float, float]]:
    """(without the generators' own delay, as measured) in ms of the figures that it can have
    changed.
    """
    low, times = total.undelayed, total.times
    pairs: dict[str, tuple[float | None, float | None]] = {
        f"p{percent}_ms": (low.percentile_us(percent), times.shown_us(percent))
        for percent in (50, 90, 95, 99)
    }
    pairs["mean_ms"], pairs["max_ms"] = (low.mean_us, total.mean_us), (low.max_us, times.max_us())
    return {
        name: (round(least_us / 1000, 3), round(as_measured / 1000, 3))
        for name, (least_us, as_measured) in pairs.items()
        if least_us is not None
        and as_measured is not None
        and as_measured - least_us > 0.0006 * as_measured
    }


FULL = 0.7  # of a processor: beyond it a generator begins to be late
# of a processor: a generator that does little pays for waking up as often as for the work itself,
# several times as much an exchange as one that is kept busy; what less than this tells of a busy
# one is too low
BUSY = 0.3


class Ledger:
    """Totals per series of the messages it was given; `from_s`/`to_s` restrict to a window of the
    run clock.
    """

    def __init__(self, series: Iterable[Series]) -> None:
        self.series = tuple(series)
        self.totals = {each.no: SeriesTotal() for each in self.series}
        self.sent = self.answered = self.failed = self.reopened = 0
        self.late_seconds = self.seconds = 0
        self.worst = Health()  # of the window, each figure for itself
        self.stopped_us = 0  # of all shards in the window, in stops that are long
        self.late_by: dict[
            str, int
        ] = {}  # seconds of the window by the reason for which they were late
        self._leavings: Counter[tuple[LeavingCause, str]] = Counter()
        self.abandoned = 0  # exchanges
        self.arrivals = [0, 0, 0]  # started, turned away, not started, in all messages
        self.arrivals_measured = [0, 0, 0]  # those of the window
        self.late_rounds = 0  # of the window
        self.row_seconds: dict[int, int] = {}  # users of each row times seconds, of the window
        self.rounds = [0, 0]  # passed and failed in all messages, those outside the window too
        self.judged: dict[int, int] = {}  # see ShardSecond; of the window
        self.missed: dict[int, int] = {}
        # of one core, of all shards, in all messages; users and exchanges of the same seconds
        self.cpu_s = 0.0
        self.user_seconds = self.messages = 0
        self.learned_late = self.left = self.reloaded = 0
        self.until_s = 0  # the first second of which there is nothing
        self.by_value: dict[int, ByValue] = {}  # the newest of each shard
        self._by_value_s: dict[int, int] = {}
        self._rounds = {each.no for each in self.series if each.level == "round"}

    @property
    def leavings(self) -> list[Leaving]:
        """Why users left before their time."""
        return [
            Leaving(cause, detail, count)
            for (cause, detail), count in sorted(self._leavings.items())
        ]

    @leavings.setter
    def leavings(self, known: Iterable[Leaving]) -> None:
        self._leavings = Counter({(each.cause, each.detail): each.count for each in known})

    def add(self, message: ShardSecond, *, totals: bool = True) -> None:
        """Adds a message; with `totals=False` only the counters and health (a second outside the
        window).
        """
        self.until_s = max(self.until_s, message.second + 1)
        if message.by_value is not None and message.second >= self._by_value_s.get(
            message.shard, 0
        ):
            self.by_value[message.shard], self._by_value_s[message.shard] = (
                message.by_value,
                message.second,
            )
        self.cpu_s += message.health.cpu_share
        self.messages += 1
        self.user_seconds += sum(message.users.values())
        self.learned_late += message.learned_late
        self.left += message.left
        self.reloaded += message.reloaded
        self.sent += message.sent
        self.answered += message.answered
        self.failed += message.failed
        self.reopened += message.reopened
        self.abandoned += message.abandoned
        for at, number in enumerate(message.arrivals):
            self.arrivals[at] += number
            self.arrivals_measured[at] += number if totals else 0
        for part in message.series:
            if part.no in self._rounds:
                self.rounds[0] += part.n
                self.rounds[1] += sum(part.failed.values())
        for each in message.leavings or starmap(leaving_of, message.retired.items()):
            self._leavings[each.cause, each.detail] += each.count
        if totals:
            self.seconds += 1
            self.late_seconds += message.health.is_late
            self.worst = self.worst.worse(message.health)
            self.stopped_us += message.health.stopped_long_us
            self.late_rounds += message.late_rounds
            for row, users in message.by_row.items():
                self.row_seconds[row] = self.row_seconds.get(row, 0) + users
            self.ask(message)
            for reason in message.health.late_by:
                self.late_by[reason] = self.late_by.get(reason, 0) + 1
            for part in message.series:
                if part.no in self.totals:
                    self.totals[part.no].add(part)

    def ask(self, message: ShardSecond | Beside) -> None:
        """Adds what became of checks."""
        for counts, more in ((self.judged, message.judged), (self.missed, message.missed)):
            for no, number in more.items():
                counts[no] = counts.get(no, 0) + number

    @property
    def carries(self) -> int | None:
        """How many users of this kind one generator carries, at 70 % of its processor: at least so
        many, where less than BUSY of it was used. None where hardly any of it was used.
        """
        if self.until_s < 5 or self.cpu_s < 0.02 * self.until_s or not self.user_seconds:
            return None
        return int(FULL * self.user_seconds / self.cpu_s)

    @property
    def stopped_share(self) -> float:
        """Of the window's time, in which generators were stopped for long at a time."""
        return min(1.0, self.stopped_us / 1e6 / self.seconds) if self.seconds else 0.0

    @property
    def processor_share(self) -> float:
        """Of one core, the mean of all shards."""
        return self.cpu_s / self.messages if self.messages else 0.0

    @property
    def capacity_per_s(self) -> int | None:
        """How many exchanges a second one generator carries, at 70 % of its processor; None where
        it was not busy.
        """
        if self.until_s < 5 or self.processor_share < BUSY or not self.answered:
            return None
        return int(FULL * self.answered / self.cpu_s)

    def carry(self, message: ShardSecond | Beside) -> None:
        """Adds what was under way when the measured part ended, to the times alone: at its age, as
        a lower bound.
        """
        for part in message.carried:
            if part.no in self.totals:
                self.totals[part.no].carry(part)
        for no, age_us in message.open:
            if no in self.totals:
                self.totals[no].open_us.append(age_us)

    def rows(self, seconds: float) -> list[Row]:
        return [row_of_total(each, self.totals[each.no], seconds) for each in self.series]

    def all_of(
        self,
        level: str,
        step: str | None = None,
        *,
        journey: str | None = None,
        row: str | None = None,
        request: str | None = None,
    ) -> SeriesTotal:
        """One level added up over all steps, or of one step (or one of its requests), of everybody,
        or of one journey or row of a crowd; a step that repeats others counts only when it is asked
        for itself.
        """
        return self.sum_of(
            series_at(self.series, level, step, journey=journey, row=row, request=request)
        )

    def sum_of(self, series: Iterable[Series]) -> SeriesTotal:
        """Those added up."""
        total = SeriesTotal()
        for each in series:
            total.merge(self.totals[each.no])
        return total


def series_at(
    series: Iterable[Series],
    level: str,
    step: str | None = None,
    *,
    journey: str | None = None,
    row: str | None = None,
    request: str | None = None,
) -> Iterator[Series]:
    """Those that `Ledger.all_of` adds up. Where no row is named, one that stands for several counts
    for all of them.
    """
    series = tuple(series)
    folded = {_what(each) for each in series if each.row == OVER_ALL}
    for each in series:
        if row is None and each.row != OVER_ALL and _what(each) in folded:
            continue
        if (
            journey not in (None, each.journey)
            or row not in (None, each.row)
            or request not in (None, each.request)
        ):
            continue
        if (each.level == level and step in (None, each.step)) or (
            level == "step" and each.level == "repeat" and each.step == step
        ):
            yield each


def _what(each: Series) -> tuple[str, str, str, str]:
    """What a series is of, whoever does it."""
    return each.level, each.journey, each.step, each.request
