"""Starting and stopping runs."""

import datetime
import math
import secrets
from dataclasses import dataclass
from dataclasses import replace as replaced

from django.conf import settings
from django.db import DatabaseError, connection, transaction
from django.db.models import Max
from django.shortcuts import get_object_or_404
from django.utils import timezone
from msgspec.structs import replace
from uuid_utils.compat import uuid7

from dynamikos.core.errors import DynamikosError, PlanError
from dynamikos.core.frozen import FrozenRun, canonical, digest
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.frozen.freeze import Inputs, freeze
from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.core.journeys import key_from
from dynamikos.core.lifecycles import RUN, going
from dynamikos.core.plans import Plan, parse_target
from dynamikos.core.plans.crowds import with_journeys
from dynamikos.core.plans.quick import from_address
from dynamikos.core.plans.trial import trial_of
from dynamikos.core.probes.afterwards import measures_from_csv
from dynamikos.core.verdicts.ending import ending_of
from dynamikos.web.datasets import queries as datasets
from dynamikos.web.datasets.actions import append_rows
from dynamikos.web.environments import actions as environments
from dynamikos.web.environments.models import AgreedTarget, Environment
from dynamikos.web.environments.queries import agreed
from dynamikos.web.journeys import queries as journeys
from dynamikos.web.journeys.actions import create as create_journey
from dynamikos.web.journeys.inputs import gathered
from dynamikos.web.journeys.models import Journey
from dynamikos.web.places.queries import any_living
from dynamikos.web.plans import personas
from dynamikos.web.plans import queries as plans
from dynamikos.web.plans.actions import add as add_plan
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.access import note, require
from dynamikos.web.projects.models import Membership, Project
from dynamikos.web.runs import measures, queries
from dynamikos.web.runs.log import differs_from_before
from dynamikos.web.runs.models import Command, Pile, Remark, Run

WAKE = "dynamikos_coordinator"
REMARK, NOTE, TAGS = 500, 4000, 200  # signs of each at most
MOST_REMARKS = 500  # of people, in a run


@dataclass(frozen=True, slots=True)
class Prepared:
    """What a run of a plan is made of; `here` and `scripts` are by what the plan's rows name."""

    inputs: Inputs
    here: dict[str, Journey]
    scripts: dict[str, CoreJourney]
    place: Environment


def prepared(
    member: Membership,
    plan: LoadPlan,
    core: Plan,
    *,
    values: dict[str, str] | None = None,
    environment: str = "",
) -> Prepared:
    """Gathers the inputs of a run. Raises PlanError for a journey or environment that is not
    there.
    """
    require(member, "engineer")
    if environment:
        core = replace(core, environment=environment)
    found = plans.journeys_of(plan, core)
    gone = [name for name, journey in found.items() if journey is None]
    if gone:
        raise PlanError(
            f"The journey '{gone[0]}' is not in this project any more; choose another in the plan."
        )
    here = {name: journey for name, journey in found.items() if journey is not None}
    scripts = {name: journeys.content(journey) for name, journey in here.items()}
    place = Environment.objects.filter(project=member.project, key=core.environment).first()
    if place is None:
        raise PlanError(
            f"The environment '{core.environment}' is not in this project; choose another in the "
            "plan."
        )
    inputs = gathered(
        place, core, {name: script.active() for name, script in scripts.items()}, values=values
    )
    inputs = replaced(
        inputs,
        round_s=plans.rounds_s(here, scripts, core),
        personas=personas.named(member.project, core.personas),
        plan=replace(core, data=tuple(pile.key for pile in inputs.data)),
    )
    return Prepared(inputs, here, scripts, place)


