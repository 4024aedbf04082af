"""Reading environments."""

import uuid
from collections.abc import Iterable
from urllib.parse import urlsplit

from django.conf import settings
from django.db.models import QuerySet
from django.shortcuts import get_object_or_404
from msgspec.structs import replace

from dynamikos.core.plans import AgreedTarget as CoreTarget
from dynamikos.core.plans import Way
from dynamikos.core.plans.environment import WAY
from dynamikos.sealing import Sealer
from dynamikos.web.environments.models import Environment, Secret
from dynamikos.web.projects.models import Membership, Project


def environments(member: Membership) -> QuerySet[Environment]:
    return Environment.objects.filter(project=member.project).prefetch_related("targets__agreed_by")


def environment(member: Membership, pk: uuid.UUID) -> Environment:
    return get_object_or_404(Environment, project=member.project, pk=pk)


def known(found: Environment | None) -> dict[str, str]:
    """Values by their name in a journey."""
    return {} if found is None else {f"env.{name}": value for name, value in found.values.items()}


def names(found: Environment | None) -> set[str]:
    """Every name a journey may use: values and secrets."""
    return (
        set()
        if found is None
        else {*known(found), *(f"secrets.{each.name}" for each in found.secrets.all())}
    )


def way_of(found: Environment) -> Way:
    """How requests get there. Where a host is instead of where its name says is a part of what
    owners agree to, never of this.
    """
    return replace(WAY.of(found.way), hosts={})


def sealer() -> Sealer:
    settings.SEALING_KEY.parent.mkdir(parents=True, exist_ok=True)
    return Sealer(settings.SEALING_KEY)


def about(found: Environment, name: str) -> str:
    """What a secret is sealed as being about: moved elsewhere in the database it does not open."""
    return f"{found.pk}/{name}"


def opened(project: uuid.UUID, environment: str, names: Iterable[str]) -> dict[str, str]:
    """The named secrets of an environment (by key), to be boxed for a generator at once. Raises
    SealingError.
    """
    rows = Secret.objects.filter(
        environment__project=project, environment__key=environment, name__in=list(names)
    ).select_related("environment")
    key = sealer()
    return {row.name: key.open(bytes(row.sealed), about(row.environment, row.name)) for row in rows}


def fingerprints(found: Environment, names: Iterable[str]) -> dict[str, str]:
    return dict(found.secrets.filter(name__in=list(names)).values_list("name", "fingerprint"))


def agreed(found: Environment) -> tuple[CoreTarget, ...]:
    return tuple(target.core for target in found.targets.all())


def origins(found: Environment) -> list[str]:
    """Scheme, host and port of each value that is an address, as they would be agreed to."""
    made = {}
    for value in found.values.values():
        try:
            parts = urlsplit(str(value).strip())
            if parts.scheme in ("http", "https") and parts.hostname:
                made[f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}"] = True
        except ValueError:
            continue
    return list(made)


def named(project: Project, key: str) -> Environment | None:
    """The environment with `key`; the first one without."""
    return Environment.objects.filter(project=project, key=key).first() if key else first(project)


def first(project: Project) -> Environment | None:
    return Environment.objects.filter(project=project).order_by("name").first()
