"""Comparing runs: how often two runs of the same are called worse, and whether a shift that is large enough is found.

Simulated M/M/1 stations (Lindley's recursion) at several utilizations; the product's own comparison.
"""

import numpy as np

from bench.ladder import Result
from dynamikos.core.comparison import Comparison, Line, OneRun, compare
from dynamikos.core.statistics import Histogram

PER_S, SECONDS, PAIRS = 20.0, 600, 500
UTILIZATIONS = (0.5, 0.7, 0.85)
KEY = ("step", "j", "s", "")


def times_of(draw: np.random.Generator, utilization: float, seconds: int = SECONDS) -> tuple[np.ndarray, np.ndarray]:  # type: ignore[type-arg]
    """(instant of the end, time in µs) of each customer of a station that was busy before."""
    before = 200
    n = int(PER_S * (seconds + before) * 1.2)
    arrivals = np.cumsum(draw.exponential(1 / PER_S, n))
    service = draw.exponential(utilization / PER_S, n)
    waited = np.empty(n)
    waited[0] = 0.0
    gaps = np.diff(arrivals)
    for at in range(1, n):
        waited[at] = max(0.0, waited[at - 1] + service[at - 1] - gaps[at - 1])
    took = waited + service
    ends = arrivals + took - before
    inside = (ends >= 0) & (ends < seconds)
    return ends[inside], took[inside] * 1e6


def run_of(ends: np.ndarray, took_us: np.ndarray, name: str, seconds: int = SECONDS) -> OneRun:  # type: ignore[type-arg]
    """As the product gathers it: by second."""
    second = ends.astype(int)
    passed = np.bincount(second, minlength=seconds).astype(float)
    sums = np.bincount(second, weights=took_us, minlength=seconds)
    order = np.argsort(second, kind="stable")
    parts = np.split(took_us[order].astype(int), np.cumsum(passed.astype(int))[:-1])
    line = Line("Station", passed, np.zeros(seconds), sums, [Histogram.of(part.tolist()) for part in parts])
    return OneRun(name, {KEY: line}, seconds)


def mean_of(found: Comparison):  # type: ignore[no-untyped-def]
    """What was found of the mean."""
    return next(each for each in found.differences if each.wanted.measure == "mean")


def shares(pairs: int, seconds: int = SECONDS, seed: int = 1) -> tuple[float, float, float]:
    """(part of pairs of the same that is called worse, part of shifts of three times the printed smallest change that
    is found, part of pairs that no interval could be given for).
    """
    draw = np.random.default_rng(seed)
    worse = found = none = shifted = 0
    for at in range(pairs):
        utilization = UTILIZATIONS[at % len(UTILIZATIONS)]
        a, b = times_of(draw, utilization, seconds), times_of(draw, utilization, seconds)
        one, other = run_of(*a, "a", seconds), run_of(*b, "b", seconds)
        same = compare([one], [other])
        worse += same.word == "worse"
        told = mean_of(same)
        if told.smallest is None:
            none += 1
            continue
        shifted += 1
        slower = run_of(b[0], b[1] * (1 + 3 * told.smallest), "b", seconds)
        found += mean_of(compare([one], [slower])).word == "worse"
    return worse / pairs, found / max(1, shifted), none / pairs


def run() -> list[Result]:
    worse, found, none = shares(PAIRS)
    return [
        (f"{PAIRS} pairs of the same: called worse", 100 * worse, "%", "≤ 5", worse <= 0.05),
        ("a shift of three times the smallest change printed: found", 100 * found, "%", "≥ 85", found >= 0.85),
        ("pairs without an interval: too short", 100 * none, "%", "", True),
    ]
