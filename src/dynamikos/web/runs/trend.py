"""The figures of runs as they follow each other, drawn: each step a line of points with their
spread.
"""

import uuid
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import msgspec
from django.db.models import QuerySet
from django.http import QueryDict

from dynamikos.core.comparison import Figure, Turn, turns
from dynamikos.core.comparison.side import SHARES, Key
from dynamikos.core.figures import milliseconds, short, signed
from dynamikos.core.objectives import Objective
from dynamikos.core.telling.drawing import round_up
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.plans.queries import content
from dynamikos.web.runs.comparing import ids_of
from dynamikos.web.runs.models import Run

LEFT, TOP, WIDTH, HEIGHT, FOOT = 60.0, 14.0, 900.0, 84.0, 18.0
SURE = 1.96  # errors that an interval of 95 % reaches
NAMED = 24  # runs that are named along the axis at most


MOST = 200  # runs of one trend


def asked(
    runs: QuerySet[Run], given: QueryDict
) -> tuple[list[Run], LoadPlan | None, uuid.UUID | None, bool]:
    """The runs that an address names (run=…, else those of plan=… that are not archived, else of
    the first plan there is), oldest first; the plan, that whose runs all of them are, and whether
    they were chosen one by one.
    """
    ended = runs.filter(state=Run.State.ENDED, is_trial=False).defer("frozen", "findings", "marks")
    chosen = ids_of(given.getlist("run"), MOST)
    plan = None
    if chosen:
        ended = ended.filter(pk__in=chosen)
    else:
        every = plans(runs)
        plan = next(
            (each for each in every if str(each.pk) == given.get("plan", "")),
            every[0] if every else None,
        )
        ended = ended.filter(plan=plan, is_archived=False) if plan is not None else ended.none()
    shown = list(ended.order_by("-number")[:MOST])[::-1]
    of_one = {each.plan_id for each in shown}
    return shown, plan, next(iter(of_one)) if len(of_one) == 1 else None, bool(chosen)


def plans(runs: QuerySet[Run]) -> list[LoadPlan]:
    """Those that have runs that are over."""
    ended = runs.filter(state=Run.State.ENDED, is_trial=False)
    return list(LoadPlan.objects.filter(runs__in=ended).distinct().order_by("name"))


def goals(plan: uuid.UUID | None) -> Sequence[Objective]:
    """The objectives that a plan has now."""
    found = (
        LoadPlan.objects.filter(pk=plan).select_related("head").first()
        if plan is not None
        else None
    )
    return content(found).objectives if found is not None else ()


@dataclass(frozen=True, slots=True)
class Point:
    """A run's value where it is drawn; `low` and `high` are heights of its interval's ends (None
    without one). One that is not counted has doubts.
    """

    run: Run
    said: str
    x: float
    y: float
    low: float | None
    high: float | None
    is_counted: bool
    is_baseline: bool

    @property
    def title(self) -> str:
        more = ", baseline" if self.is_baseline else ""
        return (
            f"run {self.run.number}: "
            f"{self.said}{more}{'' if self.is_counted else ', not counted: it has doubts'}"
        )


@dataclass(frozen=True, slots=True)
class Change:
    """A change of level: where, and in words."""

    x: float
    said: str
    is_worse: bool
    since: Run

    @property
    def look(self) -> str:
        return "bad" if self.is_worse else "good"


@dataclass(frozen=True, slots=True)
class Drawn:
    """A step's line: levels as paths, heights of limits with their words, marks of both axes."""

    name: str
    points: list[Point]
    levels: list[str]
    changes: list[Change]
    limits: list[tuple[float, str]]
    rows: list[tuple[float, str]]
    columns: list[tuple[float, str]]


def figures(run: Run) -> list[Figure]:
    """What was kept of it, once it was over; none of one of an earlier day, or that can't be
    read.
    """
    try:
        return msgspec.convert(run.figures or [], list[Figure])
    except msgspec.ValidationError:
        return []


UNITS = {"throughput": "/s", "failure-rate": "%"}  # of all others: ms


def said(value: float, measure: str) -> str:
    """A value with its unit."""
    if measure in SHARES:
        return f"{100 * value:.3g} %"
    return f"{short(value)} /s" if measure == "throughput" else milliseconds(value)


def drawn(
    runs: Sequence[Run],
    measure: str,
    baseline: Sequence[Run] = (),
    objectives: Sequence[Objective] = (),
) -> list[Drawn]:
    """A line of each step (or request), in the order of the last run that has it; `runs` are in
    their order.
    """
    every: dict[Key, dict[int, Figure]] = {}
    names: dict[Key, str] = {}
    for at in range(len(runs) - 1, -1, -1):
        for each in figures(runs[at]):
            if each.measure == measure:
                every.setdefault(each.key, {})[at] = each
                names.setdefault(each.key, each.name)
    those = {each.pk for each in baseline}
    return [
        _line(runs, measure, names[key], found, those, _limits(key, measure, objectives))
        for key, found in every.items()
    ]


