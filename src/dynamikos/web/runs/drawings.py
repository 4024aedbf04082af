"""Drawings of one series: its heat field with percentile lines, its distribution, and two traces
laid over one another. Coordinates are those of SVG pictures; axes of times are logarithmic.
"""

import functools
import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

import numpy as np

from dynamikos.core.analysis.evidence import Trace
from dynamikos.core.figures import milliseconds
from dynamikos.core.reports import KeptExchange
from dynamikos.core.reports.frames import Frame
from dynamikos.core.statistics import Histogram
from dynamikos.core.statistics.histogram import bucket_mid_us, mids_us
from dynamikos.core.telling.drawing import path, round_marks
from dynamikos.web.runs.reading import Point, Strip

LEFT, TOP, WIDTH, HEIGHT = 52.0, 8.0, 560.0, 168.0
COLUMNS, BINS = 110, 12  # of a heat field at most; bins a decade
SHADES = 5
STEPS_S = (1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 3600)


@dataclass(frozen=True, slots=True)
class Axis:
    """A logarithmic axis of times from `low_ms` to `high_ms` over `length`."""

    low_ms: float
    high_ms: float
    length: float

    def at(self, value_ms: float) -> float:
        share = math.log(max(value_ms, 1e-4) / self.low_ms) / math.log(self.high_ms / self.low_ms)
        return self.length * min(1.0, max(0.0, share))

    def marks(self) -> list[float]:
        steps = (1,) if self.high_ms / self.low_ms > 300 else (1, 2, 5)
        first, last = math.floor(math.log10(self.low_ms)), math.ceil(math.log10(self.high_ms))
        every = (step * 10.0**power for power in range(first, last + 1) for step in steps)
        return [each for each in every if self.low_ms <= each <= self.high_ms]


def axis_of(length: float, *times: Histogram) -> Axis:
    """Over all that is in `times`."""
    known = [each for each in times if each.counts]
    low = min((each.min_us() or 0 for each in known), default=0)
    high = max((each.max_us() or 0 for each in known), default=0)
    low_ms, high_ms = (low or 1000) / 1000, (high or 10_000) / 1000
    return Axis(max(0.05, low_ms * 0.85), max(high_ms * 1.15, low_ms * 3, 1.0), length)


@dataclass(frozen=True, slots=True)
class Heat:
    """Cells as (x, y, width, height, shade from 1), lines as paths by percentile, marks of both
    axes.
    """

    cells: list[tuple[float, float, float, float, int]]
    lines: list[tuple[str, str]]
    rows: list[tuple[float, str]]
    columns: list[tuple[float, int]]

    @property
    def shades(self) -> list[tuple[int, str]]:
        """The cells of each shade as one path: a picture of thousands of rectangles takes long to
        write and to draw.
        """
        return [
            (shade, boxes(each[:4] for each in self.cells if each[4] == shade))
            for shade in range(1, SHADES + 1)
        ]


def boxes(every: Iterable[tuple[float, float, float, float]]) -> str:
    """Rectangles (x, y, width, height) as one path."""
    return "".join(f"M{x} {y}h{width}v{height}h{-width}Z" for x, y, width, height in every)


@functools.cache
def _places() -> list[int]:
    """The bin of a heat field that each bucket of a histogram lies in."""
    made: list[int] = (
        np.floor(BINS * np.log10(np.maximum(mids_us() / 1000, 1e-3))).astype(int).tolist()
    )
    return made


