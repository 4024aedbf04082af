import uuid

from django.http import HttpRequest, HttpResponse, QueryDict
from django.shortcuts import redirect, render

from dynamikos.core.errors import DynamikosError
from dynamikos.core.plans import Way
from dynamikos.web.environments import actions, queries
from dynamikos.web.projects import queries as projects
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership


def page(
    request: HttpRequest, member: Membership, problem: str = "", typed: str = "", way: tuple[uuid.UUID, QueryDict] | None = None
) -> HttpResponse:  # fmt: skip
    """`typed` and `way` are what could not be taken, shown again as it was typed."""
    environments = list(queries.environments(member))
    for each in environments:
        kept = each.way
        hosts = "\n".join(f"{host} {address}" for host, address in kept.get("hosts", {}).items())
        trust = kept.get("trust", "system")
        shown = {
            **kept, "hosts": hosts, "authorities": "" if trust in ("system", "anything") else trust, "trust": trust if trust in ("system", "anything") else "these",
            "headers": [*kept.get("headers", []), ("", "")],
        }  # fmt: skip
        if way is not None and way[0] == each.pk:
            given = way[1]
            shown = {
                **{name.replace("-", "_"): given.get(name, "") for name in ("hosts", "authorities", "trust", "certificate", "key-secret", "proxy")},
                "headers": list(zip(given.getlist("header-name"), given.getlist("header-value"), strict=False)),
            }  # fmt: skip
        each.shown = shown  # type: ignore[attr-defined]
    context = {
        "environments": environments, "members": projects.members(member), "events": projects.events(member),
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


@member_view("engineer")
def secret(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Sealed, or taken away; never shown again."""
    try:
        text = "" if request.POST.get("what") == "take-away" else request.POST.get("text", "")
        if not text and request.POST.get("what") != "take-away":
            raise DynamikosError("A secret needs a text.")
        actions.set_secret(member, queries.environment(member, pk), request.POST.get("name", ""), text)
    except DynamikosError as problem:
        return page(request, member, str(problem))
    return redirect("settings", member.project_id)


@member_view("engineer")
def way(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    data = request.POST
    try:
        hosts = {}
        for line in data.get("hosts", "").splitlines():
            if line.strip():
                host, _, address = line.strip().replace("\t", " ").partition(" ")
                hosts[host.lower()] = address.strip()
        trust = data.get("trust", "system")
        made = Way(
            headers=tuple((n.strip(), v) for n, v in zip(data.getlist("header-name"), data.getlist("header-value"), strict=False) if n.strip()),
            trust=(data.get("authorities", "").strip() or "system") if trust == "these" else trust if trust == "anything" else "system",
            certificate=data.get("certificate", "").strip(), key_secret=data.get("key-secret", ""), hosts=hosts, proxy=data.get("proxy", "").strip(),
        )  # fmt: skip
        actions.set_way(member, queries.environment(member, pk), made)
    except DynamikosError as problem:
        return page(request, member, str(problem), way=(pk, data))
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
