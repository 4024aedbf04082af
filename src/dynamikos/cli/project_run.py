"""A run of a plan that a project keeps: started here, performed by the fleet, read from the
database.
"""

import contextlib
import datetime
import time
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

import msgspec
import orjson

from dynamikos.cli import processes, summary
from dynamikos.cli.ending import ENDING
from dynamikos.cli.folder import Result
from dynamikos.cli.starting import database_in_words
from dynamikos.cli.state import State
from dynamikos.core.analysis.suspects import Look
from dynamikos.core.comparison import OneRun
from dynamikos.core.errors import PlanError
from dynamikos.core.frozen import FrozenRun, every_series
from dynamikos.core.plans import Plan
from dynamikos.core.reports import Frame, SeriesSecond
from dynamikos.core.verdicts.outcome import OUTCOME

if TYPE_CHECKING:
    from dynamikos.web.plans.models import LoadPlan
    from dynamikos.web.projects.models import Membership
    from dynamikos.web.runs.models import Run

PROGRESS_S = 5
LEASE_S = 30.0  # a run that is not asked for any more for so long is stopped


def membership(project: str, account: str):  # type: ignore[no-untyped-def]
    """Who does it in which project. Raises PlanError. Django is set up."""
    from dynamikos.web.projects.models import Membership

    found = (
        Membership.objects.filter(project__name=project, account__username=account)
        .exclude(role="reader")
        .first()
    )
    if found is None:
        names = (
            ", ".join(sorted(set(Membership.objects.values_list("project__name", flat=True))))
            or "none"
        )
        raise PlanError(
            f"{account} is not engineer or owner of a project “{project}”. Projects here: {names}."
        )
    return found


def only_project(account: str) -> str:
    """The name of the one project this account may change. Raises PlanError when there is none or
    there are several.
    """
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
            f"{account} may change {len(names)} projects here ({', '.join(names) or 'none'}); name "
            "one with --project."
        )
    return str(names[0])


@database_in_words()
def run_plan(
    key: str,
    *,
    project: str | None,
    environment: str | None,
    change: Callable[[Plan], Plan],
    values: dict[str, str],
    tell: Callable[[str], None],
    trial: bool = False,
    detach: bool = False,
) -> Result | None:
    """Runs the plan `key`; None where that goes on without the command (`detach`). Raises PlanError
    when it can't be found or started.
    """
    state = State.open()
    addresses, cluster = processes.database(state)
    supervisor = processes.Supervisor(state)
    try:
        processes.use_django(state, addresses)
        if detach and cluster is not None and cluster.process is not None:
            raise PlanError(
                "--detach needs an installation that runs: nothing would be left to perform the run"
            )
        if (
            cluster is not None and cluster.process is not None
        ):  # nothing of ours is running: bring what a run needs
            processes.migrate(addresses)
            supervisor.add(
                "coordinator",
                ["dynamikos.cli", "coordinator"],
                processes.environment(state, addresses.web, addresses),
            )
            supervisor.add(
                "prober",
                ["dynamikos.cli", "prober"],
                processes.environment(state, addresses.web, addresses),
            )
            supervisor.add_generator(addresses)
        return _run(key, project, environment, change, values, tell, trial, detach)
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
    trial: bool,
    detach: bool,
) -> Result | None:
    from msgspec.structs import replace

    from dynamikos.web.plans.queries import content
    from dynamikos.web.projects.models import Membership
    from dynamikos.web.runs import actions

    plan = _plan(key, project)
    members = Membership.objects.filter(project=plan.project).exclude(role="reader")
    member = members.order_by("id").first()
    assert member is not None
    _wait_for_generators()
    core = change(content(plan))
    _tell_of_unproven(plan, core, tell)
    asked = {"stop": 0}

    def interrupted() -> None:
        asked["stop"] += 1

    ENDING.told = interrupted
    core = replace(core, environment=environment) if environment else core
    run = actions.start(member, plan, core, values, trial=trial)
    if detach:
        ENDING.over()
        tell(f"run {run.number} goes on without this command")
        return None
    _follow(run, member, asked, tell)
    ENDING.over()
    if run.outcome is None:
        raise PlanError(f"The run did not happen: {run.ended}.")
    return result_of(run)


def _plan(key: str, project: str | None) -> "LoadPlan":
    """The one of that key. Raises PlanError."""
    from dynamikos.web.plans.models import LoadPlan

    found = LoadPlan.objects.filter(key=key)
    if project:
        found = found.filter(project__name=project)
    if found.count() != 1:
        every = LoadPlan.objects.select_related("project")
        known = ", ".join(sorted(f"{plan.key} in “{plan.project}”" for plan in every)) or "none"
        what = "no file and no plan" if not found else "several plans"
        raise PlanError(
            f"'{key}' is {what} of that name. Plans here: {known}. Name the project with --project."
        )
    return found.get()


