import json
import time
import uuid
from collections.abc import Iterator

import msgspec
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render

from dynamikos import workers
from dynamikos.core.errors import DynamikosError, to_json
from dynamikos.core.journeys import FormPart
from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.core.journeys.background import background_of
from dynamikos.core.journeys.editing import ITEMS, EditError, find, find_request, home_of
from dynamikos.core.journeys.kinds import KINDS, Step
from dynamikos.core.journeys.model import PARTS, walk
from dynamikos.core.journeys.request import KINDS_OF_BODY
from dynamikos.web.environments.queries import environments
from dynamikos.web.functions.queries import functions
from dynamikos.web.journeys import actions, forms, queries
from dynamikos.web.journeys.ladder import draw, only, path_of
from dynamikos.web.journeys.models import Journey, SharedStep
from dynamikos.web.projects import queries as projects
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import Stale, token
from dynamikos.web.recordings import queries as recordings
from dynamikos.workers.jobs import Asked, Evaluated


@member_view(get="reader")
def journeys(request: HttpRequest, member: Membership) -> HttpResponse:
    return render(
        request,
        "journeys/list.html",
        {
            "environments": member.project.environments.all(),
            "journeys": list(queries.journeys(member)),
            "recordings": recordings.recordings(member)[:20],
        },
    )


@member_view(get="reader", post="engineer")
def from_recording(request: HttpRequest, member: Membership, recording: uuid.UUID) -> HttpResponse:
    """Which hosts belong to the application; then the journey."""
    found = recordings.recording(member, recording)
    others = [
        recordings.recording(member, uuid.UUID(each))
        for each in request.GET.getlist("other")
        if _is_uuid(each)
    ]
    problem, status = "", 200
    alike = queries.of_same_hosts(member, found)
    if request.method == "POST" and request.POST.get("what") == "evidence":
        chosen = next((each for each in alike if str(each.pk) == request.POST.get("journey")), None)
        if chosen is not None:
            actions.further(member, chosen, found)
            return redirect("strands", member.project_id, chosen.pk)
        problem, status = (
            "That journey is not there any more, or has other hosts; choose another.",
            422,
        )
    elif request.method == "POST":
        try:
            made = actions.create_from_recording(
                member, found, request.POST.get("name", ""), request.POST.getlist("origin"), others
            )
            return redirect("journey", member.project_id, made.pk)
        except DynamikosError as wrong:
            problem, status = str(wrong), 422
    context = {
        "recording": found,
        "others": others,
        "alike": alike,
        "problem": problem,
        "name": request.POST.get("name")
        or found.name.rsplit(".", 1)[0].replace("-", " ").capitalize(),
    }
    return render(request, "journeys/hosts.html", context, status=status)


def _is_uuid(text: str) -> bool:
    try:
        uuid.UUID(text)
    except ValueError:
        return False
    return True


def _context(
    member: Membership, found: Journey, select: str = "", text: str = ""
) -> dict[str, object]:
    core = queries.content(found)
    problems = queries.problems(found, core)
    wrong = {(each.step, each.request): ("", True) for each in problems}
    ladder = draw(only(core, text))
    for rung in ladder.rungs:
        rung.is_bad = (rung.step, rung.request) in wrong
    checked = sum(bool(each.checks) for _, step in core.steps() for each in step.requests)
    return {
        "elsewhere": projects.others_of(member),
        "journey": found,
        "core": core,
        "ladder": ladder,
        "filter": text,
        "found": len(ladder.rungs),
        "problems": problems,
        "token": token(found.head),
        "select": select,
        "requests": sum(len(step.requests) for _, step in core.steps()),
        "steps": sum(1 for _, step in core.steps() if step.kind == "step"),
        "beside": sum(1 for _, step in core.steps() if step.kind != "step"),
        "unchecked": checked == 0,
        "can_undo": found.head is not None and found.head.parent_id is not None,
        "can_redo": found.head is not None and found.head.children.exists(),
        "last": found.rehearsals.first() if hasattr(found, "rehearsals") else None,
        "environments": environments(member),
    }


