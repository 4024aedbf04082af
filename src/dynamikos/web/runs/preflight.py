"""Looks at everything before a start: gathers the facts, has a generator knock, and gives the
core's findings.
"""

import shutil
import time
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import msgspec
from django.conf import settings
from django.db import connection, transaction
from procrastinate.contrib.django import app as jobs

from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen import FrozenRun, canonical, every_series
from dynamikos.core.frozen.freeze import Inputs, freeze
from dynamikos.core.lifecycles import RUN, going
from dynamikos.core.plans import Plan, parse_target
from dynamikos.core.plans.preflight import (
    Answered,
    Facts,
    Finding,
    origins_of,
    preflight,
    probed_by,
)
from dynamikos.core.probes import probe_problems
from dynamikos.sealing import box
from dynamikos.web.environments.queries import opened
from dynamikos.web.places.models import Generator, Knock
from dynamikos.web.places.queries import living
from dynamikos.web.plans import queries as plans
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.models import Membership
from dynamikos.web.rehearsals.queries import unproven
from dynamikos.web.runs import queries
from dynamikos.web.runs.actions import Prepared, prepared
from dynamikos.web.runs.models import PROBES, ProbeTry, Run

BROWSER_TIMES = 6  # so much longer than another probe a browser may take, which has to be started
BYTES_A_SERIES = 250  # of a second of one series in a report, folded and in its chunk, as measured


@dataclass(frozen=True, slots=True)
class Looked:
    """What was found, in how many seconds."""

    findings: list[Finding]
    seconds: float

    @property
    def stands_in_the_way(self) -> bool:
        return any(each.level == "blocker" for each in self.findings)

    @property
    def asks(self) -> bool:
        return any(each.level == "warning" for each in self.findings)


def look(member: Membership, plan: LoadPlan, core: Plan, environment: str = "") -> Looked:
    """Everything that is looked at before `core`, the content of `plan`, is started."""
    begun = time.monotonic()
    try:
        made = prepared(member, plan, core, environment=environment)
    except DynamikosError as problem:
        found = [
            Finding("Plan, names and secrets", "blocker", line, "Mend it", "plan")
            for line in _lines(problem)
        ]
        return Looked(found, time.monotonic() - begun)
    problems = made.inputs.problems()
    frozen = None if problems else freeze(made.inputs, run=str(plan.pk), seed=1, checked=True)
    alive = living()
    taken = _taken()
    free = [each for each in alive if not each.busy and each.pk not in taken]
    answered = _knock(member, made, frozen, free)
    times = plans.rounds_s(made.here, made.scripts, core)
    follows = plans.follows(core, made.here, made.scripts)
    carried = plans.carries(plan, follows)
    facts = Facts(
        plan=core,
        journeys=made.scripts,
        follows=follows,
        problems=problems,
        unrehearsed={
            key: why
            for key, each in made.here.items()
            if (why := unproven(each, made.scripts[key]))
        },
        data=[
            (each.name, each.said, each.early)
            for each in plans.data_follows(plan, core, made.scripts, times)
        ],
        knocked=None if answered is None else answered.knocked,
        living=len(alive),
        free=len(free),
        busy_with=_busy_with(member),
        machine=None if answered is None else answered.machine,
        users_per_generator=None if carried is None else carried.users,
        carried_by="" if carried is None else carried.by,
        may_be_more=carried is not None and carried.may_be_more,
        others=_others(member, made),
        capped=[each for each in made.inputs.agreed if each.cap_per_s],
        values=made.inputs.values,
        agreed=made.inputs.agreed,
        disk_free_bytes=shutil.disk_usage(settings.STATE if settings.STATE.exists() else "/").free,
        report_bytes=0 if frozen is None else _report_bytes(frozen),
    )
    return Looked(preflight(facts), time.monotonic() - begun)


def _lines(problem: DynamikosError) -> Sequence[str]:
    return str(problem).splitlines() or ["It can't be started."]


def _taken() -> set[object]:
    """Generators that a run under way has, before they say so themselves."""
    active = Run.objects.filter(state__in=going(RUN))
    return set(active.values_list("shards__generator", flat=True))


