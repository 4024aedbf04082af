"""The one gate: who may see and change what. Every view of a project passes through
`member_view`.
"""

import functools
import uuid
from collections.abc import Callable
from typing import Any

from django.contrib.auth.views import redirect_to_login
from django.core.exceptions import PermissionDenied
from django.http import Http404, HttpRequest, HttpResponseNotAllowed
from django.http.response import HttpResponseBase

from dynamikos.web.projects.models import Event, Membership
from dynamikos.web.ui.release_connection import briefly

RANK = {"reader": 0, "engineer": 1, "owner": 2}
View = Callable[..., HttpResponseBase]


def membership(account: Any, project: uuid.UUID) -> Membership:
    """The account's membership. A stranger gets 404: the project does not exist for them."""
    found = (
        Membership.objects.select_related("project", "account")
        .filter(project_id=project, account_id=account.pk)
        .first()
    )
    if found is None or not account.is_active:
        raise Http404("There is no such project among yours.")
    return found


def require(member: Membership, role: str) -> None:
    if RANK[member.role] < RANK[role]:
        raise PermissionDenied(
            f"This needs the role {role}; yours is {member.role}. Ask an owner of "
            f"“{member.project}”."
        )


def member_view(
    *, get: str = "", post: str = "", any_signs: bool = False
) -> Callable[[View], View]:
    """A view(request, member, …) under /p/<project>/…: the role that each method needs; a method
    that is not named is answered 405. With `any_signs` it is given those that can't be kept, too,
    and says where they are.

    GET (and HEAD) must change nothing and send nothing: tests/web/test_access.py calls every
    address.
    """
    roles = {method: role for method, role in (("GET", get), ("HEAD", get), ("POST", post)) if role}

    def wrap(view: View) -> View:
        @functools.wraps(view)
        def inner(
            request: HttpRequest, project: uuid.UUID, *args: Any, **kwargs: Any
        ) -> HttpResponseBase:
            if not request.user.is_authenticated:
                return redirect_to_login(request.get_full_path())
            member = membership(request.user, project)
            role = roles.get(request.method or "")
            if role is None:
                return HttpResponseNotAllowed(sorted(roles))
            require(member, role)
            request.member = member  # type: ignore[attr-defined]
            return view(request, member, *args, **kwargs)

        inner.roles, inner.any_signs = roles, any_signs  # type: ignore[attr-defined]
        return inner

    return wrap


async def stream_member(request: HttpRequest, project: uuid.UUID) -> Membership:
    """For streams, which are async: the membership or 404 (also for people not signed in)."""
    user = await request.auser()
    if not user.is_authenticated:
        raise Http404("Sign in first.")
    return await briefly(membership)(user, project)


def note(member: Membership, what: str, subject: str, **detail: Any) -> None:
    """A line in the append-only event table."""
    Event.objects.create(
        project=member.project,
        account=member.account,
        what=what,
        subject=subject[:200],
        detail=detail,
    )
