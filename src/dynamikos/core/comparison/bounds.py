"""Limits from a baseline: what one more run of the same build exceeds by chance in one of twenty at
most.
"""

import math
from collections.abc import Sequence

from scipy.special import stdtrit

from dynamikos.core.comparison.compare import ALPHA, between_runs
from dynamikos.core.statistics.intervals import Estimate


def bound_of(
    runs: Sequence[Estimate], steps: int, tau2: float | None = None, within: float | None = None
) -> float:
    """The upper prediction limit of a time for one later run, in the unit of `runs`, from the
    baseline's estimates of it (at least one, each with an error): exp(mean ln v + t·√((1 + 1/m)(w²
    + τ²))), Bonferroni over `steps`. `tau2` is the variance between runs (see `between_runs`),
    `within` the error² within the later run, where that is another length.
    """
    logs = [math.log(each.value) for each in runs]
    w2 = (
        within if within is not None else sum((each.error or 0.0) ** 2 for each in runs) / len(runs)
    )
    freedom = min(each.freedom for each in runs) * (len(runs) + 1)
    spread = math.sqrt((1 + 1 / len(runs)) * (w2 + (between_runs() if tau2 is None else tau2)))
    return math.exp(
        sum(logs) / len(logs) + float(stdtrit(freedom, 1 - ALPHA / max(1, steps))) * spread
    )
