"""What of the figures may be the generators' own delay, and why: causes are named with their
effect, and doubt nothing by themselves.
"""

from collections.abc import Iterable, Iterator

import msgspec

from dynamikos.core.figures import short
from dynamikos.core.reports import Ledger, Row

WAITED, STOLEN, FULL_CORE, SEEN_MS = 0.1, 0.05, 0.85, 0.5
NAMES = {
    "p50_ms": "p50",
    "p90_ms": "p90",
    "p95_ms": "p95",
    "p99_ms": "p99",
    "mean_ms": "mean",
    "max_ms": "longest",
}


class OwnDelay(msgspec.Struct, frozen=True, kw_only=True):
    """The step whose p95 (else another figure) the generators' own delay can have changed most:
    `ms` of `value_ms`. `causes` are words.
    """

    step: str
    figure: str
    ms: float
    value_ms: float
    causes: list[str] = []

    @property
    def sentence(self) -> str:
        why = f": {'; '.join(self.causes)}" if self.causes else ""
        return (
            f"The generators' own delay may be up to {_time(self.ms)} of the {self.figure} of "
            f"{self.step}"
            f" ({_time(self.value_ms)}){why}."
        )


def _time(value_ms: float) -> str:
    return f"{short(value_ms / 1000)} s" if value_ms >= 999.5 else f"{short(value_ms)} ms"


def own_delay_of(rows: Iterable[Row], window: Ledger) -> OwnDelay | None:
    """None where it can have changed no figure of a step by half a millisecond."""
    found = [
        (name == "p95_ms", value - low, row.name, name, value)
        for row in rows
        if row.level == "step"
        for name, low in row.without_delay.items()
        if name != "max_ms" and (value := getattr(row, name)) is not None and value - low >= SEEN_MS
    ]
    if not found:
        return None
    _, ms, step, name, value = max(found)
    return OwnDelay(
        step=step,
        figure=NAMES[name],
        ms=round(ms, 3),
        value_ms=value,
        causes=list(causes_of(window)),
    )


def causes_of(window: Ledger) -> Iterator[str]:
    """Why generators were delayed, from their own health: the worst second of each cause."""
    worst = window.worst
    if worst.stopped_max_us >= 20_000:
        yield (
            f"a generator could not run for up to {short(worst.stopped_max_us / 1000)} ms at a time"
        )
    if worst.wait_share > WAITED:
        yield f"no processor was free for it in up to {100 * worst.wait_share:.2g} % of a second"
    if worst.stolen_share > STOLEN:
        yield (
            f"the machine's host took up to {100 * worst.stolen_share:.2g} % of the processors' "
            "time"
        )
    if worst.throttled_share > 0:
        yield (
            f"the container's limit held it back for up to {100 * worst.throttled_share:.2g} % of "
            "a second"
        )
    if worst.cpu_share > FULL_CORE:
        yield f"it used up to {100 * worst.cpu_share:.2g} % of a core"
    if worst.stall_max_us >= 20_000:
        yield f"its event loop stalled for up to {short(worst.stall_max_us / 1000)} ms"
