import uuid

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms import Unfit
from dynamikos.core.plans import Way
from dynamikos.core.plans.environment import WAY
from dynamikos.web.environments import actions, queries
from dynamikos.web.projects import queries as projects
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.ui.numbers import number


def page(
    request: HttpRequest, member: Membership, problem: str = "", typed: str = ""
) -> HttpResponse:
    """`typed` is the target that could not be taken, shown again as it was typed."""
    environments = list(queries.environments(member))
    for each in environments:
        kept = each.way
        try:
            WAY.of(kept)
        except Unfit as problem_with_it:
            each.unread = str(problem_with_it)  # type: ignore[attr-defined]
            continue
        trust = kept.get("trust", "system")
        each.shown = {  # type: ignore[attr-defined]
            **kept,
            "authorities": "" if trust in ("system", "anything") else trust,
            "trust": trust if trust in ("system", "anything") else "these",
            "key_gone": (
                bool(kept.get("key_secret"))
                and kept["key_secret"] not in {secret.name for secret in each.secrets.all()}
            ),
            "headers": [*kept.get("headers", []), ("", "")],
        }
    context = {
        "environments": environments,
        "members": projects.members(member),
        "events": projects.events(member),
        "problem": problem,
        "typed": typed,
    }
    return render(request, "environments/settings.html", context, status=422 if problem else 200)


def says(request: HttpRequest, problem: str = "") -> HttpResponse:
    """The line beneath a form that is kept as it is typed."""
    return render(
        request, "environments/_says.html", {"problem": problem}, status=422 if problem else 200
    )


@member_view(get="reader")
def settings(request: HttpRequest, member: Membership) -> HttpResponse:
    return page(request, member)


@member_view(post="engineer")
def create(request: HttpRequest, member: Membership) -> HttpResponse:
    actions.create(member, request.POST.get("name", ""))
    return redirect("settings", member.project_id)


@member_view(post="engineer")
def change(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Another name; the last change taken back; taken away by its name."""
    found, data = queries.environment(member, pk), request.POST
    try:
        if data.get("what") == "delete":
            actions.delete(member, found, data.get("sure", ""))
        elif data.get("what") == "undo":
            actions.undo(member, found)
        else:
            actions.rename(member, found, data.get("name", ""))
    except DynamikosError as problem:
        return page(request, member, str(problem))
    return redirect("settings", member.project_id)


@member_view(post="engineer")
def values(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Kept as they are typed; what can't be kept stays in its fields."""
    try:
        actions.set_values(
            member,
            queries.environment(member, pk),
            request.POST.getlist("name"),
            request.POST.getlist("value"),
        )
    except DynamikosError as problem:
        return says(request, str(problem))
    return says(request)


@member_view(post="engineer")
def secret(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Sealed, or taken away; never shown again."""
    try:
        text = "" if request.POST.get("what") == "take-away" else request.POST.get("text", "")
        if not text and request.POST.get("what") != "take-away":
            raise DynamikosError("A secret needs a text.")
        actions.set_secret(
            member, queries.environment(member, pk), request.POST.get("name", ""), text
        )
    except DynamikosError as problem:
        return page(request, member, str(problem))
    return redirect("settings", member.project_id)


@member_view(post="engineer")
def way(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    data = request.POST
    try:
        trust = data.get("trust", "system")
        if data.get("authorities", "").strip() and trust != "these":
            raise DynamikosError(
                "There are certificates of authorities, but another trust is chosen: choose “those "
                "signed by the"
                " certificates”, or clear them."
            )
        headers = list(zip(data.getlist("header-name"), data.getlist("header-value"), strict=False))
        if nameless := next(
            (value for name, value in headers if value.strip() and not name.strip()), ""
        ):
            raise DynamikosError(
                f"The header “{nameless[:40]}” has no name yet. Write one, or clear it."
            )
        made = Way(
            headers=tuple((name.strip(), value) for name, value in headers if name.strip()),
            trust=(
                (data.get("authorities", "").strip() or "system")
                if trust == "these"
                else trust
                if trust == "anything"
                else "system"
            ),
            certificate=data.get("certificate", "").strip(),
            key_secret=data.get("key-secret", ""),
            proxy=data.get("proxy", "").strip(),
        )
        actions.set_way(member, queries.environment(member, pk), made)
    except DynamikosError as problem:
        return says(request, str(problem))
    return says(request)


@member_view(post="owner")
def agree(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    text = request.POST.get("target", "")
    try:
        actions.agree(member, queries.environment(member, pk), text)
    except DynamikosError as problem:
        return page(request, member, str(problem), text)
    journey = request.POST.get("journey", "")
    try:
        return (
            redirect("journey", member.project_id, uuid.UUID(journey))
            if journey
            else redirect("settings", member.project_id)
        )
    except ValueError:
        return redirect("settings", member.project_id)


@member_view(post="owner")
def cap(request: HttpRequest, member: Membership, pk: uuid.UUID, target: int) -> HttpResponse:
    typed = request.POST.get("per_s", "").strip() or "0"
    actions.cap(
        member,
        queries.environment(member, pk),
        target,
        number(typed, "Exchanges/s at most", 0, 1e6),
    )
    return redirect("settings", member.project_id)


@member_view(post="owner")
def withdraw(request: HttpRequest, member: Membership, pk: uuid.UUID, target: int) -> HttpResponse:
    actions.withdraw(member, queries.environment(member, pk), target)
    return redirect("settings", member.project_id)
