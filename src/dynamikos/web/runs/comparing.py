"""Runs of the database as they are compared."""

import uuid
from collections.abc import Iterable, Mapping, Sequence

import msgspec
import numpy as np
from django.db.models import QuerySet
from django.http import QueryDict

from dynamikos.core.comparison import AnyLine, Figure, History, OneRun, figures_of, lines_of
from dynamikos.core.comparison.side import COMPARED, Cells, Key, mix_of
from dynamikos.core.comparison.trend import MEASURES
from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen import FrozenRun, Series
from dynamikos.web.runs import queries, reading
from dynamikos.web.runs.models import Run
from dynamikos.web.ui.numbers import number

MOST = 12  # runs at once
MOST_EARLIER = 200  # runs of earlier sets that tell what runs of a plan differ by
FINE_S = 900  # runs that are longer are taken by minutes, which are many enough


def ids_of(texts: Sequence[str], most: int = MOST) -> list[uuid.UUID]:
    """Those that are ids."""
    made = []
    for each in texts[:most]:
        try:
            made.append(uuid.UUID(each))
        except ValueError:
            continue
    return made


def chosen(runs: QuerySet[Run], given: QueryDict) -> list[tuple[Run, str]]:
    """The runs that an address names (run=… of all, a=… and b=… of the sides) with their side, ""
    for neither; the oldest first. Where no side is named the newer half is b.
    """
    named = {name: ids_of(given.getlist(name)) for name in ("a", "b", "run")}
    every = list(
        runs.filter(pk__in=[each for ids in named.values() for each in ids]).order_by("number")[
            :MOST
        ]
    )
    sides = {pk: name for name in ("a", "b") for pk in named[name]}
    if not sides:
        half = len(every) // 2
        sides = {
            run.pk: "a" if at < half or len(every) == 1 else "b" for at, run in enumerate(every)
        }
    return [(run, sides.get(run.pk, "")) for run in every]


def tolerated(given: QueryDict) -> float | None:
    """In percent; None where it is not said. Raises DynamikosError for what is no number."""
    typed = given.get("tolerate")
    return number(typed, "Tolerated worsening (%)", 0.1, 1000) if typed else None


def one_run(found: Run, others: Iterable[Run] = ()) -> OneRun:
    """With the figures that were kept once it was over; of an earlier day, or where objectives (of
    `others` that it is compared with, too) ask for what is not kept, read. Raises DynamikosError
    for one that is not over, or of which nothing came.
    """
    inputs, begin, end = _part(found)
    try:
        kept = msgspec.convert(found.figures or [], list[Figure])
    except msgspec.ValidationError:
        kept = []
    lines = lines_of(kept) if all(each.is_of_today for each in kept) else {}
    every = [inputs, *(queries.frozen(each) for each in others if each.pk != found.pk)]
    wanted = {goal for each in every for goal in each.plan.objectives if goal.probe is None}
    percentiles = {goal.measure for goal in wanted if goal.percent is not None}
    requests = {
        (goal.journey, goal.step, goal.request) for goal in wanted if goal.level == "request"
    }
    own = {
        (goal.journey, goal.step, goal.request)
        for goal in inputs.plan.objectives
        if goal.level == "request"
    }
    if not lines or percentiles - set(MEASURES) or requests - own:
        return read(found, requests)
    return _one_run(found, inputs, lines, end - begin)


def _part(found: Run) -> tuple[FrozenRun, int, int]:
    """What it was made of, and its measured part."""
    inputs = queries.as_run(found, queries.frozen(found))
    if not found.is_over or found.watermark < 0:
        raise DynamikosError(
            f"Run {found.number} is not over, or nothing came of it; it can't be compared."
        )
    begin, end = int(inputs.measured[0]), min(int(inputs.measured[1]), found.watermark + 1)
    if end <= begin:
        raise DynamikosError(
            f"Run {found.number} ended before its measured part; there is nothing to compare."
        )
    return inputs, begin, end


Asked = tuple[str | None, str | None, str | None]  # journey, step, request


