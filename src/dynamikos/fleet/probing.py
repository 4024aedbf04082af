"""The prober: one process that reads the probes of all runs under way, and tries those that
somebody asks about.
"""

import asyncio
import contextlib
import datetime
import logging
import queue
import threading
import time
import uuid
from collections.abc import Mapping, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, field

import numpy as np
import psycopg
import uvloop
from django.db import DatabaseError, InterfaceError, OperationalError, connection, transaction
from django.utils import timezone
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms.ready import make_ready
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.frozen.freeze import probed_secrets
from dynamikos.core.probes import Probe
from dynamikos.core.probes.shots import Shot as Seen
from dynamikos.core.probes.shots import blind, worth_keeping
from dynamikos.core.unsafe_characters import storable
from dynamikos.core.values.masking import Masker
from dynamikos.engine.clock import RealClock
from dynamikos.engine.failures import Failure
from dynamikos.engine.probing import LONGEST_S, ProbeSecond, Probing, source_of, try_once
from dynamikos.fleet.hints import wait
from dynamikos.fleet.probe_process import ProbeProcess
from dynamikos.fleet.rehearsing import network_for
from dynamikos.fleet.settings import IDLE_S, RECONNECT_S
from dynamikos.web.environments.queries import opened
from dynamikos.web.runs.actions import frozen_of
from dynamikos.web.runs.models import (
    PROBES,
    Measure,
    MeasureMinute,
    ProbeTry,
    Reading,
    Remark,
    Run,
    Shot,
)

log = logging.getLogger(__name__)
LOCK, LOOK_S = 7303, 0.3
LATE_S = 3  # that a first reading may come later than its second
MOST_SHOTS = 100  # of a page in a run
BROWSER_TRY_S, AGAIN_S = 30.0, 3.0


