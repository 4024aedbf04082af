"""Capacity: throughput against load (shared design, maths: *Capacity*).

Universal scalability law X(N) = λN / (1 + σ(N−1) + κN(N−1)) (Gunther 2007) and a straight line with
a ceiling, both by least squares; the better by AICc is named.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dynamikos.core.profiles.steady import LEVELS

Array = NDArray[np.float64]
MOST_RESIDUAL = 0.05
UNDECIDED = 2.0  # difference of AICc up to which neither law is better (Burnham and Anderson 2002)
LOW = 0.5  # up to such a utilization hardly anybody waits
# Student's t at 97.5 %, by degrees of freedom
T = {
    1: 12.71,
    2: 4.30,
    3: 3.18,
    4: 2.78,
    5: 2.57,
    6: 2.45,
    7: 2.36,
    8: 2.31,
    9: 2.26,
    10: 2.23,
    15: 2.13,
    20: 2.09,
}


def student(freedom: int) -> float:
    return next((value for known, value in sorted(T.items()) if known >= freedom), 1.96)


@dataclass(frozen=True, slots=True)
class Level:
    """A steady stretch: users (or arrivals a second) `load`, rounds a second `rate`, and the mean
    time of a round without its thinking, in s.
    """

    load: float
    rate: float
    response_s: float


@dataclass(frozen=True, slots=True)
class Curve:
    """A law that was fitted: its parameters with the half widths of their 95 % intervals.
    `residual` is the root mean square of what it misses, as a share of the rates.
    """

    law: Literal["scalability", "ceiling"]
    parameters: Mapping[str, tuple[float, float]]
    residual: float
    aicc: float

    def at(self, load: float) -> float:
        values = [value for value, _ in self.parameters.values()]
        return float(
            (_scalability if self.law == "scalability" else _ceiling)(np.array([load]), values)[0]
        )

    @property
    def peak(self) -> tuple[float, float] | None:
        """(load, rate) at the law's highest point; None where it has none."""
        if self.law == "ceiling":
            slope, most = self.parameters["λ"][0], self.parameters["ceiling"][0]
            return most / slope, most
        sigma, kappa = self.parameters["σ"][0], self.parameters["κ"][0]
        if kappa <= 1e-12 or sigma >= 1:
            return None
        load = math.sqrt((1 - sigma) / kappa)
        return load, self.at(load)


@dataclass(frozen=True, slots=True)
class Capacity:
    """What can be said: `why_not` where no curve can. The knee is the load with the greatest rate
    by response time (Kleinrock 1979). `first` is the resource that saturates first, with the rate
    at which it does, and `full_at` the load at which it would if nobody waited for anything before:
    a whole round's time, thinking and pauses in it, over the demand; the time is N/X of the levels
    that use up to half of it.
    """

    levels: Sequence[Level]
    curve: Curve | None
    knee: Level | None
    why_not: str = ""
    first: tuple[str, float] | None = None
    full_at: float | None = None
    first_range: tuple[float, float] | None = None  # of the rate, 95 %

    @property
    def peak(self) -> tuple[float, float] | None:
        """None where it would lie beyond what was measured, or nothing can be said."""
        if self.why_not:
            return None
        found = self.curve.peak if self.curve is not None else None
        most = max((each.load for each in self.levels), default=0.0)
        return found if found is not None and found[0] <= most else None


def _scalability(load: Array, values: Sequence[float]) -> Array:
    rate, sigma, kappa = values
    return np.asarray(rate * load / (1 + sigma * (load - 1) + kappa * load * (load - 1)))


def _ceiling(load: Array, values: Sequence[float]) -> Array:
    slope, most = values
    return np.minimum(slope * load, most)


