"""A request that takes one of two times: a cache that hits or misses, two paths through the
code.
"""

import math
from collections.abc import Iterator

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Found, Line, name_of
from dynamikos.core.analysis.findings.samples import BINS, SAMPLES
from dynamikos.core.figures import milliseconds
from dynamikos.core.statistics import Histogram
from dynamikos.core.statistics.histogram import bucket_mid_us

TOGETHER = 0.7  # of the slower ones


def decades(spread: Histogram) -> tuple[np.ndarray, int]:
    """(counts of bins, 20 a decade of µs, number of the first)."""
    places: dict[int, int] = {}
    for index, count in spread.counts.items():
        place = math.floor(BINS * math.log10(max(1, bucket_mid_us(index))))
        places[place] = places.get(place, 0) + count
    first, last = min(places), max(places)
    return np.array([places.get(place, 0) for place in range(first, last + 1)], float), first


def humps_of(spread: Histogram) -> tuple[float, float, float] | None:
    """(ms of the lower hump, ms of the higher, share of samples beyond the dip); None for one
    hump.
    """
    if spread.n < SAMPLES:
        return None
    counts, first = decades(spread)
    smooth = np.convolve(np.pad(counts, 2), np.array([1, 2, 3, 2, 1]) / 9, "valid")
    tops = [at for at in range(1, len(smooth) - 1) if smooth[at - 1] < smooth[at] >= smooth[at + 1]]
    best: tuple[float, float, float] | None = None
    deepest = 0.5
    for place, one in enumerate(tops):
        for other in tops[place + 1 :]:
            dip = one + int(np.argmin(smooth[one : other + 1]))
            lower = min(smooth[one], smooth[other])
            share = counts[dip:].sum() / counts.sum()
            depth = 1 - smooth[dip] / lower
            # the dip is no chance of few samples either
            sure = lower - smooth[dip] > 4 * math.sqrt(lower + smooth[dip])
            if depth > deepest and 0.05 <= share <= 0.95 and sure:
                deepest = depth
                best = (
                    10 ** ((first + one) / BINS) / 1000,
                    10 ** ((first + other) / BINS) / 1000,
                    share,
                )
    return best


def _is_incident(line: Line, where: slice, between_us: float) -> bool:
    """Whether the slower ones stand together in a quarter of the time: an incident, and no second
    kind of answer.
    """
    over = np.array(
        [0 if each is None else each.over(between_us) for each in line.times[where]], float
    )
    length = max(1, len(over) // 4)
    sums = np.concatenate(([0.0], over.cumsum()))
    within = sums[length:] - sums[:-length]
    return bool(len(within) and within.max() >= TOGETHER * over.sum())


def two_humps(evidence: Evidence) -> Iterator[Found]:
    """A request that takes one of two times: a cache that hits or misses, two paths through the
    code.
    """
    begin, end = evidence.measured
    where = evidence.places(begin, end)
    for line in evidence.requests():
        found = humps_of(line.over(where.start, where.stop))
        if found is None:
            continue
        low, high, share = found
        if _is_incident(line, where, math.sqrt(low * high) * 1000):
            continue
        yield Found(
            rule="two-humps",
            about="target",
            sentence=f"{name_of(line.series)} takes either about {milliseconds(low)} or about "
            f"{milliseconds(high)}.",
            means="Two kinds of answers hide behind one average: hits and misses of a cache, or "
            "two ways through it.",
            try_="Look which data, row of the crowd or server each of the two comes from.",
            evidence={"beyond the dip": f"{100 * share:.0f} %"},
            window=(begin, end),
            journey=line.series.journey,
            step=line.series.step,
            request=line.series.request,
        )
