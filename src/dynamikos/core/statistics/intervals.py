"""How certain a figure of one run is, although its seconds depend on each other: batch means.

Law, Simulation Modeling and Analysis (5th ed., 9.5.3); integrated autocorrelation time with Sokal's window (1997).
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dynamikos.core.statistics.histogram import Histogram

Trace = NDArray[np.float64]
LEAST_S, LEAST_BATCHES, TIMES_AS_LONG = 5, 10, 10.0
WINDOW = 5.0  # of autocorrelation times, in which they are summed


@dataclass(frozen=True, slots=True)
class Certain:
    """A figure, its standard error, and the degrees of freedom that Student's t has with it; an error of None: the run
    is too short for one.
    """

    value: float
    error: float | None
    freedom: float
    n: int


def autocorrelation_s(values: Trace) -> float:
    """The integrated autocorrelation time of values, one a second: 1 where they don't depend on each other."""
    centred = values - values.mean()
    power = float(np.dot(centred, centred))
    if power <= 0:
        return 1.0
    size = 1 << (2 * len(centred) - 1).bit_length()
    spectrum = np.fft.rfft(centred, size)
    rho = np.fft.irfft(spectrum * np.conj(spectrum), size)[: len(centred)] / power
    total = 1.0
    for lag in range(1, len(rho)):
        total += 2 * float(rho[lag])
        if lag >= WINDOW * total:
            break
    return max(1.0, total)


def ratio(sums: Trace, counts: Trace, unit_s: float = 1.0) -> Certain | None:
    """Σsums/Σcounts, both in parts of `unit_s` each, by the ratio estimate over batches of at least ten autocorrelation
    times and five seconds; None without counts. Under ten batches there is no error.
    """
    n = float(counts.sum())
    if n <= 0:
        return None
    value = float(sums.sum()) / n
    rest = sums - value * counts
    # parts that are long themselves depend on each other less: what is beyond one part is what counts
    time = autocorrelation_s(rest) - 1 + 1 / unit_s
    length = max(math.ceil(LEAST_S / unit_s), math.ceil(TIMES_AS_LONG * time))
    batches = len(rest) // length
    if batches < LEAST_BATCHES:
        return Certain(value, None, 0, int(n))
    parts = rest[: batches * length].reshape(batches, length).sum(axis=1)
    inside = float(counts[: batches * length].sum())
    error = math.sqrt(batches / (batches - 1) * float(np.dot(parts, parts))) / inside if inside else None
    return Certain(value, error, batches - 1, int(n))


def percentile(
    times: Sequence[Histogram], percent: float, unit_s: float = 1.0, whole: Histogram | None = None
) -> Certain | None:
    """A percentile in µs of histograms of parts of `unit_s` each: the share of values at most that, with its interval
    by `ratio`, inverted through all of them (means of batches' percentiles are biased). The error is half of what lies
    between its two ends. `whole` is all of them added up, where that is known.
    """
    if whole is None:
        whole = Histogram()
        for each in times:
            whole.merge(each)
    value = whole.percentile_us(percent)
    if value is None:
        return None
    counts = np.array([each.n for each in times], float)
    within = counts - np.array([each.over(value) for each in times], float)
    share = ratio(within, counts, unit_s)
    assert share is not None
    if share.error is None:
        return Certain(float(value), None, 0, whole.n)
    ends = [
        whole.percentile_us(min(100.0, max(0.0001, percent + sign * 100 * share.error))) or value for sign in (-1, 1)
    ]
    error = max((ends[1] - ends[0]) / 2, value * 0.0005)  # no finer than the bins
    return Certain(float(value), error, share.freedom, whole.n)
