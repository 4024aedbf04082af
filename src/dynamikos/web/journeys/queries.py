"""Reading journeys."""

import uuid

from django.db.models import QuerySet
from django.shortcuts import get_object_or_404

from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.core.journeys import Problem, verify
from dynamikos.web.datasets.queries import columns_known
from dynamikos.web.environments.queries import first, known
from dynamikos.web.journeys.models import Journey
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import value_of


def journeys(member: Membership) -> QuerySet[Journey]:
    return Journey.objects.filter(project=member.project).select_related("head", "recording")


def journey(member: Membership, pk: uuid.UUID) -> Journey:
    return get_object_or_404(journeys(member), pk=pk)


def content(found: Journey) -> CoreJourney:
    """The core value of the head revision."""
    assert found.head is not None
    return value_of(found.head, CoreJourney)


def problems(found: Journey, core: CoreJourney) -> list[Problem]:
    """What is wrong with it, given the project's data sets and its first environment."""
    return verify(core, columns_known(found.project) | set(known(first(found.project))))
