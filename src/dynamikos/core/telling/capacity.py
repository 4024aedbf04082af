"""What can be said of a target's capacity, with the curve of its throughput."""

from collections.abc import Iterator
from dataclasses import dataclass

from dynamikos.core.analysis.capacity import Capacity
from dynamikos.core.figures import short
from dynamikos.core.telling.drawing import path, round_marks
from dynamikos.core.telling.evidence import Evidence, Picture, Table

LAWS = {"scalability": "the universal scalability law", "ceiling": "a straight line with a ceiling"}


@dataclass(frozen=True, slots=True)
class Throughput:
    """Measured levels as dots (load, rate), the law's path, where it is highest, and the marks of
    both axes, in a picture of CURVE_WIDTH × CURVE_HEIGHT.
    """

    dots: list[tuple[float, float]]
    law: str
    peak: tuple[float, float] | None
    rows: list[tuple[float, str]]
    columns: list[tuple[float, str]]


CURVE_WIDTH, CURVE_HEIGHT = 420.0, 170.0


def throughput(found: Capacity) -> Throughput:
    """Rounds a second against the load."""
    across = max(each.load for each in found.levels) * 1.06
    up = max(each.rate for each in found.levels) * 1.15

    def place(load: float, rate: float) -> tuple[float, float]:
        return round(CURVE_WIDTH * load / across, 1), round(
            CURVE_HEIGHT * (1 - min(1.0, rate / up)), 1
        )

    loads = [across * at / 120 for at in range(1, 121)]
    curve, peak = found.curve, found.peak
    return Throughput(
        dots=[place(each.load, each.rate) for each in found.levels],
        law=path([place(load, curve.at(load)) for load in loads]) if curve is not None else "",
        peak=place(*peak) if peak is not None else None,
        rows=[(place(0, each)[1], f"{each:g}") for each in round_marks(up)],
        columns=[(place(each, 0)[0], f"{each:g}") for each in round_marks(across)],
    )


def sentences(found: Capacity) -> Iterator[str]:
    if found.why_not:
        yield found.why_not
    if found.peak is not None and found.curve is not None:
        load, rate = found.peak
        yield (
            f"The most is {short(rate)} rounds a second at about {load:.0f} users, by "
            f"{LAWS[found.curve.law]}"
            f" ({100 * found.curve.residual:.2g} % left over)."
        )
    if found.curve is not None:
        known = (
            f"{name} {value:.3g} ± {half:.2g}"
            for name, (value, half) in found.curve.parameters.items()
        )
        yield f"Its parameters, with 95 % intervals: {', '.join(known)}."
    if found.knee is not None and not found.why_not:
        knee = found.knee
        yield (
            f"Best throughput for the wait at {knee.load:.0f} users: {short(knee.rate)} rounds a "
            "second, each of"
            f" which takes {short(knee.response_s)} s without think time."
        )
    if found.first is not None:
        name, rate = found.first
        full = (
            ""
            if found.full_at is None
            else f"; from {found.full_at:.0f} users on, if nobody waited before"
        )
        low, high = found.first_range or (rate, rate)
        within = f" (95 %: {short(low)} to {short(high)})" if found.first_range else ""
        yield (
            f"First to run full: {name}, at {short(rate)} rounds a second{within} by the "
            "utilization law, if what it"
            f" does is the rounds'{full}."
        )


def evidence_of(found: Capacity, where: str = "") -> Evidence:
    """The sentences, the curve, and the levels it goes through."""
    rows = [(f"{each.load:.0f}", short(each.rate), short(each.response_s)) for each in found.levels]
    return Evidence(
        "Capacity",
        where,
        list(sentences(found)),
        pictures=[_picture(throughput(found))] if found.levels else [],
        tables=[Table(("users #", "rounds/s #", "round time without think time, s #"), rows)]
        if rows
        else [],
    )


def _picture(drawn: Throughput) -> Picture:
    bottom = CURVE_HEIGHT
    paths = [("grid", f"M0 {y}H{CURVE_WIDTH}") for y in (*(y for y, _ in drawn.rows), bottom)]
    paths += [("line l0", drawn.law)] if drawn.law else []
    paths += (
        [("line l2", f"M{drawn.peak[0]} {drawn.peak[1]}V{bottom}")]
        if drawn.peak is not None
        else []
    )
    texts = [(-4.0, y + 4, "end", words) for y, words in drawn.rows]
    texts += [(x, bottom + 14, "middle", words) for x, words in drawn.columns]
    said = ": measured, and the law that fits best" if drawn.law else ""
    return Picture(
        f"rounds a second against users{said}", CURVE_WIDTH + 60, bottom + 26,
        paths, [("", x, y) for x, y in drawn.dots], texts, left=-46, top=-6,
    )  # fmt: skip
