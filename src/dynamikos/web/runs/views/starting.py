"""Before a start: what is looked at, what is asked for, and the start itself."""

import uuid
from collections.abc import Mapping
from typing import Any

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from dynamikos.core.errors import DynamikosError
from dynamikos.core.lifecycles import RUN, going
from dynamikos.core.objectives import Objective
from dynamikos.core.plans.preflight import Finding
from dynamikos.core.plans.trial import trial_of
from dynamikos.web.datasets.queries import datasets
from dynamikos.web.journeys.queries import journeys
from dynamikos.web.plans import queries as plans
from dynamikos.web.plans.actions import add_objective
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import actions, preflight, queries, start_overrides
from dynamikos.web.ui.numbers import number, whole

MOST_SHOWN = 500  # measures of a probe on its page
PROBE_MEASURES = ("mean", "max", "p50", "p95", "p99")


@member_view(post="engineer")
def start(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Looks at everything first: what stands in the way, and what somebody who is not sure is to be
    asked, is shown.
    """
    plan, typed = plans.plan(member, pk), request.POST
    environment, trial = typed.get("environment", ""), bool(typed.get("trial"))
    try:
        core, otherwise = start_overrides.asked(plan, typed)
    except DynamikosError as wrong:
        return _refused(request, member, plan, wrong)
    looked = preflight.look(member, plan, trial_of(core) if trial else core, environment)
    if looked.stands_in_the_way or (looked.asks and not typed.get("sure") and not trial):
        status = 422 if looked.stands_in_the_way else 200
        return render(
            request,
            "runs/preflight.html",
            _preflight(member, plan, looked, environment, typed),
            status=status,
        )
    remark = "\n".join(filter(None, (otherwise, typed.get("remark", ""))))
    made = actions.start(
        member,
        plan,
        core,
        environment=environment,
        trial=trial,
        name=typed.get("name", ""),
        remark=remark,
    )
    return redirect("run", member.project_id, made.pk)


@member_view(post="engineer")
def before_start(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Everything that is looked at before a start, without starting."""
    plan, environment = plans.plan(member, pk), request.POST.get("environment", "")
    try:
        core, _ = start_overrides.asked(plan, request.POST)
    except DynamikosError as wrong:
        return _refused(request, member, plan, wrong)
    looked = preflight.look(member, plan, core, environment)
    return render(
        request, "runs/preflight.html", _preflight(member, plan, looked, environment, request.POST)
    )


def _refused(
    request: HttpRequest, member: Membership, plan: LoadPlan, wrong: DynamikosError
) -> HttpResponse:
    """What was asked for one start can't be read: it stays where it was typed."""
    looked = preflight.Looked(
        [Finding("Otherwise for this start", "blocker", str(wrong), "Mend it below")], 0.0
    )
    context = _preflight(member, plan, looked, request.POST.get("environment", ""), request.POST)
    return render(request, "runs/preflight.html", context, status=422)


@member_view(post="engineer")
def try_probe(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """A probe of the plan is read twice, by who reads those of runs."""
    plan, key = plans.plan(member, pk), request.POST.get("probe", "")
    probe = next((each for each in plans.content(plan).probes if each.probe == key), None)
    if probe is None:
        raise DynamikosError(f"The probe '{key}' is not in the plan; look at its page again.")
    told = preflight.tried(member, plan, key)
    context = {
        "plan": plan,
        "probe": probe,
        "problem": told.problem,
        "unkept": told.unkept,
        "count": len(told.values),
        "values": told.values[:MOST_SHOWN],
        "more": max(0, len(told.values) - MOST_SHOWN),
        "measures": PROBE_MEASURES,
    }
    return render(request, "runs/probe.html", context, status=422 if told.problem else 200)


@member_view(post="engineer")
def objective_of_probe(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """What a probe tells becomes an objective of the plan."""
    plan, asked = plans.plan(member, pk), request.POST
    limit = number(asked.get("limit", ""), f"The limit of {asked.get('reading', '')[:80]}", 0, 1e15)
    measure = asked.get("measure", "")
    if measure not in PROBE_MEASURES:
        raise DynamikosError(
            f"“{measure[:40]}” is no measure of what a probe tells; take one of the page."
        )
    made = Objective(
        objective=f"{measure} {asked.get('reading', '')}"[:60],
        measure=measure,
        limit=limit,
        at_least=asked.get("side") == "at least",
        probe=asked.get("probe", ""),
        reading=asked.get("reading", ""),
    )
    add_objective(member, plan, made)
    return redirect("plan", member.project_id, plan.pk)


def _preflight(
    member: Membership,
    plan: LoadPlan,
    looked: preflight.Looked,
    environment: str,
    typed: Mapping[str, str],
) -> dict[str, Any]:
    try:
        otherwise = start_overrides.asked(plan, typed)[1]
    except DynamikosError:
        otherwise = ""
    places = {
        "plan": reverse("plan", args=[member.project_id, plan.pk]),
        "settings": reverse("settings", args=[member.project_id]),
        **{
            f"journey:{each.key}": reverse("journey", args=[member.project_id, each.pk])
            for each in journeys(member)
        },
        **{
            f"data:{each.key}": reverse("dataset", args=[member.project_id, each.pk])
            for each in datasets(member)
        },
        **{
            f"run:{each.number}": reverse("run", args=[member.project_id, each.pk])
            for each in queries.runs(member).filter(state__in=going(RUN))
        },
    }
    return {
        "plan": plan,
        "environment": environment,
        "looked": looked,
        "typed": typed,
        "core": plans.content(plan),
        "otherwise": otherwise,
        "kept": [
            (name, typed[name])
            for name in (*start_overrides.FIELDS, "name", "remark")
            if typed.get(name)
        ],
        "can_measure": bool(settings.PRACTICE),
        "findings": [(each, places.get(each.place, "")) for each in looked.findings],
        "blockers": sum(each.level == "blocker" for each in looked.findings),
        "warnings": sum(each.level == "warning" for each in looked.findings),
    }


@member_view(get="engineer", post="engineer")
def quick(request: HttpRequest, member: Membership) -> HttpResponse:
    """A run of one address alone."""
    typed = {
        name: request.POST.get(name, "").strip() for name in ("address", "how", "many", "seconds")
    }
    if request.method != "POST":
        return render(
            request, "runs/quick.html", {"typed": {"how": "users", "many": "10", "seconds": "60"}}
        )
    try:
        seconds = number(typed["seconds"], "For how long, in seconds", 1, 604_800)
        if typed["how"] == "arrivals":
            load = {"arrivals_per_s": number(typed["many"], "Arrivals a second", 0, 100_000)}
        else:
            load = {"users": whole(typed["many"], "Users", 1, 1_000_000)}
        made = actions.start_quickly(member, typed["address"], seconds, **load)  # type: ignore[arg-type]
    except DynamikosError as problem:
        return render(
            request, "runs/quick.html", {"typed": typed, "problem": str(problem)}, status=422
        )
    return redirect("run", member.project_id, made.pk)


@member_view(post="engineer")
def measure(request: HttpRequest, member: Membership) -> HttpResponse:
    """What a generator carries, by a short run against the practice target."""
    return redirect("run", member.project_id, actions.measure(member).pk)
