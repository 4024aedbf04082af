"""Runs that are over are put into the archive, brought back, or deleted for ever."""

from collections.abc import Sequence
from typing import Any

from django.db import transaction
from django.db.models import CASCADE, QuerySet

from dynamikos.core.errors import PlanError
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs.models import Run
from dynamikos.web.streams.models import Message


@transaction.atomic
def archive(member: Membership, runs: Sequence[Run], *, back: bool = False) -> None:
    """They stay whole, out of the list; or come `back` into it. Raises PlanError for one that is
    not over.
    """
    require(member, "engineer")
    for each in runs:
        if not each.is_over and not back:
            raise PlanError(f"Run {each.number} is not over; it can be archived then.")
    Run.objects.filter(pk__in=[each.pk for each in runs]).update(is_archived=not back)
    note(
        member,
        "runs brought back" if back else "runs archived",
        ", ".join(str(each.number) for each in runs),
    )


@transaction.atomic
def delete(member: Membership, runs: Sequence[Run], sure: str) -> None:
    """For ever, with everything that was measured; `sure` are their numbers. Raises PlanError."""
    require(member, "engineer")
    numbers = sorted(each.number for each in runs)
    named = ", ".join(map(str, numbers))
    if sorted(part.strip() for part in sure.split(",") if part.strip()) != sorted(
        map(str, numbers)
    ):
        raise PlanError(f"To delete them write their numbers: {named}.")
    for each in runs:
        if not each.is_over:
            raise PlanError(
                f"Run {each.number} is not over; stop it or wait for its end, then delete it."
            )
    for each in runs:
        Message.objects.filter(subject=each.pk)._raw_delete("default")
        _without_parts(Run.objects.filter(pk=each.pk))
    note(member, "runs deleted", named)


def _without_parts(found: QuerySet[Any]) -> None:
    """Deletes lines and all that hangs from them by statements, whatever their number; others
    forget them.
    """
    for relation in found.model._meta.related_objects:
        others = relation.related_model._base_manager.filter(
            **{f"{relation.field.name}__in": found}
        )
        if relation.many_to_many:
            through = relation.field.remote_field.through
            field = relation.field.m2m_reverse_field_name()
            through._base_manager.filter(**{f"{field}__in": found})._raw_delete("default")
        elif relation.on_delete is CASCADE:
            _without_parts(others)
        else:
            others.update(**{relation.field.name: None})
    found._raw_delete("default")
