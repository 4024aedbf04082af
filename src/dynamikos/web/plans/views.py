import uuid
from collections.abc import Iterable, Mapping
from functools import cache
from typing import Any

from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.functional import SimpleLazyObject
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits
from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.core.objectives import THENS
from dynamikos.core.plans import Plan, Timeouts, plan_problems, write_plan
from dynamikos.core.plans.crowds import measured_of, run_ends_s
from dynamikos.core.plans.lengths import too_short
from dynamikos.core.plans.mending import WORDS as MENDS
from dynamikos.core.plans.mending import mended
from dynamikos.core.plans.preflight import share_doubts
from dynamikos.core.plans.saying import levels_say
from dynamikos.core.plans.sheet import WHATS, guessed, read_sheet, rows_from
from dynamikos.core.plans.starting import STARTS, WORDS
from dynamikos.core.plans.workloads import UNIT_S
from dynamikos.web.environments.queries import environments
from dynamikos.web.journeys import queries as journeys
from dynamikos.web.journeys.models import Journey
from dynamikos.web.plans import (
    actions,
    crowd_fields,
    crowds,
    forms,
    objective_fields,
    personas,
    probe_fields,
    queries,
    workloads,
)
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.plans.suggesting import sources, suggestions
from dynamikos.web.plans.workloads.users import LEAVING
from dynamikos.web.projects import queries as projects
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import Stale, token
from dynamikos.web.rehearsals.actions import ask as rehearse
from dynamikos.web.rehearsals.actions import check_bare
from dynamikos.web.ui.numbers import number


@member_view(get="reader", post="engineer")
def plans(request: HttpRequest, member: Membership) -> HttpResponse:
    if request.method == "POST":
        journey = journeys.journeys(member).filter(key=request.POST.get("journey", "")).first()
        if journey is None:
            raise DynamikosError(
                "Choose a journey that the plan performs; make one under Journeys first."
            )
        start = request.POST.get("start", "day")
        given = {
            name: number(request.POST.get(f"{start}-{name}", ""), WORDS[name], 0, 1_000_000)
            for each in STARTS
            if each.key == start
            for name, _ in each.asks
            if request.POST.get(f"{start}-{name}")
        }
        made = actions.create(member, journey, request.POST.get("name", ""), start, given)
        return redirect("plan", member.project_id, made.pk)
    rows = [_row(found) for found in queries.plans(member)]
    starts = [
        (each, [(name, WORDS[name], default) for name, default in each.asks]) for each in STARTS
    ]
    return render(
        request,
        "plans/list.html",
        {"rows": rows, "journeys": journeys.journeys(member), "starts": starts},
    )


def _row(found: LoadPlan) -> dict[str, object]:
    """A plan in the list; one that can't be read is shown as such, beside the others."""
    try:
        core = queries.content(found)
        follows = queries.follows_of(found, core)
    except DynamikosError as problem:
        return {"plan": found, "problem": str(problem)}
    return {
        "plan": found,
        "core": core,
        "users": follows.users if follows else None,
        "follows": follows,
    }


def _context(member: Membership, found: LoadPlan, *, all_open: bool = False) -> dict[str, object]:
    core = queries.content(found)
    here = queries.journeys_of(found, core)
    scripts = queries.scripts_of(found, core, here)
    there = {key: journey for key, journey in here.items() if journey is not None}
    follows = queries.follows(core, here, scripts)
    ends_s = run_ends_s(core.everybody())
    times = queries.rounds_s(there, scripts, core)
    every = crowds.shown(core, times, {key: each.name for key, each in there.items()})
    return {
        **_gone(member, core, here, scripts),
        **_objectives(found, core, scripts, all_open=all_open),
        **_choices(member, found),
        "plan": found,
        "core": core,
        "crowds": every,
        "suggested": measured_of(core.everybody()),
        "token": token(found.head),
        "drawings": [
            (each, queries.drawing(each.crowd, core.measured_s, ends_s, each.layers))
            for each in every
        ],
        "follows": follows,
        "lengths": [
            *levels_say(core.everybody(), follows.round_s if follows else 0.0),
            *(each.said for each in too_short(core, scripts, follows)),
        ],
        "data_follows": queries.data_follows(found, core, scripts, times) if follows else [],
        "carries": queries.carries(found, follows),
        "cost": member.project.hour_price * core.generators * ends_s / 3600,
        "doubts": [
            *((kind, said, MENDS[kind]) for kind, said in share_doubts(core)),
            *queries.journey_doubts(there, scripts),
        ],
        "timeouts": [(name, title, getattr(core.timeouts, name)) for name, title in forms.TIMEOUTS],
        "can_undo": bool(found.head and found.head.parent_id),
    }


