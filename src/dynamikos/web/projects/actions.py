"""Changing projects."""

from django.conf import settings
from django.core.exceptions import PermissionDenied
from django.db import transaction

from dynamikos.core.errors import DynamikosError
from dynamikos.web.accounts.models import Account
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership, Project


@transaction.atomic
def create_project(account: Account, name: str) -> Membership:
    """A new project; its maker is its owner. Raises DynamikosError for an empty name."""
    if settings.PROJECTS_BY == "administrators" and not account.is_staff:
        raise PermissionDenied(
            "In this installation administrators make projects; ask one of them."
        )
    name = name.strip()[:120]
    if not name:
        raise DynamikosError(
            "A project needs a name: type one, such as the application under test."
        )
    project = Project.objects.create(name=name)
    member = Membership.objects.create(project=project, account=account, role=Membership.Role.OWNER)
    note(member, "project created", name)
    return member


def set_member(member: Membership, username: str, role: str) -> None:
    """Gives an account a role. Only owners may; the last owner keeps the role."""
    require(member, "owner")
    account = Account.objects.filter(username=username.strip()).first()
    if account is None:
        raise DynamikosError(
            f"There is no account '{username}'. Accounts are made with ./dynamikos shell; check "
            "the spelling."
        )
    if role not in Membership.Role.values:
        raise DynamikosError(f"'{role}' is not a role; choose reader, engineer or owner.")
    if role != Membership.Role.OWNER:
        _keeps_an_owner(member, account)
    Membership.objects.update_or_create(
        project=member.project, account=account, defaults={"role": role}
    )
    note(member, "member changed", username, role=role)


@transaction.atomic
def remove_member(member: Membership, username: str) -> None:
    """Takes an account out of the project; what it did stays with its name. Only owners may; the
    last owner stays.
    """
    require(member, "owner")
    found = (
        Membership.objects.filter(project=member.project, account__username=username.strip())
        .select_related("account")
        .first()
    )
    if found is None:
        raise DynamikosError(
            f"'{username}' is not a member of this project any more; reload the page."
        )
    if found.role == Membership.Role.OWNER:
        _keeps_an_owner(member, found.account)
    found.delete()
    note(member, "member removed", username)


def set_price(member: Membership, price: float, currency: str) -> None:
    """What an hour of one generator costs; 0 for no word of cost."""
    require(member, "owner")
    member.project.hour_price, member.project.currency = price, currency.strip()[:8]
    member.project.save(update_fields=["hour_price", "currency"])
    note(member, "price of a generator hour", f"{price:g} {currency.strip()[:8]}")


def _keeps_an_owner(member: Membership, leaving: Account) -> None:
    if (
        not Membership.objects.filter(project=member.project, role=Membership.Role.OWNER)
        .exclude(account=leaving)
        .exists()
    ):
        raise DynamikosError("A project keeps at least one owner; make somebody else owner first.")
