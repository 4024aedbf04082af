"""Finding casebooks."""

import hashlib
import uuid

from django.db.models import QuerySet
from django.http import Http404
from django.shortcuts import get_object_or_404
from django.utils import timezone

from dynamikos.core.telling import casebook as core
from dynamikos.web.casebook.models import Casebook, ReadLink
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import value_of


def casebooks(member: Membership) -> QuerySet[Casebook]:
    return Casebook.objects.filter(project=member.project).select_related("head", "by")


def casebook(member: Membership, pk: uuid.UUID) -> Casebook:
    return get_object_or_404(casebooks(member), pk=pk)


def content(found: Casebook) -> core.Casebook:
    """Raises Unreadable."""
    assert found.head is not None
    return value_of(found.head, core.CASEBOOK)


def current(member: Membership) -> Casebook | None:
    """Where pins go: the open one that was changed last."""
    return casebooks(member).filter(closed_at=None).order_by("-changed_at").first()


def hashed(word: str) -> str:
    return hashlib.sha256(word.encode()).hexdigest()


def read_by(word: str) -> Casebook:
    """The casebook that a link's word opens today. Raises Http404, whatever the reason."""
    link = (
        ReadLink.objects.select_related("casebook__head", "casebook__project")
        .filter(sha256=hashed(word), revoked_at=None, until__gt=timezone.now())
        .first()
    )
    if link is None:
        raise Http404("There is nothing to read here: the link is not known, has ended, or was taken back.")
    return link.casebook