@member_view(get="reader")
def journey(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found = queries.journey(member, pk)
    context = _context(member, found, request.GET.get("at", ""))
    context.update(_panel(found, context["core"], request.GET.get("at", "")))  # type: ignore[arg-type]
    context["draft"] = queries.draft_of(member, found)
    context["values"] = json.dumps(queries.values_known(found, queries.content(found)))
    return render(request, "journeys/journey.html", context)


MOVES = (("up", "Alt+ArrowUp", "Move up"), ("down", "Alt+ArrowDown", "Move down"))


def _moves(kind: str, off: bool, *, is_shared: bool = False) -> list[tuple[str, str, str]]:
    """(what, key, name) of what can be done with the chosen step or request."""
    own = ("split", "", "Split here") if kind == "request" else ("merge", "", "Merge with next")
    if is_shared:
        own = ("own", "", "Give it requests of its own here")
    return [
        *MOVES,
        ("duplicate", "", "Duplicate"),
        own,
        ("switch", "o", "Switch on" if off else "Switch off"),
        ("remove", "", "Delete"),
    ]


def _panel(found: Journey, core: CoreJourney, at: str) -> dict[str, object]:
    """What the panel shows for `at`: "" the journey, "step" a step, "step/request" a request."""
    step_key, _, request_key = at.partition("/")
    try:
        if request_key:
            step, _, request = find_request(core, step_key, request_key)
            number = request.recorded
            recorded = (
                recordings.exchange(found.recording_id, number)
                if found.recording_id and number is not None
                else None
            )
            return {
                "kind": "request",
                "moves": _moves("request", request.off),
                "step": step,
                "item": request,
                "capture_rows": forms.capture_rows(request),
                "check_rows": forms.check_rows(request),
                "capture_forms": forms.CAPTURE_FORMS,
                "check_forms": forms.CHECK_FORMS,
                "hows": forms.HOWS,
                "thens": forms.THENS,
                "decodings": forms.DECODINGS,
                "recorded": recorded,
                "query_rows": [*request.query, ("", "")],
                "header_rows": [*request.headers, ("", "")],
                "form_rows": [*((request.body.form if request.body else None) or ()), ("", "")],
                "body_kind": _body_kind(request.body),
                "recorded_text": _recorded_text(recorded),
                "leaves": forms.leaves_of(request.body.json or "") if request.body else [],
                "part_rows": [
                    *((request.body.parts if request.body else None) or ()),
                    FormPart(name=""),
                ],
                "proof": request.authorization,
                "proofs": forms.PROOFS,
                "users": queries.users_of(found, step.use) if step.use else [],
            }
        if step_key:
            part, _, step = find(core, step_key)
            return {
                "kind": "step",
                "moves": _moves("step", step.off, is_shared=bool(step.use)),
                "kinds_of_thinking": forms.THINKING,
                "step": step,
                "part": part,
                "parts": PARTS,
                "users": queries.users_of(found, step.use) if step.use else [],
                "items": [(kind, KINDS[kind].begins_as) for kind in ITEMS],
                "inside": home_of(core, step_key)[0].owner,
                "holders": _holders(core, step),
                "functions": sorted(functions(found.project)) if step.kind == "call" else [],
                **forms.item_shown(step),
            }
    except EditError:
        return _journey_panel(found, core, gone=at)
    return _journey_panel(found, core)


def _holders(core: CoreJourney, step: Step) -> list[tuple[str, str]]:
    """(owner/slot, name) of each list that a step could be put into."""
    own = {each.step for each in walk((step,))}
    found = []
    for _, each in core.steps():
        if each.nests and each.step not in own:
            for slot, branch in enumerate(each.branches or [None]):
                name = f", {branch.name or branch.when or 'else'}" if branch is not None else ""
                found.append((f"{each.step}/{slot}", f"{each.name}{name}"))
    return found


@member_view(post="engineer")
def evaluate(request: HttpRequest, member: Membership, pk: uuid.UUID) -> JsonResponse:
    """What a text comes to with the last rehearsal's values: computed in a worker, never here."""
    found = queries.journey(member, pk)
    text, kind = request.POST.get("text", "")[:20_000], request.POST.get("kind", "text")
    values = queries.last_values(found)
    asked = Asked(
        text,
        values,
        kind if kind in ("text", "condition", "list") else "text",
        time.time_ns() // 1000,
    )
    try:
        made = msgspec.msgpack.decode(
            workers.call("evaluate", msgspec.msgpack.encode(asked)), type=Evaluated
        )
    except DynamikosError as problem:
        return JsonResponse(to_json(problem))
    return JsonResponse(
        {"value": made.value[:400], "problem": made.problem, "start": made.start, "end": made.end}
    )


def _journey_panel(found: Journey, core: CoreJourney, gone: str = "") -> dict[str, object]:
    by_themselves = background_of(core)
    return {
        "kind": "journey",
        "background": by_themselves,
        "stays": sum(each.needed for each in by_themselves),
        "gone": gone,
        "parts": PARTS,
        "common_rows": [*core.headers, ("", "")],
        "proof": core.authorization,
        "proofs": forms.PROOFS,
        "shared": list(SharedStep.objects.filter(project=found.project)),
        "items": [(kind, KINDS[kind].begins_as) for kind in ITEMS],
    }


def _body_kind(body: object) -> str:
    if getattr(body, "file", ""):
        return "file"
    return next(
        (kind for kind in KINDS_OF_BODY if body is not None and getattr(body, kind) is not None),
        "none",
    )


def _recorded_text(recorded: object) -> str:
    from dynamikos.core.exchanges import Exchange, text_of

    if not isinstance(recorded, Exchange) or recorded.answer is None:
        return ""
    return text_of(recorded.answer.body[:20_000], recorded.answer.header("content-type") or "")


@member_view(get="reader")
def ladder(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """The ladder alone, with only what a text is found in."""
    found = queries.journey(member, pk)
    context = _context(
        member, found, request.GET.get("at", ""), request.GET.get("filter", "").strip()
    )
    return render(request, "journeys/_ladder_only.html", context)


@member_view(get="reader")
def panel(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found = queries.journey(member, pk)
    at = request.GET.get("at", "")
    core = queries.content(found)  # the ladder stays as it is: only the panel is made
    also = request.GET.getlist("also")
    if len(also) > 1:
        chosen = [(key, name) for key, name in _names(core) if key in also]
        shown: dict[str, object] = {
            "kind": "several",
            "chosen": chosen,
            "steps_to": [step for _, step in core.steps() if not step.use],
        }
        return render(
            request, "journeys/panel.html", {"journey": found, "core": core, "select": at, **shown}
        )
    context = {
        "journey": found,
        "core": core,
        "problems": queries.problems(found, core),
        "select": at,
        **_panel(found, core, at),
        "values": json.dumps(queries.values_known(found, core)),
    }
    return render(request, "journeys/panel.html", context)


def _names(core: CoreJourney) -> Iterator[tuple[str, str]]:
    """(what it is called in forms, its name) of every step and request."""
    for _, step in core.steps():
        yield step.step, step.name
        yield from (
            (f"{step.step}/{each.request}", f"{each.method} {path_of(each.address)}")
            for each in step.requests
        )


@member_view(post="engineer")
def edit(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """One change. Answers the panel, and the ladder and headline out of band; 409 with what
    was typed when it is stale.
    """
    found = queries.journey(member, pk)
    data = request.POST
    at, what = data.get("at", ""), data.get("what", "")
    problem, status = "", 200
    try:
        found, at = actions.make(
            member,
            found,
            data.get("parent", ""),
            lambda core: forms.change_from(core, data),
            label=f"{what} {at}" if what in ("request", "step", "journey") else "",
        )
    except Stale as stale:
        problem, status = str(stale), 409
    except DynamikosError as wrong:
        problem, status = str(wrong), 422
    context = _context(member, found, at, data.get("filter", "").strip())
    context.update(_panel(found, context["core"], at))  # type: ignore[arg-type]
    context.update(
        {
            "problem": problem,
            "swap": True,
            "values": json.dumps(queries.values_known(found, queries.content(found))),
            "typed": dict(data.lists()) if problem else {},
        }
    )
    saved = what in ("request", "step", "journey") and not (data.get("reload") and not problem)
    answer = render(
        request, "journeys/saved.html" if saved else "journeys/panel.html", context, status=status
    )
    if not saved:
        answer["HX-Retarget"] = "#panel"
    return answer


def _thought(request: HttpRequest, member: Membership, found: Journey, key: str) -> HttpResponse:
    """One step's think time, changed where all are listed."""
    problem, status = "", 200
    try:
        found, _ = actions.make(
            member,
            found,
            request.POST.get("parent", ""),
            lambda _: forms.think_from(key, request.POST),
            label=f"think: {key}",
        )
    except DynamikosError as wrong:
        problem, status = str(wrong), 409 if isinstance(wrong, Stale) else 422
    core = queries.content(found)
    rounds = sum(step.mean_think_s() for step in core.active().rounds)
    context = {
        "problem": problem,
        "token": token(found.head),
        "round_s": rounds,
        "step": core.find_step(key),
    }
    return render(request, "journeys/_thought.html", context, status=status)


@member_view(get="reader", post="engineer")
def thinking(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Think times of the whole journey on one screen."""
    found = queries.journey(member, pk)
    problem, status = "", 200
    if request.method == "POST" and "step" in request.POST:
        return _thought(request, member, found, request.POST["step"])
    if request.method == "POST":
        try:
            parent = request.POST.get("parent", "")
            actions.make(member, found, parent, lambda _: forms.think_all_from(request.POST))
            return redirect("journey-thinking", member.project_id, pk)
        except DynamikosError as wrong:
            problem, status = str(wrong), 409 if isinstance(wrong, Stale) else 422
    core = queries.content(found)
    rounds = sum(step.mean_think_s() for step in core.active().rounds)
    context = {
        "journey": found,
        "steps": list(core.steps()),
        "token": token(found.head),
        "problem": problem,
        "round_s": rounds,
        "kinds": ("recorded", *forms.THINKING),
        "answers_s": queries.answered_s(found, core),
        "typed": request.POST,
        "kinds_of_thinking": forms.THINKING,
    }
    return render(request, "journeys/thinking.html", context, status=status)


@member_view(get="reader", post="engineer")
def revisions(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Revisions with author, time and difference; any can be restored as a new one."""
    found = queries.journey(member, pk)
    if request.method == "POST":
        actions.restore(
            member, found, request.POST.get("parent", ""), request.POST.get("revision", "")
        )
        return redirect("journey-revisions", member.project_id, pk)
    rows = queries.revisions(found)
    at = request.GET.get("at", "")
    chosen = next((row for row in rows if str(row.number) == at), rows[0] if rows else None)
    difference = queries.difference(chosen) if chosen is not None else []
    context = {
        "journey": found,
        "rows": rows,
        "chosen": chosen,
        "difference": difference,
        "token": token(found.head),
    }
    return render(request, "journeys/revisions.html", context)


@member_view(get="reader")
def find_text(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """A text in all bodies, headers and addresses of the journey's recordings."""
    found = queries.journey(member, pk)
    text = request.GET.get("q", "").strip()
    return render(
        request,
        "journeys/find.html",
        {"journey": found, "text": text, "matches": queries.find_text(found, text) if text else []},
    )


@member_view(post="engineer")
def history(request: HttpRequest, member: Membership, pk: uuid.UUID, way: str) -> HttpResponse:
    actions.step_through(member, queries.journey(member, pk), way == "redo")
    return redirect(f"{request.path.rsplit('/', 1)[0]}?at={request.POST.get('at', '')}")


@member_view(post="engineer")
def copy(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    into = projects.other_of(member, request.POST.get("into", ""))
    made = actions.copy(member, queries.journey(member, pk), request.POST.get("name", ""), into)
    return redirect("journey", made.project_id, made.pk)


@member_view(post="engineer")
def delete(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    actions.delete(member, queries.journey(member, pk), request.POST.get("sure", ""))
    return redirect("journeys", member.project_id)
