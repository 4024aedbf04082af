"""A run of a plan from files: the engine in this process, a list as its sink, no database."""

import asyncio
import dataclasses
import datetime
from collections.abc import Callable, Mapping

import numpy as np
import uvloop
from msgspec import to_builtins
from msgspec.structs import replace

from dynamikos.cli import summary
from dynamikos.cli.ending import ENDING
from dynamikos.cli.folder import Result
from dynamikos.core.analysis.evidence import Measured
from dynamikos.core.analysis.findings import findings
from dynamikos.core.analysis.gathering import evidence_of
from dynamikos.core.analysis.levels import capacity_of
from dynamikos.core.errors import PlanError
from dynamikos.core.frozen import FrozenRun, every_series
from dynamikos.core.frozen.freeze import probed_secrets
from dynamikos.core.objectives import Readings, Told
from dynamikos.core.probes.shots import Shot, blind, worth_keeping
from dynamikos.core.reports import Ledger, SeriesSecond, ShardSecond, frame_of
from dynamikos.core.values import bind
from dynamikos.core.verdicts import Outcome, Watching, conclude
from dynamikos.core.verdicts.bursts import without
from dynamikos.engine.clock import RealClock
from dynamikos.engine.failures import Failure
from dynamikos.engine.functions import Child
from dynamikos.engine.limits import raise_descriptors
from dynamikos.engine.network import RealNetwork
from dynamikos.engine.probing import ProbeSecond
from dynamikos.engine.runner import Control, Shard, primed_for, run
from dynamikos.engine.testing import ListSink
from dynamikos.fleet.probe_process import ProbeProcess
from dynamikos.machine.modules import is_current

PROGRESS_S = 5


def perform(
    frozen: FrozenRun,
    rows: dict[str, list[list[str]]],
    secrets: dict[str, str],
    tell: Callable[[str], None],
) -> tuple[Outcome, Result]:
    """Runs `frozen` to its end (Ctrl-C once stops gently, twice at once), concludes and looks what
    is to be noticed.
    """
    probes = Probes(frozen, secrets)
    began = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
    try:
        outcome, sink = uvloop.run(_perform(frozen, rows, secrets, tell, probes))
    finally:
        ENDING.over()
        probes.close()
    seconds = max((each.second for each in sink.messages), default=-1) + 1
    measures, silent = probes.measures(seconds)
    for title, second, why in silent:
        tell(f"the probe {title} told nothing from second {second} on: {why}")
    for line in probes.unkept:
        tell(line)
    evidence = evidence_of(
        frozen, sink.messages, measures=measures, kept=sink.kept, silent=silent
    )  # fmt: skip
    marks = {no: each.marks for no, each in enumerate(outcome.judgements) if each.marks}
    series = every_series(frozen)
    parts: dict[int, dict[int, SeriesSecond]] = {}
    for message in sink.messages:
        for part in message.series:
            parts.setdefault(part.no, {})[message.second] = part
    noticed, capacity = findings(evidence, marks), capacity_of(evidence)
    return outcome, Result(
        frozen,
        outcome,
        noticed,
        capacity,
        series,
        parts,
        evidence.users,
        measures,
        sink.kept,
        probes.shots,
        began,
    )


class Probes:
    """The probes of a run from files, read by a process of their own, so that users don't wait for
    them.
    """

    def __init__(self, frozen: FrozenRun, secrets: Mapping[str, str]) -> None:
        self._frozen = frozen
        needed = {f"secrets.{name}" for name in probed_secrets(frozen)}
        self._secrets = {name: value for name, value in secrets.items() if name in needed}
        self._told: list[ProbeSecond] = []
        self._apart: ProbeProcess | None = None
        if frozen.plan.probes:
            self._apart = ProbeProcess(frozen, secrets=self._secrets)
            self._apart.wait_ready()

    def begin(self, begin: float) -> None:
        """Second 0 is the instant `begin` of the monotonic clock."""
        if self._apart is not None:
            self._apart.begin(begin)

    def newest(self) -> list[ProbeSecond]:
        """What it told since this was asked last."""
        if self._apart is None:
            return []
        told = list(self._apart.newest())
        self._told.extend(told)
        return told

    def close(self) -> None:
        """Ends it, and takes what it told."""
        if self._apart is not None:
            self._apart.end()
            self.newest()
            self._apart = None

    @property
    def shots(self) -> list[tuple[int, Shot]]:
        """What browsers saw: (second, look), those that say more than the ones before."""
        kept: dict[str, list[tuple[int, Shot]]] = {}
        for each in self._told:
            for shot in each.shots:
                before = kept.setdefault(f"{each.probe} {shot.page}", [])
                since_s = each.second - before[-1][0] if before else 0
                if worth_keeping([old for _, old in before], shot, since_s):
                    before.append((each.second, shot))
        return [each for shots in kept.values() for each in shots]

    @property
    def unkept(self) -> list[str]:
        """What of answers is not kept, and why: one line a probe."""
        titles = {each.probe: each.title for each in self._frozen.plan.probes}
        first = {each.probe: each.unkept for each in reversed(self._told) if each.unkept}
        return [f"the probe {titles[probe]}: {why}" for probe, why in first.items()]

    def readings(self, seconds: int) -> Readings:
        """By (probe, measure) what was told over the run, once it is closed."""
        every = {each.probe: each.every_s for each in self._frozen.plan.probes}
        made: dict[tuple[str, str], Told] = {}
        for each in self._told:
            for name, value in each.values.items():
                key = each.probe, name
                if key not in made:
                    made[key] = Told(
                        np.full(seconds, np.nan), each.units.get(name, ""), every[each.probe]
                    )
                if each.second < seconds:
                    made[key].values[each.second] = value
        return made

    def measures(self, seconds: int) -> tuple[list[Measured], list[tuple[str, int, str]]]:
        """(measures over the run, (title, second, why) of probes that fell silent)."""
        probes = {each.probe: each for each in self._frozen.plan.probes}
        silent: dict[str, tuple[str, int, str]] = {}
        for each in self._told:
            if each.problem and each.second < seconds:
                silent.setdefault(each.probe, (probes[each.probe].title, each.second, each.problem))
                continue
            for page, why in blind(each.shots).items():
                key = f"{each.probe} {page}"
                silent.setdefault(key, (f"{probes[each.probe].title} ({page})", each.second, why))
        made = [
            Measured(
                f"{probes[probe].title}: {name}",
                told.unit,
                told.values,
                probe,
                probes[probe].host is not None,
            )
            for (probe, name), told in self.readings(seconds).items()
        ]
        return made, list(silent.values())


