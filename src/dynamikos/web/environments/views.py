import uuid

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from dynamikos.core.errors import DynamikosError
from dynamikos.web.environments import actions, queries
from dynamikos.web.projects import queries as projects
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership


def page(request: HttpRequest, member: Membership, problem: str = "", typed: str = "") -> HttpResponse:
    context = {
        "environments": queries.environments(member), "members": projects.members(member), "events": projects.events(member),
        "problem": problem, "typed": typed,
    }  # fmt: skip
    return render(request, "environments/settings.html", context, status=422 if problem else 200)


@member_view()
def settings(request: HttpRequest, member: Membership) -> HttpResponse:
    return page(request, member)


@member_view("engineer")
def create(request: HttpRequest, member: Membership) -> HttpResponse:
    actions.create(member, request.POST.get("name", ""))
    return redirect("settings", member.project_id)


@member_view("engineer")
def values(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    try:
        actions.set_values(member, queries.environment(member, pk), request.POST.getlist("name"), request.POST.getlist("value"))
    except DynamikosError as problem:
        return page(request, member, str(problem))
    return redirect("settings", member.project_id)


@member_view("owner")
def agree(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    text = request.POST.get("target", "")
    try:
        actions.agree(member, queries.environment(member, pk), text)
    except DynamikosError as problem:
        return page(request, member, str(problem), text)
    return redirect("settings", member.project_id)


@member_view("owner")
def withdraw(request: HttpRequest, member: Membership, pk: uuid.UUID, target: int) -> HttpResponse:
    actions.withdraw(member, queries.environment(member, pk), target)
    return redirect("settings", member.project_id)
