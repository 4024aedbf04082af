"""What all virtual users of a shard share."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import count

from dynamikos.core.personas import Persona
from dynamikos.core.plans import AgreedTarget
from dynamikos.core.plans.model import Caching
from dynamikos.core.reports import KeptExchange
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.caching import Bodies, Entry
from dynamikos.engine.ports import Clock, Functions, Network, Origin
from dynamikos.engine.pulse import Pulse
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.reporting.keeping import Choice
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.users.compiled import Script
from dynamikos.engine.users.dealing import Dealer
from dynamikos.engine.users.proving import Tokens


class Cap:
    """At most so many exchanges a second of this shard: in all (`per_s`, 0 for no limit), and to
    each of `targets` that has a limit of its own. What would be more is refused, and the run is
    stopped: it is never delayed.
    """

    def __init__(
        self,
        per_s: float,
        stop: Callable[[str], None],
        targets: Sequence[AgreedTarget] = (),
        shards: int = 1,
    ) -> None:
        """`per_s` is this shard's part; of the targets' limits it takes one of `shards` parts."""
        self._stop, self._targets, self._shards = (
            stop,
            [each for each in targets if each.cap_per_s],
            shards,
        )
        self._all: list[tuple[str, float]] = [("this installation allows", per_s)] if per_s else []
        self._of: dict[Origin, list[tuple[str, float]]] = {}
        self._second, self._counts = -1, dict[str, int]()

    def _limits(self, origin: Origin) -> list[tuple[str, float]]:
        """(who allows how much, exchanges/s) of what holds for an origin."""
        found = self._of.get(origin)
        if found is None:
            scheme, host, port = origin
            own = [each for each in self._targets if each.covers(scheme, host, port)]
            made = [(f"may be sent to {each}", each.cap_per_s / self._shards) for each in own]
            found = self._of[origin] = [*self._all, *made]
        return found

    async def pass_one(self, clock: Clock, origin: Origin, *, waits: bool) -> None:
        """Raises Failure("rate-cap") for one too many; a rehearsal, which thinks nothing, `waits`
        instead.
        """
        limits = self._limits(origin)
        while True:
            second = int(clock.now())
            if second != self._second:
                self._second, self._counts = second, {}
            over = next(
                (each for each in limits if self._counts.get(each[0], 0) + 1 > max(1.0, each[1])),
                None,
            )
            if over is None:
                break
            if not waits:
                why = f"more than the {over[1]:g} requests/s that {over[0]}"
                self._stop(why)
                raise Failure("rate-cap", why)
            await clock.at(second + 1)  # and asks again: others have waited, too
        for words, _ in limits:
            self._counts[words] = self._counts.get(words, 0) + 1


@dataclass(slots=True)
class UserContext:
    """What all users of a shard share. `trace` is the run's 32-digit trace id."""

    script: Script
    clock: Clock
    network: Network
    recorder: Recorder
    health: HealthWatch
    choice: Choice
    keep: Callable[[KeptExchange], None]
    dealer: Dealer
    secrets: tuple[str, ...] = ()
    think_factor: float = 1.0
    failed_pause_s: float = 1.0
    cap: Cap | None = None
    trace: str = "0" * 31 + "1"
    deals: bool = True
    known: dict[str, str] = field(default_factory=dict)
    shard: tuple[int, int] = (0, 1)
    functions: Functions | None = None
    write: Callable[[str, dict[str, str]], None] | None = (
        None  # None: rows are not written back (a rehearsal)
    )
    span_prefix: int = 0
    seed: int = 0
    row: int = 0  # of the crowds, numbered through the run
    keep_everything: bool = False
    persona: Persona | None = None
    cache: Caching = "none"  # of a user without a persona, see Plan
    bodies: Bodies = field(default_factory=Bodies)  # what users' caches keep
    primed: Sequence[tuple[str, Entry]] = ()  # what those have in their caches who come back
    connections: int = 6  # that a page's resources are fetched over, of each origin
    tokens: Tokens = field(default_factory=Tokens)
    turns: dict[str, list[float]] = field(
        default_factory=dict
    )  # how often each branch of an item was chosen evenly
    counters: dict[str, int] = field(default_factory=dict)
    pulse: Pulse = field(default_factory=Pulse)
    spans: Iterator[int] = field(init=False)
    trace_prefix: str = field(init=False)

    def __post_init__(self) -> None:
        self.spans = count(self.span_prefix + 1)
        self.trace_prefix = f"00-{self.trace}-"

    def wall_us(self) -> int:
        """Microseconds since the epoch."""
        return int(self.clock.wall() * 1e6)

    def run_count(self, name: str) -> str:
        """The next number of a counter that all users of the run share: shard s of n has s+1,
        s+1+n, …
        """
        number, count = self.shard
        at = self.counters.get(name, 0)
        self.counters[name] = at + 1
        return str(at * count + number + 1)