def start(
    member: Membership,
    plan: LoadPlan,
    core: Plan | None = None,
    values: dict[str, str] | None = None,
    environment: str = "",
    *,
    trial: bool = False,
    name: str = "",
    remark: str = "",
) -> Run:
    """Freezes all inputs and asks the coordinator to run them. `core`, `values` and `environment`
    (a key) override what is stored; a `trial` is the whole plan, small. `name` and `remark` are
    those of this run.

    Raises PlanError with everything that stands in the way; then nothing is started.
    """
    core = core or plans.content(plan)
    core = trial_of(core) if trial else core
    made_of = prepared(member, plan, core, values=values, environment=environment)
    inputs, here = made_of.inputs, made_of.here
    problems = inputs.problems()
    if problems:
        raise PlanError("\n".join(problems))
    with transaction.atomic(), connection.cursor() as cursor:
        _one_at_a_time()
        generators = any_living()
        active = list(Run.objects.filter(state__in=going(RUN)))
        taken = sum(frozen_of(each).plan.generators for each in active)
        if len(generators) < core.generators:
            raise PlanError(
                f"The plan asks for {core.generators} generators and {len(generators)} are there. "
                "Start more with"
                " ./dynamikos generator, or ask for fewer in the plan."
            )
        if taken + core.generators > len(generators):
            other = active[0]
            where = (
                f"run {other.number}"
                if other.project_id == member.project_id
                else "a run of another project"
            )
            raise PlanError(
                f"Every generator is busy with {where}. Stop it, wait for its end, or start "
                "another with ./dynamikos"
                " generator."
            )
        made = Run(
            project=member.project,
            plan=plan,
            number=_next_number(member.project),
            name=name.strip()[:160] or core.name,
            asked_by=member.account,
            is_trial=trial,
            remark=remark.strip()[:4000],
        )
        if core.repeat.times > 1 and not trial:
            made.of_set, made.set_size = uuid7(), core.repeat.times
        cap = cap_for(active, core.generators, len(generators))
        frozen = freeze(
            inputs,
            run=str(made.pk),
            seed=core.drawn_seed(),
            cap_per_s=cap,
            checked=True,
            trial=trial,
        )
        made.frozen = canonical(frozen)
        made.sha256 = digest(made.frozen)
        made.differs = differs_from_before(plan, frozen)
        made.save(force_insert=True)
        Pile.objects.bulk_create(
            Pile(run=made, name=name, rows=rows, endless=endless)
            for name, rows, endless in datasets.shared_piles(frozen.data)
        )
        for head in (plan.head, *(journey.head for journey in here.values())):
            if head is not None:
                head.used = True
                head.save(update_fields=["used"])
        note(member, "run started", core.name, number=made.number)
        cursor.execute("SELECT pg_notify(%s, %s)", [WAKE, str(made.pk)])
    return made


def _one_at_a_time() -> None:
    """Until the transaction ends nobody else starts a run, so that numbers of runs and of
    generators are right.
    """
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock(7301)")


def _next_number(project: Project) -> int:
    """Of a run of the project; see _one_at_a_time."""
    return (Run.objects.filter(project=project).aggregate(top=Max("number"))["top"] or 0) + 1


def next_of_set(run: Run) -> Run | None:
    """After a run of a set that came to its end: the next one, asked for after the plan's pause;
    None when it was the last, or somebody stopped it. Inside the caller's transaction.
    """
    ending = ending_of(run.ending)
    if (
        run.of_set is None
        or run.set_place >= run.set_size
        or (ending is not None and ending.is_by_hand)
    ):
        return None
    if run.commands.filter(
        verb__startswith="stop", asked_by__isnull=False
    ).exists():  # in its last seconds
        return None
    frozen = frozen_of(run)
    repeat = frozen.plan.repeat
    _one_at_a_time()
    made = Run(
        project=run.project,
        plan=run.plan,
        number=_next_number(run.project),
        name=run.name,
        asked_by=run.asked_by,
        remark=run.remark,
        of_set=run.of_set,
        set_place=run.set_place + 1,
        set_size=run.set_size,
        not_before=timezone.now() + datetime.timedelta(seconds=repeat.pause_s),
    )
    seed = secrets.randbelow(2**31) if repeat.seed == "new" else frozen.seed
    made.frozen = canonical(replace(frozen, run=str(made.pk), seed=seed))
    made.sha256 = digest(made.frozen)
    made.save(force_insert=True)
    Pile.objects.bulk_create(
        Pile(run=made, name=name, rows=rows, endless=endless)
        for name, rows, endless in datasets.shared_piles(frozen.data)
    )
    return made


