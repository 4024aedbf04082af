"""The one public door: `run` performs a shard, `rehearse` one user and one round."""

import asyncio
import contextlib
import gc
import hashlib
import logging
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from msgspec.structs import replace

from dynamikos.core.frozen import FrozenRun, canonical, every_check, every_series, stream
from dynamikos.core.frozen.changing import with_changes
from dynamikos.core.frozen.freeze import needs
from dynamikos.core.frozen.seating import planned_by, slices_of
from dynamikos.core.journeys import Journey
from dynamikos.core.personas import Persona, headers_of
from dynamikos.core.plans import Way
from dynamikos.core.profiles import share_of
from dynamikos.core.profiles.changing import Change
from dynamikos.core.reports import Health, KeptExchange
from dynamikos.core.reports.present import Present
from dynamikos.core.verdicts.ending import FINISHED, GENTLY, LOST, NOW, Ending, broke, stopped
from dynamikos.core.verdicts.objectives import counted_while_open
from dynamikos.engine import guard
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.caching import Bodies
from dynamikos.engine.http.cookies import suffixes
from dynamikos.engine.limits import SPARE, descriptors
from dynamikos.engine.ports import Clock, Functions, Lessor, Network, Origin, Sink
from dynamikos.engine.priming import Primed, prime
from dynamikos.engine.pulse import Pulse
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.reporting.keeping import Choice
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.schedule.crowd_scheduler import SchedulerContext
from dynamikos.engine.schedule.scheduler import Scheduler
from dynamikos.engine.users.by_value import Tally
from dynamikos.engine.users.compiled import CompiledRequest, Script, compile_journey
from dynamikos.engine.users.dealing import Dealer, specs_of
from dynamikos.engine.users.kinds import item_of
from dynamikos.engine.users.performer import User
from dynamikos.engine.users.present import present
from dynamikos.engine.users.proving import Tokens
from dynamikos.engine.users.user_context import Cap, UserContext

log = logging.getLogger(__name__)
suffixes()
CLOSE_AFTER_S = 0.15  # a second's message is made this long after its end, so that late recordings get in


@dataclass(frozen=True, slots=True, kw_only=True)
class Shard:
    """What one generator process performs: shard `number` of `count`. `rows` by data set; `secrets` by name
    ("secrets.token").

    `lessor` deals out piles that several shards share; a shard alone needs none.
    """

    number: int
    count: int
    frozen: FrozenRun
    rows: dict[str, Sequence[Sequence[str]]]
    secrets: dict[str, str]
    lessor: Lessor | None = None
    functions: Functions | None = None
    primed: Mapping[int, Primed] = field(default_factory=dict)  # by row, what those have who come back; see primed_for


class Control:
    """Stops a running shard from outside."""

    def __init__(self) -> None:
        self._gently: Callable[[], None] | None = None
        self._now: asyncio.Event = asyncio.Event()
        self.ending: Ending | None = None  # what stopped it first; `now` where anything did at once
        self.loss_s = float("inf")  # after so long a stop it is taken for lost, and sends nothing more
        self.is_lost = False
        self.broke: Ending | None = None  # the run can't be trusted: an error of ours
        self.forget: Callable[[], None] | None = None
        self.changes: tuple[Change, ...] = ()
        self._replan: Callable[[Sequence[Change]], None] | None = None
        self._look: Callable[[frozenset[int]], Present] | None = None

    def look(self, followed: frozenset[int]) -> Present | None:
        """Who is there now; from now on the users of these numbers are `followed`. None while nobody is there."""
        return self._look(followed) if self._look is not None else None

    @property
    def is_stopped(self) -> bool:
        return self.ending is not None

    def stop_gently(self) -> None:
        """By hand."""
        self.end(GENTLY)

    def stop_now(self) -> None:
        """By hand."""
        self.end(NOW)

    def end(self, why: Ending) -> None:
        """Who stops it first has done it; `why.now` cuts users off, whoever it comes from."""
        known = self.ending
        self.ending = why if known is None else replace(known, now=known.now or why.now)
        if why.now:
            self._now.set()
        elif self._gently is not None:
            self._gently()

    def change(self, changes: Sequence[Change]) -> None:
        """All changes of the load that were asked for by now, in order."""
        if len(changes) > len(self.changes):
            self.changes = tuple(changes)
            if self._replan is not None and not self.is_stopped:
                self._replan(self.changes)

    def taken_back(self) -> None:
        """The shard had been taken for lost: what was given to others is not its own any more."""
        if self.forget is not None:
            self.forget()


