"""Who is there in a run, one user, and what was kept of them all."""

import uuid
from typing import Any
from urllib.parse import urlencode

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import drawings, people, queries
from dynamikos.web.runs.models import Run
from dynamikos.web.ui.numbers import whole


@member_view(get="reader", post="reader")
def users(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Those who fail and wait most; asked for by POST again and again, while somebody looks."""
    found = queries.run(member, pk)
    if request.method == "POST":
        people.watch(found)
        return render(request, "runs/_users.html", _seen(found))
    typed = request.GET.get("number", "").strip()
    if typed:
        return redirect(
            "run-user", member.project_id, pk, whole(typed, "Follow user number", 1, 10**9)
        )
    return render(request, "runs/users.html", _seen(found))


@member_view(get="reader", post="reader")
def user(request: HttpRequest, member: Membership, pk: uuid.UUID, number: int) -> HttpResponse:
    """One user and its log, which is kept while somebody follows it (POST)."""
    found = queries.run(member, pk)
    if request.method == "POST":
        people.watch(found, number)
        now = _seen(found, number)
        if now["told"] is not None and now["seen_at"] is None:
            people.remember(found, *now["told"])
        return render(request, "runs/_user.html", now)
    if "HX-Request" in request.headers:
        return render(request, "runs/_log.html", {"run": found, **_log(request, found, number)})
    return render(
        request, "runs/user.html", {**_seen(found, number), **_log(request, found, number)}
    )


@member_view(get="reader")
def log(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """What was kept, of all users or as chosen."""
    found = queries.run(member, pk)
    context = {"run": found, **_log(request, found)}
    return render(
        request, "runs/_log.html" if "HX-Request" in request.headers else "runs/log.html", context
    )


def _seen(found: Run, number: int | None = None) -> dict[str, Any]:
    """Who is there, and the user `number` among them; where it is not there, what was last shown of
    it.
    """
    inputs = queries.frozen(found)
    rows, there = inputs.places.rows, people.people(found)
    told = there.user(number) if number is not None else None
    seen_at = None
    if (
        number is not None
        and told is None
        and (last := people.remembered(found, number)) is not None
    ):
        seen_at, told = last[0], last[1:]
    return {
        "run": found,
        "people": there,
        "number": number,
        "told": told,
        "seen_at": seen_at,
        "followed": people.followed(found) if number is None and found.is_over else [],
        "rows": [row.name or row.row for row in rows],
        "steps": [queries.names_of_steps(inputs)[row.journey] for row in rows],
    }


def _log(request: HttpRequest, found: Run, number: int | None = None) -> dict[str, object]:
    inputs = queries.frozen(found)
    wanted = people.wanted_of(request.GET, number)
    lines = people.log(found, inputs, wanted)
    names = queries.names_of_steps(inputs)
    return {
        "lines": lines,
        "wanted": wanted,
        "query": urlencode(
            {
                "user": request.GET.get("user", ""),
                "step": wanted.step,
                "why": wanted.why,
                "value": wanted.value,
            }
        ),
        "last": lines[-1][0] if lines else wanted.after,
        "limit": people.LINES,
        "reasons": people.reasons(found) if not wanted.after else [],
        "choices": [
            (f"{key}/{step}", name) for key, each in names.items() for step, name in each.items()
        ],
        "waterfall": drawings.waterfall(people.last_round(lines))
        if number is not None and not wanted.after
        else None,
    }
