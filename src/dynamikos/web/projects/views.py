from typing import cast

from django.contrib.auth.decorators import login_required
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods

from dynamikos.core.errors import DynamikosError
from dynamikos.web.accounts.models import Account
from dynamikos.web.projects import actions, queries
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.ui.numbers import number


@login_required
@require_http_methods(["GET", "HEAD", "POST"])
def projects(request: HttpRequest) -> HttpResponse:
    account = cast(Account, request.user)
    problem, status = "", 200
    if request.method == "POST":
        try:
            member = actions.create_project(account, request.POST.get("name", ""))
            return redirect("journeys", member.project_id)
        except DynamikosError as wrong:
            problem, status = str(wrong), 422
    context = {
        "memberships": queries.memberships_of(account),
        "problem": problem,
        "typed": request.POST.get("name", ""),
    }
    return render(request, "projects/list.html", context, status=status)


@member_view(post="owner")
def set_price(request: HttpRequest, member: Membership) -> HttpResponse:
    price = number(request.POST.get("price", "") or "0", "Price of a generator hour", 0, 1e6)
    actions.set_price(member, price, request.POST.get("currency", ""))
    return redirect("settings", member.project_id)


@member_view(post="owner")
def set_member(request: HttpRequest, member: Membership) -> HttpResponse:
    username = request.POST.get("username", "")
    if request.POST.get("what") == "remove":
        actions.remove_member(member, username)
        if username == member.account.username:
            return redirect("projects")
    else:
        actions.set_member(member, username, request.POST.get("role", ""))
    return redirect("settings", member.project_id)