def heat(points: Sequence[Point], marks: int = 8) -> Heat | None:
    """Time by response time; None where nothing passed."""
    width = -(-len(points) // COLUMNS)
    merged: list[Histogram] = []
    for at in range(0, len(points), width):
        known = [point.times for point in points[at : at + width] if point.times is not None]
        times = known[0] if len(known) == 1 else Histogram()
        for each in known if len(known) > 1 else ():
            times.merge(each)
        merged.append(times)
    if not any(times.counts for times in merged):
        return None
    begin, end = points[0].at, points[-1].at + points[-1].seconds
    axis = axis_of(HEIGHT, *merged)
    column_px = WIDTH * width * points[0].seconds / (end - begin)
    counts: dict[tuple[int, int], int] = {}
    lines: dict[str, list[tuple[float, float] | None]] = {"p50": [], "p95": [], "p99": []}
    places = _places()
    for column, times in enumerate(merged):
        x = LEFT + WIDTH * (points[column * width].at - begin) / (end - begin)
        for index, count in times.counts.items():
            cell = column, places[index]
            counts[cell] = counts.get(cell, 0) + count
        values = times.percentiles_us(*(int(name[1:]) for name in lines))
        for line, value in zip(lines.values(), values, strict=True):
            line.append(
                None if value is None else (x + column_px / 2, TOP + HEIGHT - axis.at(value / 1000))
            )
    most = max(counts.values())
    cells = []
    for (column, place), count in counts.items():
        low, high = axis.at(10 ** (place / BINS)), axis.at(10 ** ((place + 1) / BINS))
        shade = 1 + min(SHADES - 1, int(SHADES * math.log1p(count) / math.log1p(most)))
        x = LEFT + column * column_px
        cells.append(
            (
                round(x, 1),
                round(TOP + HEIGHT - high, 1),
                round(column_px, 1),
                round(high - low, 1),
                shade,
            )
        )
    rows = [(round(TOP + HEIGHT - axis.at(each), 1), milliseconds(each)) for each in axis.marks()]
    step = next((each for each in STEPS_S if (end - begin) / each <= marks), 7200)
    first = -(-begin // step) * step
    columns = [
        (round(LEFT + WIDTH * (at - begin) / (end - begin), 1), at)
        for at in range(first, end + 1, step)
    ]
    return Heat(cells, [(name, path(line)) for name, line in lines.items()], rows, columns)


@dataclass(frozen=True, slots=True)
class Spread:
    """Bars (x, y, width, height) of a distribution, the path of how many took no longer, and marks
    of times.
    """

    bars: list[tuple[float, float, float, float]]
    cumulative: str
    marks: list[tuple[float, str]]
    at: list[
        tuple[float, str, int]
    ]  # percentiles, and how low their names stand, so that none lies on another


SPREAD_WIDTH, SPREAD_HEIGHT = 300.0, 150.0


def place_of(index: int, decade: int) -> int:
    """Which of `decade` bins a decade of ms the middle of a histogram's bucket lies in."""
    return math.floor(decade * math.log10(max(bucket_mid_us(index) / 1000, 1e-3)))


def distribution(times: Histogram) -> Spread | None:
    if not times.counts:
        return None
    axis = axis_of(SPREAD_WIDTH, times)
    places: dict[int, int] = {}
    for index, count in times.counts.items():
        place = place_of(index, 20)
        places[place] = places.get(place, 0) + count
    most, n = max(places.values()), times.n
    bars = []
    for place, count in sorted(places.items()):
        low, high = axis.at(10 ** (place / 20)), axis.at(10 ** ((place + 1) / 20))
        height = SPREAD_HEIGHT * count / most
        bars.append(
            (
                round(low, 1),
                round(SPREAD_HEIGHT - height, 1),
                round(max(0.5, high - low - 0.5), 1),
                round(height, 1),
            )
        )
    line: list[tuple[float, float] | None] = [(0.0, SPREAD_HEIGHT)]
    below = 0
    for index in sorted(times.counts):
        below += times.counts[index]
        line.append((axis.at(bucket_mid_us(index) / 1000), SPREAD_HEIGHT * (1 - below / n)))
    at = [
        (round(axis.at((times.percentile_us(each) or 0) / 1000), 1), f"p{each}", 10 + 11 * place)
        for place, each in enumerate((50, 95, 99))
    ]
    bars = [(round(x, 1), round(y, 1), round(w, 1), round(h, 1)) for x, y, w, h in bars]
    marks = [(round(axis.at(each), 1), milliseconds(each)) for each in axis.marks()]
    return Spread(bars, path(line[:: max(1, len(line) // 200)]), marks, at)


PARTS = ("blocked", "dns", "connect", "ssl", "send", "wait", "receive")


def parts(parts_us: Mapping[str, int]) -> list[tuple[str, float, float]]:
    """(name, x, width) of the parts of an exchange's time in a bar of 300."""
    known = [(name, parts_us[name]) for name in PARTS if parts_us.get(name, -1) > 0]
    total = sum(value for _, value in known)
    made, x = [], 0.0
    for name, value in known:
        width = 300 * value / total
        made.append((name, round(x, 1), round(max(0.5, width), 1)))
        x += width
    return made


@dataclass(frozen=True, slots=True)
class KindLine:
    """A kind of failure over time: how many in all, and bars (x, y, width, height) of how many
    when, in a picture of KIND_WIDTH × KIND_HEIGHT.
    """

    kind: str
    count: int
    bars: list[tuple[float, float, float, float]]


KIND_WIDTH, KIND_HEIGHT, MOST_KINDS = 300.0, 16.0, 8


def kinds_over_time(columns: Sequence[Mapping[str, int]]) -> list[KindLine]:
    """Of counts by kind in equal parts of a window; the most frequent kinds, on one scale."""
    counts: dict[str, int] = {}
    for column in columns:
        for kind, count in column.items():
            counts[kind] = counts.get(kind, 0) + count
    most = max((count for column in columns for count in column.values()), default=0)
    width = KIND_WIDTH / max(1, len(columns))
    made = []
    for kind in sorted(counts, key=lambda each: -counts[each])[:MOST_KINDS]:
        bars = []
        for at, column in enumerate(columns):
            high = max(1.0, KIND_HEIGHT * column[kind] / most) if column.get(kind) else 0.0
            if high:
                x, y = round(width * at, 1), round(KIND_HEIGHT - high, 1)
                bars.append((x, y, round(max(0.8, width - 0.5), 1), round(high, 1)))
        made.append(KindLine(kind, counts[kind], bars))
    return made


@dataclass(frozen=True, slots=True)
class Stacked:
    """What the mean time is made of over time: bars (part, x, y, width, height), marks of ms and of
    the clock.
    """

    bars: list[tuple[str, float, float, float, float]]
    rows: list[tuple[float, str]]
    columns: list[tuple[float, int]]

    @property
    def areas(self) -> list[tuple[str, str]]:
        """The bars of each part as one path."""
        names = dict.fromkeys(name for name, *_ in self.bars)
        return [(name, boxes(each[1:] for each in self.bars if each[0] == name)) for name in names]


STACK_WIDTH, STACK_HEIGHT = 312.0, 124.0


def _spent(strip: Strip) -> dict[str, float]:
    """Mean µs of a request that passed by part: connecting, TLS, waiting for the first byte, and
    the rest: the answer itself, redirects, embedded resources.
    """
    n = strip.passed
    if not n:
        return {}
    waited = strip.waited_us / max(1, strip.waits)
    made = {"connect": strip.connect_us / n, "ssl": strip.tls_us / n, "wait": waited}
    return made | {"receive": max(0.0, strip.sum_us / n - sum(made.values()))}


def stacked(strips: Sequence[tuple[int, int, Sequence[Strip]]], marks: int = 4) -> Stacked | None:
    """Of one request, or of all requests of a step one after the other."""
    columns = []
    for _, _, requests in strips:
        spent: dict[str, float] = {}
        for each in requests:
            for name, value in _spent(each).items():
                spent[name] = spent.get(name, 0.0) + value
        columns.append(spent)
    most = max((sum(column.values()) for column in columns), default=0.0)
    if not most:
        return None
    begin, end = strips[0][0], strips[-1][1]
    bars = []
    for (first, last, _), column in zip(strips, columns, strict=True):
        x, width = (
            STACK_WIDTH * (first - begin) / (end - begin),
            STACK_WIDTH * (last - first) / (end - begin),
        )
        y = STACK_HEIGHT
        for name, value in column.items():
            high = STACK_HEIGHT * value / (1.1 * most)
            y -= high
            if high >= 0.05:
                bars.append(
                    (
                        name,
                        round(x, 1),
                        round(y, 1),
                        round(max(0.6, width - 0.4), 1),
                        round(high, 1),
                    )
                )
    rows = [(round(STACK_HEIGHT * (1 - 1000 * each / (1.1 * most)), 1), milliseconds(each))
            for each in round_marks(1.1 * most / 1000)]  # fmt: skip
    step = next((each for each in STEPS_S if (end - begin) / each <= marks), 7200)
    clock = [(round(STACK_WIDTH * (at - begin) / (end - begin), 1), at)
             for at in range(-(-begin // step) * step, end + 1, step)]  # fmt: skip
    return Stacked(bars, rows, clock)


@dataclass(frozen=True, slots=True)
class Bar:
    """One exchange of a waterfall: its number, what it is called, parts as (name, x, width),
    whether it failed, what it took, and its top.
    """

    number: int
    name: str
    parts: list[tuple[str, float, float]]
    is_bad: bool
    took_us: int
    y: int


@dataclass(frozen=True, slots=True)
class Waterfall:
    """Exchanges one below the other, each from when it was due; marks of the seconds since the
    first was.
    """

    bars: list[Bar]
    marks: list[tuple[float, str]]
    height: int


FALL_WIDTH, FALL_LINE = 420.0, 16


def waterfall(exchanges: Sequence[tuple[int, KeptExchange]]) -> Waterfall | None:
    """Of exchanges whose instants are known; None without any."""
    if not exchanges:
        return None
    ordered = sorted(exchanges, key=lambda each: each[1].ended_us - each[1].duration_us)
    begin = ordered[0][1].ended_us - ordered[0][1].duration_us
    whole = max(1, max(each.ended_us for _, each in ordered) - begin)
    bars = []
    for at, (number, each) in enumerate(ordered):
        start, left = each.ended_us - each.duration_us - begin, each.duration_us
        known = [(name, each.parts_us[name]) for name in PARTS if each.parts_us.get(name, -1) > 0]
        # what was before the first part, and hops before the last exchange, are none of the parts
        pieces = [("blocked", max(0, left - sum(value for _, value in known))), *known]
        made, x = [], FALL_WIDTH * start / whole
        for name, value in pieces:
            width = FALL_WIDTH * value / whole
            if value > 0:
                made.append((name, round(x, 1), round(max(0.7, width), 1)))
            x += width
        name = urlsplit(each.url).path if each.resource else each.request
        is_bad = bool(each.error or each.expected or each.failure)
        bars.append(Bar(number, name, made, is_bad, each.duration_us, FALL_LINE * at))
    unit = 10.0 ** math.floor(math.log10(whole))
    step = next((unit * n / 10 for n in (1, 2, 5, 10) if whole / (unit * n / 10) <= 6), unit)
    marks = [
        (round(FALL_WIDTH * step * n / whole, 1), milliseconds(step * n / 1000))
        for n in range(int(whole / step) + 1)
    ]
    return Waterfall(bars, marks, FALL_LINE * len(bars))


@dataclass(frozen=True, slots=True)
class Against:
    """Points of (users, p95) with the marks of both axes, in a picture of 312×130."""

    dots: list[tuple[float, float]]
    rows: list[tuple[float, str]]
    columns: list[tuple[float, str]]

    @property
    def spots(self) -> str:
        """The dots as one path of points, which round caps make visible."""
        return "".join(f"M{x} {y}h0" for x, y in self.dots)


def against(points: Sequence[Point], frames: Iterable[Frame]) -> Against | None:
    """Response time against load, second by second (or by more of them, with the mean of their
    users).
    """
    users = {each.second: each.users for each in frames}
    pairs = []
    for point in points:
        here = [
            users[second] for second in range(point.at, point.at + point.seconds) if second in users
        ]
        if here and (value := point.ms(95)) is not None:
            pairs.append((sum(here) / len(here), value))
    most = max((here for here, _ in pairs), default=0)
    if len(pairs) < 5 or not most:
        return None
    low, high = min(value for _, value in pairs), max(value for _, value in pairs)
    axis = Axis(low * 0.85, max(high * 1.15, low * 3), 124.0)
    dots = [
        (round(306.0 * here / most, 1), round(128 - axis.at(value), 1)) for here, value in pairs
    ]
    rows = [(round(128 - axis.at(each), 1), milliseconds(each)) for each in axis.marks()]
    return Against(dots, rows, [(0.0, "0"), (153.0, f"{most / 2:g}"), (290.0, f"{most:g} users")])


OVER_WIDTH, OVER_HEIGHT = 300.0, 44.0


def laid_over(
    step: Trace, measure: Trace, window: tuple[int, int]
) -> tuple[str, str, float, float]:
    """(path of a step, path of a measure, x from, x to of the window): each from its least to its
    most around it.
    """
    begin, end = window
    length = max(10, end - begin)
    low, high = max(0, begin - 2 * length), min(len(step), end + 2 * length)

    def one(trace: Trace) -> str:
        part = trace[low:high]
        known = part[~np.isnan(part)]
        if not len(known):
            return ""
        least, most = float(known.min()), float(known.max())
        scale = most - least or 1.0
        width = max(1, len(part) // 300)
        line: list[tuple[float, float] | None] = []
        for at in range(0, len(part), width):
            piece = part[at : at + width]
            piece = piece[~np.isnan(piece)]
            if len(piece):
                x = OVER_WIDTH * at / max(1, high - low)
                line.append(
                    (x, OVER_HEIGHT - 3 - (OVER_HEIGHT - 6) * (float(piece.mean()) - least) / scale)
                )
        return path(line)

    span = max(1, high - low)
    return (
        one(step),
        one(measure),
        OVER_WIDTH * (begin - low) / span,
        OVER_WIDTH * (end - low) / span,
    )


@dataclass(frozen=True, slots=True)
class Between:
    """An interval on a line of 220 with nothing in the middle: its ends, the value, and the band
    that is tolerated; an end beyond the picture is at its edge.
    """

    low: float
    value: float
    high: float
    zero: float
    band: float  # how wide what is tolerated is, from nothing on


def between(
    low: float | None, value: float | None, high: float | None, allowed: float, most: float
) -> Between | None:
    """From −`most` to `most`; None without an interval."""
    if low is None or value is None or high is None or most <= 0:
        return None

    def at(change: float) -> float:
        return round(110 + 106 * min(1.0, max(-1.0, change / most)), 1)

    return Between(at(low), at(value), at(high), at(0.0), round(at(allowed) - at(0.0), 1))
