"""Two sides of a comparison laid over one another: their tapes on one run clock, the times of a
step, and failures by kind.
"""

import contextlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from dynamikos.core.comparison import Line, OneRun
from dynamikos.core.comparison.compare import counted
from dynamikos.core.comparison.side import Key
from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import milliseconds
from dynamikos.core.statistics import Histogram
from dynamikos.core.statistics.histogram import bucket_mid_us
from dynamikos.core.telling.drawing import Drawn, drawn, path
from dynamikos.core.telling.model import Lane
from dynamikos.web.runs import comparing, drawings, telling
from dynamikos.web.runs.models import Run

LANES, SERVERS = (
    4,
    4,
)  # users, exchanges, response times, failures; and those of servers that both sides have
BIN = 20  # bins a decade
PERCENTS = (50, 95, 99)


@dataclass(frozen=True, slots=True)
class Over:
    """Both sides as the verdict takes them: of several runs those without doubts; `steps` are what
    both have.
    """

    runs: dict[str, list[Run]]
    steps: dict[Key, str]

    def times(self, key: Key) -> "Times | None":
        """Of one step, by the second."""
        read = {
            name: [comparing.read(run, only=key) for run in runs]
            for name, runs in self.runs.items()
        }
        return times(read, key)


def over(chosen: Sequence[tuple[Run, str]]) -> Over:
    """Of runs with their sides; those that can't be compared are left out."""
    runs: dict[str, list[Run]] = {"a": [], "b": []}
    read: dict[str, list[OneRun]] = {"a": [], "b": []}
    for run, side in chosen:
        if side:
            with contextlib.suppress(DynamikosError):
                read[side].append(comparing.one_run(run))
                runs[side].append(run)
    for name, side_ in read.items():
        those = {id(one) for one in counted(side_)[0]}
        runs[name] = [run for run, one in zip(runs[name], side_, strict=True) if id(one) in those]
        read[name] = [one for one in side_ if id(one) in those]
    there = {key for one in read["b"] for key, line in one.lines.items() if line.n}
    steps = {key: line.name for one in read["a"] for key, line in one.lines.items()
             if key[0] == "step" and line.n and key in there}  # fmt: skip
    return Over(runs, steps)


def step_named(steps: Iterable[Key], text: str) -> Key | None:
    """That which an address names as journey/step."""
    asked = tuple(text.split("/", 1))
    return next((each for each in steps if each[1:3] == asked), None)


def tapes(sides: Mapping[str, Sequence[Run]]) -> list[tuple[Drawn, list[str]]]:
    """Lanes with the lines of all runs, and of which side each line is."""
    every = {(name, run): telling.lanes(run) for name, runs in sides.items() for run in runs}
    if not every:
        return []
    seconds = max(
        (len(values) for lanes in every.values() for _, values in lanes[0].lines), default=1
    )
    first = next(iter(every.values()))
    titles = [each.title for each in first[:LANES]]
    of_servers = [each.title for each in first[LANES:]]
    titles += [
        each
        for each in of_servers
        if all(any(lane.title == each for lane in lanes[LANES:]) for lanes in every.values())
    ][:SERVERS]
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
    """The times of a step on both sides, on one logarithmic axis: outlines of how often, and how
    many were no longer; percentiles of each side as (x, name, text), marks of the axis.
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
    axis = drawings.axis_of(drawings.SPREAD_WIDTH, *whole.values())
    height = drawings.SPREAD_HEIGHT
    bins = {side: _bins(each) for side, each in whole.items()}
    most = max(max(each.values()) for each in bins.values())
    outlines, sums, percents = [], [], []
    for side, shares in bins.items():
        line: list[tuple[float, float] | None] = []
        for place in range(min(shares), max(shares) + 1):
            y = height * (1 - shares.get(place, 0.0) / most)
            line += [(axis.at(10 ** (place / BIN)), y), (axis.at(10 ** ((place + 1) / BIN)), y)]
        outlines.append((side, path(line)))
        below, n = 0, whole[side].n
        upward: list[tuple[float, float] | None] = [(0.0, height)]
        for index in sorted(whole[side].counts):
            below += whole[side].counts[index]
            upward.append((axis.at(bucket_mid_us(index) / 1000), height * (1 - below / n)))
        sums.append((side, path(upward[:: max(1, len(upward) // 200)])))
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
    """A kind of failure of a request (or step) on both sides: how many, and of how many
    exchanges.
    """

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
        Failing(
            name,
            kind,
            here.get("a", 0),
            here.get("b", 0),
            every[name].get("a", 0),
            every[name].get("b", 0),
        )
        for (name, kind), here in counts.items()
    ]
    return sorted(made, key=lambda each: -(each.a + each.b))[:40]
