"""Adds up messages: per series, over any set of seconds; and the rows of the table of steps and requests."""

from collections.abc import Iterable
from dataclasses import dataclass, field

import msgspec

from dynamikos.core.frozen import Series
from dynamikos.core.reports.messages import SeriesSecond, ShardSecond
from dynamikos.core.statistics import Histogram, Moments


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

    @property
    def failures(self) -> int:
        return sum(self.failed.values())

    def add(self, part: SeriesSecond) -> None:
        self.passed.merge(Histogram.from_bytes(part.hist))
        self.moments.add(part.n, part.sum_us, int(part.squares))
        for kind, count in part.failed.items():
            self.failed[kind] = self.failed.get(kind, 0) + count
        self.failed_hist.merge(Histogram.from_bytes(part.failed_hist))
        self.ttfb.merge(Histogram.from_bytes(part.ttfb_hist))
        self.bytes_out += part.bytes_out
        self.bytes_in += part.bytes_in
        self.tries += part.tries

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
        )


class Row(msgspec.Struct, frozen=True, kw_only=True):
    """One line of the table. Times in ms, None where there are no samples; rates per second of the window."""

    no: int
    level: str
    step: str
    request: str
    name: str
    count: int
    failures: int
    failure_percent: float | None
    per_s: float
    min_ms: float | None
    mean_ms: float | None
    sd_ms: float | None
    p50_ms: float | None
    p90_ms: float | None
    p95_ms: float | None
    p99_ms: float | None
    max_ms: float | None
    bytes_in: int
    tries: int
    kinds: dict[str, int]


def row_of_total(series: Series, total: SeriesTotal, seconds: float) -> Row:
    """The figures of one series over `seconds` of measured time."""
    passed = total.passed

    def ms(value_us: float | None) -> float | None:
        return None if value_us is None else value_us / 1000

    n = passed.n + total.failures
    return Row(
        no=series.no,
        level=series.level,
        step=series.step,
        request=series.request,
        name=series.name,
        count=n,
        failures=total.failures,
        failure_percent=100 * total.failures / n if n else None,
        per_s=n / seconds if seconds > 0 else 0.0,
        min_ms=ms(passed.min_us()),
        mean_ms=ms(total.moments.mean_us),
        sd_ms=ms(total.moments.sd_us),
        p50_ms=ms(passed.percentile_us(50)),
        p90_ms=ms(passed.percentile_us(90)),
        p95_ms=ms(passed.percentile_us(95)),
        p99_ms=ms(passed.percentile_us(99)),
        max_ms=ms(passed.max_us()),
        bytes_in=total.bytes_in,
        tries=total.tries,
        kinds=dict(total.failed),
    )


class Ledger:
    """Totals per series of the messages it was given; `from_s`/`to_s` restrict to a window of the run clock."""

    def __init__(self, series: Iterable[Series]) -> None:
        self.series = tuple(series)
        self.totals = {each.no: SeriesTotal() for each in self.series}
        self.sent = self.answered = self.failed = 0
        self.late_seconds = self.seconds = 0
        self.retired: dict[str, int] = {}

    def add(self, message: ShardSecond, *, totals: bool = True) -> None:
        """Adds a message; with `totals=False` only the counters and health (a second outside the window)."""
        self.sent += message.sent
        self.answered += message.answered
        self.failed += message.failed
        self.seconds += 1
        for why, number in message.retired.items():
            self.retired[why] = self.retired.get(why, 0) + number
        self.late_seconds += message.health.is_late
        if totals:
            for part in message.series:
                if part.no in self.totals:
                    self.totals[part.no].add(part)

    def rows(self, seconds: float) -> list[Row]:
        return [row_of_total(each, self.totals[each.no], seconds) for each in self.series]

    def all_of(self, level: str, step: str | None = None) -> SeriesTotal:
        """One level added up over all steps, or of one step; a step that repeats others counts only when it is asked for itself."""
        total = SeriesTotal()
        for each in self.series:
            if (each.level == level and step in (None, each.step)) or (level == "step" and each.level == "repeat" and each.step == step):
                total.merge(self.totals[each.no])
        return total
