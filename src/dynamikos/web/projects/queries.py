"""Reading projects."""

from django.db.models import QuerySet

from dynamikos.core.errors import DynamikosError
from dynamikos.web.accounts.models import Account
from dynamikos.web.projects.models import Event, Membership


def memberships_of(account: Account) -> QuerySet[Membership]:
    return (
        Membership.objects.filter(account=account)
        .select_related("project")
        .order_by("project__name")
    )


def others_of(member: Membership) -> QuerySet[Membership]:
    """Of the same account, in other projects that it may change."""
    return (
        memberships_of(member.account)
        .exclude(role=Membership.Role.READER)
        .exclude(project=member.project)
    )


def other_of(member: Membership, project: str) -> Membership | None:
    """The one in `project`, of those; None for "". Raises DynamikosError."""
    if not project:
        return None
    found = next((each for each in others_of(member) if str(each.project_id) == project), None)
    if found is None:
        raise DynamikosError("You can change no such project; choose one of yours.")
    return found


def members(member: Membership) -> QuerySet[Membership]:
    return (
        Membership.objects.filter(project=member.project)
        .select_related("account")
        .order_by("account__username")
    )


def events(member: Membership) -> QuerySet[Event]:
    return Event.objects.filter(project=member.project).select_related("account")[:20]
