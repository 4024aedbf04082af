"""Runs side by side: whether one side is worse than the other."""

from dataclasses import dataclass
from urllib.parse import urlencode

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from dynamikos.core.comparison import Comparison, Difference, OneRun, compare
from dynamikos.core.comparison.trend import MEASURES
from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen.differing import differing
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import baselines, comparing, overlays, queries, trend
from dynamikos.web.runs.drawings import Between, between
from dynamikos.web.runs.models import Run


@dataclass(frozen=True, slots=True)
class Chosen:
    """A run and the side that it is on: a, b, or "" for neither; `problem` says why it can't be
    compared.
    """

    run: Run
    side: str
    problem: str = ""


@dataclass(frozen=True, slots=True)
class Shown:
    """A difference, its interval as a drawing, and what its figures are multiplied with to be shown
    in `unit`.
    """

    each: Difference
    drawn: Between | None
    unit: str
    times: float
    points: str


@member_view(get="reader")
def compare_runs(request: HttpRequest, member: Membership) -> HttpResponse:
    """What is chosen stands in the address (run=… of all, a=… and b=… of the sides), so that it can
    be passed on.
    """
    wrong = ""
    try:
        tolerated = comparing.tolerated(request.GET)
    except DynamikosError as problem:
        tolerated, wrong = None, str(problem)
    chosen = _chosen(request, member)
    sides: dict[str, list[tuple[Run, OneRun]]] = {"a": [], "b": []}
    every = [each.run for each in chosen if each.side]
    for at, each in enumerate(chosen):
        try:
            if each.side:
                sides[each.side].append((each.run, comparing.one_run(each.run, every)))
        except DynamikosError as problem:
            chosen[at] = Chosen(each.run, each.side, str(problem))
    found, changed = None, list[str]()
    if sides["a"] and sides["b"]:
        found = compare(
            [one for _, one in sides["a"]],
            [one for _, one in sides["b"]],
            tolerated / 100 if tolerated else None,
            comparing.history(sides["a"][0][0].plan_id, every),
        )
        first, last = (queries.frozen(sides[name][0][0]) for name in "ab")
        changed = differing(first, last)
    context = {
        "chosen": chosen,
        "found": found,
        "changed": changed,
        "tolerated": tolerated or "",
        "typed": request.GET.get("tolerate", ""),
        "wrong": wrong,
        "family": _shown(found, found.differences) if found else [],
        "others": _shown(found, found.others) if found else [],
        "asked": request.GET.urlencode(),
        "pinned": urlencode(
            [(each.side, each.run.pk) for each in chosen if each.side]
            + ([("tolerate", tolerated)] if tolerated else [])
        ),
    }
    return render(request, "runs/compare.html", context, status=422 if wrong else 200)


@member_view(get="reader")
def laid_over(request: HttpRequest, member: Membership) -> HttpResponse:
    """Both sides laid over one another: their tapes, the times of one step (key=journey/step), and
    what failed.
    """
    chosen = comparing.chosen(queries.runs(member), request.GET)
    found = overlays.over(chosen)
    key = overlays.step_named(found.steps, request.GET.get("key", "")) or next(
        iter(found.steps), None
    )
    pinned = [(side, run.pk) for run, side in chosen if side]
    context = {
        "tapes": overlays.tapes(found.runs) if found.steps else [],
        "times": found.times(key) if key is not None else None,
        "steps": [(f"{each[1]}/{each[2]}", name) for each, name in found.steps.items()],
        "key": f"{key[1]}/{key[2]}" if key is not None else "",
        "failing": overlays.failing(found.runs),
        "pinned": urlencode(pinned),
        "keeps": [
            (name, value)
            for name in ("run", "a", "b", "tolerate")
            for value in request.GET.getlist(name)
        ],
    }
    return render(request, "runs/_laid_over.html", context)


@member_view(get="reader")
def trends(request: HttpRequest, member: Membership) -> HttpResponse:
    """The runs of a plan (plan=…), or those that are chosen (run=…), as they follow each other."""
    measure = request.GET.get("measure", "")
    measure = measure if measure in MEASURES else MEASURES[0]
    every = queries.runs(member)
    shown, plan, whose, is_chosen = trend.asked(every, request.GET)
    baseline = baselines.current(whose)
    lines = trend.drawn(
        shown,
        measure,
        list(baseline.runs.all()) if baseline is not None else [],
        trend.goals(whose),
    )
    whom = (
        [("run", str(each.pk)) for each in shown]
        if is_chosen
        else [("plan", str(plan.pk) if plan else "")]
    )
    context = {
        "lines": lines,
        "runs": shown,
        "kept": sum(bool(each.figures) for each in shown),
        "plan": plan,
        "plans": trend.plans(every),
        "chosen": [each.pk for each in shown] if is_chosen else [],
        "asked": urlencode([*whom, ("measure", measure)]),
        "measure": measure,
        "measures": MEASURES,
        "unit": trend.UNITS.get(measure, "ms"),
        "changes": [(line, each) for line in lines for each in line.changes],
        "baseline": baseline,
    }
    return render(request, "runs/trend.html", context)


def _chosen(request: HttpRequest, member: Membership) -> list[Chosen]:
    return [Chosen(run, side) for run, side in comparing.chosen(queries.runs(member), request.GET)]


def _shown(found: Comparison, differences: list[Difference]) -> list[Shown]:
    made = []
    for share in (False, True):
        every = [each for each in differences if each.wanted.is_share == share]
        most = max(
            (abs(end) for each in every for end in (each.low, each.high) if end is not None),
            default=0.0,
        )
        allowed = found.tolerated / 10 if share else found.tolerated
        most = min(max(most, 2 * allowed), 0.2 if share else 2.0)
        for each in every:
            unit = "%" if share else "/s" if each.wanted.measure == "throughput" else "ms"
            drawn = between(each.low, each.change, each.high, allowed, most)
            made.append(Shown(each, drawn, unit, 100 if share else 1, "points" if share else "%"))
    order = {id(each): at for at, each in enumerate(differences)}
    return sorted(made, key=lambda shown: order[id(shown.each)])
