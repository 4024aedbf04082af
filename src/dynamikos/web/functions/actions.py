"""Keeping a project's Python functions and trying them. Who may is said by the membership; nothing
is run here.
"""

import ast
import re
from datetime import timedelta

from django.db import transaction
from django.utils import timezone
from procrastinate.contrib.django import app as jobs

from dynamikos.core.errors import DynamikosError
from dynamikos.web.functions.models import Attempt, Module
from dynamikos.web.functions.queries import sources
from dynamikos.web.places.queries import for_one_user
from dynamikos.web.projects.access import note
from dynamikos.web.projects.models import Event, Membership

NAME = re.compile(r"[a-z_][a-z0-9_]{0,59}\Z")
LONGEST, SPELL_MINUTES = 200_000, 10
STARTER = '''"""Functions for this project's journeys. Each takes texts and returns what becomes one."""


def luhn(number="7992739871"):
    """The number with its check digit (ISO/IEC 7812-1)."""
    digits = [int(sign) for sign in number]
    for at in range(len(digits) - 1, -1, -2):
        digits[at] = digits[at] * 2 - 9 * (digits[at] > 4)
    return number + str(-sum(digits) % 10)


def total(prices, tax="0"):
    """The sum of a JSON list of prices, with so many per cent of tax."""
    import json

    return round(sum(json.loads(prices)) * (100 + float(tax)) / 100, 2)
'''  # noqa: E501


def allowed(member: Membership) -> None:
    if not member.may_write_functions:
        raise DynamikosError(
            "Python functions are written by owners, and by engineers to whom an owner gave that "
            "right in Settings."
        )


def save(member: Membership, name: str, source: str) -> Module:
    """A module kept; its functions are found by reading it (`ast`), which runs nothing. A source
    that can't be read is kept all the same, with what is wrong and where, and gives no functions.
    Raises DynamikosError.
    """
    allowed(member)
    name = name.strip()
    if not NAME.match(name):
        raise DynamikosError(
            f"'{name[:40]}' can't be the name of a module: a-z, 0-9 and _, not beginning with a "
            "digit."
        )
    if len(source) > LONGEST or "\0" in source:
        raise DynamikosError(f"A module has at most {LONGEST:,} characters, and no NUL.")
    names: list[str] = []
    problem = ""
    try:
        tree = ast.parse(source, f"{name}.py")
        names = [
            node.name
            for node in tree.body
            if isinstance(node, ast.FunctionDef) and not node.name.startswith("_")
        ]
    except SyntaxError as wrong:
        problem = f"line {wrong.lineno}: {wrong.msg}"
    except (RecursionError, MemoryError, ValueError):
        problem = "it is nested too deeply to be read"
    found, _ = Module.objects.update_or_create(
        project=member.project,
        name=name,
        defaults={
            "source": source,
            "names": names,
            "problem": problem[:300],
            "changed_by": member.account,
        },
    )
    if not _noted_lately(member, name):  # one spell of typing is one event
        note(member, "functions changed", name)
    return found


def _noted_lately(member: Membership, name: str) -> bool:
    last = (
        Event.objects.filter(project=member.project, what__startswith="functions ")
        .order_by("-at")
        .first()
    )
    since = timezone.now() - timedelta(minutes=SPELL_MINUTES)
    return (
        last is not None
        and (last.what, last.subject, last.account_id)
        == ("functions changed", name, member.account_id)
        and last.at > since
    )


def delete(member: Membership, name: str, sure: str) -> None:
    """Takes a module away. Raises DynamikosError unless `sure` is its name."""
    allowed(member)
    if sure.strip() != name:
        raise DynamikosError(
            f"To delete {name} write its name beside the button; it can't be brought back."
        )
    Module.objects.filter(project=member.project, name=name).delete()
    note(member, "functions deleted", name)


def attempt(member: Membership, function: str, given: dict[str, str]) -> Attempt:
    """Asks a generator to call a function as a run would. Raises DynamikosError."""
    allowed(member)
    generator = for_one_user()
    with transaction.atomic():
        made = Attempt.objects.create(
            project=member.project,
            generator=generator,
            function=function,
            given=given,
            modules=sources(member.project),
            agreed=member.project.functions_agreed,
        )
        jobs.configure_task("try_function", queue=generator.queue, allow_unknown=True).defer(
            attempt=str(made.pk)
        )
    return made


def agree(member: Membership, agreed: bool) -> None:
    """An owner's word that functions may run where a machine can't take the network away from
    them.
    """
    if member.role != "owner":
        raise DynamikosError("Only an owner can agree to that.")
    member.project.functions_agreed = agreed
    member.project.save(update_fields=["functions_agreed"])
    note(
        member,
        "functions without isolation " + ("agreed" if agreed else "withdrawn"),
        str(member.project),
    )


def permit(member: Membership, username: str, may: bool) -> None:
    if member.role != "owner":
        raise DynamikosError("Only an owner gives this right.")
    Membership.objects.filter(project=member.project, account__username=username).update(
        may_script=may
    )
    note(member, "right to write functions " + ("given" if may else "taken"), username)
