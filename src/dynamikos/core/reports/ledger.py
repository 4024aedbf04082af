"""Adds up messages: per series, over any set of seconds; and the rows of the table of steps and requests."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

import msgspec

from dynamikos.core.frozen import Series
from dynamikos.core.reports.besides import Beside
from dynamikos.core.reports.by_value import ByValue
from dynamikos.core.reports.messages import SeriesSecond, ShardSecond
from dynamikos.core.statistics import Histogram, Moments, Spread
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
    open_us: list[int] = field(default_factory=list)  # ages of what was under way at the end and never ended

    @property
    def failures(self) -> int:
        """All that failed, but for what the generator's own limits did (descriptors, ports): that is not the target's
        fault.
        """
        return sum(count for kind, count in self.failed.items() if not is_own(kind))

    @property
    def own(self) -> int:
        """What failed by the generator's own doing."""
        return sum(count for kind, count in self.failed.items() if is_own(kind))

    def add(self, *parts: SeriesSecond) -> None:
        self.passed.merge(Histogram.joined(part.hist for part in parts))
        self.failed_hist.merge(Histogram.joined(part.failed_hist for part in parts))
        self.ttfb.merge(Histogram.joined(part.ttfb_hist for part in parts))
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
        )


OVER_ALL = ""  # the row of a series that stands for several


def is_own(kind: str) -> bool:
    """Whether a kind of failure says that the generator, not the target, could not."""
    return kind.startswith(("own-limit", "engine-error", "rate-cap"))


class Row(msgspec.Struct, frozen=True, kw_only=True):
    """One line of the table. Times in ms, None where there are no samples; rates per second of the window.

    `open` counts what was still under way at the end: it is in `count`, and in the percentiles and the longest time
    with its age, so that those of them named in `at_least` are lower bounds. Percentiles of fewer samples than they
    need are None.
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


def row_of_total(series: Series, total: SeriesTotal, seconds: float, *, of_failed: bool = False) -> Row:
    """The figures of one series over `seconds` of measured time; `of_failed`: its times are those of what failed (of
    which no sums are kept, so neither mean nor deviation).
    """
    passed = total.passed
    timed = total.failed_hist if of_failed else passed
    spread = Spread(timed, [] if of_failed else total.open_us)
    moments = Moments() if of_failed else total.moments

    def ms(value_us: float | None) -> float | None:
        return None if value_us is None else value_us / 1000

    def share(total_us: int, count: int) -> float | None:
        return total_us / count / 1000 if count else None

    at_least = [f"p{percent}_ms" for percent in (50, 90, 95, 99) if spread.is_open(percent)]
    n = passed.n + total.failures + total.own + len(total.open_us)
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
        min_ms=ms(timed.min_us()),
        mean_ms=ms(moments.mean_us),
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
        at_least=(*at_least, "max_ms") if total.open_us and not of_failed else (),
        own_failures=total.own,
        left=total.left,
        cached=total.cached,
        ttfb_p50_ms=ms(total.ttfb.percentile_us(50)),
        ttfb_p95_ms=ms(total.ttfb.percentile_us(95)) if enough_for(95, total.ttfb.n) != "no" else None,
        connects=total.connects,
        connect_ms=share(total.connect_us, total.connects),
        handshakes=total.handshakes,
        resumed=total.resumed,
        tls_ms=share(total.tls_us, total.handshakes),
    )


FULL = 0.7  # of a processor: beyond it a generator begins to be late
# of a processor: a generator that does little pays for waking up as often as for the work itself, several times as much
# an exchange as one that is kept busy; what less than this tells of a busy one is too low
BUSY = 0.3


class Ledger:
    """Totals per series of the messages it was given; `from_s`/`to_s` restrict to a window of the run clock."""

    def __init__(self, series: Iterable[Series]) -> None:
        self.series = tuple(series)
        self.totals = {each.no: SeriesTotal() for each in self.series}
        self.sent = self.answered = self.failed = self.reopened = 0
        self.late_seconds = self.seconds = 0
        self.late_by: dict[str, int] = {}  # seconds of the window by the reason for which they were late
        self.retired: dict[str, int] = {}
        self.abandoned = 0  # exchanges
        self.arrivals = [0, 0, 0]  # started, turned away, not started, in all messages
        self.arrivals_measured = [0, 0, 0]  # those of the window
        self.late_rounds = 0  # of the window
        self.row_seconds: dict[int, int] = {}  # users of each row times seconds, of the window
        self.rounds = [0, 0]  # passed and failed in all messages, those outside the window too
        self.judged: dict[int, int] = {}  # see ShardSecond; of the window
        self.missed: dict[int, int] = {}
        self.cpu_s = 0.0  # of one core, of all shards, in all messages; users and exchanges of the same seconds
        self.user_seconds = self.messages = 0
        self.learned_late = self.left = self.reloaded = 0
        self.until_s = 0  # the first second of which there is nothing
        self.by_value: dict[int, ByValue] = {}  # the newest of each shard
        self._by_value_s: dict[int, int] = {}
        self._rounds = {each.no for each in self.series if each.level == "round"}

    def add(self, message: ShardSecond, *, totals: bool = True) -> None:
        """Adds a message; with `totals=False` only the counters and health (a second outside the window)."""
        self.until_s = max(self.until_s, message.second + 1)
        if message.by_value is not None and message.second >= self._by_value_s.get(message.shard, 0):
            self.by_value[message.shard], self._by_value_s[message.shard] = message.by_value, message.second
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
        for why, number in message.retired.items():
            self.retired[why] = self.retired.get(why, 0) + number
        if totals:
            self.seconds += 1
            self.late_seconds += message.health.is_late
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
        """How many users of this kind one generator carries, at 70 % of its processor: at least so many, where less
        than BUSY of it was used. None where hardly any of it was used.
        """
        if self.until_s < 5 or self.cpu_s < 0.02 * self.until_s or not self.user_seconds:
            return None
        return int(FULL * self.user_seconds / self.cpu_s)

    @property
    def processor_share(self) -> float:
        """Of one core, the mean of all shards."""
        return self.cpu_s / self.messages if self.messages else 0.0

    @property
    def capacity_per_s(self) -> int | None:
        """How many exchanges a second one generator carries, at 70 % of its processor; None where it was not busy."""
        if self.until_s < 5 or self.processor_share < BUSY or not self.answered:
            return None
        return int(FULL * self.answered / self.cpu_s)

    def carry(self, message: ShardSecond | Beside) -> None:
        """Adds what was under way when the measured part ended: what ended later with its time, what never did with its
        age.
        """
        for part in message.carried:
            if part.no in self.totals:
                self.totals[part.no].add(part)
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
        """One level added up over all steps, or of one step (or one of its requests), of everybody, or of one journey
        or row of a crowd; a step that repeats others counts only when it is asked for itself.
        """
        return self.sum_of(series_at(self.series, level, step, journey=journey, row=row, request=request))

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
    """Those that `Ledger.all_of` adds up. Where no row is named, one that stands for several counts for all of them."""
    series = tuple(series)
    folded = {_what(each) for each in series if each.row == OVER_ALL}
    for each in series:
        if row is None and each.row != OVER_ALL and _what(each) in folded:
            continue
        if journey not in (None, each.journey) or row not in (None, each.row) or request not in (None, each.request):
            continue
        if (each.level == level and step in (None, each.step)) or (
            level == "step" and each.level == "repeat" and each.step == step
        ):
            yield each


def _what(each: Series) -> tuple[str, str, str, str]:
    """What a series is of, whoever does it."""
    return each.level, each.journey, each.step, each.request
