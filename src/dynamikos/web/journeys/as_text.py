"""The journey as text: its page, what became of a text while it is written, its draft."""

import uuid

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render

from dynamikos.core.errors import TextError
from dynamikos.core.journeys import journey_schema, write_journey
from dynamikos.web.journeys import actions, queries
from dynamikos.web.journeys.models import Journey
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import Stale, token


@member_view(get="reader", post="engineer")
def text(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """The text form: the same journey, the other way round.

    To the editor, which asks for JSON, it tells what became of the text.
    """
    found = queries.journey(member, pk)
    if request.method == "GET" and "file" in request.GET:
        headers = {"Content-Disposition": f'attachment; filename="{found.key}.yaml"'}
        return HttpResponse(
            write_journey(queries.stored(found)),
            content_type="application/yaml; charset=utf-8",
            headers=headers,
        )
    told = "application/json" in request.headers.get("accept", "")
    problem, stale, status = None, "", 200
    parent = request.POST.get("parent", "")
    if request.method == "POST":
        typed = request.POST.get("text", "").replace("\r\n", "\n")
        try:
            found, problem = actions.save_text(
                member, found, request.POST.get("over") or parent, typed
            )
        except Stale as wrong:  # kept, like a text that does not parse
            stale, status = str(wrong), 409
            found = queries.journey(member, pk)
        if told:
            return JsonResponse(_told(found, problem, stale, typed))
        if problem is None and not stale:
            return redirect("journey-text", member.project_id, pk)
        status = 422 if problem is not None else status
    draft = queries.draft_of(member, found)
    newest = write_journey(queries.stored(found))
    if draft is not None and request.method == "GET":
        problem = _broken(draft.text)
        if (
            draft.parent not in ("", token(found.head))
            and draft.text != newest
            and found.head is not None
        ):
            stale = str(Stale(found.head))
    core = queries.content(found)
    context = {
        "journey": found,
        "draft": draft,
        "text": draft.text if draft else newest,
        "newest": newest if stale else "",
        "head_token": token(found.head),
        "token": draft.parent if draft and stale else token(found.head),
        "problem": problem,
        "stale": stale,
        "schema": journey_schema(),
        "values": queries.values_known(found, core),
        "problems_now": _marks(found, problem),
    }
    return render(request, "journeys/text.html", context, status=status)


def _marks(found: Journey, problem: TextError | None, shown: str = "") -> list[dict[str, object]]:
    """Where the editor marks what is wrong: the error of a text that does not parse, else what is
    to be mended, as warnings.
    """
    if problem is not None:
        return [
            {
                "line": problem.line,
                "column": problem.column,
                "message": problem.message,
                "kind": "error",
            }
        ]
    lines = [line.strip() for line in (shown or write_journey(queries.stored(found))).splitlines()]

    def line_of(step: str, request: str) -> int:
        at = next(
            (n for n, line in enumerate(lines) if line in (f"- step: {step}", f"step: {step}")), 0
        )
        return (
            next(
                (
                    n
                    for n, line in enumerate(lines[at:], at)
                    if request and line.endswith(f"request: {request}")
                ),
                at,
            )
            + 1
        )

    return [
        {"line": line_of(each.step, each.request), "message": each.message, "kind": "warning"}
        for each in queries.problems(found, queries.content(found))
    ]


def _told(found: Journey, problem: TextError | None, stale: str, typed: str) -> dict[str, object]:
    if stale:
        return {
            "kind": "error",
            "says": f"{stale} Your text is kept as your draft.",
            "problems": [],
            "newest": write_journey(queries.stored(found)),
            "head": token(found.head),
        }
    if problem is not None:
        says = (
            f"Does not parse yet, so it is kept as a draft and the journey is untouched: {problem}"
        )
        return {
            "kind": "error",
            "says": says,
            "problems": _marks(found, problem),
            "token": token(found.head),
        }
    assert found.head is not None
    marks = _marks(found, None, typed)
    says = f"Kept: revision {found.head.number}" + (f", {len(marks)} to mend" if marks else "")
    return {"kind": "saved", "says": says, "problems": marks, "token": token(found.head)}


def _broken(draft: str) -> TextError | None:
    """What is wrong with a draft that does not parse."""
    try:
        actions.read_text("journey", draft)
    except TextError as problem:
        return problem
    return None


@member_view(post="engineer")
def discard(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    actions.discard_draft(member, get_object_or_404(queries.journeys(member), pk=pk))
    return redirect("journey-text", member.project_id, pk)
