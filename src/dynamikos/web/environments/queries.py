"""Reading environments."""

import uuid

from django.db.models import QuerySet
from django.shortcuts import get_object_or_404

from dynamikos.core.plans import AgreedTarget as CoreTarget
from dynamikos.web.environments.models import Environment
from dynamikos.web.projects.models import Membership, Project


def environments(member: Membership) -> QuerySet[Environment]:
    return Environment.objects.filter(project=member.project).prefetch_related("targets__agreed_by")


def environment(member: Membership, pk: uuid.UUID) -> Environment:
    return get_object_or_404(Environment, project=member.project, pk=pk)


def known(found: Environment | None) -> dict[str, str]:
    """Values by their name in a journey."""
    return {} if found is None else {f"env.{name}": value for name, value in found.values.items()}


def agreed(found: Environment) -> tuple[CoreTarget, ...]:
    return tuple(CoreTarget(scheme="https" if t.scheme == "https" else "http", host=t.host, port=t.port) for t in found.targets.all())


def first(project: Project) -> Environment | None:
    return Environment.objects.filter(project=project).order_by("name").first()
