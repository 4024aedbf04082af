"""Changing environments. Adding an agreed target is the owner's right and is in the event table."""

import re

from django.db import transaction

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import key_from
from dynamikos.core.plans import parse_target
from dynamikos.web.environments.models import AgreedTarget, Environment
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership

NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*\Z")


def create(member: Membership, name: str) -> Environment:
    name = name.strip()[:120] or "Environment"
    taken = set(Environment.objects.filter(project=member.project).values_list("key", flat=True))
    made = Environment.objects.create(project=member.project, key=key_from(name, taken), name=name)
    note(member, "environment created", name)
    return made


def set_values(member: Membership, found: Environment, names: list[str], values: list[str]) -> None:
    """Replaces all values. Raises DynamikosError for a name that can't be one; then nothing changes."""
    made: dict[str, str] = {}
    for name, value in zip(names, values, strict=False):
        name = name.strip()
        if not name and not value.strip():
            continue
        if not NAME.match(name):
            raise DynamikosError(f"'{name}' can't be the name of a value: use letters, digits and _, not beginning with a digit.")
        if name in made:
            raise DynamikosError(f"The value '{name}' stands there twice; remove one.")
        made[name] = value.strip()
    found.values = made
    found.save(update_fields=["values"])
    note(member, "environment values changed", found.key, names=sorted(made))


@transaction.atomic
def agree(member: Membership, found: Environment, text: str) -> AgreedTarget:
    """Adds an agreed target. Raises PlanError for what can't be one, PermissionDenied for who may not."""
    require(member, "owner")
    target = parse_target(text)
    made, _ = AgreedTarget.objects.get_or_create(
        environment=found, scheme=target.scheme, host=target.host, port=target.port, defaults={"agreed_by": member.account}
    )
    note(member, "target agreed", str(made), environment=found.key)
    return made


@transaction.atomic
def withdraw(member: Membership, found: Environment, pk: int) -> None:
    require(member, "owner")
    for target in found.targets.filter(pk=pk):
        note(member, "target withdrawn", str(target), environment=found.key)
        target.delete()
