"""Personas of a project: finding, changing, and where they are used."""

import uuid

from django.db import transaction
from django.db.models import QuerySet
from django.shortcuts import get_object_or_404
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms import Unfit
from dynamikos.core.journeys import key_from
from dynamikos.core.personas import Persona as CorePersona
from dynamikos.core.personas import describe
from dynamikos.core.personas.model import PERSONA
from dynamikos.web.plans.models import LoadPlan, Persona
from dynamikos.web.plans.queries import content as plan_content
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership, Project
from dynamikos.web.projects.revisions import Unreadable


def personas(member: Membership) -> QuerySet[Persona]:
    return Persona.objects.filter(project=member.project)


def persona(member: Membership, pk: uuid.UUID) -> Persona:
    return get_object_or_404(personas(member), pk=pk)


def content(found: Persona) -> CorePersona:
    """Raises DynamikosError for one that can't be read."""
    try:
        return PERSONA.of(found.content)
    except Unfit as problem:
        raise DynamikosError(
            f"The persona {found.name} can't be read: {problem}. It is kept as it is."
        ) from problem


def named(project: Project, keys: tuple[str, ...]) -> dict[str, CorePersona]:
    """Those of `keys` that are there."""
    return {
        each.key: content(each) for each in Persona.objects.filter(project=project, key__in=keys)
    }


def used_in(found: Persona) -> list[tuple[LoadPlan, list[str]]]:
    """Plans whose rows have it, with the names of those rows."""
    made = []
    for plan in LoadPlan.objects.select_related("head").filter(project=found.project):
        try:
            core = plan_content(plan)
        except Unreadable:
            continue
        crowds = core.everybody()
        rows = [
            row.name or row.row
            for crowd in crowds
            for row in crowd.rows
            if row.persona == found.key
        ]
        if rows:
            made.append((plan, rows))
    return made


def phrases(found: Persona) -> list[str]:
    """What it is like; of one that can't be read, why."""
    try:
        return describe(content(found))
    except DynamikosError as problem:
        return [str(problem)]


@transaction.atomic
def create(member: Membership, name: str, core: CorePersona | None = None) -> Persona:
    """One that does as its journey says; or `core`, under a key of its own."""
    require(member, "engineer")
    title = name.strip()[:80] or "Persona"
    taken = set(personas(member).values_list("key", flat=True))
    key = key_from(core.persona if core is not None and not name.strip() else title, taken)
    made = (
        replace(core, persona=key, name=title if name.strip() else core.name)
        if core is not None
        else None
    )
    made = made or CorePersona(form=1, persona=key, name=title)
    kept = Persona.objects.create(
        project=member.project, key=key, name=made.name, content=PERSONA.plain(made)
    )
    note(member, "persona created", kept.name)
    return kept


def change(member: Membership, found: Persona, core: CorePersona) -> None:
    require(member, "engineer")
    if core.persona != found.key:
        raise DynamikosError(
            f"The key of a persona stays what it is, {found.key}: plans name it. Make a copy "
            "instead."
        )
    found.content, found.name = PERSONA.plain(core), core.name or found.key
    found.save(update_fields=["content", "name", "changed_at"])
    note(member, "persona changed", found.name)


def delete(member: Membership, found: Persona, sure: str) -> None:
    """Raises DynamikosError unless `sure` is its name, and while plans use it."""
    require(member, "engineer")
    if sure.strip() != found.name:
        raise DynamikosError(f"To delete {found.name} write its name beside the button.")
    used = used_in(found)
    if used:
        plans = ", ".join(plan.name for plan, _ in used)
        raise DynamikosError(
            f"{found.name} is used in {plans}; give those rows another persona first."
        )
    note(member, "persona deleted", found.name, key=found.key)
    found.delete()
