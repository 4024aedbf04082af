"""Response times with a known truth: stations, independent ones, and some whose level wanders."""

import math

import numpy as np
from numpy.typing import NDArray
from scipy.signal import lfilter
from scipy.special import ndtri

from dynamikos.core.comparison import Line, OneRun
from dynamikos.core.statistics import Histogram

Trace = NDArray[np.float64]
KEY = ("step", "j", "s", "")
PER_S, FAILS = 20.0, 0.02
KINDS = ("mm1 0.5", "mm1 0.8", "mm1 0.9", "log-normal", "wandering")


def wandering(n: int, tau_s: float, sd: float, draw: np.random.Generator) -> Trace:
    """An AR(1) of `tau_s` seconds and standard deviation `sd`, a value a second."""
    phi = math.exp(-1 / tau_s)
    noise = draw.normal(size=n) * sd * math.sqrt(1 - phi * phi)
    noise[0] = draw.normal() * sd
    return np.asarray(lfilter([1], [1, -phi], noise))


def station(utilization: float, seconds: int, draw: np.random.Generator) -> tuple[Trace, Trace]:
    """(instant of the end in s, time in s) of an M/M/1 that was busy for 300 s before, by Lindley's
    recursion.
    """
    before = 300
    n = int(draw.poisson(PER_S * (seconds + before)))
    at = np.sort(draw.uniform(-before, seconds, n))
    service = draw.exponential(utilization / PER_S, n)
    done = service.cumsum()
    ends = done + np.maximum.accumulate(at - (done - service))
    inside = (ends >= 0) & (ends < seconds)
    return ends[inside], (ends - at)[inside]


def sample(
    kind: str, seconds: int, draw: np.random.Generator, scale: float = 1.0
) -> tuple[Trace, Trace, Trace]:
    """(second, time in s, 1 where it failed), about 20 a second, of one of KINDS; times are
    multiplied by `scale`.
    """
    fails: float | Trace = FAILS
    if kind.startswith("mm1"):
        ends, took = station(float(kind.split()[1]), seconds, draw)
    else:
        n = int(draw.poisson(PER_S * seconds))
        ends = draw.uniform(0, seconds, n)
        if kind == "log-normal":
            took = 0.05 * np.exp(1.5 * draw.normal(size=n))
        else:
            level = wandering(seconds + 1, 10, 0.3, draw)[ends.astype(int)]
            took = 0.05 * np.exp(0.5 * draw.normal(size=n) + level)
            fails = np.minimum(1, FAILS * np.exp(2 * level - 0.18))
    return ends.astype(int), took * scale, (draw.random(len(took)) < fails).astype(float)


def truth(kind: str, measure: str) -> float:
    """Of all that there could be, in s."""
    if measure == "failure-rate":
        return FAILS
    if kind.startswith("mm1"):
        mean = 1 / (PER_S / float(kind.split()[1]) - PER_S)
        return mean if measure == "mean" else -math.log(1 - float(measure[1:]) / 100) * mean
    sd = 1.5 if kind == "log-normal" else math.sqrt(0.25 + 0.09)
    return 0.05 * math.exp(
        sd * sd / 2 if measure == "mean" else sd * float(ndtri(float(measure[1:]) / 100))
    )


def line_of(
    second: Trace, took_s: Trace, failed: Trace, seconds: int, *, times: bool = True
) -> Line:
    """As the product gathers it, by second; without `times` means and shares alone."""
    at, us = second.astype(int), np.rint(took_s * 1e6).astype(int)
    ok = failed == 0
    passed = np.bincount(at[ok], minlength=seconds).astype(float)
    fails = np.bincount(at[~ok], minlength=seconds).astype(float)
    sums = np.bincount(at[ok], us[ok], minlength=seconds)
    if not times:
        return Line("Station", passed, fails, sums, [Histogram.of(us[ok].tolist())])
    order = np.argsort(at[ok], kind="stable")
    parts = np.split(us[ok][order], np.cumsum(passed.astype(int))[:-1])
    return Line("Station", passed, fails, sums, [Histogram.of(part.tolist()) for part in parts])


def run_of(lines: list[Line], name: str, seconds: int) -> OneRun:
    return OneRun(
        name, {("step", "j", f"s{at}", ""): each for at, each in enumerate(lines)}, seconds
    )