def user_contexts(
    shard: Shard,
    network: Network,
    clock: Clock,
    recorder: Recorder,
    health: HealthWatch,
    keep: Callable[[KeptExchange], None],
    stop: Callable[[str], None] = lambda why: None,
) -> list[UserContext]:
    """What the users of `shard` share, by row: each has its script and rows of data, all else is the same."""
    frozen = shard.frozen
    known = {**frozen.values, **shard.secrets}
    rows = frozen.places.rows
    uses = [tables_of(frozen.journeys[row.journey], frozen) for row in rows]
    specs = specs_of(frozen.data, shard.rows, shard.lessor, alone=shard.count == 1)
    recorder.tallies = tally = Tally(specs, frozen.data)

    def dealt(pile: int, user: int, turn: int, row: int) -> None:
        tally.dealt(pile, row)
        recorder.dealt(clock.now(), pile, user, turn, row)

    slices = {pile.key: slices_of(frozen, uses, pile.key) for pile in frozen.data if pile.deal.whose == "slice"}
    tokens, counters, bodies = Tokens(), dict[str, int](), Bodies()
    choice = Choice(stream(frozen.seed, "keep", "", shard.number), frozen.plan.keep, everything=frozen.trial)
    cap: Cap | None = None
    if frozen.cap_per_s or any(each.cap_per_s for each in frozen.agreed):
        cap = Cap(frozen.cap_per_s / shard.count, stop, frozen.agreed, shard.count)
    made: list[UserContext] = []
    series, checks = every_series(frozen), every_check(frozen)
    compiled: dict[bytes, dict[tuple[str, str], CompiledRequest]] = {}  # of each journey as a client sends it
    for number, row in enumerate(rows):
        journey = _on_the_way(frozen.journeys[row.journey], frozen.way, frozen.personas.get(row.persona))
        script = compile_journey(
            journey,
            known,
            frozen.data,
            shard.secrets,
            item_of=item_of,
            series=tuple(each for each in series if each.row == row.row),
            checks=[each for each in checks if each.row == row.row],
            known_requests=compiled.setdefault(canonical(journey), {}),
        )
        requests = [request for step in script.every for request in step.requests]
        recorder.first_checks |= {request.series: request.first_check for request in requests if request.checks}
        dealer = Dealer(
            specs,
            seed=frozen.seed,
            users=sum(crowd.seats for crowd in frozen.crowds),
            record=dealt,
            stop=stop,
            slices=slices,
            tables=uses[number],
        )
        made.append(
            UserContext(
                script=script,
                clock=clock,
                network=network,
                recorder=recorder,
                health=health,
                choice=choice,
                keep=keep,
                dealer=dealer,
                known=known,
                shard=(shard.number, shard.count),
                functions=shard.functions,
                secrets=tuple(shard.secrets.values()),
                think_factor=frozen.plan.think_factor,
                failed_pause_s=frozen.plan.failed_pause_s,
                cap=cap,
                trace=hashlib.sha256(frozen.run.encode()).hexdigest()[:32],
                deals=bool(dealer.each_round),
                seed=frozen.seed,
                span_prefix=((shard.number + 1) << 40) + (number << 32),
                row=number,
                keep_everything=frozen.trial,
                persona=(persona := frozen.personas.get(row.persona)),
                connections=persona.connections if persona is not None else 6,
                bodies=bodies,
                primed=shard.primed.get(number, ()),
                tokens=tokens,
                counters=counters,
            )
        )
    return made


async def primed_for(shard: Shard, network: Network, clock: Clock) -> dict[int, Primed]:
    """What returning visitors have in their caches, by row: fetched from the target, so it is for before the run."""
    made: dict[int, Primed] = {}
    frozen = shard.frozen
    for number, row in enumerate(frozen.places.rows):
        persona = frozen.personas.get(row.persona)
        if persona is None or persona.visit is None or persona.visit.visit != "return":
            continue
        known = {**frozen.values, **shard.secrets}
        journey = _on_the_way(frozen.journeys[row.journey], frozen.way, persona)
        script = compile_journey(journey, known, frozen.data, shard.secrets, item_of=item_of)
        made[number] = await prime(script, persona.visit.away_s, network, clock)
    return made


