"""What all virtual users of a shard share."""

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from itertools import count

from dynamikos.core.reports import KeptExchange
from dynamikos.engine.ports import Clock, Network
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.reporting.keeping import Choice
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.users.compiled import Script
from dynamikos.engine.users.proving import Tokens


@dataclass(slots=True)
class Surroundings:
    """What all users of a shard share. `deal` gives the row of a turn; `trace` is the run's 32-digit trace id."""

    script: Script
    clock: Clock
    network: Network
    recorder: Recorder
    health: HealthWatch
    choice: Choice
    keep: Callable[[KeptExchange], None]
    deal: Callable[[int, int], dict[str, str]]
    secret_columns: frozenset[str] = frozenset()
    secrets: tuple[str, ...] = ()
    think_factor: float = 1.0
    trace: bytes = b"0" * 31 + b"1"
    deals: bool = True
    span_prefix: int = 0
    seed: int = 0
    wall_us: Callable[[], int] = lambda: time.time_ns() // 1000
    keep_everything: bool = False
    tokens: Tokens = field(default_factory=Tokens)
    spans: Iterator[int] = field(init=False)
    trace_line: bytes = field(init=False)

    def __post_init__(self) -> None:
        self.spans = count(self.span_prefix + 1)
        self.trace_line = b"traceparent: 00-%b-" % self.trace
        for step in (*self.script.opening, *self.script.rounds, *self.script.closing):
            if step.quick is not None and step.quick.plain is not None:
                step.quick.start = step.quick.plain[3] + self.trace_line
