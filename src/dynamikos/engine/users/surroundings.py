"""What all virtual users of a shard share."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from itertools import count

from dynamikos.core.reports import KeptExchange
from dynamikos.engine.failures import Failure
from dynamikos.engine.ports import Clock, Functions, Network
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.reporting.keeping import Choice
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.users.compiled import Script
from dynamikos.engine.users.dealing import Dealer
from dynamikos.engine.users.proving import Tokens


class Cap:
    """At most so many exchanges a second of this shard.

    What would be more is refused, and the run is stopped: it is never delayed.
    """

    def __init__(self, per_s: float, stop: Callable[[str], None]) -> None:
        self._per_s, self._stop = per_s, stop
        self._second, self._count = -1, 0

    async def pass_one(self, clock: Clock, *, waits: bool) -> None:
        """Raises Failure("rate-cap") for one too many; a rehearsal, which thinks nothing, `waits` instead."""
        second = int(clock.now())
        if second != self._second:
            self._second, self._count = second, 0
        self._count += 1
        if self._count <= max(1.0, self._per_s):
            return
        if waits:
            await clock.at(second + 1)
            return
        why = f"more than the {self._per_s:g} requests/s that this installation allows"
        self._stop(why)
        raise Failure("rate-cap", why)


@dataclass(slots=True)
class Surroundings:
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
    write: Callable[[str, dict[str, str]], None] | None = None  # None: rows are not written back (a rehearsal)
    span_prefix: int = 0
    seed: int = 0
    row: int = 0  # of the crowds, numbered through the run
    keep_everything: bool = False
    tokens: Tokens = field(default_factory=Tokens)
    turns: dict[str, list[float]] = field(default_factory=dict)  # how often each branch of an item was chosen evenly
    counters: dict[str, int] = field(default_factory=dict)
    spans: Iterator[int] = field(init=False)
    trace_prefix: str = field(init=False)

    def __post_init__(self) -> None:
        self.spans = count(self.span_prefix + 1)
        self.trace_prefix = f"00-{self.trace}-"

    def wall_us(self) -> int:
        """Microseconds since the epoch."""
        return int(self.clock.wall() * 1e6)

    def run_count(self, name: str) -> str:
        """The next number of a counter that all users of the run share: shard s of n has s+1, s+1+n, …"""
        number, count = self.shard
        at = self.counters.get(name, 0)
        self.counters[name] = at + 1
        return str(at * count + number + 1)
