import uuid

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from dynamikos.core.errors import DynamikosError
from dynamikos.core.personas import CLIENTS, LINES, Persona, describe, parse_persona, write_persona
from dynamikos.web.plans import persona_fields, personas
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership


@member_view(get="reader", post="engineer")
def every(request: HttpRequest, member: Membership) -> HttpResponse:
    """All personas of the project; two of them side by side."""
    if request.method == "POST":
        made = personas.create(member, request.POST.get("name", ""))
        return redirect("persona", member.project_id, made.pk)
    rows = [
        (each, personas.phrases(each), personas.used_in(each)) for each in personas.personas(member)
    ]
    chosen = [each for each, _, _ in rows if str(each.pk) in request.GET.getlist("beside")][:2]
    return render(
        request,
        "plans/personas.html",
        {"rows": rows, "chosen": chosen, "beside": list(_beside(*chosen))},
    )


def _beside(*chosen: object) -> list[tuple[str, str, str, bool]]:
    """(field, of the one, of the other, whether they differ) of two personas."""
    if len(chosen) != 2:
        return []
    one, other = (persona_fields.shown(personas.content(each)) for each in chosen)  # type: ignore[arg-type]
    return [
        (name.replace("_", " "), one[name], other[name], one[name] != other[name])
        for name in persona_fields.FIELDS
    ]


@member_view(get="reader", post="engineer")
def one(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Its fields, or its text form: what can't be taken stays as it was typed."""
    found = personas.persona(member, pk)
    core = personas.content(found)
    problem, status, fields, text = "", 200, persona_fields.shown(core), write_persona(core)
    if request.method == "POST":
        try:
            if "text" in request.POST:
                text = request.POST["text"]
                made = parse_persona(text)
                made = persona_fields.persona_from(persona_fields.shown(made), made)
            else:
                fields = {name: request.POST.get(name, "") for name in persona_fields.FIELDS}
                made = persona_fields.persona_from(fields, core)
            personas.change(member, found, made)
            return redirect("persona", member.project_id, pk)
        except DynamikosError as wrong:
            problem, status = str(wrong), 422
    context = {
        "found": found,
        "f": fields,
        "text": text,
        "problem": problem,
        "phrases": describe(core) if isinstance(core, Persona) else [],
        "clients": tuple(CLIENTS),
        "lines": [(name, *figures) for name, figures in LINES.items()],
        "used": personas.used_in(found),
        "others": personas.personas(member).exclude(pk=pk),
    }
    return render(request, "plans/persona.html", context, status=status)


@member_view(post="engineer")
def copy(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found = personas.persona(member, pk)
    name = request.POST.get("name", "").strip() or f"{found.name}, copy"
    made = personas.create(member, name, personas.content(found))
    return redirect("persona", member.project_id, made.pk)


@member_view(post="engineer")
def delete(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    personas.delete(member, personas.persona(member, pk), request.POST.get("sure", ""))
    return redirect("personas", member.project_id)
