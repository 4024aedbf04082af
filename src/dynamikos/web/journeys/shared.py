"""The page of shared steps: what they are, who uses them, their text form and revisions."""

import uuid

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import write_shared
from dynamikos.core.journeys.shared import shared_schema
from dynamikos.web.journeys import actions, queries
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership, Revision
from dynamikos.web.projects.revisions import Stale, token


@member_view(post="engineer")
def share(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found, _ = actions.share_step(
        member,
        queries.journey(member, pk),
        request.POST.get("parent", ""),
        request.POST.get("step", ""),
    )
    page = reverse("journey", args=[member.project_id, found.pk])
    return redirect(f"{page}?at={request.POST.get('step', '')}")


@member_view(get="reader", post="engineer")
def shared_steps(request: HttpRequest, member: Membership) -> HttpResponse:
    rows = queries.all_shared(member)
    at = request.GET.get("at", "")
    chosen = next((each for each in rows if each.row.key == at), rows[0] if rows else None)
    problem, status, text = "", 200, ""
    if request.method == "POST":
        text = request.POST.get("text", "").replace("\r\n", "\n")
        what = request.POST.get("what", "save")
        try:
            if chosen is None:
                raise DynamikosError(
                    "There is no shared step yet; one is made from a step of a journey."
                )
            found = chosen.row
            if what == "delete":
                actions.remove_shared(member, found, chosen.users)
                return redirect("shared-steps", member.project_id)
            if what == "restore":
                actions.restore_shared(member, found, request.POST.get("revision", ""))
            else:
                actions.save_shared(member, found, text, request.POST.get("parent", ""))
            return redirect(f"{request.path}?at={found.key}")
        except DynamikosError as wrong:
            problem, status = str(wrong), 409 if isinstance(wrong, Stale) else 422
    context: dict[str, object] = {"rows": rows, "problem": problem}
    if chosen is not None:
        row = chosen.row
        context |= {
            "chosen": row,
            "chosen_users": chosen.users,
            "unread": chosen.problem,
            "text": text or (write_shared(chosen.value) if chosen.value is not None else ""),
            "token": token(row.head),
            "schema": shared_schema(),
            "revisions": Revision.objects.filter(subject=row.pk)
            .select_related("author")
            .order_by("-number")[:100],
        }
    return render(request, "journeys/shared.html", context, status=status)