def start_quickly(
    member: Membership,
    address: str,
    seconds: float,
    *,
    users: int | None = None,
    arrivals_per_s: float | None = None,
    thinks: bool = True,
    name: str = "",
) -> Run:
    """Makes what a run of one address needs, and starts it: an environment that agrees to it,
    unless there is one (an owner does that), a journey and a plan. Raises PlanError;
    PermissionDenied where the target may not be agreed to.
    """
    require(member, "engineer")
    quick = from_address(address, seconds, users=users, arrivals_per_s=arrivals_per_s)
    target = parse_target(quick.agreed)
    with transaction.atomic():
        place = next(
            (
                each
                for each in Environment.objects.filter(
                    project=member.project, values__site=quick.agreed
                )
                if any(
                    line.covers(target.scheme, target.host, target.port) for line in agreed(each)
                )
            ),
            None,
        )
        if place is None:
            place = environments.create(member, quick.environment.name)
            environments.set_values(member, place, ["site"], [quick.agreed])
            environments.agree(member, place, quick.agreed)
        journey = create_journey(member, quick.journey, None)
        plan = replace(
            quick.plan,
            environment=place.key,
            name=name or quick.plan.name,
            think_factor=1.0 if thinks else 0.0,
        )
        crowds = with_journeys(plan.everybody(), {quick.journey.journey: journey.key})
        made = add_plan(member, plan.with_crowds(crowds))
    return start(member, made)


AHEAD_S = (
    3  # a change holds so many seconds after it was asked for, so that every generator knows of it
)


def change_load(member: Membership, run: Run, verb: str, percent: float = 0.0) -> int:
    """Has the load held, gone on with, raised or lowered by `percent` of what is left: the second
    of the run from which on that holds. Raises PlanError.
    """
    require(member, "engineer")
    with transaction.atomic(), connection.cursor() as cursor:
        run = Run.objects.select_for_update().get(pk=run.pk)
        if run.is_over or run.begins_at is None:
            raise PlanError(
                f"Run {run.number} is {'over' if run.is_over else 'not begun yet'}; its load can't "
                "be changed."
            )
        before = queries.changes_of(run)
        held = queries.is_held(before)
        if (verb == "hold") == held and verb in ("hold", "go on"):
            raise PlanError(f"The load is {'held already' if held else 'not held'}.")
        factor = {
            "raise": 1 + percent / 100,
            "lower": 1 - percent / 100,
            "hold": None,
            "go on": None,
        }.get(verb, 0.0)
        if factor == 0.0:
            raise PlanError(
                f"“{verb}” is nothing that can be done with a load; hold it, go on, raise or lower "
                "it."
            )
        cursor.execute("SELECT extract(epoch FROM clock_timestamp() - %s)::float8", [run.begins_at])
        row = cursor.fetchone()
        assert row is not None
        at_s = max(
            [math.ceil(max(0.0, float(row[0]))) + AHEAD_S, *(each.at_s + 1 for each in before)]
        )
        kept = verb if factor is None else "change"
        Command.objects.create(
            run=run, verb=kept, at_s=at_s, factor=factor, asked_by=member.account
        )
        note(member, f"load: {verb}", f"run {run.number}", at_s=at_s, percent=percent)
        cursor.execute("SELECT pg_notify('dynamikos_command', %s)", [str(run.pk)])
        cursor.execute("SELECT pg_notify(%s, %s)", [WAKE, str(run.pk)])
    return at_s


def stop_all(member: Membership, target: int) -> int:
    """Stops every run on an agreed target of the project at once, also those of other projects that
    the account may stop. How many.
    """
    require(member, "engineer")
    line = get_object_or_404(AgreedTarget, pk=target, environment__project=member.project)
    may = Membership.objects.filter(account=member.account, role__in=["engineer", "owner"])
    by_project = {each.project_id: each for each in may.select_related("account", "project")}
    stopped = 0
    for run in Run.objects.filter(state__in=going(RUN)):
        own = by_project.get(run.project_id)
        if own is not None and str(line) in queries.agreed_in(run):
            stop(own, run, now=True)
            stopped += 1
    note(member, "all runs on a target stopped", str(line), runs=stopped)
    return stopped


MEASURE_USERS, MEASURE_S = 64, 12


def measure(member: Membership) -> Run:
    """A run of users who think nothing against the practice target: what its generator can do is
    kept with it.

    Raises PlanError without a practice target.
    """
    if not settings.PRACTICE:
        raise PlanError("There is no practice target here: it belongs to ./dynamikos demo.")
    name = "What a generator carries"
    plan = LoadPlan.objects.filter(project=member.project, name=name).first()
    if plan is None:
        return start_quickly(
            member,
            f"{settings.PRACTICE}/ping",
            MEASURE_S,
            users=MEASURE_USERS,
            thinks=False,
            name=name,
        )
    return start(member, plan)


