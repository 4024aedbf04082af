"""Reads what is folded of runs: totals of windows and lines over time, from blocks, chunks, and the
newest seconds.
"""

import zlib
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

import msgspec

from dynamikos.core.frozen import FrozenRun, Series, every_series
from dynamikos.core.reports import Ledger, SeriesSecond
from dynamikos.core.reports.chunk_extras import (
    Beside,
    Dealt,
    unpacked_besides,
    unpacked_dealt,
    unpacked_second,
)
from dynamikos.core.reports.folding import COARSE_S, Overall, coarse_of, fine, unpacked_coarse
from dynamikos.core.statistics import Histogram
from dynamikos.web.runs.models import Block, Chunk, Minute, Run, Second

POINTS = 800  # of a line at most
STRIPS = 60  # of what is drawn in bars
_seconds = msgspec.msgpack.Decoder(list[tuple[int, SeriesSecond]])
_total = msgspec.msgpack.Decoder(SeriesSecond)


PERSONA, JOURNEY = "@", "~"  # before the key of one, where a row may be named: all rows of it


def slices_of(inputs: FrozenRun) -> list[tuple[str, str]]:
    """Whose figures can be asked for, with what they are called: each row, each persona that
    several rows have, and each journey that several have, but not all.
    """
    rows = inputs.places.rows
    made = [(each.row, each.name or each.row) for each in rows]
    for key, persona in inputs.personas.items():
        if sum(each.persona == key for each in rows) > 1:
            made.append((PERSONA + key, f"all {persona.name or key}"))
    for key, journey in inputs.journeys.items():
        if 1 < sum(each.journey == key for each in rows) < len(rows):
            made.append((JOURNEY + key, f"all of {journey.name or key}"))
    return made


def rows_named(inputs: FrozenRun, named: str | None) -> set[str] | None:
    """The rows of a slice; None: all."""
    if named is None:
        return None
    if named.startswith(JOURNEY):
        return {
            each.row for each in inputs.places.rows if each.journey == named.removeprefix(JOURNEY)
        }
    if not named.startswith(PERSONA):
        return {named}
    return {each.row for each in inputs.places.rows if each.persona == named.removeprefix(PERSONA)}


def of_persona(inputs: FrozenRun, named: str) -> tuple[list[Series], Overall]:
    """The series of all rows of a persona, and what stands for those that several of them have."""
    rows = rows_named(inputs, named) or set()
    every = every_series(inputs)
    over = Overall.over(every)
    last = max(each.no for each in (*every, *over.series))
    own = [each for each in every if each.row in rows]
    return own, Overall.over(own, after=last)


def shown_series(inputs: FrozenRun, row: str | None = None) -> list[Series]:
    """Those that a page shows, in the journeys' order: of one row (or of a persona's or a journey's
    rows), or of everybody, what several rows do as one.
    """
    every = every_series(inputs)
    if row is not None and row.startswith(JOURNEY):
        return [each for each in shown_series(inputs) if each.journey == row.removeprefix(JOURNEY)]
    if row is not None and row.startswith(PERSONA):
        own, over = of_persona(inputs, row)
        stands = {each.no: each for each in over.series}
        return list(
            dict.fromkeys(stands[over.of[each.no]] if each.no in over.of else each for each in own)
        )
    if row is not None:
        return [each for each in every if each.row == row]
    over = Overall.over(every)
    stands = {each.no: each for each in over.series}
    return list(
        dict.fromkeys(stands[over.of[each.no]] if each.no in over.of else each for each in every)
    )


