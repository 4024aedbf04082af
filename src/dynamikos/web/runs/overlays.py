"""Two sides of a comparison laid over one another: their tapes on one run clock, the times of a step, and failures by
kind.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from dynamikos.core.analysis.evidence import milliseconds
from dynamikos.core.comparison import Line, OneRun
from dynamikos.core.comparison.side import Key
from dynamikos.core.statistics import Histogram
from dynamikos.core.statistics.histogram import bucket_mid_us
from dynamikos.core.telling.drawing import Drawn, drawn
from dynamikos.core.telling.model import Lane
from dynamikos.web.runs import drawings, telling
from dynamikos.web.runs.models import Run

LANES, SERVERS = 4, 4  # users, exchanges, response times, failures; and those of servers that both sides have
BIN = 20  # bins a decade
PERCENTS = (50, 95, 99)


def tapes(sides: Mapping[str, Sequence[Run]]) -> list[tuple[Drawn, list[str]]]:
    """Lanes with the lines of all runs, and of which side each line is."""
    every = {(name, run): telling.lanes(run) for name, runs in sides.items() for run in runs}
    if not every:
        return []
    seconds = max((len(values) for lanes in every.values() for _, values in lanes[0].lines), default=1)
    first = next(iter(every.values()))
    titles = [each.title for each in first[:LANES]]
    of_servers = [each.title for each in first[LANES:]]
    titles += [each for each in of_servers if all(any(lane.title == each for lane in lanes[LANES:])
                                                  for lanes in every.values())][:SERVERS]  # fmt: skip
    made = []
    for title in titles:
        lines, whose, unit = [], [], ""
        for (name, run), lanes in every.items():
            lane = next(each for each in lanes if each.title == title)
            unit = lane.unit
            lines.append((f"{name.upper()}, run {run.number}", lane.lines[0][1]))
            whose.append(name)
        said = f"{title}: p95" if title.startswith("Response time") else title
        made.append((drawn(Lane(said, unit, lines), seconds, (0, seconds)), whose))
    return made


@dataclass(frozen=True, slots=True)
class Times:
    """The times of a step on both sides, on one logarithmic axis: outlines of how often, and how many were no longer;
    percentiles of each side as (x, name, text), marks of the axis.
    """

    name: str
    outlines: list[tuple[str, str]]
    cumulative: list[tuple[str, str]]
    percentiles: list[tuple[str, float, str, str]]
    marks: list[tuple[float, str]]


def times(sides: Mapping[str, Sequence[OneRun]], key: Key) -> Times | None:
    """None where a side has none of it."""
    whole: dict[str, Histogram] = {}
    name = ""
    for side, runs in sides.items():
        made = Histogram()
        for run in runs:
            own = run.lines.get(key)
            if isinstance(own, Line):
                made.merge(own.whole)
                name = own.name
        whole[side] = made
    if not all(each.n for each in whole.values()):
        return None
    both = Histogram()
    for each in whole.values():
        both.merge(each)
    axis = drawings.axis_of(both, drawings.SPREAD_WIDTH)
    height = drawings.SPREAD_HEIGHT
    bins = {side: _bins(each) for side, each in whole.items()}
    most = max(max(each.values()) for each in bins.values())
    outlines, sums, percents = [], [], []
    for side, shares in bins.items():
        line: list[tuple[float, float] | None] = []
        for place in range(min(shares), max(shares) + 1):
            y = height * (1 - shares.get(place, 0.0) / most)
            line += [(axis.at(10 ** (place / BIN)), y), (axis.at(10 ** ((place + 1) / BIN)), y)]
        outlines.append((side, drawings.path(line)))
        below = 0
        upward: list[tuple[float, float] | None] = [(0.0, height)]
        for index in sorted(whole[side].counts):
            below += whole[side].counts[index]
            upward.append((axis.at(bucket_mid_us(index) / 1000), height * (1 - below / whole[side].n)))
        sums.append((side, drawings.path(upward[:: max(1, len(upward) // 200)])))
        for percent in PERCENTS:
            value = (whole[side].percentile_us(percent) or 0) / 1000
            percents.append((side, round(axis.at(value), 1), f"p{percent}", milliseconds(value)))
    marks = [(round(axis.at(each), 1), milliseconds(each)) for each in axis.marks()]
    return Times(name, outlines, sums, percents, marks)


def _bins(given: Histogram) -> dict[int, float]:
    """The share of times by bin."""
    places: dict[int, float] = {}
    for index, count in given.counts.items():
        place = drawings.place_of(index, BIN)
        places[place] = places.get(place, 0.0) + count / given.n
    return places


@dataclass(frozen=True, slots=True)
class Failing:
    """A kind of failure of a request (or step) on both sides: how many, and of how many exchanges."""

    name: str
    kind: str
    a: int
    b: int
    of_a: int
    of_b: int


def failing(sides: Mapping[str, Sequence[Run]]) -> list[Failing]:
    """What failed in the measured parts, the most frequent first."""
    counts: dict[tuple[str, str], dict[str, int]] = {}
    every: dict[str, dict[str, int]] = {}
    for side, runs in sides.items():
        for run in runs:
            for row in (run.outcome or {}).get("rows", []):
                if row.get("level") not in ("request", "item", "repeat"):
                    continue
                name = row.get("name", "")
                of = every.setdefault(name, {})
                of[side] = of.get(side, 0) + row.get("count", 0)
                for kind, count in (row.get("kinds") or {}).items():
                    here = counts.setdefault((name, kind), {})
                    here[side] = here.get(side, 0) + count
    made = [
        Failing(name, kind, here.get("a", 0), here.get("b", 0), every[name].get("a", 0), every[name].get("b", 0))
        for (name, kind), here in counts.items()
    ]
    return sorted(made, key=lambda each: -(each.a + each.b))[:40]
