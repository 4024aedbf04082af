import uuid
from collections.abc import Sequence
from urllib.parse import quote

from csp.decorators import csp_exempt
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.clickjacking import xframe_options_exempt
from django.views.decorators.http import require_GET

from dynamikos.core.dealing.rehearsing import UsedUp
from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges import write_har
from dynamikos.core.figures import digits
from dynamikos.web.environments.queries import named, origins
from dynamikos.web.journeys import queries as journeys
from dynamikos.web.projects.access import member_view, membership, stream_member
from dynamikos.web.projects.models import Membership
from dynamikos.web.rehearsals import actions, history, queries
from dynamikos.web.rehearsals.models import Rehearsal
from dynamikos.web.streams.views import event_stream
from dynamikos.web.ui.release_connection import briefly


@member_view(post="engineer")
def rehearse(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    row, user = request.POST.get("row", "").strip(), request.POST.get("user", "").strip() or "1"
    if row and digits(row) is None:
        raise DynamikosError(f"A row is a number from 1; '{row}' is not.")
    if not 1 <= (digits(user) or 0) <= 1_000_000:
        raise DynamikosError(f"A user is a number from 1 to 1,000,000; '{user}' is not.")
    journey = journeys.journey(member, pk)
    place = named(member.project, request.POST.get("environment", ""))
    if place is not None and not place.targets.exists():  # a way on, not a dead end
        owners = member.project.memberships.filter(role="owner").values_list(
            "account__username", flat=True
        )
        context = {
            "place": place,
            "origins": origins(place),
            "journey": journey,
            "owners": list(owners),
        }
        return render(request, "rehearsals/agree.html", context, status=422)
    try:
        made = actions.ask(
            member,
            journey,
            start=request.POST.get("start", ""),
            until=request.POST.get("until", ""),
            row=int(row or 0),
            user=int(user),
            environment=request.POST.get("environment", ""),
            rounds=2 if request.POST.get("rounds") == "2" else 1,
            again=request.POST.get("again") == "1",
        )
    except UsedUp as problem:
        names = ("start", "until", "user", "environment", "rounds")
        asked = [(name, request.POST[name]) for name in names if request.POST.get(name)]
        context = {"journey": journey, "problem": str(problem), "asked": asked}
        return render(request, "rehearsals/used_up.html", context, status=422)
    return redirect("rehearsal", member.project_id, made.pk)


@member_view(post="engineer")
def stop(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    actions.stop(member, queries.rehearsal(member, pk))
    return redirect("rehearsal", member.project_id, pk)


@member_view(post="engineer")
def take_check(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """A suggested check taken into the journey."""
    step, _, name = request.POST.get("at", "").partition("/")
    actions.take_check(
        member, queries.rehearsal(member, pk), step, name, request.POST.get("check", "")
    )
    page = reverse("rehearsal", args=[member.project_id, pk])
    return redirect(f"{page}?at={quote(request.POST.get('at', ''))}")


@member_view(post="engineer")
def clean_up(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    actions.clean_up(member, queries.rehearsal(member, pk))
    return redirect("rehearsal", member.project_id, pk)


def _context(member: Membership, pk: uuid.UUID, at: str) -> dict[str, object]:
    found = queries.rehearsal(member, pk)
    rows = queries.replayed(found)
    journey = queries.frozen(found).journey
    cleaned = {step.step for step in journey.cleanup}
    bad = sum(row.is_bad for row in rows if row.kept.step not in cleaned)
    differing = sum(bool(row.differences) for row in rows)
    compared = any(row.recorded is not None for row in rows)
    exchanges = sum(not row.kept.item for row in rows)
    doubts = queries.doubts(found, rows) if found.over and found.state != "lost" else []
    grave = sum(each.is_grave for each in doubts)
    wanted = _wanted(rows, at)
    at = at or (wanted[0].at if wanted else "")
    told = differing if compared else None
    return {
        "rehearsal": found,
        "journey": found.journey,
        "rows": rows,
        "exchanges": exchanges,
        "sentence": queries.sentence(found, exchanges, bad, told, grave),
        "ladder": queries.ladder(found, rows),
        "select": at,
        "shown": _shown(found, rows, [row for row in wanted if row.at == at]),
        "bad": bad,
        "compared": compared,
        "differing": differing,
        "doubts": doubts,
        "is_grave": grave > 0,
        "dealt": history.dealt(found),
        "dealt_before": history.dealt_before(found, rows),
        "since_passed": history.changed_since_passed(found),
        "journey_names": {step.step: step.name for _, step in journey.steps()},
        "requests": sum(len(step.requests) for _, step in journey.steps()),
        "has_cleanup": bool(journey.cleanup),
    }


def _wanted(rows: list[queries.Replayed], at: str) -> Sequence[queries.Replayed]:
    """Those at a place, else those that are bad, else the first."""
    here = [row for row in rows if row.at == at]
    return here or [row for row in rows if row.is_bad] or rows[:1]


def _shown(
    found: Rehearsal, rows: list[queries.Replayed], wanted: Sequence[queries.Replayed]
) -> list[dict[str, object]]:
    now = journeys.content(found.journey)
    return [
        {
            "row": row,
            "lines": queries.body_lines(row),
            "headers": queries.header_rows(row),
            "values": queries.values_of(rows, row),
            "recorded_text": queries.recorded_text(row),
            "timings": queries.timings(row),
            "suggestions": queries.suggestions(found, rows, row, now),
            "cookies": queries.cookies(row),
        }
        for row in wanted
    ]


@member_view(get="reader")
def rehearsal(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    return render(
        request, "rehearsals/rehearsal.html", _context(member, pk, request.GET.get("at", ""))
    )


@member_view(get="reader")
def results(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    return render(
        request, "rehearsals/results.html", _context(member, pk, request.GET.get("at", ""))
    )


@member_view(get="reader")
def file(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """The rehearsal as a HAR file, masked as it is kept."""
    found = queries.rehearsal(member, pk)
    data = write_har(queries.as_exchanges(found))
    headers = {
        "Content-Disposition": "attachment; "
        f'filename="{found.journey.key}-rehearsal-{found.number}.har"'
    }
    return HttpResponse(data, content_type="application/json", headers=headers)


SANDBOX = (
    "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:; frame-ancestors 'self'"
)


@csp_exempt()
@xframe_options_exempt
@member_view(get="reader")
def page(request: HttpRequest, member: Membership, pk: uuid.UUID, number: int) -> HttpResponse:
    """A replayed page as it looks, shut in: no script, no request, an origin of its own; anything
    but HTML only as an attachment.
    """
    found = queries.page_of(queries.rehearsal(member, pk), number)
    if found is None:
        return HttpResponse(
            "nothing was kept under this number", status=404, content_type="text/plain"
        )
    body, is_html = found
    headers = {
        "Content-Security-Policy": SANDBOX,
        "X-Content-Type-Options": "nosniff",
        "Referrer-Policy": "no-referrer",
        "X-DNS-Prefetch-Control": "off",
    }
    if not is_html:
        headers["Content-Disposition"] = 'attachment; filename="body.txt"'
    return HttpResponse(
        body,
        content_type="text/html; charset=utf-8" if is_html else "application/octet-stream",
        headers=headers,
    )


@require_GET
async def stream(request: HttpRequest, project: uuid.UUID, pk: uuid.UUID) -> StreamingHttpResponse:
    member = await stream_member(request, project)
    await briefly(queries.rehearsal)(member, pk)

    async def may() -> bool:
        return bool(await briefly(membership)(member.account, project))

    return event_stream(request, pk, may)
