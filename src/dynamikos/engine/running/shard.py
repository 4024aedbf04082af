"""What a generator process performs, and what the users in it share."""

import hashlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from msgspec.structs import replace

from dynamikos.core.frozen import FrozenRun, canonical, every_check, every_series, stream
from dynamikos.core.frozen.freeze import needs
from dynamikos.core.frozen.seating import slices_of
from dynamikos.core.journeys import Journey
from dynamikos.core.personas import Persona, headers_of
from dynamikos.core.plans import CrowdRow, Way
from dynamikos.core.reports import KeptExchange
from dynamikos.engine.http.caching import Bodies
from dynamikos.engine.ports import Clock, Functions, Lessor, Network
from dynamikos.engine.priming import Primed, prime
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.reporting.keeping import Choice
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.users.by_value import Tally
from dynamikos.engine.users.compiled import CompiledRequest, Script, compile_journey
from dynamikos.engine.users.dealing import Dealer, specs_of
from dynamikos.engine.users.kinds import item_of
from dynamikos.engine.users.proving import Tokens
from dynamikos.engine.users.user_context import Cap, UserContext


@dataclass(frozen=True, slots=True, kw_only=True)
class Shard:
    """What one generator process performs: shard `number` of `count`. `rows` by data set; `secrets`
    by name ("secrets.token").

    `lessor` deals out piles that several shards share; a shard alone needs none.
    """

    number: int
    count: int
    frozen: FrozenRun
    rows: dict[str, Sequence[Sequence[str]]]
    secrets: dict[str, str]
    lessor: Lessor | None = None
    functions: Functions | None = None
    primed: Mapping[int, Primed] = field(
        default_factory=dict
    )  # by row, what those have who come back; see primed_for


def user_contexts(
    shard: Shard,
    network: Network,
    clock: Clock,
    recorder: Recorder,
    health: HealthWatch,
    keep: Callable[[KeptExchange], None],
    stop: Callable[[str], None] = lambda why: None,
) -> list[UserContext]:
    """What the users of `shard` share, by row: each has its script and rows of data, all else is
    the same.
    """
    makes = _Contexts(shard, network, clock, recorder, health, keep, stop)
    return [makes.context(number, row) for number, row in enumerate(shard.frozen.places.rows)]


class _Contexts:
    """What is the same in all rows, and what is made of it for one."""

    def __init__(
        self,
        shard: Shard,
        network: Network,
        clock: Clock,
        recorder: Recorder,
        health: HealthWatch,
        keep: Callable[[KeptExchange], None],
        stop: Callable[[str], None],
    ) -> None:
        frozen = shard.frozen
        self._shard, self._frozen, self._network, self._clock = shard, frozen, network, clock
        self._recorder, self._health, self._keep, self._stop = recorder, health, keep, stop
        self._known = {**frozen.values, **shard.secrets}
        self._uses = [tables_of(frozen.journeys[row.journey], frozen) for row in frozen.places.rows]
        self._specs = specs_of(frozen.data, shard.rows, shard.lessor, alone=shard.count == 1)
        self._tally = recorder.tallies = Tally(self._specs, frozen.data)
        sliced = [pile.key for pile in frozen.data if pile.deal.whose == "slice"]
        self._slices = {key: slices_of(frozen, self._uses, key) for key in sliced}
        self._tokens, self._counters, self._bodies = Tokens(), dict[str, int](), Bodies()
        self._choice = Choice(
            stream(frozen.seed, "keep", "", shard.number), frozen.plan.keep, everything=frozen.trial
        )
        self._cap = self._made_cap()
        self._series, self._checks = every_series(frozen), every_check(frozen)
        self._compiled: dict[
            bytes, dict[tuple[str, str], CompiledRequest]
        ] = {}  # of a journey as a client sends it

    def context(self, number: int, row: CrowdRow) -> UserContext:
        """Of row `number` of the crowds, numbered through the run."""
        shard, frozen = self._shard, self._frozen
        persona, dealer = frozen.personas.get(row.persona), self._dealer(number)
        return UserContext(
            script=self._script(row, persona),
            clock=self._clock,
            network=self._network,
            recorder=self._recorder,
            health=self._health,
            choice=self._choice,
            keep=self._keep,
            dealer=dealer,
            known=self._known,
            shard=(shard.number, shard.count),
            functions=shard.functions,
            secrets=tuple(shard.secrets.values()),
            think_factor=frozen.plan.think_factor,
            cache=frozen.plan.cache if persona is None else "none",
            failed_pause_s=frozen.plan.failed_pause_s,
            cap=self._cap,
            trace=hashlib.sha256(frozen.run.encode()).hexdigest()[:32],
            deals=bool(dealer.each_round),
            seed=frozen.seed,
            span_prefix=((shard.number + 1) << 40) + (number << 32),
            row=number,
            keep_everything=frozen.trial,
            persona=persona,
            connections=persona.connections if persona is not None else 6,
            bodies=self._bodies,
            primed=shard.primed.get(number, ()),
            tokens=self._tokens,
            counters=self._counters,
        )

    def _made_cap(self) -> Cap | None:
        frozen, count = self._frozen, self._shard.count
        if not frozen.cap_per_s and not any(each.cap_per_s for each in frozen.agreed):
            return None
        return Cap(frozen.cap_per_s / count, self._stop, frozen.agreed, count)

    def _script(self, row: CrowdRow, persona: Persona | None) -> Script:
        frozen = self._frozen
        journey = _on_the_way(frozen.journeys[row.journey], frozen.way, persona)
        script = compile_journey(
            journey,
            self._known,
            frozen.data,
            self._shard.secrets,
            item_of=item_of,
            series=tuple(each for each in self._series if each.row == row.row),
            checks=[each for each in self._checks if each.row == row.row],
            known_requests=self._compiled.setdefault(canonical(journey), {}),
        )
        requests = [request for step in script.every for request in step.requests]
        self._recorder.first_checks |= {
            each.series: each.first_check for each in requests if each.checks
        }
        return script

    def _dealer(self, number: int) -> Dealer:
        frozen = self._frozen
        return Dealer(
            self._specs,
            seed=frozen.seed,
            users=sum(crowd.seats for crowd in frozen.crowds),
            record=self._dealt,
            stop=self._stop,
            slices=self._slices,
            tables=self._uses[number],
        )

    def _dealt(self, pile: int, user: int, turn: int, row: int) -> None:
        self._tally.dealt(pile, row)
        self._recorder.dealt(self._clock.now(), pile, user, turn, row)


async def primed_for(shard: Shard, network: Network, clock: Clock) -> dict[int, Primed]:
    """What returning visitors have in their caches, by row: fetched from the target, so it is for
    before the run.
    """
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
    followed = {
        pile.deal.follow.partition(".")[0]
        for pile in frozen.data
        if pile.key in named and pile.deal.follow
    }
    return frozenset(pile.key for pile in frozen.data if pile.key in named | followed)


def _on_the_way(journey: Journey, way: Way, persona: Persona | None = None) -> Journey:
    """The journey with the headers of the persona and of the environment among those common to all
    requests: the persona's go before its own, and those before the environment's.
    """
    client = headers_of(persona) if persona is not None else ()
    said = {name.lower() for name, _ in client}
    own = [(name, value) for name, value in journey.headers if name.lower() not in said]
    said |= {name.lower() for name, _ in own}
    added = [(name, value) for name, value in way.headers if name.lower() not in said]
    return replace(journey, headers=(*client, *own, *added)) if client or added else journey