def read(found: Run, requests: Iterable[Asked] = (), only: Key | None = None) -> OneRun:
    """With its steps second by second, or `only` one of them, and those requests that its own
    objectives are about or that are asked for. Raises DynamikosError as `one_run` does.
    """
    inputs, begin, end = _part(found)
    own = (
        (each.journey, each.step, each.request)
        for each in inputs.plan.objectives
        if each.level == "request"
    )
    asked = {(journey, step) for journey, step, _ in (*own, *requests)}
    series = [
        each
        for each in reading.shown_series(inputs)
        if each.level in COMPARED and _is_asked(each, asked)
    ]
    if only is not None:
        series = [each for each in series if _key(each) == only]
    seconds = end - begin
    unit = 1 if seconds <= FINE_S else 60
    begin, end = -(-begin // unit) * unit, end // unit * unit  # whole minutes of the measured part
    cells = {each.no: Cells(max(1, (end - begin) // unit), unit) for each in series}
    told = reading.fine_parts if unit == 1 else reading.minutes
    for second, part in told(found, list(cells), begin, end):
        at = (second - begin) // unit
        if 0 <= at < (end - begin) // unit:
            cells[part.no].add(at, part)
    names = queries.names_of_steps(inputs)
    lines = {_key(each): cells[each.no].line(_called(each, names)) for each in series}
    return _one_run(found, inputs, lines, seconds)


def _key(series: Series) -> Key:
    return series.level, series.journey, series.step, series.request


def _one_run(found: Run, inputs: FrozenRun, lines: Mapping[Key, AnyLine], seconds: int) -> OneRun:
    doubts: Sequence[str] = (found.outcome or {}).get("doubts") or []
    if queries.changes_of(found):
        doubts = [*doubts, "its load was changed while it ran"]
    mix = mix_of((found.outcome or {}).get("crowd") or [])
    lost = (found.outcome or {}).get("lost") or []
    return OneRun(
        name=f"run {found.number}",
        lines=lines,
        seconds=seconds,
        plan=inputs.plan.plan,
        doubts=doubts,
        lost=f"its generator {', '.join(lost)} was lost" if lost else "",
        objectives=inputs.plan.objectives,
        mix=mix,
    )


def history(plan: uuid.UUID | None, without: Iterable[Run] = ()) -> list[History]:
    """What runs of one build of a plan differed by: of each of its sets that are over, the mean
    over steps of the variance of the logarithm of the mean time between its runs, and of its error²
    within them.
    """
    if plan is None:
        return []
    made = (_between(runs) for runs in _means_of_sets(plan, without).values())
    return [each for each in made if each is not None]


Means = dict[tuple[str, str], Figure]  # by journey and step: its mean time


def _means_of_sets(plan: uuid.UUID, without: Iterable[Run]) -> dict[uuid.UUID, list[Means]]:
    """Of each run, by the set it is of; `without` those of some runs."""
    left_out = {each.of_set for each in without if each.of_set is not None}
    sets: dict[uuid.UUID, list[Means]] = {}
    ended = Run.objects.filter(
        plan=plan, of_set__isnull=False, state=Run.State.ENDED, is_trial=False
    )
    newest = ended.exclude(of_set__in=left_out).only("of_set", "figures").order_by("-number")
    for each in newest[:MOST_EARLIER]:
        try:
            kept = msgspec.convert(each.figures or [], list[Figure])
        except msgspec.ValidationError:
            continue
        steps = (one for one in kept if one.level == "step" and one.measure == "mean")
        if each.of_set is not None:
            sets.setdefault(each.of_set, []).append({(o.journey, o.step): o for o in steps})
    return sets


def _between(runs: Sequence[Means]) -> History | None:
    """Of one set; None where it says nothing."""
    if len(runs) < 2:
        return None
    between, within = [], []
    for key in set.intersection(*(set(each) for each in runs)):
        every = [each[key] for each in runs]
        if all(one.value > 0 and one.spread is not None for one in every):
            between.append(float(np.log([one.value for one in every]).var(ddof=1)))
            within.append(float(np.mean([(one.spread or 0.0) ** 2 for one in every])))
    if not between:
        return None
    return History(float(np.mean(between)), float(np.mean(within)), len(runs))


def figures(found: Run) -> list[Figure]:
    """What a trend is made of; nothing of one that can't be compared."""
    try:
        return figures_of(read(found))
    except DynamikosError:
        return []


def _called(series: Series, names: Mapping[str, Mapping[str, str]]) -> str:
    step = names.get(series.journey, {}).get(series.step, series.step)
    return f"{step} / {series.request}" if series.level == "request" else step


def _is_asked(series: Series, asked: set[tuple[str | None, str | None]]) -> bool:
    """Steps, and those requests that objectives are about."""
    if series.level == "step":
        return True
    return any(
        journey in (None, series.journey) and step in (None, series.step) for journey, step in asked
    )
