"""What a plan's runs are held against: a run, or the runs of a set, that somebody accepted, with
when and why.
"""

import uuid

from django.db import transaction

from dynamikos.core.comparison.bounds import bound_of
from dynamikos.core.errors import PlanError
from dynamikos.core.journeys import key_from
from dynamikos.core.objectives import Objective
from dynamikos.core.statistics.intervals import Estimate
from dynamikos.core.verdicts.states import NOT_JUDGED, STOPPED
from dynamikos.web.plans.actions import change as change_plan
from dynamikos.web.plans.queries import content
from dynamikos.web.plans.suggesting import up
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import token
from dynamikos.web.runs import queries
from dynamikos.web.runs.models import Baseline, Run
from dynamikos.web.runs.trend import figures

KEY = "baseline-"  # what the keys of objectives that come from one begin with


def current(plan_id: uuid.UUID | None) -> Baseline | None:
    """The newest of a plan whose runs are there."""
    every = Baseline.objects.filter(plan=plan_id, runs__isnull=False)
    return every.select_related("by").order_by("-at").first() if plan_id else None


def whole(run: Run) -> list[Run]:
    """It, or the runs of its set."""
    if run.of_set is None:
        return [run]
    return list(Run.objects.filter(of_set=run.of_set, project=run.project_id).order_by("set_place"))


def in_the_way(runs: list[Run]) -> str:
    """Why they can be no baseline; "" where they can."""
    for each in runs:
        outcome = each.outcome or {}
        if not each.is_over or each.watermark < 0 or not outcome:
            return f"Run {each.number} is not over, or nothing came of it."
        if each.is_trial:
            return f"Run {each.number} is a trial, which is too small to be held against."
        if outcome.get("exit_code") in (NOT_JUDGED, STOPPED, 2):
            return f"Run {each.number} is not judged; look at its doubts first."
        if queries.changes_of(each):
            return f"The load of run {each.number} was changed by hand while it ran."
    return ""


@transaction.atomic
def accept(
    member: Membership, run: Run, why: str, warn: float | None = None, fail: float | None = None
) -> Baseline:
    """It (or its set) becomes the baseline of its plan. With factors the plan gets an objective
    about the p95 of each step: a warning from `warn` times the baseline's on, and failing from
    `fail` times on; those of an earlier baseline are replaced. Raises PlanError.
    """
    require(member, "engineer")
    runs = whole(run)
    problem = in_the_way(runs)
    if problem:
        raise PlanError(f"{problem} So it can't be the baseline.")
    if run.plan is None:
        raise PlanError(
            "The plan of this run was deleted: make one of its inputs first, and run that."
        )
    if warn and fail and warn >= fail:
        raise PlanError(
            f"A warning at {warn:g} times comes after failing at {fail:g} times; turn them round."
        )
    made = Baseline.objects.create(plan=run.plan, by=member.account, why=why.strip()[:2000])
    made.runs.set(runs)
    if warn or fail:
        core = content(run.plan)
        kept = tuple(each for each in core.objectives if not each.objective.startswith(KEY))
        every = kept + tuple(bounds(runs, warn, fail, {each.objective for each in kept}))
        change_plan(member, run.plan, token(run.plan.head), objectives=every)
    note(member, "baseline accepted", run.plan.name, runs=[each.number for each in runs])
    return made


def bounds(
    runs: list[Run], warn: float | None, fail: float | None, taken: set[str]
) -> list[Objective]:
    """Of each step that all runs have a p95 of: their geometric mean times the factors; for the
    failing one at least what one more run of the same build exceeds by chance in one of twenty over
    all steps, so that it is no false alarm.
    """
    found: dict[tuple[str, str], list[float]] = {}
    sure: dict[tuple[str, str], list[Estimate]] = {}
    for run in runs:
        for row in (run.outcome or {}).get("rows", []):
            if row.get("level") == "step" and row.get("p95_ms"):
                found.setdefault((row.get("journey", ""), row["step"]), []).append(row["p95_ms"])
        for each in figures(run):
            if (
                (each.level, each.measure) == ("step", "p95")
                and each.spread is not None
                and each.value > 0
            ):
                made_of = Estimate(each.value, each.n, error=each.spread, freedom=each.freedom)
                sure.setdefault((each.journey, each.step), []).append(made_of)
    several = len({journey for journey, _ in found}) > 1
    named = "-".join(str(run.number) for run in runs[:3])
    made = []
    for (journey, step), values in found.items():
        if len(values) != len(runs):
            continue
        usual = 1.0
        for value in values:
            usual *= value ** (1 / len(values))
        for factor, then in ((warn, "warn"), (fail, "fail")):
            if factor:
                key = key_from(f"{KEY}{named}-{then}-{step}", taken)
                taken.add(key)
                limit = usual * factor
                known = sure.get((journey, step), [])
                if then == "fail" and len(known) == len(runs):
                    limit = max(limit, bound_of(known, len(found)))
                made.append(
                    Objective(
                        objective=key,
                        measure="p95",
                        step=step,
                        journey=journey if several else None,
                        limit=up(limit),
                        then=then,  # type: ignore[arg-type]
                    )
                )
    return made
