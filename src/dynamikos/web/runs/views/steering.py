"""What is done to a run under way."""

import uuid

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect

from dynamikos.core.errors import DynamikosError
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import actions, queries
from dynamikos.web.runs.views.pages import show
from dynamikos.web.ui.numbers import number, whole


@member_view(post="engineer")
def stop(request: HttpRequest, member: Membership, pk: uuid.UUID, how: str) -> HttpResponse:
    actions.stop(member, queries.run(member, pk), now=how == "now")
    return redirect("run", member.project_id, pk)


@member_view(post="engineer")
def change(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Holds the load, goes on with it, raises or lowers it by so many per cent."""
    verb, percent = request.POST.get("verb", ""), 0.0
    try:
        if verb in ("raise", "lower"):
            most = 900 if verb == "raise" else 99
            percent = number(request.POST.get("percent", ""), "By how many per cent", 0.1, most)
        actions.change_load(member, queries.run(member, pk), verb, percent)
    except DynamikosError as wrong:
        return show(request, member, pk, "load", wrong)
    return redirect("run", member.project_id, pk)


@member_view(post="engineer")
def stop_target(request: HttpRequest, member: Membership, target: int) -> HttpResponse:
    """Every run on an agreed target, at once."""
    actions.stop_all(member, target)
    return redirect("runs", member.project_id)


@member_view(post="engineer")
def remark(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Something to be known of this moment, or of a second that is named."""
    found, second = queries.run(member, pk), request.POST.get("second", "").strip()
    try:
        at = whole(second, "At second", 0, 10**7) if second else None
        actions.remark(member, found, request.POST.get("text", ""), at)
    except DynamikosError as wrong:
        return show(request, member, pk, "remark", wrong)
    return redirect("run", member.project_id, pk)
