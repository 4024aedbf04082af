"""How certain a figure of one run is, although its seconds depend on each other: an interval that
always exists.

The long-run variance is the greater of that of the lowest cosine frequencies (equal weights: Müller
2004; Lazarus, Lewis, Stock and Watson 2018) and that of an AR(1) of about 50 blocks with Kendall's
correction: each of them alone is too sure where the other is right. Batch means whose length goes
by the estimated autocorrelation existed only where that happened to look low, and were too sure
just there. Shares: Jeffreys' interval with the effective number. Quantiles: the share below,
inverted, with a tail that is carried on beyond what was seen.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.fft import dct
from scipy.special import betaincinv, stdtrit

from dynamikos.core.statistics.histogram import Histogram, bucket_mid_us, rank_of

Trace = NDArray[np.float64]
LEAST_S, LEAST_N, ROUGH_S = (
    30.0,
    100,
    300.0,
)  # from where on there is an interval, and until where it is rough
BLOCKS, MOST_PHI = 50, 0.9  # of the AR(1)
PER_COSINE, FEWEST, MOST = 20, 3, 12  # parts of a run a cosine; how many of them
TAIL = 0.9  # from this quantile on the tail is carried on
SHOWN = 0.95  # of intervals


@dataclass(frozen=True, slots=True)
class Estimate:
    """A figure from `n` samples with the ends of its interval of 95 %, the standard `error` of its
    logarithm (of a share: of its log odds), the freedom that Student's t has with that, and how
    many independent samples would be as certain. Ends and error None: too short for one.
    """

    value: float
    n: int
    low: float | None = None
    high: float | None = None
    error: float | None = None
    freedom: float = 0.0
    n_eff: float = 0.0

    def scaled(self, factor: float) -> "Estimate":
        """In another unit."""
        ends = (None if each is None else each * factor for each in (self.low, self.high))
        low, high = ends
        return replace(self, value=self.value * factor, low=low, high=high)


def long_run(rest: Trace) -> tuple[float, int]:
    """(long-run variance a part, degrees of freedom) of residuals of a run's parts, shape (T,),
    T ≥ 2.
    """
    count = len(rest)
    freedom = min(MOST, max(FEWEST, count // PER_COSINE), count - 1)
    cosines = float((dct(rest, type=2)[1 : freedom + 1] ** 2).sum()) / (2 * count) / freedom
    length = max(1, count // BLOCKS)
    blocks = count // length
    sums = rest[: blocks * length].reshape(blocks, length).sum(axis=1)
    sums = sums - sums.mean()
    power = float(sums @ sums)
    if power <= 0 or blocks < 2:
        return cosines, freedom
    phi = float(sums[1:] @ sums[:-1]) / power
    phi = min(max(phi + (1 + 3 * phi) / blocks, 0.0), MOST_PHI)
    return max(cosines, power / (blocks - 1) * (1 - phi**2) / (1 - phi) ** 2 / length), freedom


def mean_of(
    sums: Trace, counts: Trace, sd: float = 0.0, *, seconds: float | None = None
) -> Estimate | None:
    """Σsums/Σcounts, both by equal parts of a run, shape (T,); `sd` is that of single values. None
    without counts; no interval under 30 s (`seconds`: all parts together; T where it is not said)
    or, with `sd`, 100 values.
    """
    n = float(counts.sum())
    if n <= 0:
        return None
    value = float(sums.sum()) / n
    lasts = len(counts) if seconds is None else seconds
    if lasts < LEAST_S or (sd and n < LEAST_N) or value <= 0 or len(counts) < 4:
        return Estimate(value, int(n))
    variance, freedom = long_run(sums - value * counts)
    error = max(math.sqrt(len(counts) * variance) / n, sd / math.sqrt(n)) / value
    if error <= 0:
        return Estimate(value, int(n), value, value, 0.0, freedom, n)
    reach = float(stdtrit(freedom, (1 + SHOWN) / 2)) * error
    effective = (sd / value / error) ** 2 if sd else float(len(counts))
    return Estimate(
        value, int(n), value * math.exp(-reach), value * math.exp(reach), error, freedom, effective
    )


def effect_of(hits: Trace, counts: Trace, share: float, level: float = (1 + SHOWN) / 2) -> float:
    """By how much `counts` samples tell less of a share than independent ones would (the design
    effect, ≥ 1), Student's t at `level` instead of the normal law included; `share` (0 < share < 1)
    is that whose variance is compared.
    """
    n = float(counts.sum())
    variance, freedom = long_run(hits - float(hits.sum()) / n * counts)
    inflated = float(stdtrit(freedom, level)) / float(stdtrit(1e6, level))
    return max(1.0, len(counts) * variance / n / (share * (1 - share)) * inflated**2)


def share_of(hits: Trace, counts: Trace, *, seconds: float | None = None) -> Estimate | None:
    """Σhits/Σcounts (Jeffreys 1946) with the effective number; None without counts, no interval
    under 30 s or 100.
    """
    n, k = float(counts.sum()), float(hits.sum())
    if n <= 0:
        return None
    share = k / n
    lasts = len(counts) if seconds is None else seconds
    if lasts < LEAST_S or n < LEAST_N or len(counts) < 4:
        return Estimate(share, int(n))
    least = 0.5 / n  # none or all of them: no variance was seen
    effective = n / effect_of(hits, counts, min(max(share, least), 1 - least))
    a, b = share * effective + 0.5, (1 - share) * effective + 0.5
    low, high = (float(betaincinv(a, b, level)) for level in ((1 - SHOWN) / 2, (1 + SHOWN) / 2))
    error = math.sqrt(1 / a + 1 / b)
    freedom = long_run(hits - share * counts)[1]
    return Estimate(
        share, int(n), 0.0 if k == 0 else low, 1.0 if k == n else high, error, freedom, effective
    )


class _Ordered:
    """The buckets of a histogram in order, so that many ranks are found quickly."""

    def __init__(self, whole: Histogram) -> None:
        self._indices = sorted(whole.counts)
        counts = np.array([whole.counts[each] for each in self._indices], float)
        self._mids = np.array([bucket_mid_us(each) for each in self._indices], float)
        self._below = counts.cumsum()
        self._sums = (counts * self._mids).cumsum()
        self.n = int(self._below[-1])

    def at(self, share: float) -> float:
        """The smallest value that so large a share does not exceed."""
        rank = min(self.n, max(1, math.ceil(share * self.n - 1e-9)))
        return float(self._mids[np.searchsorted(self._below, rank)])

    def excess(self, share: float) -> float:
        """The mean of what is beyond a quantile, less that."""
        at = int(np.searchsorted(self._below, max(1, math.ceil(share * self.n))))
        beyond = self.n - self._below[at]
        return (
            float((self._sums[-1] - self._sums[at]) / beyond - self._mids[at])
            if beyond > 0
            else 0.0
        )


def percentile_of(
    percent: float,
    parts: Sequence[Histogram],
    whole: Histogram,
    mean: Estimate | None,
    *,
    seconds: float | None = None,
) -> Estimate | None:
    """A percentile in µs of histograms of equal parts of a run; `whole` is all of them added up,
    `mean` the estimate of its mean, whose relative interval the percentile's above p90 has at
    least. None without samples.
    """
    n = whole.n
    if n == 0:
        return None
    value = float(whole.ranked_us(rank_of(percent, n)))
    counts = np.array([each.n for each in parts], float)
    below = counts - np.array([each.over(value) for each in parts], float)
    share = share_of(below, counts, seconds=seconds)
    if share is None or share.error is None or share.low is None or share.high is None:
        return Estimate(value, n)
    ordered, q = _Ordered(whole), percent / 100
    # the share below is at least q by how the percentile is found; what is inverted is the interval
    # around q
    low, high = ordered.at(share.low), ordered.at(share.high)
    if q > TAIL:
        high = max(
            high,
            value + ordered.excess(TAIL) * math.log((1 - q) / max(1 - share.high, 0.1 * (1 - q))),
        )
        if mean is not None and mean.error is not None:
            reach = float(stdtrit(mean.freedom, (1 + SHOWN) / 2)) * mean.error
            low, high = min(low, value * math.exp(-reach)), max(high, value * math.exp(reach))
    low, high = min(low, value), max(high, value, value * 1.0005)  # no finer than the bins
    t = float(stdtrit(share.freedom, (1 + SHOWN) / 2))
    error = math.log(high / max(low, 1e-9)) / 2 / t
    return Estimate(value, n, low, high, error, share.freedom, share.n_eff)