def _curve(
    law: Literal["scalability", "ceiling"],
    names: Sequence[str],
    load: Array,
    rate: Array,
    start: Sequence[float],
) -> Curve:
    from scipy.optimize import least_squares  # takes seconds to import, so it is where it is used

    function = _scalability if law == "scalability" else _ceiling
    # each parameter in parts of where it begins: λ is some 10⁴ times κ
    scale = np.maximum(np.abs(np.array(start, float)), 1e-6)
    found = least_squares(
        lambda values: function(load, (values * scale).tolist()) - rate,
        start / scale,
        bounds=(0, np.inf),
        xtol=1e-12,
        ftol=1e-12,
        gtol=1e-12,
    )
    values, error, slopes = found.x * scale, found.fun, found.jac / scale
    n, k = len(load), len(values)
    squares = max(float(error @ error), 1e-12 * float(rate @ rate) + 1e-30)
    freedom = max(1, n - k)
    spread = np.sqrt(
        np.abs(np.diag(np.linalg.pinv(slopes.T @ slopes)) * squares / freedom)
    ) * student(freedom)
    aicc = (
        n * math.log(squares / n)
        + 2 * (k + 1)
        + (2 * (k + 1) * (k + 2) / (n - k - 2) if n - k - 2 > 0 else 1e9)
    )
    residual = math.sqrt(float(error @ error) / n) / float(rate.mean())
    parameters = {
        name: (float(v), float(s)) for name, v, s in zip(names, values, spread, strict=True)
    }
    return Curve(law, parameters, residual, aicc)


def fitted(levels: Sequence[Level]) -> tuple[Curve, Curve]:
    """The law that fits better, and the other. Needs four levels at least."""
    load, rate = np.array([each.load for each in levels]), np.array([each.rate for each in levels])
    # linear in 1/λ, σ/λ, κ/λ: load/rate = (1 + σ(N−1) + κN(N−1))/λ
    plain = np.stack([np.ones_like(load), load - 1, load * (load - 1)], axis=1)
    first = np.linalg.lstsq(plain, load / rate, rcond=None)[0]
    slope = float((rate / load).max())
    start = (
        (1 / first[0], first[1] / first[0], first[2] / first[0])
        if first[0] > 0
        else (slope, 0.01, 1e-4)
    )
    curves = [
        _curve("scalability", ("λ", "σ", "κ"), load, rate, [max(0.0, each) for each in start]),
        _curve("ceiling", ("λ", "ceiling"), load, rate, (slope, float(rate.max()))),
    ]
    better, other = sorted(curves, key=lambda each: each.aicc)
    return better, other


def capacity(
    levels: Sequence[Level],
    demands: Mapping[str, float] | None = None,
    halves: Mapping[str, float] | None = None,
) -> Capacity:
    """`demands` are seconds of service a round of each resource, over its servers (D/c), `halves`
    what they may be off by (95 %).
    """
    kept = sorted(
        (each for each in levels if each.load > 0 and each.rate > 0), key=lambda each: each.load
    )
    knee = max(
        kept,
        key=lambda each: each.rate / each.response_s if each.response_s > 0 else 0.0,
        default=None,
    )
    first, full_at, within = None, None, None
    name, most = max((demands or {}).items(), key=lambda each: each[1], default=("", 0.0))
    if most > 0 and kept:
        low = [each for each in kept if each.rate * most <= LOW] or kept[:1]
        half = (halves or {}).get(name, 0.0)
        within = (1 / (most + half), 1 / (most - half)) if 0 < half < most else None
        first, full_at = (
            (name, 1 / most),
            sum(each.load for each in low) / sum(each.rate for each in low) / most,
        )
    curve, said = _said(kept)
    is_beyond = curve is not None and bool(said)  # the curve stands, but its end was not reached
    return Capacity(kept, curve, None if is_beyond else knee, said, first, full_at, within)


def _said(levels: Sequence[Level]) -> tuple[Curve | None, str]:
    """(the curve, why nothing or not all can be said of it)."""
    if len(levels) < LEVELS:
        there = "is 1 steady level" if len(levels) == 1 else f"are {len(levels)} steady levels"
        return (
            None,
            f"There {there} of load; a curve needs {LEVELS}. Run stairs of {LEVELS} steps or more.",
        )
    curve, other = fitted(levels)
    if curve.residual > MOST_RESIDUAL:
        return (
            None,
            f"No law fits: what is left over is {100 * curve.residual:.0f} % of the throughput.",
        )
    straight = levels[0].rate / levels[0].load
    if levels[-1].rate > 0.9 * straight * levels[-1].load:
        return (
            curve,
            "Throughput still grows in step with the load: the limit lies beyond the highest "
            "level. Go higher.",
        )
    if other.residual <= MOST_RESIDUAL and other.aicc - curve.aicc < UNDECIDED:
        return None, (
            "Undecided: a throughput that reaches a ceiling and one that falls again fit equally "
            "well. Run stairs of"
            " more steps, or go higher."
        )
    return curve, ""
