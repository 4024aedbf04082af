"""Drawings of one step or request, of a run's capacity, and what a browser saw."""

from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import clock, digits, milliseconds, short
from dynamikos.core.reports import SeriesTotal
from dynamikos.core.telling.capacity import evidence_of
from dynamikos.core.telling.evidence import Evidence, Photo, Picture, Table
from dynamikos.web.casebook.pins.seen import Seen
from dynamikos.web.runs import drawings, queries, reading

PARTS = {
    "connect": "connecting",
    "ssl": "TLS",
    "wait": "waiting",
    "receive": "the answer and the rest",
}
NOTHING = "nothing of it passed in this window."


def _total(seen: Seen) -> SeriesTotal:
    return queries.of_one(seen.run, seen.inputs, seen.series, *seen.window)


def _percentiles(total: SeriesTotal) -> str:
    of = ((each, (total.times.low_us(each) or 0) / 1000) for each in (50, 90, 95, 99))
    return (
        f"{total.passed.n:,} passed: "
        f"{', '.join(f'p{percent} {milliseconds(value)}' for percent, value in of)}."
    )


def times(seen: Seen) -> Evidence:
    total = _total(seen)
    spread = drawings.distribution(total.timed)
    if spread is None:
        raise DynamikosError(NOTHING)
    height = drawings.SPREAD_HEIGHT
    paths = [("bars", drawings.boxes(spread.bars)), ("line l1", spread.cumulative)]
    paths += [("grid", f"M{x} 12V{height}") for x, _, _ in spread.at]
    texts = [(x, height + 16, "middle", text) for x, text in spread.marks]
    texts += [(x, y, "end", name) for x, name, y in spread.at]
    picture = Picture(
        "how often, and which part took no longer", 316, height + 22, paths, (), texts, left=-6
    )
    return Evidence(
        f"How long {seen.name} took", seen.where, [_percentiles(total)], pictures=[picture]
    )


def heat(seen: Seen) -> Evidence:
    points = reading.line(seen.run, [seen.series.no], *seen.window)
    found = drawings.heat(points) if points else None
    if found is None:
        raise DynamikosError(NOTHING)
    left, right = drawings.LEFT, drawings.LEFT + drawings.WIDTH
    paths = [(f"shade{shade}", path) for shade, path in found.shades]
    paths += [("grid", f"M{left} {y}H{right}") for y, _ in found.rows]
    paths += [(f"percentile {name}", line) for name, line in found.lines]
    texts = [(left - 4, y + 4, "end", text) for y, text in found.rows]
    texts += [
        (x, drawings.TOP + drawings.HEIGHT + 16, "middle", clock(at)) for x, at in found.columns
    ]
    picture = Picture(
        "darker where more; lines p50, p95 (heavier), p99", 640, 200, paths, (), texts
    )
    title = f"When and how long {seen.name} took"
    return Evidence(title, seen.where, [_percentiles(_total(seen))], pictures=[picture])


def spent(seen: Seen) -> Evidence:
    found = drawings.stacked(reading.strips_of(seen.run, seen.inputs, seen.series, *seen.window))
    if found is None:
        raise DynamikosError(NOTHING)
    paths = [("grid", f"M0 {y}H{drawings.STACK_WIDTH}") for y, _ in found.rows]
    paths += [(f"part-{name}", path) for name, path in found.areas]
    texts = [(-4.0, y + 4, "end", text) for y, text in found.rows]
    texts += [(x, drawings.STACK_HEIGHT + 16, "middle", clock(at)) for x, at in found.columns]
    said = f"mean of those that passed, from below: {', '.join(PARTS.values())}"
    picture = Picture(said, 390, 150, paths, (), texts, left=-46)
    return Evidence(f"What the time of {seen.name} is made of", seen.where, pictures=[picture])


def load(seen: Seen) -> Evidence:
    points = reading.line(seen.run, [seen.series.no], *seen.window)
    found = drawings.against(points, queries.every_frame(seen.run))
    if found is None:
        raise DynamikosError("there are too few points of it in this window.")
    paths = [("grid", f"M0 {y}H312") for y, _ in found.rows]
    texts = [(-4.0, y + 4, "end", text) for y, text in found.rows]
    texts += [(x, 146.0, "middle", text) for x, text in found.columns]
    dots = [("", x, y) for x, y in found.dots]
    picture = Picture("p95 against the users there", 370, 150, paths, dots, texts, left=-46)
    return Evidence(f"{seen.name} against load", seen.where, pictures=[picture])


def failures(seen: Seen) -> Evidence:
    strips = reading.strips_of(seen.run, seen.inputs, seen.series, *seen.window)
    kinds = drawings.kinds_over_time([reading.failed_by_kind(totals) for _, _, totals in strips])
    if not kinds:
        raise DynamikosError("nothing of it failed in this window.")
    line, width = drawings.KIND_HEIGHT + 6, drawings.KIND_WIDTH
    bars = [
        (x, round(y + line * at, 1), across, high)
        for at, kind in enumerate(kinds)
        for x, y, across, high in kind.bars
    ]
    paths = [("failing", drawings.boxes(bars))]
    paths += [
        ("grid", f"M0 {at * line + drawings.KIND_HEIGHT}H{width}") for at in range(len(kinds))
    ]
    texts = [(width + 6, at * line + 13, "start", kind.kind) for at, kind in enumerate(kinds)]
    picture = Picture(
        "over the window, on one scale", width + 180, line * len(kinds), paths, (), texts
    )
    rows = [(kind.kind, f"{kind.count:,}") for kind in kinds]
    return Evidence(
        f"How {seen.name} failed",
        seen.where,
        pictures=[picture],
        tables=[Table(("kind", "count #"), rows)],
    )


def capacity(seen: Seen) -> Evidence:
    found = queries.capacity(seen.run)
    if found is None:
        raise DynamikosError(f"nothing is said of run {seen.run.number}'s capacity.")
    return evidence_of(found, f"{seen.run.name}, run {seen.run.number}")


def shot(seen: Seen) -> Evidence:
    number = digits(seen.of.get("shot", ""))
    found = seen.run.shots.filter(pk=number).first() if number is not None else None
    if found is None:
        raise DynamikosError(f"run {seen.run.number} has no such picture.")
    names = {
        "first byte": "ms",
        "first paint": "ms",
        "largest paint": "ms",
        "load": "ms",
        "layout shift": "",
    }
    told = [
        (name, milliseconds(value) if names.get(name) == "ms" else short(value))
        for name, value in found.figures.items() if value is not None
    ]  # fmt: skip
    return Evidence(
        f"What a browser saw of {found.page}",
        f"{seen.run.name}, run {seen.run.number}, second {found.second}",
        [found.problem] if found.problem else [],
        photos=[Photo(f"{found.page} at second {found.second}", bytes(found.jpeg))]
        if found.jpeg
        else [],
        tables=[Table(("of that look", "value #"), told)] if told else [],
    )
