"""Chosen runs go into the archive, come back, are deleted, or are taken for one."""

from urllib.parse import urlencode

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from dynamikos.core.errors import DynamikosError
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import keeping, queries, sets
from dynamikos.web.runs.comparing import ids_of

MOST = 200


@member_view(get="engineer", post="engineer")
def put_away(request: HttpRequest, member: Membership) -> HttpResponse:
    """What is chosen stands in the address (run=…); by POST it is done what was pressed."""
    asked = ids_of(request.GET.getlist("run") or request.POST.getlist("run"), MOST)
    runs = list(queries.runs(member).filter(pk__in=asked).order_by("number"))
    wrong = ""
    if request.method == "POST" and runs:
        what = request.POST.get("do", "")
        try:
            if what == "delete":
                keeping.delete(member, runs, request.POST.get("sure", ""))
            elif what in ("archive", "back"):
                keeping.archive(member, runs, back=what == "back")
            return redirect(reverse("runs", args=[member.project_id]))
        except DynamikosError as problem:
            wrong = str(problem)
    context = {
        "runs": runs,
        "wrong": wrong,
        "typed": request.POST.get("sure", ""),
        "numbers": ", ".join(str(each.number) for each in runs),
        "any_archived": any(each.is_archived for each in runs),
        "any_there": any(not each.is_archived for each in runs),
        "baselines": [each.number for each in runs if each.baselines.exists()],
        "chosen": urlencode([("run", each.pk) for each in runs]),
    }
    return render(request, "runs/away.html", context, status=422 if wrong else 200)


@member_view(get="engineer", post="engineer")
def as_set(request: HttpRequest, member: Membership) -> HttpResponse:
    """What is chosen stands in the address (run=…); by POST it becomes a set, or leaves its own."""
    asked = ids_of(request.GET.getlist("run"), MOST)
    runs = list(queries.runs(member).filter(pk__in=asked).order_by("number"))
    wrong = ""
    if request.method == "POST" and runs:
        try:
            if request.POST.get("do") == "leave":
                sets.leave(member, runs)
            else:
                sets.make(member, runs)
            return redirect(reverse("runs", args=[member.project_id]))
        except DynamikosError as problem:
            wrong = str(problem)
    context = {
        "runs": runs,
        "whole": sets.set_of(runs) if runs else [],
        "why_not": sets.in_the_way(runs),
        "wrong": wrong,
        "chosen": urlencode([("run", each.pk) for each in runs]),
    }
    return render(request, "runs/set.html", context, status=422 if wrong else 200)