def _wait_for_generators() -> None:
    from dynamikos.web.places.queries import living

    for _ in range(80):
        if living():
            return
        time.sleep(0.1)


def _tell_of_unproven(plan: "LoadPlan", core: Plan, tell: Callable[[str], None]) -> None:
    from dynamikos.web.journeys import queries as journeys
    from dynamikos.web.plans import queries as plans
    from dynamikos.web.rehearsals.queries import unproven

    for name, journey in plans.journeys_of(plan, core).items():
        why = unproven(journey, journeys.content(journey)) if journey is not None else ""
        if why:
            tell(
                f"{name} has not passed in two rounds, so the run may measure something else than "
                f"it says. {why}"
            )


def _follow(
    run: "Run", member: "Membership", asked: dict[str, int], tell: Callable[[str], None]
) -> None:
    """Until it is over: holds its lease, stops it when that is asked for, tells how it goes."""
    from django.utils import timezone

    from dynamikos.web.runs import actions

    total = actions.frozen_of(run).ends_s
    said, told, renewed = -1, 0, 0.0
    while not run.is_over:
        if time.monotonic() - renewed > LEASE_S / 6:
            renewed = time.monotonic()
            until = timezone.now() + datetime.timedelta(seconds=LEASE_S)
            type(run).objects.filter(pk=run.pk).update(lease_until=until)
        time.sleep(0.25)
        run.refresh_from_db()
        if asked["stop"] > told and not run.is_over:
            told = asked["stop"]
            tell("stopping gently; Ctrl-C once more stops at once" if told == 1 else "stopping now")
            actions.stop(member, run, now=told > 1)
        if run.watermark // PROGRESS_S > said // PROGRESS_S and run.watermark >= 0:
            said = run.watermark
            _tell_progress(run, total, tell)


def _tell_progress(run: "Run", total: float, tell: Callable[[str], None]) -> None:
    from dynamikos.web.streams.models import Message

    frames = Message.objects.filter(subject=run.pk, event="frame")
    newest = frames.order_by("-sequence").first()
    if newest is not None:
        tell(summary.progress(msgspec.convert(orjson.loads(newest.body), Frame), total))


def result_of(run: "Run") -> Result:
    """A run that is over, as it is kept in open formats, with what is noticed in it."""
    from dynamikos.core.reports import unpack_kept
    from dynamikos.web.runs import analysis, queries, reading

    frozen = queries.as_run(run, queries.frozen(run))
    series = every_series(frozen)
    parts: dict[int, dict[int, SeriesSecond]] = {}
    for second, part in reading.fine_parts(run, [each.no for each in series], 0, run.watermark + 1):
        parts.setdefault(part.no, {})[second] = part
    assert run.outcome is not None
    kept = (
        unpack_kept(bytes(body))
        for body in run.kept.order_by("second").values_list("body", flat=True)
    )
    noticed, capacity = analysis.look(run)
    return Result(
        frozen, OUTCOME.of(run.outcome), noticed, capacity, series, parts, analysis.users_of(run),
        analysis.measured(run, frozen), kept,
        began=run.begins_at.isoformat(timespec="seconds") if run.begins_at else "",
    )  # fmt: skip


@contextlib.contextmanager
def a_run(number: int, project: str | None) -> Iterator["Run"]:
    """A project's run by its number, with the database there meanwhile. Raises PlanError."""
    state = State.open()
    addresses, cluster = processes.database(state)
    try:
        processes.use_django(state, addresses)
        from dynamikos.web.runs.models import Run

        found = Run.objects.filter(number=number)
        found = found.filter(project__name=project) if project else found
        if found.count() != 1:
            raise PlanError(
                f"There are {found.count()} runs {number} here; name the project with --project."
            )
        yield found.get()
    finally:
        if cluster is not None and "demo" not in state.living():
            cluster.stop()


def one_run(number: int, project: str | None) -> tuple[OneRun, FrozenRun]:
    """A project's run, as it is compared, and what it was made of. Raises DynamikosError."""
    with a_run(number, project) as run:
        from dynamikos.web.runs import comparing, queries

        return comparing.read(run), queries.as_run(run, queries.frozen(run))


def suspects_of_run(
    number: int, project: str | None, step: str, window: tuple[int, int], score: float | None
) -> Look:
    """Of a step of a project's run, by its number. Raises PlanError."""
    with a_run(number, project) as run:
        from dynamikos.web.runs import analysis, queries, reading

        inputs = queries.as_run(run, queries.frozen(run))
        named = [
            each
            for each in reading.shown_series(inputs)
            if each.level == "step" and each.step == step
        ]
        if not named:
            raise PlanError(f"There is no step '{step}' in run {number}.")
        return analysis.suspects_of(run, inputs, [each.no for each in named], window, score)[0]
