"""Whether a limit is kept beyond chance: met, missed, or not decided by what was measured.

Exact binomial tails (Clopper and Pearson 1934) with the effective number of samples, each side at 5
%: a run that is called met is wrong in at most one of twenty.
"""

import math
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.special import betainc, stdtrit

from dynamikos.core.statistics.intervals import Estimate, effect_of, mean_of

Trace = NDArray[np.float64]
ALPHA, POWER_Z, ALPHA_Z = 0.05, 0.84, 1.645
LEAST_PARTS = 4


@dataclass(frozen=True, slots=True)
class BySecond:
    """What an objective is about, second by second, shape (T,): how many samples, how many of them
    beyond the limit (or failed, where it is about a share), the sum of their times in µs; `sd_us`
    is that of single times.
    """

    counts: Trace
    hits: Trace
    sums_us: Trace
    sd_us: float = 0.0


@dataclass(frozen=True, slots=True)
class Decided:
    """`needed`: how many times as much would have to be measured for an answer (None: it is one, or
    none would do).
    """

    word: Literal["met", "missed", "not decided"]
    needed: float | None = None


def share_within(told: BySecond, allowed: float) -> Decided:
    """Whether the share of hits is at most `allowed` (0 ≤ allowed ≤ 1)."""
    n, over = float(told.counts.sum()), float(told.hits.sum())
    if n <= 0 or allowed >= 1:
        return Decided("met" if allowed >= 1 else "not decided")
    share = min(max(over / n, allowed, 0.5 / n), 1 - 0.5 / n)
    effect = (
        effect_of(told.hits, told.counts, share, 1 - ALPHA)
        if len(told.counts) >= LEAST_PARTS
        else 1.0
    )
    effective = n / effect
    k = over / effect
    if allowed <= 0:  # one is too many, and none is what was seen
        return Decided("missed" if over else "met")
    at_most = 1 - float(betainc(k + 1, max(effective - k, 1e-9), allowed))  # P(K ≤ k) at the border
    at_least = float(betainc(max(k, 1e-9), effective - k + 1, allowed)) if over else 1.0
    if at_most <= ALPHA:
        return Decided("met")
    if at_least <= ALPHA:
        return Decided("missed")
    gap = abs(over / n - allowed)
    needed = effect * max(
        allowed * (1 - allowed) * ((ALPHA_Z + POWER_Z) / max(gap, 1e-9)) ** 2,
        math.log(ALPHA) / math.log1p(-allowed),
    )
    return Decided("not decided", needed / n)


def mean_within(told: BySecond, limit_us: float) -> Decided:
    """Whether the mean is at most a limit in µs, by the interval of its logarithm, one-sided."""
    found: Estimate | None = mean_of(told.sums_us, told.counts, told.sd_us, seconds=1e9)
    if found is None:
        return Decided("not decided")
    if limit_us <= 0 or found.value <= 0:
        return Decided("missed" if found.value > limit_us else "met")
    if found.error is None:  # a few seconds tell nothing of how they depend on each other
        n = float(told.counts.sum())
        freedom = max(1.0, min(len(told.counts), n) - 1)
        found = replace(found, error=told.sd_us / math.sqrt(n) / found.value, freedom=freedom)
    assert found.error is not None
    away = math.log(found.value / limit_us)
    reach = float(stdtrit(found.freedom, 1 - ALPHA)) * found.error
    if away + reach <= 0:
        return Decided("met")
    if away - reach > 0:
        return Decided("missed")
    return Decided("not decided", ((ALPHA_Z + POWER_Z) * found.error / max(abs(away), 1e-9)) ** 2)