def window(
    found: Run,
    series: Sequence[Series],
    from_s: int,
    to_s: int,
    shards: Collection[int] = (Chunk.ALL,),
) -> Ledger:
    """Everything of `series` that ended in [from_s, to_s) of the run clock, from whole blocks,
    whole chunks, and ragged edges; of some `shards` only rounds and steps are kept.

    Fine bins all the way: every printed figure comes from them.
    """
    parts: dict[int, list[SeriesSecond]] = {each.no: [] for each in series}
    chunked = (found.chunked + 1) * 60
    end = min(to_s, chunked)
    chunks = Chunk.objects.filter(
        run=found, shard__in=shards, series__in=[each.no for each in series]
    )
    is_all = Chunk.ALL in shards
    covered: tuple[int, int] | None = None
    first_ten, last_ten = -(-from_s // 600), end // 600
    if last_ten > first_ten and is_all:
        covered = first_ten * 600, last_ten * 600
        blocks = Block.objects.filter(
            run=found, ten_minutes__gte=first_ten, ten_minutes__lt=last_ten
        )
        for body in blocks.filter(series__in=[each.no for each in series]).values_list(
            "total", flat=True
        ):
            _add(parts, _total.decode(bytes(body)))
    for begin, stop in _gaps(from_s, end, covered):
        first, last = -(-begin // 60), stop // 60  # whole minutes
        for body in chunks.filter(minute__gte=first, minute__lt=last).values_list(
            "total", flat=True
        ):
            _add(parts, _total.decode(bytes(body)))
        ragged = {
            minute for minute in (begin // 60, (stop - 1) // 60) if not first <= minute < last
        }
        for body in chunks.filter(minute__in=ragged).values_list("seconds", flat=True):
            for second, part in _seconds.decode(zlib.decompress(bytes(body))):
                if begin <= second < stop:
                    _add(parts, part)
    for _, part in _newest(found, max(from_s, chunked), to_s) if is_all else ():
        _add(parts, part)
    ledger = Ledger(series)
    for no, own in parts.items():
        ledger.totals[no].add(*own)
    return ledger


def _add(parts: dict[int, list[SeriesSecond]], part: SeriesSecond) -> None:
    own = parts.get(part.no)
    if own is not None:
        own.append(part)


def _gaps(start: int, end: int, covered: tuple[int, int] | None) -> list[tuple[int, int]]:
    parts = [(start, end)] if covered is None else [(start, covered[0]), (covered[1], end)]
    return [(a, b) for a, b in parts if b > a]


def _newest(found: Run, from_s: int, to_s: int) -> Iterator[tuple[int, SeriesSecond]]:
    """(second, part) of the seconds that are in no chunk yet."""
    if to_s <= from_s:
        return
    rows = Second.objects.filter(run=found, second__gte=from_s, second__lt=to_s)
    for second, body in rows.values_list("second", "body"):
        for part in unpacked_second(bytes(body)).series:
            yield second, part


def besides(found: Run, from_s: int, to_s: int) -> Iterator[Beside]:
    """What the seconds of [from_s, to_s) tell besides their series, in order."""
    minutes = Minute.objects.filter(
        run=found, minute__gte=from_s // 60, minute__lt=-(-to_s // 60)
    ).order_by("minute")
    for body in minutes.values_list("besides", flat=True):
        yield from (each for each in unpacked_besides(bytes(body)) if from_s <= each.second < to_s)
    for body in _unfolded(found, from_s, to_s):
        beside = unpacked_second(body).beside
        if beside is not None:
            yield beside


def dealt(found: Run, from_s: int, to_s: int) -> Iterator[Dealt]:
    """Every row dealt in [from_s, to_s), in order of second and shard."""
    minutes = Minute.objects.filter(
        run=found, minute__gte=from_s // 60, minute__lt=-(-to_s // 60)
    ).order_by("minute")
    for body in minutes.values_list("dealt", flat=True):
        yield from (row for row in unpacked_dealt(bytes(body)) if from_s <= row[0] < to_s)
    for body in _unfolded(found, from_s, to_s):
        yield from unpacked_second(body).dealt


def _unfolded(found: Run, from_s: int, to_s: int) -> Iterator[bytes]:
    rows = Second.objects.filter(run=found, second__gte=from_s, second__lt=to_s).order_by("second")
    return (bytes(body) for body in rows.values_list("body", flat=True))


@dataclass(slots=True)
class Point:
    """One point of a line: `seconds` from second `at` on; how many passed and failed, and the times
    of those passed.
    """

    at: int
    seconds: int
    passed: int = 0
    failed: int = 0
    times: Histogram | None = None
    _known: dict[float, float | None] = field(default_factory=dict)

    def ms(self, percent: float) -> float | None:
        """A percentile in ms; `times` must not change any more."""
        if percent not in self._known:
            value = self.times.percentile_us(percent) if self.times is not None else None
            self._known[percent] = None if value is None else round(value / 1000, 3)
        return self._known[percent]


def line(found: Run, numbers: Collection[int], from_s: int, to_s: int) -> list[Point]:
    """What series come to over time, added up, in at most POINTS points: each second by itself
    where there is room, else so many tens of seconds at a time, by coarse bins (≤ 0.4 %).
    """
    to_s = min(to_s, found.watermark + 1)
    if to_s <= from_s:
        return []
    if to_s - from_s <= POINTS:
        told = (
            (
                second,
                part.n,
                sum(part.failed.values()),
                Histogram.joined((part.hist, part.cut_hist)).to_bytes(),
            )
            for second, part in fine_parts(found, numbers, from_s, to_s)
        )
        return _points(range(from_s, to_s), told, Histogram.joined)
    width = COARSE_S * -(-(to_s - from_s) // (COARSE_S * POINTS))
    begin = from_s // width * width
    return _points(range(begin, to_s, width), _tens(found, numbers, from_s, to_s), fine)


def _points(
    at: range,
    told: Iterable[tuple[int, int, int, bytes]],
    joined: Callable[[Iterable[bytes]], Histogram],
) -> list[Point]:
    """A point each at `at`, as long as its steps, of what is told as (second, passed, failed,
    histogram).
    """
    points = [Point(begin, at.step) for begin in at]
    times: list[list[bytes]] = [[] for _ in points]
    for second, passed, failed, hist in told:
        number = (second - at.start) // at.step
        if 0 <= number < len(points):
            points[number].passed += passed
            points[number].failed += failed
            times[number].append(hist)
    for point, own in zip(points, times, strict=True):
        if own:
            point.times = joined(own)
    return points


@dataclass(slots=True)
class Strip:
    """What one request did in a part of a window: how many passed, and of these the µs in whole, of
    connecting and of TLS; how many were waited for and the µs until the first byte (by midpoints of
    bins, ≤ 0.05 %); failures by kind.
    """

    passed: int = 0
    sum_us: int = 0
    connect_us: int = 0
    tls_us: int = 0
    waits: int = 0
    waited_us: int = 0
    failed: dict[str, int] = field(default_factory=dict)

    def add(self, parts: Sequence[SeriesSecond]) -> None:
        waits = Histogram.joined(part.ttfb_hist for part in parts)
        self.waits += waits.n
        self.waited_us += waits.sum_us()
        for part in parts:
            self.passed += part.n
            self.sum_us += part.sum_us
            self.connect_us += part.connect_us
            self.tls_us += part.tls_us
            for kind, count in part.failed.items():
                self.failed[kind] = self.failed.get(kind, 0) + count


def strips(
    found: Run, numbers: Sequence[int], from_s: int, to_s: int
) -> list[tuple[int, int, list[Strip]]]:
    """(from, to, what each series did in the order of `numbers`) of at most STRIPS equal parts of a
    window: by the second where it is short, else by whole minutes.
    """
    to_s = min(to_s, found.watermark + 1)
    if to_s <= from_s:
        return []
    is_fine = to_s - from_s <= POINTS
    unit = 1 if is_fine else 60
    begin = from_s // unit * unit
    width = unit * -(-(to_s - begin) // (unit * STRIPS))
    parts: dict[tuple[int, int], list[SeriesSecond]] = {}
    told = (
        fine_parts(found, numbers, from_s, to_s)
        if is_fine
        else minutes(found, numbers, from_s, to_s)
    )
    for second, part in told:
        parts.setdefault(((second - begin) // width, part.no), []).append(part)
    made = []
    for at in range(-(-(to_s - begin) // width)):
        own = [Strip() for _ in numbers]
        for no, strip in zip(numbers, own, strict=True):
            strip.add(parts.get((at, no), ()))
        made.append((begin + at * width, min(to_s, begin + (at + 1) * width), own))
    return made


def strips_of(
    found: Run, inputs: FrozenRun, series: Series, from_s: int, to_s: int
) -> list[tuple[int, int, list[Strip]]]:
    """Of a request; of a step, those of all its requests."""
    numbers = [series.no]
    if series.level == "step":
        numbers = [
            each.no
            for each in shown_series(inputs, series.row or None)
            if each.level == "request"
            and (each.journey, each.step) == (series.journey, series.step)
        ]
    return strips(found, numbers, from_s, to_s)


def failed_by_kind(strips: Iterable[Strip]) -> dict[str, int]:
    """Of some requests together."""
    made: dict[str, int] = {}
    for strip in strips:
        for kind, count in strip.failed.items():
            made[kind] = made.get(kind, 0) + count
    return made


def minutes(
    found: Run, numbers: Sequence[int], from_s: int, to_s: int
) -> Iterator[tuple[int, SeriesSecond]]:
    """(first second, total) of the minutes that a window touches, and what came since the last
    whole one.
    """
    chunks = Chunk.objects.filter(run=found, shard=Chunk.ALL, series__in=numbers)
    chunks = chunks.filter(minute__gte=from_s // 60, minute__lt=-(-to_s // 60))
    for minute, body in chunks.values_list("minute", "total"):
        yield minute * 60, _total.decode(bytes(body))
    yield from (
        each
        for each in _newest(found, max(from_s, (found.chunked + 1) * 60), to_s)
        if each[1].no in numbers
    )


def fine_parts(
    found: Run,
    numbers: Collection[int],
    from_s: int,
    to_s: int,
    shards: Collection[int] = (Chunk.ALL,),
) -> Iterator[tuple[int, SeriesSecond]]:
    """(second, part) of series in [from_s, to_s), as fine as they are kept; of some `shards` what
    is in chunks.
    """
    chunks = Chunk.objects.filter(run=found, shard__in=shards, series__in=numbers)
    minutes = chunks.filter(minute__gte=from_s // 60, minute__lt=-(-to_s // 60))
    for body in minutes.values_list("seconds", flat=True):
        yield from (
            each
            for each in _seconds.decode(zlib.decompress(bytes(body)))
            if from_s <= each[0] < to_s
        )
    chunked = (found.chunked + 1) * 60
    if Chunk.ALL in shards:
        yield from (
            each for each in _newest(found, max(from_s, chunked), to_s) if each[1].no in numbers
        )


def _tens(
    found: Run, numbers: Collection[int], from_s: int, to_s: int
) -> Iterator[tuple[int, int, int, bytes]]:
    """(second, passed, failed, coarse histogram), ten by ten seconds: of blocks, of the chunks that
    are in none, and of the newest.
    """
    whole = (found.chunked + 1) // 10  # tens of minutes that are blocks
    first_ten, last_ten = from_s // 600, min(whole, -(-to_s // 600))
    blocks = Block.objects.filter(
        run=found, series__in=numbers, ten_minutes__gte=first_ten, ten_minutes__lt=last_ten
    )
    chunks = Chunk.objects.filter(
        run=found, shard=Chunk.ALL, series__in=numbers, minute__lt=-(-to_s // 60)
    )
    chunks = chunks.filter(minute__gte=max(from_s // 60, whole * 10))
    for body in (
        *blocks.values_list("coarse", flat=True),
        *chunks.values_list("coarse", flat=True),
    ):
        for ten, (passed, failed, bins) in unpacked_coarse(bytes(body)).items():
            if from_s <= ten * COARSE_S < to_s:
                yield ten * COARSE_S, passed, failed, bins
    newest = [
        each
        for each in _newest(found, max(from_s, (found.chunked + 1) * 60), to_s)
        if each[1].no in numbers
    ]
    for ten, (passed, failed, bins) in coarse_of(newest).items():
        yield ten * COARSE_S, passed, failed, bins


def tens(found: Run, number: int, seconds: int) -> list[Point]:
    """A series ten by ten seconds from 0 on, however long the run is."""
    return _points(range(0, seconds, COARSE_S), _tens(found, [number], 0, seconds), fine)


def of_shards(
    found: Run, numbers: Collection[int], shards: Collection[int], width: int
) -> Iterator[tuple[int, int, int, int, bytes]]:
    """(second, series, passed, failed, histogram) of some shards of a run that is over, by the
    second (`width` 1) or by COARSE_S of them.
    """
    if width == 1:
        for second, part in fine_parts(found, numbers, 0, (found.chunked + 1) * 60, shards):
            yield second, part.no, part.n, sum(part.failed.values()), part.hist
        return
    chunks = Chunk.objects.filter(run=found, shard__in=shards, series__in=numbers)
    for no, body in chunks.values_list("series", "coarse"):
        for ten, (passed, failed, bins) in unpacked_coarse(bytes(body)).items():
            yield ten * COARSE_S, no, passed, failed, fine([bins]).to_bytes()