async def _perform(
    frozen: FrozenRun,
    rows: dict[str, list[list[str]]],
    secrets: dict[str, str],
    tell: Callable[[str], None],
    probes: Probes,
) -> tuple[Outcome, ListSink]:
    raise_descriptors()
    if not is_current():
        tell("the engine is interpreted; ./dynamikos compile makes it about half as fast again")
    series = {each.no: each for each in every_series(frozen)}
    total = frozen.ends_s
    from_s, to_s = frozen.measured
    window, whole = Ledger(series.values()), Ledger(series.values())
    seen = {"peak": 0, "flying": 0}
    watching, control = Watching(frozen), Control()

    def report(message: ShardSecond) -> None:
        whole.add(message, totals=False)
        window.add(message, totals=from_s <= message.second < to_s)
        window.carry(message)
        seen["peak"] = max(seen["peak"], sum(message.users.values()))
        seen["flying"] = message.in_flight
        if watching.sources:
            for told in probes.newest():
                for name, value in told.values.items():
                    watching.read(told.probe, name, told.second, value)
        stop = watching.add(message.second, [message])
        if stop is not None and not control.is_stopped:
            tell(f"stopping {'now' if stop.now else 'gently'}: {stop.why}")
            control.end(stop)
        if (message.second + 1) % PROGRESS_S == 0 and not message.last:
            tell(summary.progress(frame_of(message.second, [message], series), total))

    sink = ListSink(report)
    functions = Child(frozen.functions, agreed=True)  # whoever runs files decides for this machine
    known = {name.partition(".")[2]: value for name, value in secrets.items()}
    way = (
        replace(frozen.way, proxy=bind(frozen.way.proxy, {**frozen.values, **secrets}))
        if frozen.way.proxy
        else frozen.way
    )
    try:
        network = RealNetwork(
            frozen.agreed,
            way=way,
            key=known.get(way.key_secret, ""),
            **to_builtins(frozen.plan.timeouts),
        )
        if frozen.functions:
            await functions.load()
    except Failure as failure:
        await functions.close()
        raise PlanError(failure.detail) from failure
    clock = RealClock()

    def interrupted() -> None:
        if control.is_stopped:
            control.stop_now()
        else:
            tell(
                "stopping gently: users finish their step and leave; Ctrl-C once more stops at once"
            )
            control.stop_gently()

    ENDING.told = interrupted
    ENDING.watch(asyncio.get_running_loop())
    if ENDING.asked and not control.is_stopped:  # it was asked for before anybody was told
        interrupted()
    try:
        shard = Shard(
            number=0, count=1, frozen=frozen, rows=dict(rows), secrets=secrets, functions=functions
        )
        shard = dataclasses.replace(shard, primed=await primed_for(shard, network, clock))
        begin = clock.now() + 0.2
        probes.begin(begin)
        ending = await run(shard, network, clock, sink, begin=begin, control=control)
    except Failure as failure:  # before anything was sent
        raise PlanError(failure.detail) from failure
    finally:
        await network.aclose()
        await functions.close()
        clock.close()
    probes.close()  # all that it told is there now
    outcome = conclude(
        frozen,
        window,
        whole,
        ending=ending,
        in_flight=seen["flying"],
        peak_users=seen["peak"],
        marks=watching.marks,
        chances=watching.chances(min(to_s, whole.until_s)),
        bursts=watching.bursts(min(to_s, whole.until_s)),
        calm=lambda left_out: without(sink.messages, left_out, series.values(), from_s, to_s),
        readings=probes.readings(max((each.second for each in sink.messages), default=-1) + 1),
    )
    return outcome, sink