def _gone(
    member: Membership,
    core: Plan,
    here: Mapping[str, Journey | None],
    scripts: Mapping[str, CoreJourney],
) -> dict[str, object]:
    """What it names and is not there any more; else what is wrong with it."""
    gone = "is not in this project any more; choose another."
    problems = [f"The journey '{key}' {gone}" for key, each in here.items() if each is None]
    problems = problems or plan_problems(core, scripts)
    known = environments(member)
    if core.environment not in {each.key for each in known}:
        problems = [*problems, f"The environment '{core.environment}' {gone}"]
    mine = set(personas.personas(member).values_list("key", flat=True))
    problems = [
        *problems,
        *(f"The persona '{key}' {gone}" for key in core.personas if key not in mine),
    ]
    return {"problems": problems, "environments": known}


def _objectives(
    found: LoadPlan, core: Plan, scripts: Mapping[str, CoreJourney], *, all_open: bool
) -> dict[str, object]:
    """Only the whole page shows them, not what follows from a change of it."""
    told = cache(lambda: queries.known_measures(found, core))
    scopes = cache(lambda: list(objective_fields.scopes(core, scripts, told())))
    shown = cache(lambda: objective_fields.shown(core, told()))
    most = None if all_open else objective_fields.OPEN
    return {
        "measures": objective_fields.MEASURES,
        "measure_keys": set(dict(objective_fields.MEASURES)),
        "scopes": SimpleLazyObject(scopes),
        "ends": SimpleLazyObject(lambda: objective_fields.ends(scripts)),
        "thens": THENS,
        "objectives": SimpleLazyObject(lambda: shown()[:most]),
        "folded": SimpleLazyObject(lambda: [] if most is None else shown()[most:]),
        "folded_from": objective_fields.OPEN + 1,
    }


def _choices(member: Membership, found: LoadPlan) -> dict[str, object]:
    """What may be chosen; what is not the same for all plans is asked where it is shown."""
    known = cache(lambda: list(personas.personas(member)))

    def others() -> list[LoadPlan]:
        plans = queries.plans_of_all(member) if member.may_edit else []
        return [each for each in plans if each.pk != found.pk]

    return {
        "workloads": workloads.FIELDS.values(),
        "parts": workloads.PARTS,
        "with_curve": workloads.WITH_CURVE,
        "stretches": crowd_fields.STRETCHES,
        "leavings": LEAVING,
        "units": tuple(UNIT_S),
        "personas": SimpleLazyObject(known),
        "journeys": journeys.journeys(member),
        "sources": SimpleLazyObject(lambda: sources(found)),
        "copy_into": SimpleLazyObject(others),
        "probe_kinds": probe_fields.KINDS,
        "usual_timeouts": Timeouts(),
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
            {
                key: values
                for key, values in request.POST.lists()
                if key not in ("parent", "csrfmiddlewaretoken")
            }
            if problem
            else {}
        )
        if request.POST.get("another") and not problem:
            answer = HttpResponse()
            answer["HX-Refresh"] = "true"
            return answer
        return render(
            request,
            "plans/_plan.html",
            {**context, "problem": problem, "typed": typed, "swap": True},
            status=status,
        )
    all_open = request.GET.get("open") == "objectives"
    return render(request, "plans/plan.html", _context(member, found, all_open=all_open))