def _knock(
    member: Membership, made: Prepared, frozen: FrozenRun | None, free: Sequence[Generator]
) -> Answered | None:
    """What a generator says of the targets; None when there is none, or it did not answer in
    time.
    """
    if frozen is None or not free or not settings.KNOCK_WAIT_S:
        return None
    known = [
        *origins_of(made.scripts, made.inputs.values),
        *probed_by(made.inputs.plan, made.inputs.values),
    ]
    origins = [each for each in dict.fromkeys(known) if _is_agreed(each, made.inputs)]
    generator = free[0]
    with transaction.atomic():
        secrets = opened(member.project_id, made.inputs.plan.environment, frozen.secret_names)
        boxed = (
            box(secrets, bytes(generator.public_key)) if secrets and generator.public_key else b""
        )
        asked = Knock.objects.create(
            generator=generator, frozen=canonical(frozen), secrets=boxed, origins=origins
        )
        jobs.configure_task("knock", queue=generator.queue, allow_unknown=True).defer(
            knock_id=str(asked.pk)
        )
    answer = _answer(asked, settings.KNOCK_WAIT_S)
    return None if answer is None else msgspec.convert(answer, Answered)


def _is_agreed(origin: str, inputs: Inputs) -> bool:
    target = parse_target(origin)
    return any(each.covers(target.scheme, target.host, target.port) for each in inputs.agreed)


def _others(member: Membership, made: Prepared) -> list[tuple[int, str]]:
    """Runs under way on one of the targets."""
    found = []
    for run in Run.objects.filter(state__in=going(RUN)):
        shared = sorted(queries.agreed_in(run) & {str(each) for each in made.inputs.agreed})
        if not shared:
            continue
        own = run.project_id == member.project_id
        whose = f"run {run.number}, {run.name}," if own else "a run of another project"
        found.append((run.number if own else 0, f"{whose} may be loading {shared[0]} now."))
    return found


def _busy_with(member: Membership) -> str:
    """What keeps generators busy, if a run does."""
    run = Run.objects.filter(state__in=going(RUN)).first()
    if run is None:
        return ""
    return (
        f"run {run.number}" if run.project_id == member.project_id else "a run of another project"
    )


def _report_bytes(frozen: FrozenRun) -> int:
    return int(
        len(every_series(frozen)) * (frozen.ends_s + 60) * frozen.plan.generators * BYTES_A_SERIES
    )


def _answer(asked: Knock | ProbeTry, seconds: float) -> Any:
    """What another process answers to what was asked; None when it does not in time. It is asked no
    more then.
    """
    until = time.monotonic() + seconds
    answer = None
    while answer is None and time.monotonic() < until:
        time.sleep(0.03)
        answer = type(asked).objects.filter(pk=asked.pk).values_list("answer", flat=True).first()
    asked.delete()
    return answer


class Tried(NamedTuple):
    """Why a probe tells nothing; or what it tells (name, unit, value), and what of it is not
    kept.
    """

    problem: str
    values: list[tuple[str, str, float]]
    unkept: str = ""


def tried(member: Membership, plan: LoadPlan, key: str) -> Tried:
    """The prober reads it; it is waited for a while."""
    made = prepared(member, plan, plans.content(plan))
    problems = probe_problems(made.inputs.plan.probes)
    if problems:
        return Tried(" ".join(problems), [])
    frozen = canonical(freeze(made.inputs, run=str(plan.pk), seed=1, checked=True))
    asked = ProbeTry.objects.create(project=member.project, frozen=frozen, probe=key)
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, '')", [PROBES])
    is_browser = any(each.probe == key and each.browser for each in made.inputs.plan.probes)
    answer = _answer(asked, settings.PROBE_WAIT_S * (BROWSER_TIMES if is_browser else 1))
    if answer is None:
        return Tried(
            "nobody read it in time: is the prober running? ./dynamikos demo starts it", []
        )
    values = [(name, unit, value) for name, unit, value in answer.get("values", [])]
    return Tried(str(answer.get("problem", "")), values, str(answer.get("unkept", "")))