def tables_of(journey: Journey, frozen: FrozenRun) -> frozenset[str]:
    """The data sets that a journey uses, and those that they follow."""
    named = needs(journey, frozen.way).tables
    followed = {pile.deal.follow.partition(".")[0] for pile in frozen.data if pile.key in named and pile.deal.follow}
    return frozenset(pile.key for pile in frozen.data if pile.key in named | followed)


def _on_the_way(journey: Journey, way: Way, persona: Persona | None = None) -> Journey:
    """The journey with the headers of the persona and of the environment among those common to all requests: the
    persona's go before its own, and those before the environment's.
    """
    client = headers_of(persona) if persona is not None else ()
    said = {name.lower() for name, _ in client}
    own = [(name, value) for name, value in journey.headers if name.lower() not in said]
    said |= {name.lower() for name, _ in own}
    added = [(name, value) for name, value in way.headers if name.lower() not in said]
    return replace(journey, headers=(*client, *own, *added)) if client or added else journey


async def run(
    shard: Shard, network: Network, clock: Clock, sink: Sink, *, begin: float, control: Control | None = None
) -> Ending:
    """Performs `shard` from the clock's instant `begin` (second 0) and returns how it ended.

    Reports one message a second; the last has `last=True`. Raises TemplateError or RuleError before anything is sent.
    """
    control = control or Control()
    frozen = shard.frozen
    older = counted_while_open(frozen)
    recorder = Recorder(shard.number, begin, begin + frozen.measured[1], older=older)
    health = HealthWatch(sink.unsent)

    def used_up(why: str) -> None:
        control.end(stopped("rule", why))

    rows = user_contexts(shard, network, clock, recorder, health, sink.keep, used_up)

    # before users are planned: so many may take long
    scripts = [around.script for around in rows]
    _only_agreed(scripts, network)
    _enough_descriptors(scripts, sum(share_of(crowd.seats, shard.number, shard.count) for crowd in frozen.crowds))

    def lost() -> None:
        control.is_lost = True
        control.stop_now()

    pulse = Pulse(control.loss_s, lost)
    for around in rows:
        around.write, around.pulse = sink.write, pulse
    control.forget = rows[0].dealer.forget_last

    followed: set[int] = set()

    def make(row: int, number: int, **more: Any) -> User:
        made = User(number, rows[row], **more)
        if followed and number in followed:
            made.follow(on=True)
        return made

    shared = SchedulerContext(begin, clock, health, recorder, make)
    starter = Scheduler(frozen, shard.number, shard.count, shared)
    there = [planned_by(starter.seats)]
    ends = [begin + frozen.ends_s + frozen.plan.grace_s]
    control._gently = starter.stop_gently

    def look(numbers: frozenset[int]) -> Present:
        followed.clear()
        followed.update(numbers)
        return present(starter.here(), followed, int(clock.now() - begin))

    control._look = look

    def replan(changes: Sequence[Change]) -> None:
        if changes[-1].at_s + begin <= clock.now():
            recorder.learned_late(clock.now())
        changed = with_changes(frozen, changes)
        recorder.measured_to = begin + changed.measured[1]
        starter.replan(changed)
        there[0] = planned_by(starter.seats)
        ends[0] = begin + changed.ends_s + frozen.plan.grace_s

    control._replan = replan
    if control.changes:
        replan(control.changes)
    if control.ending is not None and not control.ending.now:
        starter.stop_gently()

    def planned(second: int) -> int:
        return 0 if control.is_stopped else there[0](second + 0.995)

    def healthy() -> Health:
        try:
            return health.read()
        except Exception as problem:  # the users go on; that the generator could not look at itself is said
            log.exception("the generator's health can't be read")
            recorder.left_early(clock.now(), "broke", f"the generator's health can't be read: {problem}"[:120])
            return Health()

    def tell(upto: int, *, last: bool = False) -> None:
        for message in recorder.close(
            upto,
            clock.now(),
            planned,
            healthy,
            last=last,
            under_way=starter.open_now() if last else (),
            lost=health.lost if getattr(clock, "is_real", False) else None,
        ):
            sink.report(message)

    async def seconds() -> None:
        second = 0
        try:
            while True:
                await clock.at(begin + second + 0.995)
                recorder.look(second, starter.open_now() if older else ())
                await clock.at(begin + second + 1 + CLOSE_AFTER_S)
                tell(second)
                second += 1
        except Exception as problem:  # without reports a run is nothing: it ends, and says why
            log.exception("a second could not be reported")
            control.broke = broke(f"a second could not be reported: {type(problem).__name__}: {problem}")
            control.stop_now()

    gc.collect()
    gc.freeze()
    threshold = gc.get_threshold()
    gc.set_threshold(50_000, 50, 100)
    health.start()
    reporter = asyncio.create_task(seconds(), name="seconds")
    users = asyncio.create_task(starter.perform(), name="users")
    halt = asyncio.create_task(control._now.wait(), name="halt")
    beat = asyncio.create_task(pulse.beat(clock), name="pulse")
    over = asyncio.create_task(_grace(clock, lambda: ends[0]), name="grace")
    try:
        with guard.watching():
            done, _ = await asyncio.wait({users, halt, over}, return_when=asyncio.FIRST_COMPLETED)
        for task in done:
            task.result()
    finally:
        control._look = None
        starter.remember_open()
        for task in (users, halt, over, reporter, beat):
            task.cancel()
        await asyncio.gather(users, halt, over, reporter, beat, return_exceptions=True)
        with contextlib.suppress(OSError):
            await rows[0].dealer.close()
        health.stop()
        gc.unfreeze()
        gc.set_threshold(*threshold)
        try:
            tell(max(int(clock.now() - begin), recorder.closed + 1), last=True)
        except Exception as problem:
            log.exception("the last second could not be reported")
            said = f"the last second could not be reported: {type(problem).__name__}: {problem}"
            control.broke = control.broke or broke(said)
    if control.broke is not None:
        return control.broke
    return LOST if control.is_lost else control.ending or FINISHED


