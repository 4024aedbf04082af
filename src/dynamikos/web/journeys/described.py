"""A journey from an API description: the file, then which operations, then the journey. Nothing is
kept in between.
"""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from dynamikos.core.errors import DynamikosError
from dynamikos.web.journeys import actions
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership


@member_view(get="reader", post="engineer")
def described(request: HttpRequest, member: Membership) -> HttpResponse:
    context: dict[str, object] = {}
    status = 200
    if request.method == "POST":
        file = request.FILES.get("file")
        text = (
            file.read().decode("utf-8", "surrogateescape")
            if file is not None
            else request.POST.get("document", "")
        )
        chosen, base = request.POST.getlist("operation"), request.POST.get("base", "").strip()
        try:
            document = text.encode("utf-8", "surrogateescape")
            found = actions.described(
                document, str(file.name) if file is not None else "The description"
            )
            context = {
                "title": found.title,
                "operations": found.operations,
                "document": text,
                "chosen": chosen,
                "base": base or found.base,
                "name": request.POST.get("name") or found.title[:120],
            }
            if file is None:
                made = actions.create_from_description(
                    member, document, str(context["name"]), chosen, base
                )
                return redirect("journey", member.project_id, made.pk)
        except DynamikosError as wrong:
            context["problem"], status = str(wrong), 422
    return render(request, "journeys/described.html", context, status=status)