@dataclass(slots=True)
class Probed:
    """A run whose probes are read, and what they told that is not written yet: seconds, remarks,
    measures, minutes.
    """

    run: Run
    frozen: FrozenRun
    told: "queue.Queue[ProbeSecond]" = field(default_factory=queue.Queue)
    future: "Future[None] | None" = None
    numbers: dict[tuple[str, ...], int] = field(default_factory=dict)
    silent: set[str] = field(default_factory=set)
    unkept: set[str] = field(
        default_factory=set
    )  # probes of which it is said that something is not kept
    minutes: dict[int, dict[int, "np.ndarray[tuple[int], np.dtype[np.float64]]"]] = field(
        default_factory=dict
    )
    seconds: dict[int, dict[str, float]] = field(default_factory=dict)
    remarks: list[Remark] = field(default_factory=list)
    secrets: dict[str, str] = field(
        default_factory=dict
    )  # of the environment, that its probes and their way need
    problem: str = ""  # why they can't be had
    apart: ProbeProcess | None = None  # the process of its own that browsers are in
    again_at: float = 0.0  # it is not started again before
    seen: dict[tuple[str, str], list[tuple[int, Seen]]] = field(
        default_factory=dict
    )  # kept of each page, when
    shots: list[Shot] = field(default_factory=list)
    measures: list[Measure] = field(default_factory=list)

    @property
    def begun(self) -> datetime.datetime:
        """When its second 0 was, or will be."""
        assert self.run.begins_at is not None
        return self.run.begins_at

    def take(self) -> None:
        """What was told since."""
        with contextlib.suppress(queue.Empty):
            while True:
                told = self.told.get_nowait()
                self.remarks.extend(_remarks(self, told))
                self._keep(told)
                for name, value in told.values.items():
                    no = self._number(
                        told.probe, storable(name)[:300], told.units.get(name, "")[:30]
                    )
                    self.seconds.setdefault(told.second, {})[str(no)] = round(value, 9)
                    arrays = self.minutes.setdefault(told.second // 60, {})
                    arrays.setdefault(no, np.full(60, np.nan))[told.second % 60] = value

    def _keep(self, told: ProbeSecond) -> None:
        """Those pictures that say more than the ones before."""
        for each in told.shots:
            before = self.seen.setdefault((told.probe, each.page), [])
            since_s = told.second - before[-1][0] if before else 0
            if len(before) < MOST_SHOTS and worth_keeping(
                [old for _, old in before], each, since_s
            ):
                before.append((told.second, replace(each, jpeg=each.jpeg[:1])))
                said = storable(each.problem)[:300]
                self.shots.append(
                    Shot(
                        run=self.run,
                        probe=told.probe,
                        page=storable(each.page)[:300],
                        second=told.second,
                        figures=each.figures,
                        problem=said,
                        jpeg=each.jpeg,
                    )
                )

    def _number(self, *key: str) -> int:
        if key not in self.numbers:
            self.numbers[key] = no = max(self.numbers.values(), default=-1) + 1
            self.measures.append(
                Measure(run=self.run, no=no, probe=key[0], name=key[1], unit=key[2])
            )
        return self.numbers[key]

    def forget(self) -> None:
        """It is written, or can't be."""
        self.seconds, self.remarks, self.measures, self.shots = {}, [], [], []


def serve(stop: threading.Event, own_ports: frozenset[int]) -> None:
    """Until `stop` is set; one prober at a time, by advisory lock. Survives a restart of the
    database.
    """
    make_ready()
    loop = uvloop.new_event_loop()
    thread = threading.Thread(target=loop.run_forever, daemon=True, name="probes")
    thread.start()
    probed: dict[uuid.UUID, Probed] = {}
    try:
        while not stop.is_set():
            try:
                if _is_alone():
                    tick(probed, loop, own_ports)
                with contextlib.suppress(
                    psycopg.OperationalError
                ):  # the next look says that it is away
                    wait(connection.connection, LOOK_S if probed else IDLE_S, stop)
            except (OperationalError, InterfaceError) as problem:
                log.warning("the database is away (%s); trying again", str(problem).strip())
                connection.close()
                stop.wait(RECONNECT_S)
    finally:
        loop.call_soon_threadsafe(loop.stop)
        thread.join(2)


def _is_alone() -> bool:
    with connection.cursor() as cursor:
        cursor.execute(f"LISTEN {PROBES}")
        cursor.execute("SELECT pg_try_advisory_lock(%s)", [LOCK])
        row = cursor.fetchone()
    return bool(row and row[0])


def tick(
    probed: dict[uuid.UUID, Probed], loop: asyncio.AbstractEventLoop, own_ports: frozenset[int]
) -> None:
    """Begins with runs that have begun, writes what was told, and ends with those that are over."""
    for run in Run.objects.filter(state=Run.State.RUNNING, begins_at__isnull=False).exclude(
        pk__in=list(probed)
    ):
        frozen = frozen_of(run)
        made = probed[run.pk] = Probed(run, frozen)
        made.secrets, made.problem = _secrets(run.project_id, frozen)
        made.numbers = {(each.probe, each.name, each.unit): each.no for each in run.measures.all()}
        for second, values in run.readings.values_list(
            "second", "values"
        ):  # of a prober before this one
            for no, value in values.items():
                minute = made.minutes.setdefault(second // 60, {})
                minute.setdefault(int(no), np.full(60, np.nan))[second % 60] = value
        made.remarks.extend(_missed(made))
        if any(not each.browser for each in frozen.plan.probes):
            made.future = asyncio.run_coroutine_threadsafe(_read(made, own_ports), loop)
    for asked in ProbeTry.objects.filter(is_taken=False):
        asked.is_taken = True
        asked.save(update_fields=["is_taken"])
        frozen = FROZEN.read(bytes(asked.frozen))
        secrets, problem = _secrets(asked.project_id, frozen)
        answer = asyncio.run_coroutine_threadsafe(
            _try(asked.probe, frozen, secrets, problem, own_ports), loop
        )
        threading.Thread(target=_answer, args=(asked, answer), daemon=True).start()
    for key, each in list(probed.items()):
        _watch(each, own_ports)
        is_over = not Run.objects.filter(pk=key, state=Run.State.RUNNING).exists()
        if is_over and each.future is not None:
            each.future.cancel()
        if is_over and each.apart is not None:
            each.apart.end()
            _hear(each)
        try:
            write(each, is_over=is_over)
        except (OperationalError, InterfaceError):
            raise
        except DatabaseError:  # it was deleted meanwhile, or this can't be kept: the others go on
            log.exception("what the probes of run %s told can't be kept", key)
            each.forget()
        if is_over:
            del probed[key]


def _missed(probed: Probed) -> list[Remark]:
    """That a prober before this one ended while the run was under way: from when until when nobody
    read.
    """
    run, every_s = (
        probed.run,
        min((each.every_s for each in probed.frozen.plan.probes), default=0.0),
    )
    now = int((timezone.now() - probed.begun).total_seconds())
    seconds = run.readings.order_by("-second").values_list("second", flat=True)[:1]
    minutes = (
        MeasureMinute.objects.filter(run=run)
        .order_by("-minute")
        .values_list("minute", flat=True)[:1]
    )
    last = max([-1, *seconds, *(60 * each + 59 for each in minutes)])
    if not every_s or now - last <= every_s + (LATE_S if last < 0 else 1):
        return []
    if last < 0:
        said = (
            f"The probes told nothing until second {now}; the process that reads them began then."
        )
    else:
        said = (
            f"The probes told nothing from second {last + 1} to {now}; the process that reads them "
            "was started again."
        )
    return [Remark(run=run, second=max(0, last + 1), text=said)]


def _watch(probed: Probed, own_ports: frozenset[int]) -> None:
    """The browsers of a run, in a process of their own; one that was lost is said and started
    again.
    """
    if not any(each.browser for each in probed.frozen.plan.probes):
        return
    if probed.apart is not None:
        _hear(probed)
        if probed.apart.is_alive:
            return
        probed.apart.end()
        probed.apart, probed.again_at = None, time.monotonic() + AGAIN_S
        second = max(0, int((timezone.now() - probed.begun).total_seconds()))
        for each in probed.frozen.plan.probes:
            if each.browser:
                lost = "its process was lost, and is started again"
                probed.told.put(ProbeSecond(probe=each.probe, second=second, problem=lost))
    if time.monotonic() < probed.again_at:
        return
    browsers = [each for each in probed.frozen.plan.probes if each.browser]
    probed.apart = ProbeProcess(only(probed.frozen, browsers), own_ports, named(probed.secrets))
    probed.apart.begin(time.monotonic() + (probed.begun - timezone.now()).total_seconds())


def _hear(probed: Probed) -> None:
    assert probed.apart is not None
    for told in probed.apart.newest():
        probed.told.put(told)


def only(frozen: FrozenRun, probes: Sequence[Probe]) -> FrozenRun:
    """The same run with these probes."""
    return replace(frozen, plan=replace(frozen.plan, probes=tuple(probes)))


def named(secrets: Mapping[str, str]) -> dict[str, str]:
    """As texts name them."""
    return {f"secrets.{name}": value for name, value in secrets.items()}


def _secrets(project: uuid.UUID, frozen: FrozenRun) -> tuple[dict[str, str], str]:
    """Those of the environment that its probes and their way need; or why they can't be had."""
    try:
        return opened(project, frozen.plan.environment, probed_secrets(frozen)), ""
    except DynamikosError as problem:
        return {}, str(problem)


async def _try(
    key: str, frozen: FrozenRun, secrets: dict[str, str], problem: str, own_ports: frozenset[int]
) -> dict[str, object]:
    """What a probe tells, or why it tells nothing."""
    probe = next(each for each in frozen.plan.probes if each.probe == key)
    if probe.browser:
        return await asyncio.to_thread(_look, only(frozen, [probe]), own_ports, named(secrets))
    if problem:
        return {"problem": problem}
    clock, masker = RealClock(), Masker(secrets.values())
    try:
        network = network_for(frozen, secrets, own_ports)
        try:
            source = source_of(probe, {**frozen.values, **named(secrets)}, network, clock)
            values = await try_once(source, clock, probe.every_s)
            unkept = source.unkept
        finally:
            await network.aclose()
    except Failure as failure:
        return {"problem": masker.text(failure.detail or failure.kind)}
    except DynamikosError as wrong:
        return {"problem": masker.text(str(wrong))}
    finally:
        clock.close()
    return {
        "values": sorted((each.name, each.unit, value) for each, value in values.items()),
        "unkept": unkept,
    }


def _look(
    frozen: FrozenRun, own_ports: frozenset[int], secrets: dict[str, str] | None = None
) -> dict[str, object]:
    """What the run's browser tells of its pages, once; each page may take as long as in the run."""
    apart = ProbeProcess(frozen, own_ports, secrets)
    try:
        apart.begin_now()
        until = time.monotonic() + BROWSER_TRY_S
        while time.monotonic() < until and apart.is_alive:
            for told in apart.newest():
                problem = told.problem or "; ".join(
                    f"{page}: {why}" for page, why in blind(told.shots).items()
                )
                if problem:
                    return {"problem": problem}
                found = sorted(
                    (name, told.units.get(name, ""), each) for name, each in told.values.items()
                )
                return {"values": found, "unkept": told.unkept}
            time.sleep(0.1)
    finally:
        apart.end()
    return {"problem": f"the browser told nothing within {BROWSER_TRY_S:g} s"}


def _answer(asked: ProbeTry, answer: "Future[dict[str, object]]") -> None:
    try:
        ProbeTry.objects.filter(pk=asked.pk).update(
            answer=storable(answer.result(BROWSER_TRY_S + 2 * LONGEST_S))
        )
    except Exception as problem:
        log.exception("a probe can't be tried")
        ProbeTry.objects.filter(pk=asked.pk).update(
            answer={"problem": f"it could not be read: {problem}"}
        )
    finally:
        connection.close()


async def _read(probed: Probed, own_ports: frozenset[int]) -> None:
    """The probes of one run, until this is cancelled."""
    frozen, run = probed.frozen, probed.run
    assert run.begins_at is not None
    clock = RealClock()
    try:
        if probed.problem:
            raise DynamikosError(probed.problem)
        network = network_for(frozen, probed.secrets, own_ports)
    except (Failure, DynamikosError) as wrong:
        for probe in frozen.plan.probes:
            if not probe.browser:
                probed.told.put(ProbeSecond(probe=probe.probe, second=0, problem=str(wrong)))
        return
    begin = clock.now() + run.begins_at.timestamp() - time.time()
    try:
        probes = [each for each in frozen.plan.probes if not each.browser]
        known = named(probed.secrets)
        await Probing(
            probes, frozen.values, network, clock, begin, probed.told.put, secrets=known
        ).run()
    except Exception:
        log.exception("the probes of run %s can't be read", run.pk)
        raise
    finally:
        await network.aclose()
        clock.close()


def write(probed: Probed, *, is_over: bool = False) -> None:
    """What was told, into the database: each second at once, each minute that is whole as arrays.
    Where that fails nothing is written, and all of it is still there.
    """
    probed.take()
    newest = max(probed.seconds, default=None)
    whole = [
        each
        for each in probed.minutes
        if is_over or (newest is not None and newest >= 60 * each + 65)
    ]
    if not (probed.seconds or probed.remarks or probed.shots or whole):
        return
    run = probed.run
    with transaction.atomic():
        Measure.objects.bulk_create(probed.measures)
        Remark.objects.bulk_create(probed.remarks)
        Shot.objects.bulk_create(probed.shots)
        Reading.objects.bulk_create(
            Reading(run=run, second=second, values=values)
            for second, values in sorted(probed.seconds.items())
        )
        for minute in whole:
            MeasureMinute.objects.bulk_create(
                (
                    MeasureMinute(
                        run=run, no=no, minute=minute, values=values.astype("<f8").tobytes()
                    )
                    for no, values in probed.minutes[minute].items()
                ),
                update_conflicts=True,
                unique_fields=["run", "no", "minute"],
                update_fields=["values"],
            )
            Reading.objects.filter(
                run=run, second__gte=60 * minute, second__lt=60 * minute + 60
            ).delete()
    probed.forget()
    for minute in whole:
        del probed.minutes[minute]


def _remarks(probed: Probed, told: ProbeSecond) -> list[Remark]:
    """That a probe, or a page that it looks at, fell silent, and that it tells again: once each."""
    title = next(
        (each.title for each in probed.frozen.plan.probes if each.probe == told.probe), told.probe
    )
    problems = {told.probe: (title, told.problem)}
    if not told.problem:
        problems |= {
            f"{told.probe} {each.page}": (f"{title} ({each.page})", each.problem)
            for each in told.shots
        }
    made = []
    for key, (name, problem) in problems.items():
        if bool(problem) == (key in probed.silent):
            continue
        probed.silent ^= {key}
        said = (
            f"The probe {name} tells nothing: {problem}"
            if problem
            else f"The probe {name} tells again."
        )
        made.append(Remark(run=probed.run, second=told.second, text=storable(said)[:500]))
    if told.unkept and told.probe not in probed.unkept:
        probed.unkept.add(told.probe)
        made.append(
            Remark(
                run=probed.run,
                second=told.second,
                text=storable(f"The probe {title}: {told.unkept}.")[:500],
            )
        )
    return made
