"""Changing projects."""

from django.db import transaction

from dynamikos.core.errors import DynamikosError
from dynamikos.web.accounts.models import Account
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership, Project


@transaction.atomic
def create_project(account: Account, name: str) -> Membership:
    """A new project; its maker is its owner. Raises DynamikosError for an empty name."""
    name = name.strip()[:120]
    if not name:
        raise DynamikosError("A project needs a name: type one, such as the application under test.")
    project = Project.objects.create(name=name)
    member = Membership.objects.create(project=project, account=account, role=Membership.Role.OWNER)
    note(member, "project created", name)
    return member


def set_member(member: Membership, username: str, role: str) -> None:
    """Gives an account a role. Only owners may; the last owner keeps the role."""
    require(member, "owner")
    account = Account.objects.filter(username=username.strip()).first()
    if account is None:
        raise DynamikosError(f"There is no account '{username}'. Accounts are made with ./dynamikos shell; check the spelling.")
    if role not in Membership.Role.values:
        raise DynamikosError(f"'{role}' is not a role; choose reader, engineer or owner.")
    owners = Membership.objects.filter(project=member.project, role=Membership.Role.OWNER).exclude(account=account)
    if role != Membership.Role.OWNER and not owners.exists():
        raise DynamikosError("A project keeps at least one owner; make somebody else owner first.")
    Membership.objects.update_or_create(project=member.project, account=account, defaults={"role": role})
    note(member, "member changed", username, role=role)
