"""What is done with a run that is over."""

import uuid

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen.differing import written
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import actions, baselines, queries, reevaluation
from dynamikos.web.runs.views.pages import show
from dynamikos.web.ui.numbers import number


@member_view(get="reader", post="engineer")
def inputs_page(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Everything that a run was made of; by POST a new plan is made of it."""
    found = queries.run(member, pk)
    if request.method == "POST":
        made = actions.plan_of(member, found)
        return redirect("plan", member.project_id, made.pk)
    return render(
        request, "runs/inputs.html", {"run": found, "parts": written(queries.frozen(found))}
    )


@member_view(post="engineer")
def judge_anew(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """With the objectives that the plan has now."""
    reevaluation.judge_anew(member, queries.run(member, pk))
    return redirect("run", member.project_id, pk)


@member_view(post="engineer")
def take_measures(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Measures of servers that come afterwards, from a file or pasted."""
    file, typed = request.FILES.get("file"), request.POST.get("cells", "")
    text = file.read().decode("utf-8", "replace") if file is not None else typed
    try:
        shift = number(request.POST.get("shift") or "0", "Shifted by, s", -604_800, 604_800)
        actions.take_measures(
            member, queries.run(member, pk), request.POST.get("name", ""), text, shift
        )
    except DynamikosError as wrong:
        return show(request, member, pk, "measures", wrong)
    return redirect("run", member.project_id, pk)


@member_view(post="engineer")
def make_baseline(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """What the runs of its plan are held against from now on."""
    found, typed = queries.run(member, pk), request.POST
    try:
        factors = [
            number(typed[name], f"{name} from × its p95", 1, 1000) if typed.get(name) else None
            for name in ("warn", "fail")
        ]
        baselines.accept(member, found, typed.get("why", ""), *factors)
    except DynamikosError as wrong:
        return show(request, member, pk, "baseline", wrong)
    return redirect("run", member.project_id, pk)


@member_view(post="engineer")
def about(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """A run's star, tags and note."""
    found, typed = queries.run(member, pk), request.POST
    try:
        actions.describe(
            member, found, bool(typed.get("star")), typed.get("tags", ""), typed.get("remark", "")
        )
    except DynamikosError as wrong:
        return show(request, member, pk, "about", wrong)
    return redirect("run", member.project_id, pk)


@member_view(post="engineer")
def write_note(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """A run's note, as it is typed into the log."""
    found, text, wrong = queries.run(member, pk), request.POST.get("text", ""), ""
    try:
        actions.describe(member, found, found.is_starred, found.tags, text)
    except DynamikosError as problem:
        wrong = str(problem)
    return render(
        request, "runs/_noted.html", {"wrong": wrong, "typed": text}, status=422 if wrong else 200
    )
