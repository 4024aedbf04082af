"""Suspects: how often an innocent measure is named, and whether a planted cause is, by simulation.

Hours of a hundred ordinary measures (wandering, log-normal, counts, spikes, sawtooth, walks, mostly
zero) beside a step that was slow in one window; seeds of its own, TRIALS trials.
"""

import math
import os
import time

import numpy as np
from numpy.typing import NDArray
from scipy.signal import lfilter

from bench.ladder import Result
from dynamikos.core.analysis.suspects import Look, suspects

TRIALS = int(os.environ.get("DYNAMIKOS_TRIALS", "500"))
KINDS = ("wandering", "log-normal", "counts", "spikes", "sawtooth", "walk", "seldom")
MEASURES = 100
Trace = NDArray[np.float64]


def wandering(seconds: int, tau: float, draw: np.random.Generator, sd: float = 1.0) -> Trace:
    phi = math.exp(-1 / tau)
    noise = draw.normal(size=seconds + int(10 * tau)) * math.sqrt(1 - phi * phi)
    return np.asarray(lfilter([1], [1, -phi], noise))[-seconds:] * sd


def measure(kind: str, seconds: int, draw: np.random.Generator) -> Trace:
    """One of KINDS."""
    if kind == "wandering":
        return 50 + 10 * wandering(seconds, 10 ** draw.uniform(0, 2.3), draw)
    if kind == "log-normal":
        return np.exp(wandering(seconds, 10 ** draw.uniform(0, 2), draw))
    if kind == "counts":
        return draw.poisson(20 * np.exp(0.3 * wandering(seconds, 60, draw))).astype(float)
    if kind == "walk":
        return np.asarray(draw.normal(size=seconds).cumsum())
    if kind == "sawtooth":
        period = int(draw.integers(40, 600))
        return (np.arange(seconds) + int(draw.integers(period))) % period + draw.normal(
            size=seconds
        )
    made = draw.normal(size=seconds) * 0.3 if kind == "spikes" else np.zeros(seconds)
    every = draw.uniform(60, 900) if kind == "spikes" else 900
    for at in draw.integers(0, seconds, draw.poisson(seconds / every)):
        made[at : at + int(draw.integers(1, 15 if kind == "spikes" else 30))] += draw.uniform(1, 20)
    return made


def looked(
    seconds: int,
    length: int,
    draw: np.random.Generator,
    *,
    cause: int | None = None,
    size: float = 6,
    tau: float = 5,
    follows: bool = False,
) -> Look:
    """An hour (or less) with a slow window; a planted cause of so many sd moves at lag `cause`."""
    pad = min(60, max(12, (seconds - length) // 6))
    begin = int(draw.integers(pad, seconds - length - pad))
    step = 100 * np.exp(0.2 * wandering(seconds, tau, draw) + 0.1 * draw.normal(size=seconds))
    step[begin : begin + length] *= 3
    given = {
        f"{kind}{at}": measure(kind, seconds, draw)
        for at, kind in enumerate(draw.choice(KINDS, MEASURES))
    }
    load = 50 + draw.normal(size=seconds)
    if follows:
        load[begin : begin + length] += 40
        given |= {
            f"follower{at}": load * draw.uniform(1, 5) + draw.normal(size=seconds)
            for at in range(5)
        }
    if cause is not None:
        event = np.zeros(seconds)
        event[max(0, begin + cause) : begin + length + cause] = 10 * size
        given["cause"] = 50 + 10 * wandering(seconds, 20, draw) + event
    return suspects(step, (begin, begin + length), given, load)


def innocents(length: int, trials: int, seed: int, **more: float) -> float:
    """How often any of the ordinary measures is named."""
    draw = np.random.default_rng(seed)
    return sum(bool(looked(3600, length, draw, **more).named) for _ in range(trials)) / trials  # type: ignore[arg-type]


def planted(seconds: int, length: int, size: float, trials: int, seed: int) -> tuple[float, float]:
    """(how often the cause is named and first, how often it is first among those that moved most
    alike).
    """
    draw, named, first = np.random.default_rng(seed), 0, 0
    for _ in range(trials):
        found = looked(seconds, length, draw, cause=-int(draw.integers(0, 11)), size=size)
        named += bool(found.named) and found.named[0].measure == "cause"
        first += bool(found.every) and found.every[0].measure == "cause"
    return named / trials, first / trials


def later(trials: int, seed: int) -> float:
    """How often what moves only 5 s after the step is named."""
    draw = np.random.default_rng(seed)
    found = (looked(3600, 20, draw, cause=5) for _ in range(trials))
    return sum(any(each.measure == "cause" for each in one.named) for one in found) / trials


def followers(trials: int, seed: int) -> float:
    """How often something that only follows the load is named in a burst of it."""
    draw = np.random.default_rng(seed)
    found = (looked(3600, 20, draw, follows=True) for _ in range(trials))
    return (
        sum(any(each.measure.startswith("follower") for each in one.named) for one in found)
        / trials
    )


def run() -> list[Result]:
    made: list[Result] = []
    for at, length in enumerate((6, 20, 60, 180)):
        share = innocents(length, TRIALS, 100 + at)
        made.append(
            (
                f"innocents named, 3,600 s, window of {length} s",
                100 * share,
                "%",
                "≤ 3",
                share <= 0.03,
            )
        )
    share = innocents(20, TRIALS, 110, tau=30)
    made.append(
        ("innocents named beside a step of long memory", 100 * share, "%", "≤ 3", share <= 0.03)
    )
    for length, size, goal in ((6, 6.0, 0.98), (20, 6.0, 0.98), (20, 3.0, 0.9)):
        named, _ = planted(3600, length, size, TRIALS, 120 + length)
        made.append(
            (
                f"planted {size:g} sd, window of {length} s: named and first",
                100 * named,
                "%",
                f"≥ {100 * goal:g}",
                named >= goal,
            )
        )
    for seconds, goal in ((600, 0.85), (120, 0.7)):
        named, first = planted(seconds, 20, 6, TRIALS, 140 + seconds)
        made.append(
            (
                f"planted 6 sd in {seconds} s: first, unproven",
                100 * first,
                "%",
                f"≥ {100 * goal:g}",
                first >= goal,
            )
        )
        made.append((f"planted 6 sd in {seconds} s: named", 100 * named, "%", "", True))
    made.append(
        (
            "what moves 5 s later is named",
            100 * later(TRIALS, 150),
            "%",
            "0",
            later(TRIALS, 150) == 0,
        )
    )
    share = followers(TRIALS, 160)
    made.append(("followers of the load are named in a burst", 100 * share, "%", "0", share == 0))
    draw = np.random.default_rng(1)
    given = {f"m{at}": measure(KINDS[at % len(KINDS)], 3600, draw) for at in range(300)}
    step = 100 * np.exp(0.2 * wandering(3600, 5, draw))
    step[1000:1020] *= 3
    begun = time.perf_counter()
    suspects(step, (1000, 1020), given, 50 + draw.normal(size=3600))
    took = 1000 * (time.perf_counter() - begun)
    made.append(("300 measures of 3,600 s", took, "ms", "≤ 600", took <= 600))
    if os.environ.get("DYNAMIKOS_LONG"):
        from bench import incidents

        made += incidents.run()
    return made
