"""Starting and stopping runs."""

from dataclasses import replace as replaced

from django.conf import settings
from django.db import DatabaseError, connection, transaction
from django.db.models import Max
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError, PlanError
from dynamikos.core.frozen import FrozenRun, canonical, digest
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.frozen.freeze import freeze
from dynamikos.core.plans import Plan, parse_target
from dynamikos.core.plans.crowds import with_journeys
from dynamikos.core.plans.quick import from_address
from dynamikos.web.datasets import queries as datasets
from dynamikos.web.datasets.actions import append_rows
from dynamikos.web.environments import actions as environments
from dynamikos.web.environments.models import Environment
from dynamikos.web.environments.queries import agreed
from dynamikos.web.journeys import queries as journeys
from dynamikos.web.journeys.actions import create as create_journey
from dynamikos.web.journeys.inputs import gathered
from dynamikos.web.journeys.models import Journey
from dynamikos.web.places.queries import any_living
from dynamikos.web.plans import queries as plans
from dynamikos.web.plans.actions import add as add_plan
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership
from dynamikos.web.rehearsals.queries import unproven
from dynamikos.web.runs.models import Command, Pile, Run

WAKE = "dynamikos_coordinator"


class Unrehearsed(PlanError):
    """Nothing shows yet that the journey holds for more than one round."""

    def __init__(self, journey: Journey, why: str) -> None:
        super().__init__(f"{journey.name}: {why}")
        self.journey, self.why = journey, why


def start(
    member: Membership,
    plan: LoadPlan,
    core: Plan | None = None,
    values: dict[str, str] | None = None,
    environment: str = "",
    *,
    sure: bool = True,
) -> Run:
    """Freezes all inputs and asks the coordinator to run them. `core`, `values` and `environment` (a key) override what
    is stored.

    Raises PlanError with everything that stands in the way, and Unrehearsed when somebody who is not `sure` should be
    asked first; then nothing is started.
    """
    require(member, "engineer")
    core = core or plans.content(plan)
    if environment:
        core = replace(core, environment=environment)
    found = plans.journeys_of(plan, core)
    gone = [name for name, journey in found.items() if journey is None]
    if gone:
        raise PlanError(f"The journey '{gone[0]}' is not in this project any more; choose another in the plan.")
    here = {name: journey for name, journey in found.items() if journey is not None}
    scripts = {name: journeys.content(journey) for name, journey in here.items()}
    place = Environment.objects.filter(project=member.project, key=core.environment).first()
    if place is None:
        raise PlanError(f"The environment '{core.environment}' is not in this project; choose another in the plan.")
    inputs = gathered(place, core, {name: script.active() for name, script in scripts.items()}, values=values)
    inputs = replaced(
        inputs,
        round_s=plans.rounds_s(here, scripts, core),
        plan=replace(core, data=tuple(pile.key for pile in inputs.data)),
    )
    problems = inputs.problems()
    if problems:
        raise PlanError("\n".join(problems))
    for name, journey in here.items():
        why = "" if sure else unproven(journey, scripts[name])
        if why:
            raise Unrehearsed(journey, why)
    with transaction.atomic(), connection.cursor() as cursor:
        # one start at a time, so that the numbers of generators are right
        cursor.execute("SELECT pg_advisory_xact_lock(7301)")
        generators = any_living()
        active = list(Run.objects.exclude(state__in=[Run.State.ENDED, Run.State.REFUSED]))
        taken = sum(frozen_of(each).plan.generators for each in active)
        if len(generators) < core.generators:
            raise PlanError(
                f"The plan asks for {core.generators} generators and {len(generators)} are there. Start more with"
                " ./dynamikos generator, or ask for fewer in the plan."
            )
        if taken + core.generators > len(generators):
            other = active[0]
            where = f"run {other.number}" if other.project_id == member.project_id else "a run of another project"
            raise PlanError(
                f"Every generator is busy with {where}. Stop it, wait for its end, or start another with ./dynamikos"
                " generator."
            )
        number = (Run.objects.filter(project=member.project).aggregate(top=Max("number"))["top"] or 0) + 1
        made = Run(project=member.project, plan=plan, number=number, name=core.name, asked_by=member.account)
        cap = cap_for(active, core.generators, len(generators))
        frozen = freeze(inputs, run=str(made.pk), seed=core.drawn_seed(), cap_per_s=cap, checked=True)
        made.frozen = canonical(frozen)
        made.sha256 = digest(made.frozen)
        made.save(force_insert=True)
        Pile.objects.bulk_create(
            Pile(run=made, name=name, rows=rows, endless=endless)
            for name, rows, endless in datasets.shared_piles(frozen.data)
        )
        for head in (plan.head, *(journey.head for journey in here.values())):
            if head is not None:
                head.used = True
                head.save(update_fields=["used"])
        note(member, "run started", core.name, number=number)
        cursor.execute("SELECT pg_notify(%s, %s)", [WAKE, str(made.pk)])
    return made