def _limits(key: Key, measure: str, objectives: Sequence[Objective]) -> list[Objective]:
    level, journey, step, request = key
    return [
        each
        for each in objectives
        if (each.measure, each.level, each.time) == (measure, level, "response")
        and each.row is None
        and each.probe is None
        and each.step in (None, step)
        and each.journey in (None, journey)
        and each.request in (None, request)
    ]


def _doubted(run: Run) -> bool:
    return bool((run.outcome or {}).get("doubts"))


def _line(
    runs: Sequence[Run],
    measure: str,
    name: str,
    found: Mapping[int, Figure],
    baseline: set[uuid.UUID],
    objectives: Sequence[Objective],
) -> Drawn:
    times = 100.0 if measure in SHARES else 1.0  # shares are drawn, and have limits, in percent
    limits = [each.limit / times for each in objectives]
    plot = _Plot(len(runs), _top(found.values(), limits, times))
    points = [
        _point(runs[at], each, plot, at, measure, baseline) for at, each in sorted(found.items())
    ]
    counted = [at for at in sorted(found) if not _doubted(runs[at])]
    told = turns([found[at].value for at in counted], [found[at].error for at in counted], measure)
    every = max(1, -(-len(runs) // NAMED))
    low = [
        (limit, each) for limit, each in zip(limits, objectives, strict=True) if limit <= plot.top
    ]
    return Drawn(
        name=name,
        points=points,
        levels=_levels(counted, told, plot.x, plot.y),
        changes=[_change(each, counted, runs, measure, plot.x) for each in told],
        limits=[(plot.y(limit), f"{_then(each)} {said(limit, measure)}") for limit, each in low],
        rows=[(plot.y(plot.top * p), short(plot.top * p * times)) for p in (0, 0.5, 1)],
        columns=[(plot.x(at), str(run.number)) for at, run in enumerate(runs) if at % every == 0],
    )


class _Plot(NamedTuple):
    """Where runs and values stand in a drawing."""

    runs: int
    top: float

    def x(self, at: float) -> float:
        if self.runs < 2:
            return round((LEFT + WIDTH) / 2, 1)
        return round(LEFT + 12 + (WIDTH - LEFT - 24) / (self.runs - 1) * at, 1)

    def y(self, value: float) -> float:
        return round(TOP + HEIGHT * (1 - min(1.0, max(0.0, value / self.top))), 1)


def _top(figures: Collection[Figure], limits: Sequence[float], times: float) -> float:
    """The largest value that is drawn: limits far above all values are not."""
    ends = [each.value + SURE * (each.error or 0.0) for each in figures]
    near = [each for each in limits if each <= 4 * max(ends)]
    return round_up(max([*ends, *near]) * times) / times


def _point(
    run: Run, figure: Figure, plot: _Plot, at: int, measure: str, baseline: set[uuid.UUID]
) -> Point:
    reach = None if figure.error is None else SURE * figure.error
    return Point(
        run,
        said(figure.value, measure),
        plot.x(at),
        plot.y(figure.value),
        None if reach is None else plot.y(figure.value - reach),
        None if reach is None else plot.y(figure.value + reach),
        not _doubted(run),
        run.pk in baseline,
    )


def _then(objective: Objective) -> str:
    side = "≥" if objective.at_least else "≤"
    return f"warning {side}" if objective.then == "warn" else f"objective {side}"


def _levels(counted: Sequence[int], told: Sequence[Turn], x, y) -> list[str]:  # type: ignore[no-untyped-def]
    """A stroke for each level between changes; none where there is none."""
    edges = [0, *(each.at for each in told), len(counted)]
    heights = [told[0].before, *(each.after for each in told)] if told else []
    return [
        f"M{x(counted[begin])} {y(height)}H{x(counted[end - 1])}"
        for height, begin, end in zip(heights, edges[:-1], edges[1:], strict=True)
    ] if told else []  # fmt: skip


def _change(  # type: ignore[no-untyped-def]
    turn: Turn, counted: Sequence[int], runs: Sequence[Run], measure: str, x
) -> Change:
    before, at = counted[turn.at - 1], counted[turn.at]
    unit = "points" if measure in SHARES else "%"
    is_worse = turn.change < 0 if measure == "throughput" else turn.change > 0
    return Change((x(before) + x(at)) / 2, signed(turn.change, unit), is_worse, runs[at])
