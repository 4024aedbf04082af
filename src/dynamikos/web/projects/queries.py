"""Reading projects."""

from django.db.models import QuerySet

from dynamikos.web.accounts.models import Account
from dynamikos.web.projects.models import Event, Membership


def memberships_of(account: Account) -> QuerySet[Membership]:
    return Membership.objects.filter(account=account).select_related("project").order_by("project__name")


def members(member: Membership) -> QuerySet[Membership]:
    return Membership.objects.filter(project=member.project).select_related("account").order_by("account__username")


def events(member: Membership) -> QuerySet[Event]:
    return Event.objects.filter(project=member.project).select_related("account")[:20]