def cap_for(active: list[Run], wanted: int, living: int) -> float:
    """Requests/s that a run of `wanted` of the installation's `living` generators may send; 0:
    no cap.

    Raises PlanError when none is left.
    """
    whole = float(settings.MAX_REQUESTS_PER_S)
    if not whole:
        return 0.0
    mine = min(
        whole * wanted / max(1, living), whole - sum(frozen_of(each).cap_per_s for each in active)
    )
    if mine <= 0:
        raise PlanError(
            f"This installation sends at most {whole:g} requests/s, and the runs under way have "
            "them all. Wait for"
            " their end."
        )
    return mine


def take_in(run: Run) -> None:
    """Rows that the run's journey wrote back, into their data sets. Called once, at the run's
    end.
    """
    rows: dict[str, list[dict[str, str]]] = {}
    for into, row in run.written.order_by("id").values_list("into", "row"):
        rows.setdefault(into, []).append(dict(row))
    for into, found in rows.items():
        try:
            with transaction.atomic():
                append_rows(run.project, into, found)
                run.written.filter(into=into).delete()
        except (
            DynamikosError,
            DatabaseError,
        ) as problem:  # the run is over all the same; the rows stay where they are
            run.remark = (
                f"{run.remark}\n{len(found):,} rows for {into} could not be taken in: {problem}"
            ).strip()
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


def remark(member: Membership, run: Run, text: str, second: int | None = None) -> Remark:
    """Written at a second of the run, by itself that which it has come to. Raises PlanError."""
    require(member, "engineer")
    text = text.strip()
    if not text:
        raise PlanError("Write what is to be known of this moment.")
    if len(text) > REMARK:
        raise PlanError(f"A remark has at most {REMARK} signs; this one has {len(text):,}.")
    if Remark.objects.filter(run=run, by__isnull=False).count() >= MOST_REMARKS:
        raise PlanError(
            f"Run {run.number} has {MOST_REMARKS} remarks; write the rest into its note or a "
            "casebook."
        )
    at = max(0, run.watermark) if second is None else second
    if second is not None and second > run.watermark:
        raise PlanError(
            f"Run {run.number} has come to second {run.watermark}; a remark is about one of those "
            "before."
        )
    made = Remark.objects.create(run=run, second=at, text=text, by=member.account)
    note(member, "remark", f"run {run.number}", second=at)
    return made


def plan_of(member: Membership, run: Run) -> LoadPlan:
    """A new plan with what a run was made of; journeys, personas and data are named as they were.
    Raises PlanError.
    """
    require(member, "engineer")
    core = frozen_of(run).plan
    return add_plan(
        member, replace(core, name=f"{core.name}, as in run {run.number}"[:120], data=())
    )


def describe(member: Membership, run: Run, starred: bool, tags: str, remark: str) -> None:
    """A star, tags (words, with commas between) and a note."""
    require(member, "engineer")
    run.is_starred, run.remark = starred, remark.strip()
    run.tags = ", ".join(dict.fromkeys(each.strip() for each in tags.split(",") if each.strip()))
    for what, text, most in (("A note", run.remark, NOTE), ("All tags together", run.tags, TAGS)):
        if len(text) > most:
            raise PlanError(f"{what} may have {most:,} signs at most; it is {len(text):,}.")
    run.save(update_fields=["is_starred", "tags", "remark"])
    note(member, "run described", f"run {run.number}", tags=run.tags)


@transaction.atomic
def take_measures(member: Membership, run: Run, name: str, text: str, shift_s: float) -> int:
    """Measures of servers from a CSV file, on the clock of a run that is over, which is looked at
    again then. How many.

    Raises DynamikosError with the line that can't be read; then nothing changes.
    """
    require(member, "engineer")
    if not run.is_over or run.begins_at is None or run.watermark < 0:
        raise PlanError(f"Run {run.number} is not over, or nothing came of it.")
    traces = measures_from_csv(text, run.begins_at.timestamp(), run.watermark + 1, shift_s)
    taken = measures.take(run, key_from(name.strip() or "file"), traces)
    Run.objects.filter(pk=run.pk).update(findings=None)
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [WAKE, str(run.pk)])
    note(member, "measures taken in", f"run {run.number}", measures=taken)
    return taken
