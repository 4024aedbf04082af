"""Runs that are taken for one: chosen ones of a plan become a set, as those are that a plan
repeats.
"""

from collections.abc import Sequence

from django.db import transaction
from uuid_utils.compat import uuid7

from dynamikos.core.errors import PlanError
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs.models import Run

MOST = 100


def set_of(runs: Sequence[Run]) -> list[Run]:
    """All runs of the set that these are of; nothing where they are of none, or of several."""
    named = {each.of_set for each in runs}
    if len(named) != 1 or None in named:
        return []
    return list(
        Run.objects.filter(of_set=runs[0].of_set, project=runs[0].project_id).order_by("set_place")
    )


@transaction.atomic
def make(member: Membership, runs: Sequence[Run]) -> None:
    """They are one set from now on, in the order of their numbers. Raises PlanError."""
    require(member, "engineer")
    problem = in_the_way(runs)
    if problem:
        raise PlanError(problem)
    made, ordered = uuid7(), sorted(runs, key=lambda each: each.number)
    for place, each in enumerate(ordered, 1):
        Run.objects.filter(pk=each.pk).update(of_set=made, set_place=place, set_size=len(ordered))
    note(member, "set of runs made", ", ".join(str(each.number) for each in ordered))


def in_the_way(runs: Sequence[Run]) -> str:
    """Why they can be no set; "" where they can."""
    if len(runs) < 2:
        return "A set is made of two runs or more; choose them in the list."
    if len(runs) > MOST:
        return f"A set has {MOST} runs at most; these are {len(runs)}."
    for each in runs:
        if not each.is_over:
            return f"Run {each.number} is not over; make the set when it is."
        if each.is_trial:
            return f"Run {each.number} is a trial, which is too small to stand beside others."
        if each.of_set is not None:
            return f"Run {each.number} is of a set already; take it out of that first."
    if len({each.plan_id for each in runs}) > 1 or runs[0].plan_id is None:
        return "They are not of one plan, so they don't repeat each other; compare them instead."
    return ""


@transaction.atomic
def leave(member: Membership, runs: Sequence[Run]) -> None:
    """They are taken out of their set; one that would be left alone in it is, too. Raises
    PlanError.
    """
    require(member, "engineer")
    whole = set_of(runs)
    if not whole:
        raise PlanError("They are not of one set.")
    waits = next((each for each in whole if not each.is_over), None)
    if waits is not None:
        raise PlanError(
            f"Run {waits.number} of that set is not over; take runs out of it when it is."
        )
    out = {each.pk for each in runs}
    rest = [each for each in whole if each.pk not in out]
    if len(rest) < 2:
        out, rest = {each.pk for each in whole}, []
    Run.objects.filter(pk__in=out).update(of_set=None, set_place=1, set_size=1)
    for place, each in enumerate(rest, 1):
        Run.objects.filter(pk=each.pk).update(set_place=place, set_size=len(rest))
    note(member, "runs taken out of a set", ", ".join(str(each.number) for each in runs))
