"""Finding casebooks."""

import hashlib
import uuid

from django.db.models import Exists, OuterRef, QuerySet
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


def _held() -> Exists:
    """Whoever made a link, or took it over, may make links still. Without that it opens nothing:
    who leaves a project takes along no door to it.
    """
    may = Membership.objects.filter(
        project=OuterRef("casebook__project"), account=OuterRef("by"), account__is_active=True,
        role__in=(Membership.Role.ENGINEER, Membership.Role.OWNER),
    )  # fmt: skip
    return Exists(may)


def links_of(member: Membership, found: Casebook | None = None) -> list[ReadLink]:
    """Those of a casebook, or of all in the project, the newest first; each says in `says` why it
    opens nothing.
    """
    those = (
        ReadLink.objects.filter(casebook=found)
        if found
        else ReadLink.objects.filter(casebook__project=member.project)
    )
    made: list[ReadLink] = [*those.select_related("casebook", "by").annotate(is_held=_held())]
    for each in made:
        each.says = _why_shut(each)  # type: ignore[attr-defined]
    return made


def _why_shut(link: ReadLink) -> str:
    """Empty for one that opens its casebook."""
    if link.revoked_at is not None:
        return f"taken back {link.revoked_at:%Y-%m-%d %H:%M} UTC"
    if link.until <= timezone.now():
        return "ended"
    if link.is_held:  # type: ignore[attr-defined]
        return ""
    whose = link.by.username if link.by else "whose account is gone"
    return f"opens nothing: {whose} may not make links here any more; an owner can take it over"


def read_by(word: str) -> Casebook:
    """The casebook that a link's word opens today. Raises Http404, whatever the reason."""
    link = (
        ReadLink.objects.select_related("casebook__head", "casebook__project")
        .filter(_held(), sha256=hashed(word), revoked_at=None, until__gt=timezone.now())
        .first()
    )
    if link is None:
        raise Http404(
            "There is nothing to read here: the link is not known, has ended, or was taken back."
        )
    return link.casebook