@member_view(get="reader", post="engineer")
def text(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """The plan as text; what can't be taken stays as it was typed."""
    found = queries.plan(member, pk)
    shown, problem, status = write_plan(queries.content(found)), "", 200
    if request.method == "POST":
        shown = request.POST.get("text", "")
        try:
            if request.POST.get(
                "once"
            ):  # looked at here, so that what can't be taken stays, and then used there
                actions.read_text(found, shown)
                return HttpResponseRedirect(
                    reverse("preflight", args=[member.project_id, pk]), preserve_request=True
                )
            actions.take_text(member, found, request.POST.get("parent", ""), shown)
            return redirect("plan", member.project_id, pk)
        except Stale as stale:
            problem, status = str(stale), 409
        except DynamikosError as wrong:
            problem, status = str(wrong), 422
    context = {
        "plan": found,
        "text": shown,
        "problem": problem,
        "token": token(found.head),
        "elsewhere": projects.others_of(member),
        "history": queries.history(found),
    }
    return render(request, "plans/text.html", context, status=status)


@member_view(post="engineer")
def copy(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    into = projects.other_of(member, request.POST.get("into", ""))
    made = actions.copy(member, queries.plan(member, pk), request.POST.get("name", ""), into)
    return redirect("plan", made.project_id, made.pk)


@member_view(post="engineer")
def copy_crowd(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Into this plan or another one, which is shown then."""
    found, into = queries.plan(member, pk), request.POST.get("into", "")
    made = actions.copy_crowd(member, found, request.POST.get("crowd", ""), into)
    return redirect("plan", made.project_id, made.pk)


@member_view(post="engineer")
def mend(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Mends what is odd about shares (locked rows stay as they are) or about a journey of the
    plan.
    """
    found = queries.plan(member, pk)
    what, _, key = request.POST.get("what", "").partition(":")
    if key:
        journey = journeys.journeys(member).filter(key=key).first()
        if journey is None:
            raise DynamikosError(
                f"The journey '{key}' is not in this project any more; choose another."
            )
        if what == "unrehearsed":
            place = queries.content(found).environment
            return redirect(
                "rehearsal",
                member.project_id,
                rehearse(member, journey, environment=place, rounds=2).pk,
            )
        check_bare(member, journey)
        return redirect("plan", member.project_id, pk)
    core = mended(
        queries.content(found), request.POST.get("what", ""), request.POST.getlist("lock")
    )
    changes = {"journey": core.journey, "profile": core.profile, "crowds": core.crowds}
    actions.change(member, found, token(found.head), **changes)
    return redirect("plan", member.project_id, pk)


@member_view(post="engineer")
def sheet(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """A pasted sheet: first its columns are matched, then its rows are taken for those of the first
    crowd.
    """
    found, typed = queries.plan(member, pk), request.POST.get("sheet", "")
    context: dict[str, object] = {
        "plan": found,
        "typed": typed,
        "whats": [(what, TITLES[what]) for what in WHATS],
    }
    try:
        read = read_sheet(typed)
        columns = guessed(read)
        if "take" in request.POST:
            columns = {what: digits(request.POST.get(what, "")) for what in WHATS}
            core = queries.content(found)
            first, *others = core.everybody()
            keys = {row.row for crowd in others for row in crowd.rows}
            called = _called(journeys.journeys(member)), _called(personas.personas(member))
            taken = rows_from(read, columns, *called, keys)
            if taken.rows and (not taken.wrong or request.POST["take"] == "all the same"):
                core = core.with_crowds((replace(first, rows=tuple(taken.rows)), *others))
                changes = {"journey": core.journey, "profile": core.profile, "crowds": core.crowds}
                actions.change(member, found, token(found.head), **changes)
                return redirect("plan", member.project_id, pk)
            context.update({"taken": taken, "wrong": taken.wrong})
        matched = [
            (at, name, [row[at] for row in read.rows[:5]]) for at, name in enumerate(read.head)
        ]
        context.update({"read": read, "matched": matched, "columns": columns})
    except DynamikosError as problem:
        return render(request, "plans/sheet.html", {**context, "problem": str(problem)}, status=422)
    return render(request, "plans/sheet.html", context)


def _called(rows: Iterable[Any]) -> dict[str, str]:
    """Keys by what people call them: the name or the key, in lower case."""
    found = {each.key.lower(): each.key for each in rows}
    return found | {each.name.lower(): each.key for each in rows}


TITLES = {"name": "called", "journey": "journey", "persona": "persona", "share": "share or count"}


@member_view(post="engineer")
def suggest(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Objectives from what an earlier run or rehearsal measured, times a factor."""
    found = queries.plan(member, pk)
    factor = number(request.POST.get("factor", "1.5"), "Factor", 0.1, 100)
    made = suggestions(found, request.POST.get("source", ""), factor)
    actions.change(
        member, found, token(found.head), objectives=(*queries.content(found).objectives, *made)
    )
    return redirect("plan", member.project_id, pk)


@member_view(post="engineer")
def undo(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    actions.undo(queries.plan(member, pk))
    return redirect("plan", member.project_id, pk)


@member_view(post="engineer")
def delete(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    actions.delete(member, queries.plan(member, pk), request.POST.get("sure", ""))
    return redirect("plans", member.project_id)
