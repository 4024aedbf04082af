"""Figures of runs as they follow each other: each with its error, and where their level changed.

The parts into which their squares fall least, with a price for each part (optimal partitioning:
Jackson 2005, of which PELT, Killick 2012, is the quick form), each change confirmed by Welch's test
(1947) of its two neighbours with what runs share with the ones before, corrected for all places
(Bonferroni).
"""

import itertools
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import msgspec
import numpy as np
from numpy.typing import NDArray
from scipy.special import stdtr

from dynamikos.core.comparison.side import SHARES, KeptLine, Key, OneRun
from dynamikos.core.statistics.intervals import Estimate

MEASURES = ("mean", "p50", "p95", "p99", "throughput", "failure-rate")
LEAST_RUNS, ALPHA, EFFECT, POINTS = (
    3,
    0.01,
    0.1,
    0.01,
)  # runs on each side; a tenth, of shares a percentage point
NORMAL, USUAL_PHI, USUAL_WEIGHT, MOST_PHI = 1.96, 0.4, 10.0, 0.9
PRICE = 3.0  # of a part, in variances and logarithms of how many runs there are


class Figure(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """A measure of a step or request of one run: ms, per second or a part, with its standard error
    (None: the run was too short for one) from `n` samples; as an Estimate: the ends of its
    interval, the error of its logarithm or log odds (`spread`) and `n_eff` (None and 0 in figures
    of earlier days). `own`: which part of it may be the generators' own delay.
    """

    level: str
    journey: str
    step: str
    request: str = ""
    name: str = ""
    measure: str
    value: float
    error: float | None = None
    freedom: float = 0.0
    n: int = 0
    low: float | None = None
    high: float | None = None
    spread: float | None = None
    n_eff: float = 0.0
    own: float = 0.0

    @property
    def key(self) -> Key:
        return self.level, self.journey, self.step, self.request

    @property
    def is_of_today(self) -> bool:
        """Whether all is there that comparing needs."""
        return self.error is None or self.spread is not None


def figures_of(run: OneRun) -> list[Figure]:
    """All of a run that a trend is made of."""
    made = []
    for (level, journey, step, request), line in run.lines.items():
        for measure in MEASURES:
            found = line.figure(measure)
            if found is not None:
                error = None
                if found.error is not None and found.low is not None and found.high is not None:
                    is_share = measure in SHARES
                    error = (
                        (found.high - found.low) / 2 / NORMAL
                        if is_share
                        else found.value * found.error
                    )
                made.append(
                    Figure(
                        level=level,
                        journey=journey,
                        step=step,
                        request=request,
                        name=line.name,
                        measure=measure,
                        value=found.value,
                        error=error,
                        freedom=found.freedom,
                        n=found.n,
                        low=found.low,
                        high=found.high,
                        spread=found.error,
                        n_eff=float(found.n_eff),
                        own=line.own_delay(measure),
                    )
                )
    return made


def lines_of(figures: Iterable[Figure]) -> dict[Key, KeptLine]:
    """Of a run whose figures are kept, as it is compared; figures for themselves are what
    `Line.figure` had said.
    """
    by_key: dict[Key, list[Figure]] = {}
    for each in figures:
        by_key.setdefault(each.key, []).append(each)
    made = {}
    for key, own in by_key.items():
        share = next((each for each in own if each.measure in SHARES), None)
        if share is None:
            continue  # there was nothing of it
        told = {
            each.measure: Estimate(
                each.value, each.n, each.low, each.high, each.spread, each.freedom, each.n_eff
            )
            for each in own
        }
        delays = {each.measure: each.own for each in own if each.own}
        made[key] = KeptLine(share.name, share.n, share.value, told, delays)
    return made


@dataclass(frozen=True, slots=True)
class Turn:
    """Another level from point `at` on: both levels, by how much the later is beyond the former
    (parts; of shares in points), and the chance of that among runs of one level.
    """

    at: int
    before: float
    after: float
    change: float
    p: float


def turns(values: Sequence[float], errors: Sequence[float | None], measure: str) -> list[Turn]:
    """Where the level of values changed, in their order. Errors within the runs are the least that
    runs vary by.
    """
    is_share = measure in SHARES
    if is_share:
        scaled, within = np.array(values, float), np.array([each or 0.0 for each in errors])
    else:
        known = np.maximum(np.array(values, float), 1e-9)
        scaled = np.log(known)
        within = np.array([each or 0.0 for each in errors]) / known
    places = _confirmed(scaled, within, _parted(scaled, within), is_share)
    edges = [0, *(at for at, _ in places), len(scaled)]
    made = []
    for (at, p), begin, end in zip(places, edges[:-2], edges[2:], strict=True):
        one, other = float(scaled[begin:at].mean()), float(scaled[at:end].mean())
        if is_share:
            made.append(Turn(at, one, other, other - one, p))
        else:
            made.append(Turn(at, math.exp(one), math.exp(other), math.expm1(other - one), p))
    return made


def _parted(values: NDArray[np.float64], within: NDArray[np.float64]) -> list[int]:
    """The places between the parts that cost least; each part has at least three values."""
    n = len(values)
    if n < 2 * LEAST_RUNS:
        return []
    usual = (
        float(np.median(np.abs(np.diff(values)))) * 1.0483
    )  # of neighbours, whose level is mostly the same
    variance = max(usual**2, float((within**2).mean()))
    if variance <= 0:
        variance = float(values.var()) / n or 1.0
    price = PRICE * math.log(n) * variance
    sums, squares = (
        np.concatenate(([0.0], values.cumsum())),
        np.concatenate(([0.0], (values**2).cumsum())),
    )

    def cost(begin: int, end: int) -> float:
        return float(squares[end] - squares[begin] - (sums[end] - sums[begin]) ** 2 / (end - begin))

    best: list[float] = [-price, *[math.inf] * n]
    before = [0] * (n + 1)
    for end in range(LEAST_RUNS, n + 1):
        for begin in (0, *range(LEAST_RUNS, end - LEAST_RUNS + 1)):
            whole = best[begin] + cost(begin, end) + price
            if whole < best[end]:
                best[end], before[end] = whole, begin
    places, at = list[int](), before[n]
    while at:
        places.append(at)
        at = before[at]
    return places[::-1]


def _confirmed(
    values: NDArray[np.float64], within: NDArray[np.float64], places: list[int], is_share: bool
) -> list[tuple[int, float]]:
    """(place, chance) of those whose neighbours differ, and by enough; the least certain are taken
    away first.
    """
    tests = max(1, len(values) - 2 * LEAST_RUNS + 1)
    while places:
        edges = [0, *places, len(values)]
        found = []
        for at, p in zip(places, chances(values, edges, within), strict=True):
            begin, end = edges[edges.index(at) - 1], edges[edges.index(at) + 1]
            step = abs(float(values[at:end].mean() - values[begin:at].mean()))
            found.append(
                (
                    p * tests if step >= (POINTS if is_share else math.log1p(EFFECT)) else math.inf,
                    at,
                )
            )
        p, worst = max(found)
        if p < ALPHA:
            return [(at, p) for p, at in found]
        places = [each for each in places if each != worst]
    return []


def chances(
    values: NDArray[np.float64], edges: Sequence[int], within: NDArray[np.float64]
) -> list[float]:
    """That the levels on both sides of each inner edge differ so much by chance, corrected by
    nothing: Welch's test with the variance of all parts together, at least that within runs, and
    with as many runs as are independent. What runs share with the ones before (the machine's mood,
    a cache) is the correlation of what is left in the parts, which is estimated too low from few
    runs (Kendall) and drawn to 0.4 by the weight of ten.
    """
    parts = [values[begin:end] for begin, end in itertools.pairwise(edges)]
    rest = np.concatenate([part - part.mean() for part in parts])
    n, power = len(rest), float(rest @ rest)
    together = sum(float((part[1:] - part.mean()) @ (part[:-1] - part.mean())) for part in parts)
    phi = together / max(power, 1e-300)
    phi += len(parts) * (1 + 3 * max(phi, 0.0)) / n
    phi = min(max((n * phi + USUAL_WEIGHT * USUAL_PHI) / (n + USUAL_WEIGHT), 0.0), MOST_PHI)
    variance = max(power / max(1, n - len(parts)), float((within**2).mean()))
    if variance <= 0:
        return [1.0] * (len(parts) - 1)  # nothing varies at all: nothing can be said of chance
    inflated = (1 + phi) / (1 - phi)
    freedom = max(2.0, n / inflated - len(parts))
    made = []
    for one, other in itertools.pairwise(parts):
        error = math.sqrt(variance * inflated * (1 / len(one) + 1 / len(other)))
        made.append(float(2 * stdtr(freedom, -abs(float(one.mean() - other.mean())) / error)))
    return made
