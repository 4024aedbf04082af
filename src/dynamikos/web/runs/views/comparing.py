"""Runs side by side: whether one side is worse than the other."""

import uuid
from dataclasses import dataclass

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from dynamikos.core.comparison import Comparison, Difference, OneRun, compare
from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen.differing import differing
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import comparing, queries
from dynamikos.web.runs.drawings import Between, between
from dynamikos.web.runs.models import Run
from dynamikos.web.ui.numbers import number

MOST = 12  # runs at once


@dataclass(frozen=True, slots=True)
class Chosen:
    """A run and the side that it is on: a, b, or "" for neither; `problem` says why it can't be compared."""

    run: Run
    side: str
    problem: str = ""


@dataclass(frozen=True, slots=True)
class Shown:
    """A difference, its interval as a drawing, and what its figures are multiplied with to be shown in `unit`."""

    each: Difference
    drawn: Between | None
    unit: str
    times: float
    points: str


@member_view(get="reader")
def compare_runs(request: HttpRequest, member: Membership) -> HttpResponse:
    """What is chosen stands in the address (run=… of all, a=… and b=… of the sides), so that it can be passed on."""
    wrong = ""
    try:
        tolerated = number(request.GET.get("tolerate") or "10", "Tolerated worsening, %", 0.1, 1000)
    except DynamikosError as problem:
        tolerated, wrong = 10.0, str(problem)
    chosen = _chosen(request, member)
    sides: dict[str, list[tuple[Run, OneRun]]] = {"a": [], "b": []}
    for at, each in enumerate(chosen):
        try:
            if each.side:
                sides[each.side].append((each.run, comparing.one_run(each.run)))
        except DynamikosError as problem:
            chosen[at] = Chosen(each.run, each.side, str(problem))
    found, changed = None, list[str]()
    if sides["a"] and sides["b"]:
        found = compare([one for _, one in sides["a"]], [one for _, one in sides["b"]], tolerated / 100)
        first, last = (queries.frozen(sides[name][0][0]) for name in "ab")
        changed = differing(first, last)
    context = {
        "chosen": chosen,
        "found": found,
        "changed": changed,
        "tolerated": tolerated,
        "typed": request.GET.get("tolerate", ""),
        "wrong": wrong,
        "family": _shown(found, found.differences) if found else [],
        "others": _shown(found, found.others) if found else [],
    }
    return render(request, "runs/compare.html", context, status=422 if wrong else 200)


def _chosen(request: HttpRequest, member: Membership) -> list[Chosen]:
    """The runs that are asked for, the oldest first. Of those without a side the newer half is b."""
    given = {name: _ids(request.GET.getlist(name)) for name in ("a", "b", "run")}
    every = [each for ids in given.values() for each in ids]
    runs = list(queries.runs(member).filter(pk__in=every).order_by("number")[:MOST])
    sides = {pk: name for name in ("a", "b") for pk in given[name]}
    if not sides:
        half = len(runs) // 2
        sides = {run.pk: "a" if at < half or len(runs) == 1 else "b" for at, run in enumerate(runs)}
    return [Chosen(run, sides.get(run.pk, "")) for run in runs]


def _ids(texts: list[str]) -> list[uuid.UUID]:
    made = []
    for each in texts[:MOST]:
        try:
            made.append(uuid.UUID(each))
        except ValueError:
            continue
    return made


def _shown(found: Comparison, differences: list[Difference]) -> list[Shown]:
    made = []
    for share in (False, True):
        every = [each for each in differences if each.wanted.is_share == share]
        most = max((abs(end) for each in every for end in (each.low, each.high) if end is not None), default=0.0)
        allowed = found.tolerated / 10 if share else found.tolerated
        most = min(max(most, 2 * allowed), 0.2 if share else 2.0)
        for each in every:
            unit = "%" if share else "/s" if each.wanted.measure == "throughput" else "ms"
            drawn = between(each.low, each.change, each.high, allowed, most)
            made.append(Shown(each, drawn, unit, 100 if share else 1, "points" if share else "%"))
    order = {id(each): at for at, each in enumerate(differences)}
    return sorted(made, key=lambda shown: order[id(shown.each)])