def _origins(scripts: Sequence[Script]) -> Iterator[Origin]:
    """Of all fixed addresses."""
    for script in scripts:
        for step in script.every:
            yield from (request.place[0] for request in step.requests if request.place is not None)


def _only_agreed(scripts: Sequence[Script], network: Network) -> None:
    """Raises Failure("not-agreed") for a fixed address that nobody agreed to: then nothing at all is sent."""
    for origin in _origins(scripts):
        network.check(origin)


def _enough_descriptors(scripts: Sequence[Script], users: int) -> None:
    """Raises Failure for more users than this process can give a connection each to every origin they go to."""
    places = set(_origins(scripts))
    needed, there = users * max(1, len(places)) + SPARE, descriptors()
    if needed > there:
        raise Failure(
            "own-limit-descriptors",
            f"{users:,} users need {needed:,} open files on this generator, and it may have {there:,}; raise its limit"
            " (ulimit -n, LimitNOFILE) or share the load over more generators",
        )


async def _grace(clock: Clock, instant: Callable[[], float]) -> None:
    """Until an instant that may be moved meanwhile; while a load is held that is looked at anew each minute."""
    while clock.now() < instant():
        await clock.at(min(instant(), clock.now() + 60))


class Rehearsal:
    """One user, one round or a few, no think times, everything kept (redirect hops too).

    Afterwards, if wanted, the journey's clean-up.
    """

    def __init__(self, shard: Shard, user: int = 1, rounds: int = 1) -> None:
        """`user` is the number the virtual user has."""
        self._shard, self._number, self._rounds = shard, user, rounds
        self._user: User | None = None
        self._around: UserContext | None = None

    async def perform(self, network: Network, clock: Clock, keep: Callable[[KeptExchange], None]) -> str:
        """Returns "passed" or "failed". Raises TemplateError or RuleError before anything is sent."""
        recorder = Recorder(0, clock.now())
        health = HealthWatch()
        (around,) = user_contexts(self._shard, network, clock, recorder, health, keep)
        self._around = around
        around.think_factor = 0.0
        around.keep_everything = True
        around.choice = Choice(stream(self._shard.frozen.seed, "keep", "", 0), everything=True)
        user = self._user = User(self._number, around, rounds=self._rounds)
        with guard.watching():
            why = await user.perform()
        return "failed" if why != "done" or recorder.failures else "passed"

    async def clean_up(self, network: Network, clock: Clock, keep: Callable[[KeptExchange], None]) -> str:
        """Every step of the clean-up, with the values and cookies that the user ended with; "passed" or "failed"."""
        user, around = self._user, self._around
        if user is None or around is None:
            return "failed"
        around.network, around.clock, around.keep, around.recorder.failures = network, clock, keep, 0
        with guard.watching():
            await user.clean_up()
        return "failed" if around.recorder.failures else "passed"
