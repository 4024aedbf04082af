import uuid
from collections.abc import Iterator, Mapping

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Journey
from dynamikos.core.plans import Plan, Timeouts, plan_problems
from dynamikos.core.plans.crowds import measured_of, run_ends_s
from dynamikos.core.profiles import UNIT_S
from dynamikos.web.environments.queries import environments
from dynamikos.web.journeys import queries as journeys
from dynamikos.web.plans import actions, crowd_fields, crowds, forms, queries
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import Stale, token


@member_view(get="reader", post="engineer")
def plans(request: HttpRequest, member: Membership) -> HttpResponse:
    if request.method == "POST":
        journey = journeys.journeys(member).filter(key=request.POST.get("journey", "")).first()
        if journey is None:
            raise DynamikosError("Choose a journey that the plan performs; make one under Journeys first.")
        made = actions.create(member, journey, request.POST.get("name", ""))
        return redirect("plan", member.project_id, made.pk)
    rows = [_row(found) for found in queries.plans(member)]
    return render(request, "plans/list.html", {"rows": rows, "journeys": journeys.journeys(member)})


def _row(found: LoadPlan) -> dict[str, object]:
    """A plan in the list; one that can't be read is shown as such, beside the others."""
    try:
        core = queries.content(found)
        follows = queries.follows(found, core)
    except DynamikosError as problem:
        return {"plan": found, "problem": str(problem)}
    return {"plan": found, "core": core, "users": follows.users if follows else None, "follows": follows}


def _scopes(core: Plan, scripts: Mapping[str, Journey]) -> Iterator[tuple[str, str]]:
    """(value, words) of all that an objective can be about, besides all steps."""
    rows = [row for crowd in core.everybody() for row in crowd.rows]
    if len(rows) > 1:
        yield from ((f"row={row.row}", f"all of {row.name or row.row}") for row in rows)
    for key, script in scripts.items():
        for _, step in script.steps():
            if len(scripts) == 1:
                yield step.step, step.name
            else:
                yield f"{key}/{step.step}", f"{script.name}: {step.name}"


def _context(member: Membership, found: LoadPlan) -> dict[str, object]:
    core = queries.content(found)
    here = queries.journeys_of(found, core)
    scripts = queries.scripts_of(found, core)
    problems = [
        f"The journey '{key}' is not in this project any more; choose another."
        for key, journey in here.items()
        if journey is None
    ] or plan_problems(core, scripts)
    known = environments(member)
    lost = core.environment not in {each.key for each in known}
    if lost:
        problems = [*problems, f"The environment '{core.environment}' is not in this project any more; choose another."]
    follows = queries.follows(found, core)
    ends_s = run_ends_s(core.everybody())
    there = {key: journey for key, journey in here.items() if journey is not None}
    times = queries.rounds_s(there, scripts, core)
    every = crowds.shown(core, times, {key: each.name for key, each in there.items()})
    return {
        "lost_environment": lost,
        "plan": found,
        "core": core,
        "crowds": every,
        "workloads": crowd_fields.WORKLOADS,
        "stretches": crowd_fields.STRETCHES,
        "leavings": crowd_fields.LEAVING,
        "units": tuple(UNIT_S),
        "journey_keys": set(there),
        "suggested": measured_of(core.everybody()),
        "token": token(found.head),
        "drawings": [(each, queries.drawing(each.crowd, core.measured_s, ends_s, each.layers)) for each in every],
        "problems": problems,
        "follows": follows,
        "data_follows": queries.data_follows(found, core, scripts, times) if follows else [],
        "journeys": journeys.journeys(member),
        "environments": known,
        "measures": forms.MEASURES,
        "scopes": (scopes := list(_scopes(core, scripts))),
        "scope_keys": {value for value, _ in scopes},
        "objectives": [(each, forms.scope_of(each)) for each in core.objectives],
        "usual_timeouts": Timeouts(),
        "timeouts": [(name, title, getattr(core.timeouts, name)) for name, title in forms.TIMEOUTS],
        "can_undo": bool(found.head and found.head.parent_id),
    }


@member_view(get="reader", post="engineer")
def plan(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found = queries.plan(member, pk)
    problem, status = "", 200
    if request.method == "POST":
        try:
            changes = forms.changes(request.POST, queries.content(found))
            found = actions.change(member, found, request.POST.get("parent", ""), **changes)
        except Stale as stale:
            problem, status = str(stale), 409
        except DynamikosError as wrong:
            problem, status = str(wrong), 422
        context = _context(member, found)
        typed = (
            {key: values for key, values in request.POST.lists() if key not in ("parent", "csrfmiddlewaretoken")}
            if problem
            else {}
        )
        if request.POST.get("another") and not problem:
            answer = HttpResponse()
            answer["HX-Refresh"] = "true"
            return answer
        return render(
            request, "plans/_plan.html", {**context, "problem": problem, "typed": typed, "swap": True}, status=status
        )
    return render(request, "plans/plan.html", _context(member, found))


@member_view(post="engineer")
def undo(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    actions.undo(queries.plan(member, pk))
    return redirect("plan", member.project_id, pk)


@member_view(post="engineer")
def delete(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    actions.delete(member, queries.plan(member, pk), request.POST.get("sure", ""))
    return redirect("plans", member.project_id)
