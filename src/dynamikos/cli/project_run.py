"""A run of a plan that a project keeps: started here, performed by the fleet, read from the database."""

import signal
import time
from collections.abc import Callable

import msgspec
import orjson

from dynamikos.cli import processes, summary
from dynamikos.cli.state import State
from dynamikos.core.errors import PlanError
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.plans import Plan
from dynamikos.core.reports import Frame
from dynamikos.core.verdicts import Outcome
from dynamikos.core.verdicts.outcome import OUTCOME

PROGRESS_S = 5


def membership(project: str, account: str):  # type: ignore[no-untyped-def]
    """Who does it in which project. Raises PlanError. Django is set up."""
    from dynamikos.web.projects.models import Membership

    found = Membership.objects.filter(project__name=project, account__username=account).exclude(role="reader").first()
    if found is None:
        names = ", ".join(sorted(set(Membership.objects.values_list("project__name", flat=True)))) or "none"
        raise PlanError(f"{account} is not engineer or owner of a project “{project}”. Projects here: {names}.")
    return found


def only_project(account: str) -> str:
    """The name of the one project this account may change. Raises PlanError when there is none or there are several."""
    from dynamikos.web.projects.models import Membership

    names = sorted(
        set(
            Membership.objects.filter(account__username=account)
            .exclude(role="reader")
            .values_list("project__name", flat=True)
        )
    )
    if len(names) != 1:
        raise PlanError(
            f"{account} may change {len(names)} projects here ({', '.join(names) or 'none'}); name one with --project."
        )
    return str(names[0])


def run_plan(
    key: str,
    *,
    project: str | None,
    environment: str | None,
    change: Callable[[Plan], Plan],
    values: dict[str, str],
    tell: Callable[[str], None],
) -> tuple[FrozenRun, Outcome]:
    """Runs the plan `key`. Raises PlanError when it can't be found or started."""
    state = State.open()
    addresses, cluster = processes.database(state)
    supervisor = processes.Supervisor(state)
    try:
        processes.use_django(state, addresses)
        if cluster is not None and cluster.process is not None:  # nothing of ours is running: bring what a run needs
            processes.migrate(addresses)
            supervisor.add(
                "coordinator", ["dynamikos.cli", "coordinator"], processes.environment(state, addresses.web, addresses)
            )
            supervisor.add_generator(addresses)
        return _run(key, project, environment, change, values, tell)
    finally:
        supervisor.end()
        if cluster is not None:
            cluster.stop()


def _run(
    key: str,
    project: str | None,
    environment: str | None,
    change: Callable[[Plan], Plan],
    values: dict[str, str],
    tell: Callable[[str], None],
) -> tuple[FrozenRun, Outcome]:
    from msgspec.structs import replace

    from dynamikos.web.journeys import queries as journeys
    from dynamikos.web.places.queries import living
    from dynamikos.web.plans import queries as plans
    from dynamikos.web.plans.models import LoadPlan
    from dynamikos.web.plans.queries import content
    from dynamikos.web.projects.models import Membership
    from dynamikos.web.rehearsals.queries import unproven
    from dynamikos.web.runs import actions

    found = LoadPlan.objects.filter(key=key)
    if project:
        found = found.filter(project__name=project)
    if found.count() != 1:
        known = (
            ", ".join(sorted(f"{plan.key} in “{plan.project}”" for plan in LoadPlan.objects.select_related("project")))
            or "none"
        )
        what = "no file and no plan" if not found else "several plans"
        raise PlanError(f"'{key}' is {what} of that name. Plans here: {known}. Name the project with --project.")
    plan = found.get()
    member = Membership.objects.filter(project=plan.project).exclude(role="reader").order_by("id").first()
    assert member is not None
    for _ in range(80):
        if living():
            break
        time.sleep(0.1)
    core = change(content(plan))
    for name, journey in plans.journeys_of(plan, core).items():
        why = unproven(journey, journeys.content(journey)) if journey is not None else ""
        if why:
            tell(f"{name} has not passed in two rounds, so the run may measure something else than it says. {why}")
    run = actions.start(member, plan, replace(core, environment=environment) if environment else core, values)
    frozen = actions.frozen_of(run)
    total = frozen.ends_s
    asked = {"stop": 0}

    def interrupted(*_: object) -> None:
        asked["stop"] += 1

    signal.signal(signal.SIGINT, interrupted)
    said, told = -1, 0
    while not run.is_over:
        time.sleep(0.25)
        run.refresh_from_db()
        if asked["stop"] > told and not run.is_over:
            told = asked["stop"]
            tell("stopping gently; Ctrl-C once more stops at once" if told == 1 else "stopping now")
            actions.stop(member, run, now=told > 1)
        if run.watermark // PROGRESS_S > said // PROGRESS_S and run.watermark >= 0:
            said = run.watermark
            from dynamikos.web.streams.models import Message

            newest = Message.objects.filter(subject=run.pk, event="frame").order_by("-sequence").first()
            if newest is not None:
                tell(summary.progress(msgspec.convert(orjson.loads(newest.body), Frame), total))
    if run.outcome is None:
        raise PlanError(f"The run did not happen: {run.ended}.")
    return frozen, OUTCOME.of(run.outcome)