def start_quickly(
    member: Membership, address: str, seconds: float, *, users: int | None = None, arrivals_per_s: float | None = None
) -> Run:
    """Makes what a run of one address needs, and starts it: an environment that agrees to it, unless there is one (an
    owner does that), a journey and a plan. Raises PlanError; PermissionDenied where the target may not be agreed to.
    """
    require(member, "engineer")
    quick = from_address(address, seconds, users=users, arrivals_per_s=arrivals_per_s)
    target = parse_target(quick.agreed)
    with transaction.atomic():
        place = next(
            (
                each
                for each in Environment.objects.filter(project=member.project, values__site=quick.agreed)
                if any(line.covers(target.scheme, target.host, target.port) for line in agreed(each))
            ),
            None,
        )
        if place is None:
            place = environments.create(member, quick.environment.name)
            environments.set_values(member, place, ["site"], [quick.agreed])
            environments.agree(member, place, quick.agreed)
        journey = create_journey(member, quick.journey, None)
        plan = replace(quick.plan, environment=place.key)
        crowds = with_journeys(plan.everybody(), {quick.journey.journey: journey.key})
        made = add_plan(member, plan.with_crowds(crowds))
    return start(member, made)


def cap_for(active: list[Run], wanted: int, living: int) -> float:
    """Requests/s that a run of `wanted` of the installation's `living` generators may send; 0: no cap.

    Raises PlanError when none is left.
    """
    whole = float(settings.MAX_REQUESTS_PER_S)
    if not whole:
        return 0.0
    mine = min(whole * wanted / max(1, living), whole - sum(frozen_of(each).cap_per_s for each in active))
    if mine <= 0:
        raise PlanError(
            f"This installation sends at most {whole:g} requests/s, and the runs under way have them all. Wait for"
            " their end."
        )
    return mine


def take_in(run: Run) -> None:
    """Rows that the run's journey wrote back, into their data sets. Called once, at the run's end."""
    rows: dict[str, list[dict[str, str]]] = {}
    for into, row in run.written.order_by("id").values_list("into", "row"):
        rows.setdefault(into, []).append(dict(row))
    for into, found in rows.items():
        try:
            with transaction.atomic():
                append_rows(run.project, into, found)
                run.written.filter(into=into).delete()
        except (DynamikosError, DatabaseError) as problem:  # the run is over all the same; the rows stay where they are
            run.remark = f"{run.remark}\n{len(found):,} rows for {into} could not be taken in: {problem}".strip()
            run.save(update_fields=["remark"])


def stop(member: Membership, run: Run, *, now: bool) -> None:
    """Gently: users finish their step and leave. Now: connections are cut."""
    require(member, "engineer")
    if run.is_over:
        raise PlanError(f"Run {run.number} is over already.")
    verb = "stop-now" if now else "stop-gently"
    with transaction.atomic(), connection.cursor() as cursor:
        Command.objects.create(run=run, verb=verb, asked_by=member.account)
        note(member, verb.replace("-", " "), f"run {run.number}")
        cursor.execute("SELECT pg_notify('dynamikos_command', %s)", [str(run.pk)])
        cursor.execute("SELECT pg_notify(%s, %s)", [WAKE, str(run.pk)])


def frozen_of(run: Run) -> FrozenRun:
    return FROZEN.read(bytes(run.frozen))
