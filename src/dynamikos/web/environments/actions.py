"""Changing environments. Adding an agreed target is the owner's right and is in the event table."""

import re

from cryptography.x509 import load_pem_x509_certificates
from django.conf import settings
from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.utils import timezone

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import key_from
from dynamikos.core.journeys.headers import header_problem
from dynamikos.core.plans import Way, parse_target
from dynamikos.core.plans.environment import WAY
from dynamikos.core.values import names_in
from dynamikos.core.values.masking import SHORTEST_SECRET
from dynamikos.web.environments import queries
from dynamikos.web.environments.models import AgreedTarget, Environment, Secret
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership

STATES_KEPT = 30
NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*\Z")


def create(member: Membership, name: str) -> Environment:
    name = name.strip()[:120] or "Environment"
    taken = set(Environment.objects.filter(project=member.project).values_list("key", flat=True))
    made = Environment.objects.create(project=member.project, key=key_from(name, taken), name=name)
    note(member, "environment created", name)
    return made


def rename(member: Membership, found: Environment, name: str) -> None:
    """Another name; its key, which plans and journeys refer to, stays."""
    if not name.strip():
        raise DynamikosError("An environment needs a name.")
    found.name = name.strip()[:120]
    found.save(update_fields=["name"])
    note(member, "environment renamed", found.key, name=found.name)


@transaction.atomic
def delete(member: Membership, found: Environment, sure: str) -> None:
    """Takes an environment away with its secrets and agreed targets.

    Raises DynamikosError unless `sure` is its name, PermissionDenied for who may not.
    """
    require(member, "owner")
    if sure.strip() != found.name:
        raise DynamikosError(
            f"To delete {found.name} write its name beside the button; its sealed secrets can't be "
            "brought back."
        )
    note(member, "environment deleted", found.key, name=found.name)
    found.delete()


def _remember(found: Environment) -> None:
    found.history = [*found.history, {"values": found.values, "way": found.way}][-STATES_KEPT:]


def undo(member: Membership, found: Environment) -> None:
    """Values and way as they were before the last change. Raises DynamikosError when there is
    nothing to go back to.
    """
    if not found.history:
        raise DynamikosError(f"There is no change of {found.name} to take back.")
    *found.history, last = found.history
    found.values, found.way = last["values"], last["way"]
    found.save(update_fields=["values", "way", "history"])
    note(member, "environment change taken back", found.key)


def set_values(member: Membership, found: Environment, names: list[str], values: list[str]) -> None:
    """Replaces all values. Raises DynamikosError for a name that can't be one; then nothing
    changes.
    """
    made: dict[str, str] = {}
    for name, value in zip(names, values, strict=False):
        name = name.strip()
        if not name and not value.strip():
            continue
        if not NAME.match(name):
            raise DynamikosError(
                f"'{name}' can't be the name of a value: use letters, digits and _, not beginning "
                "with a digit."
            )
        if name in made:
            raise DynamikosError(f"The value '{name}' stands there twice; remove one.")
        made[name] = value.strip()
    if made == found.values:
        return
    _remember(found)
    found.values = made
    found.save(update_fields=["values", "history"])
    note(member, "environment values changed", found.key, names=sorted(made))


def set_secret(member: Membership, found: Environment, name: str, text: str) -> None:
    """Seals a secret; without a text it is taken away. Raises DynamikosError for a name that can't
    be one.
    """
    name = name.strip()
    if not NAME.match(name) or len(name) > 80:
        raise DynamikosError(
            f"'{name[:60]}' can't be the name of a secret: use letters, digits and _, not "
            "beginning with a digit."
        )
    if not text:
        found.secrets.filter(name=name).delete()
        note(member, "secret taken away", name, environment=found.key)
        return
    if len(text) < SHORTEST_SECRET:
        raise DynamikosError(
            f"A secret has at least {SHORTEST_SECRET} characters: a shorter one can't be told from "
            "other text, so it"
            " could not be masked."
        )
    if len(text) > 20_000:
        raise DynamikosError("A secret has at most 20,000 characters.")
    key = queries.sealer()
    Secret.objects.update_or_create(
        environment=found,
        name=name,
        defaults={
            "sealed": key.seal(text, queries.about(found, name)),
            "fingerprint": key.fingerprint(text),
            "changed_by": member.account,
        },
    )
    note(member, "secret sealed", name, environment=found.key)


def set_way(member: Membership, found: Environment, way: Way) -> None:
    """How requests reach the target. Raises DynamikosError for what can't be used; then nothing
    changes.
    """
    for name, value in way.headers:
        if problem := header_problem(name, value):
            raise DynamikosError(f"Header: {problem}.")
        names_in(value)
    for text, what in (
        (way.trust if way.trust not in ("system", "anything") else "", "trusted certificates"),
        (way.certificate, "client certificate"),
    ):
        if text:
            try:
                certificates = load_pem_x509_certificates(text.encode())
            except ValueError as problem:
                raise DynamikosError(
                    f"The {what} can't be read; paste them in PEM, from -----BEGIN "
                    "CERTIFICATE----- on."
                ) from problem
            if not certificates:
                raise DynamikosError(f"There is no certificate among the {what}.")
    if way.certificate and not way.key_secret:
        raise DynamikosError(
            "The client certificate needs its key: seal the key as a secret first, and choose it "
            "here."
        )
    if way.key_secret and not found.secrets.filter(name=way.key_secret).exists():
        raise DynamikosError(f"There is no secret {way.key_secret} in {found.name}.")
    if way.hosts:
        raise DynamikosError(
            "Where a host is to be reached is a part of its agreed target: an owner adds it as "
            "https://staging.example"
            " at 10.0.0.7."
        )
    if way.proxy and not re.match(r"http://[^/\s]+\Z", way.proxy):
        raise DynamikosError(f"'{way.proxy[:60]}' is not a proxy; write http://proxy.example:3128")
    if WAY.plain(way) == found.way:
        return
    _remember(found)
    found.way = WAY.plain(way)
    found.save(update_fields=["way", "history"])
    note(member, "way to the target changed", found.key)


@transaction.atomic
def agree(member: Membership, found: Environment, text: str) -> AgreedTarget:
    """Adds an agreed target. Raises PlanError for what can't be one, PermissionDenied for who
    may not.
    """
    require(member, "owner")
    if settings.TARGETS_BY == "administrators" and not member.account.is_staff:
        raise PermissionDenied(
            "In this installation administrators agree to targets; ask one of them."
        )
    target = parse_target(text)
    made, _ = AgreedTarget.objects.update_or_create(
        environment=found,
        scheme=target.scheme,
        host=target.host,
        port=target.port,
        defaults={
            "agreed_by": member.account,
            "address": target.address,
            "agreed_at": timezone.now(),
        },
    )
    note(member, "target agreed", str(made), environment=found.key)
    return made


@transaction.atomic
def cap(member: Membership, found: Environment, pk: int, per_s: float) -> None:
    """At most so many exchanges a second to an agreed target; 0 for no limit. An owner's right."""
    require(member, "owner")
    for target in found.targets.filter(pk=pk):
        target.cap_per_s = per_s
        target.save(update_fields=["cap_per_s"])
        note(member, "target capped", str(target), environment=found.key, per_s=per_s)


@transaction.atomic
def withdraw(member: Membership, found: Environment, pk: int) -> None:
    require(member, "owner")
    for target in found.targets.filter(pk=pk):
        note(member, "target withdrawn", str(target), environment=found.key)
        target.delete()
