"""met, close, missed or not judged."""

from typing import Annotated, Literal

import msgspec

from dynamikos.core.statistics import Histogram, Moments
from dynamikos.core.statistics.histogram import enough_for

Measure = Literal["p50", "p90", "p95", "p99", "mean", "max", "failure-rate"]
Word = Literal["met", "close", "missed", "not judged"]


class Objective(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """`measure` ≤ `limit` (ms for times, % for the failure rate), over the measured part, of all steps or of one `step`."""

    objective: str
    measure: Measure
    limit: Annotated[float, msgspec.Meta(ge=0)]
    step: str | None = None


class Judgement(msgspec.Struct, frozen=True, kw_only=True):
    """`value` in the unit of the limit; None when there is none. `samples` are those the value comes from."""

    objective: str
    word: Word
    value: float | None
    limit: float
    unit: Literal["ms", "%"]
    samples: int
    sentence: str
    reason: str = ""


def describe(objective: Objective, step_name: str | None = None) -> str:
    """The objective as a statement: "p95 of Find a slot ≤ 650 ms"."""
    scope = step_name or objective.step or "all steps"
    if objective.measure == "failure-rate":
        return f"failures of {scope} ≤ {objective.limit:g} %"
    return f"{objective.measure} of {scope} ≤ {objective.limit:g} ms"


def judge(objective: Objective, passed: Histogram, moments: Moments, failed: int, *, step_name: str | None = None) -> Judgement:
    """Judges `objective` on the passed ones' distribution and the number of failed ones.

    A percentile is not judged with n·(100−p) < 100; a failure rate not without samples. "close" = met by less than 10 % of
    the limit, not defined at limit 0.
    """
    n = passed.n
    unit: Literal["ms", "%"] = "%" if objective.measure == "failure-rate" else "ms"
    value: float | None = None
    reason = ""
    if objective.measure == "failure-rate":
        n += failed
        if n:
            value = 100.0 * failed / n
        else:
            reason = "nothing was measured"
    elif n == 0:
        reason = "nothing passed in the measured part" if failed else "nothing was measured"
    elif objective.measure == "mean":
        value = (moments.mean_us or 0.0) / 1000
    elif objective.measure == "max":
        value = (passed.max_us() or 0) / 1000
    else:
        percent = int(objective.measure[1:])
        if enough_for(percent, n) == "no":
            reason = f"{n} samples are too few for {objective.measure}; {-(-100 // (100 - percent))} are needed"
        else:
            value = (passed.percentile_us(percent) or 0) / 1000
    word: Word = "not judged"
    if value is not None:
        if value > objective.limit:
            word = "missed"
        elif objective.limit > 0 and value > 0.9 * objective.limit:
            word = "close"
        else:
            word = "met"
    return Judgement(
        objective=objective.objective,
        word=word,
        value=value,
        limit=objective.limit,
        unit=unit,
        samples=n,
        sentence=describe(objective, step_name),
        reason=reason,
    )
