"""What came of a run that was not so in the one before: steps that fail now, or no more, and those
far slower.
"""

from collections.abc import Iterator, Sequence

from scipy.special import bdtrc

from dynamikos.core.figures import short
from dynamikos.core.reports import Row
from dynamikos.core.statistics.chance import ALPHA

SHARE, FEWEST, TIMES, SAMPLES = (
    1.0,
    10,
    2.0,
    40,
)  # per cent of failures, failures, p95 over p95, samples


def changes_in(before: Sequence[Row], now: Sequence[Row]) -> Iterator[str]:
    """In words, of steps that both have; only what is no chance of few samples."""
    known = {_key(each): each for each in before if each.level in ("step", "repeat")}
    for each in now:
        old = known.get(_key(each))
        if old is None or not old.count or not each.count:
            continue
        was, is_now = old.failure_percent or 0.0, each.failure_percent or 0.0
        if _fails(each) and not _fails(old) and _beyond(each, old):
            yield f"“{each.name}” fails now: {short(is_now)} % ({short(was)} % before)"
        elif _fails(old) and not _fails(each) and _beyond(old, each):
            yield f"“{each.name}” does not fail any more: {short(is_now)} % ({short(was)} % before)"
        if old.p95_ms and each.p95_ms and min(old.timed, each.timed) >= SAMPLES:
            ratio = each.p95_ms / old.p95_ms
            if ratio >= TIMES or ratio <= 1 / TIMES:
                yield f"p95 of “{each.name}”: {short(old.p95_ms)} → {short(each.p95_ms)} ms"


def _key(row: Row) -> tuple[str, str, str, str]:
    return row.level, row.row, row.journey, row.step


def _fails(row: Row) -> bool:
    return row.failures >= FEWEST and (row.failure_percent or 0.0) > SHARE


def _beyond(failing: Row, other: Row) -> bool:
    """Whether it fails more often than the other beyond chance: of all failures so many would be
    its own.
    """
    every = failing.failures + other.failures
    return (
        float(bdtrc(failing.failures - 1, every, failing.count / (failing.count + other.count)))
        <= ALPHA / 10
    )
