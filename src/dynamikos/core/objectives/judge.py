"""met, close, missed or not judged."""

from collections.abc import Sequence
from typing import Annotated, Literal

import msgspec

from dynamikos.core.statistics import Histogram, Moments, Spread
from dynamikos.core.statistics.histogram import enough_for

Measure = Literal["p50", "p90", "p95", "p99", "mean", "max", "failure-rate"]
Word = Literal["met", "close", "missed", "not judged"]


class Objective(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """`measure` ≤ `limit` (ms for times, % for the failure rate), over the measured part, of all steps or of one
    `step`; of one `journey`, or of one `row` of a crowd, where several are performed.
    """

    objective: str
    measure: Measure
    limit: Annotated[float, msgspec.Meta(ge=0)]
    step: str | None = None
    journey: str | None = None
    row: str | None = None


class Judgement(msgspec.Struct, frozen=True, kw_only=True):
    """`value` in the unit of the limit; None when there is none. `samples` are those the value comes from."""

    objective: str = ""
    word: Word = "not judged"
    value: float | None = None
    limit: float = 0.0
    unit: Literal["ms", "%"] = "ms"
    samples: int = 0
    sentence: str = ""
    reason: str = ""
    at_least: bool = False  # whether `value` is only a lower bound: something was still under way
    failed_percent: float = 0.0  # of a response time's slice, where it is more than 1 %


def describe(objective: Objective, step_name: str | None = None) -> str:
    """The objective as a statement: "p95 of Find a slot ≤ 650 ms"."""
    scope = step_name or objective.step or "all steps"
    if objective.row is not None:
        scope = f"{scope} ({objective.row})"
    elif objective.journey is not None:
        scope = f"{scope} ({objective.journey})"
    if objective.measure == "failure-rate":
        return f"failures of {scope} ≤ {objective.limit:g} %"
    return f"{objective.measure} of {scope} ≤ {objective.limit:g} ms"


MUCH_FAILED, SOME_FAILED = 50.0, 1.0  # per cent
Bounds = tuple[float | None, float | None]  # of a value, in the unit of its limit: at least, at most (None: not known)


def judge(
    objective: Objective,
    passed: Histogram,
    moments: Moments,
    failed: int,
    *,
    step_name: str | None = None,
    open_us: Sequence[int] = (),
) -> Judgement:
    """Judges `objective` on the passed ones' distribution, the number of failed ones, and the ages of those that were
    still under way.

    A percentile is not judged with n·(100−p) < 100; a failure rate not without samples. What was under way is taken at
    its age and as lasting for ever: missed when both are over the limit, met when both are within, else not judged. A
    response time of which more than half failed is missed whatever the rest took. "close" = met by less than 10 % of
    the limit, not defined at limit 0.
    """
    unit: Literal["ms", "%"] = "%" if objective.measure == "failure-rate" else "ms"
    n = passed.n + len(open_us) + (failed if unit == "%" else 0)
    share = 100.0 * failed / (passed.n + failed) if failed else 0.0
    (low, high), reason = _bounds(objective, passed, moments, failed, open_us)
    word: Word = "not judged"
    if unit == "ms" and share > MUCH_FAILED:
        word, reason = "missed", f"{share:.3g} % failed, so what passed says little"
    elif low is not None and low > objective.limit:
        word = "missed"
    elif high is not None and high <= objective.limit:
        word = "close" if objective.limit > 0 and high > 0.9 * objective.limit else "met"
    elif low is not None and not reason:
        count = len(open_us)
        reason = f"{count:,} {'was' if count == 1 else 'were'} still under way at the end, and could turn it"
    return Judgement(
        objective=objective.objective,
        word=word,
        value=low,
        limit=objective.limit,
        unit=unit,
        samples=n,
        sentence=describe(objective, step_name),
        reason=reason,
        at_least=low is not None and low != high,
        failed_percent=share if unit == "ms" and share > SOME_FAILED else 0.0,
    )


def _bounds(
    objective: Objective, passed: Histogram, moments: Moments, failed: int, open_us: Sequence[int]
) -> tuple[Bounds, str]:
    """(what the measure is at least and at most, why there is none)."""
    n, count = passed.n + len(open_us), len(open_us)
    if objective.measure == "failure-rate":
        n += failed
        return ((100.0 * failed / n, 100.0 * (failed + count) / n), "") if n else ((None, None), "nothing was measured")
    if n == 0:
        return (None, None), "nothing passed in the measured part" if failed else "nothing was measured"
    spread = Spread(passed, open_us)
    if objective.measure == "mean":
        low = (moments.sum_us + sum(open_us)) / n / 1000
        return (low, None if count else low), ""
    if objective.measure == "max":
        low = (spread.max_us() or 0) / 1000
        return (low, None if count else low), ""
    percent = int(objective.measure[1:])
    if enough_for(percent, n) == "no":
        return (None, None), f"{n} samples are too few for {objective.measure}; {-(-100 // (100 - percent))} are needed"
    high = spread.high_us(percent)
    return ((spread.low_us(percent) or 0) / 1000, None if high is None else high / 1000), ""
