import json
import uuid

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits
from dynamikos.web.functions import actions, queries
from dynamikos.web.functions.models import Module
from dynamikos.web.projects import queries as projects
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership


@member_view(get="reader", post="engineer")
def functions(request: HttpRequest, member: Membership) -> HttpResponse:
    """The modules; one of them open. What is typed is kept even when it can't be read."""
    if request.method == "POST" and request.headers.get("Accept") == "application/json":
        return _typed(member, request.POST.get("name", ""), request.POST.get("source", ""))
    name, problem, typed = request.GET.get("at", ""), "", None
    if request.method == "POST":
        data = request.POST
        name = data.get("name", "")
        try:
            match data.get("what"):
                case "delete":
                    actions.delete(member, name, data.get("sure", ""))
                    name = ""
                case "starter":
                    name = actions.save(member, "starter", actions.STARTER).name
                case "agree":
                    actions.agree(member, bool(data.get("agreed")))
                case "permit":
                    actions.permit(member, data.get("username", ""), bool(data.get("may")))
                case _:
                    actions.save(member, name, data.get("source", ""))
            return redirect(
                reverse("functions", args=[member.project_id]) + (f"?at={name}" if name else "")
            )
        except DynamikosError as wrong:
            problem, typed = str(wrong), data.get("source")
    modules = list(queries.modules(member))
    chosen = next(
        (each for each in modules if each.name == name),
        None if request.GET.get("at") == "" else (modules[0] if modules else None),
    )
    context = {
        "modules": modules,
        "chosen": chosen,
        "problem": problem,
        "typed": typed,
        "source": typed if typed is not None else chosen.source if chosen is not None else "",
        "name": name,
        "members": projects.members(member),
        "signatures": queries.signatures(member.project),
        "problems_now": _problems(chosen) if chosen else [],
    }
    return render(request, "functions/functions.html", context, status=422 if problem else 200)


def _problems(module: Module) -> list[dict[str, object]]:
    """What is wrong with a module, as the editor marks it."""
    if not module.problem:
        return []
    line, _, message = module.problem.removeprefix("line ").partition(": ")
    return [{"line": digits(line) or 1, "column": 1, "message": message or module.problem}]


def _typed(member: Membership, name: str, source: str) -> JsonResponse:
    """A module kept while it is typed."""
    try:
        made = actions.save(member, name, source)
    except DynamikosError as wrong:
        return JsonResponse({"says": f"Not kept: {wrong}", "kind": "error", "problems": []})
    problems = _problems(made)
    said = (
        f"{made.problem}. The text is kept; its functions are away until it is mended."
        if problems
        else f"Kept. Functions: {', '.join(made.names) or 'none yet'}."
    )
    return JsonResponse(
        {
            "says": said,
            "kind": "error" if problems else "saved",
            "problems": problems,
            "signatures": queries.signatures(member.project),
        }
    )


@member_view(post="engineer")
def attempt(request: HttpRequest, member: Membership) -> HttpResponse:
    data = request.POST
    given = {
        n.strip(): v
        for n, v in zip(data.getlist("arg-name"), data.getlist("arg-value"), strict=False)
        if n.strip()
    }
    try:
        made = actions.attempt(member, data.get("function", ""), given)
    except DynamikosError as problem:
        return render(request, "functions/_attempt.html", {"problem": str(problem)}, status=422)
    return render(request, "functions/_attempt.html", {"attempt": made})


@member_view(get="reader")
def attempted(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found = queries.attempt(member, pk)
    return render(
        request,
        "functions/_attempt.html",
        {"attempt": found, "given": json.dumps(found.given, ensure_ascii=False)},
    )
