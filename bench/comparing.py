"""Comparing, intervals, objectives and chance, trend and bounds: how often each is wrong, by
simulation.

Each property of the mathematics is tried as it is stated, with at least TRIALS trials and seeds of
its own.
"""

import math
import os
from collections.abc import Iterator

import numpy as np

from bench.ladder import Result
from bench.simulated import line_of, run_of, sample, truth, wandering
from dynamikos.core.comparison import compare, turns
from dynamikos.core.comparison.bounds import bound_of
from dynamikos.core.comparison.compare import moderated, rejected
from dynamikos.core.statistics.chance import BySecond, share_within

TRIALS = int(os.environ.get("DYNAMIKOS_TRIALS", "500"))
SEED = 20_261_201


def coverage(kind: str, seconds: int, trials: int, seed: int = SEED) -> dict[str, float]:
    """By measure, how often the interval of 95 % holds the truth."""
    draw, held = (
        np.random.default_rng(seed),
        dict.fromkeys(("mean", "p50", "p95", "p99", "failure-rate"), 0),
    )
    for _ in range(trials):
        second, took, failed = sample(kind, seconds, draw)
        every = line_of(second, took, np.zeros(len(took)), seconds)
        share = line_of(second, took, failed, seconds, times=False)
        for measure in held:
            found = (share if measure == "failure-rate" else every).figure(measure)
            value = truth(kind, measure) * (1 if measure == "failure-rate" else 1000)
            if found is not None and found.low is not None and found.high is not None:
                held[measure] += found.low <= value <= found.high
    return {measure: count / trials for measure, count in held.items()}


def pairs(
    kind: str, seconds: int, trials: int, between: float, effect: float = 1.0, seed: int = SEED
):  # type: ignore[no-untyped-def]
    """(how often a pair of the same is called worse, how often the slowed first of four steps is)
    one against one.
    """
    draw, false, found = np.random.default_rng(seed), 0, 0
    for _ in range(trials):
        runs = []
        for slower in (1.0, effect):
            scale = float(np.exp(between * draw.normal()))
            lines = [
                line_of(
                    *sample(kind, seconds, draw, scale * (slower if at == 0 else 1.0)),
                    seconds,
                    times=False,
                )
                for at in range(4)
            ]
            runs.append(run_of(lines, "r", seconds))
        told = compare([runs[0]], [runs[1]])
        worse = {each.wanted.key[2] for each in told.differences if each.word == "worse"}
        false += bool(worse - ({"s0"} if effect != 1 else set()))
        found += "s0" in worse
    return false / trials, found / trials


def sets(
    runs: int, steps: int, trials: int, effect: float = 0.0, seed: int = SEED
) -> tuple[float, float]:
    """(how often a step that is the same is called different, how often the slowed one is found) of
    sets whose steps vary by 2 to 8 % between runs, half of it in common.
    """
    draw, false, found = np.random.default_rng(seed), 0, 0
    for _ in range(trials):
        varies = np.exp(draw.uniform(math.log(0.02), math.log(0.08), steps))

        def side() -> np.ndarray:  # type: ignore[type-arg]
            common = math.sqrt(0.5) * draw.normal(size=(runs, 1))
            return (common + math.sqrt(0.5) * draw.normal(size=(runs, steps))) * varies  # noqa: B023

        a, b, slowed = side(), side(), int(draw.integers(steps))
        b[:, slowed] += math.log1p(effect)
        different = rejected([each.p for each in moderated(a, b)])
        false += bool(different - ({slowed} if effect else set()))
        found += slowed in different
    return false / trials, found / trials


def chance(kind: str, seconds: int, over: float, trials: int, seed: int = SEED) -> float:
    """How often an objective is called met whose true p95 is `over` times its limit."""
    draw, met = np.random.default_rng(seed), 0
    limit = truth(kind, "p95") / over
    for _ in range(trials):
        second, took, _ = sample(kind, seconds, draw)
        at = second.astype(int)
        counts = np.bincount(at, minlength=seconds).astype(float)
        hits = np.bincount(at, took > limit, minlength=seconds)
        met += share_within(BySecond(counts, hits, np.zeros(seconds)), 0.05).word == "met"
    return met / trials


def independent(n: int, over: float, trials: int, seed: int = SEED) -> float:
    """As `chance`, of n independent log-normal samples."""
    draw, met = np.random.default_rng(seed), 0
    for _ in range(trials):
        took = np.exp(0.8 * draw.normal(size=n))
        hits = (took > math.exp(0.8 * 1.6449) / over).astype(float)
        seconds = max(1, n // 10)
        at = draw.integers(0, seconds, n)
        told = BySecond(
            np.bincount(at, minlength=seconds).astype(float),
            np.bincount(at, hits, seconds),
            np.zeros(seconds),
        )
        met += share_within(told, 0.05).word == "met"
    return met / trials


def false_turns(n: int, phi: float, trials: int, seed: int = SEED) -> float:
    draw, found = np.random.default_rng(seed), 0
    for _ in range(trials):
        level = wandering(n, -1 / math.log(phi), 0.15, draw) if phi else draw.normal(size=n) * 0.15
        values = 100 * np.exp(level)
        found += bool(turns(values.tolist(), (0.02 * values).tolist(), "mean"))
    return found / trials


def false_alarms(baselines: int, trials: int, between: float = 0.05, seed: int = SEED) -> float:
    """How often one more run of the same exceeds the bound of its p95 (300 s, log-normal)."""
    draw, over = np.random.default_rng(seed), 0
    for _ in range(trials):
        every = [_p95(draw, between) for _ in range(baselines + 1)]
        over += every[-1].value > bound_of(every[:-1], 1, between**2)
    return over / trials


def _p95(draw: np.random.Generator, between: float):  # type: ignore[no-untyped-def]
    second, took, _ = sample("log-normal", 300, draw, float(np.exp(between * draw.normal())))
    found = line_of(second, took, np.zeros(len(took)), 300).figure("p95")
    assert found is not None
    return found


def _intervals(trials: int) -> Iterator[Result]:
    goals = {
        ("mm1 0.5", 300): ("mean", "p50", "p95", "failure-rate"),
        ("log-normal", 300): ("mean", "p50", "p95", "failure-rate"),
        ("wandering", 300): ("mean", "p50", "p95", "failure-rate"),
        ("mm1 0.8", 120): ("mean",),
        ("mm1 0.8", 300): (),
        ("mm1 0.9", 300): (),
    }
    for (kind, seconds), held in goals.items():
        least = 0.9 if kind == "mm1 0.8" else 0.92
        for measure, share in coverage(kind, seconds, trials).items():
            is_goal = measure in held
            goal = f"≥ {100 * least:.0f}" if is_goal else ""
            yield (
                f"interval of {measure}, {kind}, {seconds} s: holds the truth",
                100 * share,
                "%",
                goal,
                share >= least or not is_goal,
            )


def run() -> list[Result]:
    made = list(_intervals(TRIALS))

    def most(what: str, share: float, goal: float) -> None:
        made.append((what, 100 * share, "%", f"≤ {100 * goal:g}", share <= goal))

    def least(what: str, share: float, goal: float) -> None:
        made.append((what, 100 * share, "%", f"≥ {100 * goal:g}", share >= goal))

    for kind in ("mm1 0.5", "mm1 0.8", "log-normal"):
        most(
            f"one against one, {kind}, 300 s, runs differ by 5 %: called worse",
            pairs(kind, 300, TRIALS, 0.05)[0],
            0.05,
        )
    least(
        "one against one, M/M/1 0.5, 60 s, twice as slow: found",
        pairs("mm1 0.5", 60, TRIALS, 0.05, 2.0)[1],
        0.8,
    )
    most("three against three, 20 steps: a false one", sets(3, 20, TRIALS)[0], 0.06)
    least("three against three, 20 steps, +20 %: found", sets(3, 20, TRIALS, 0.2)[1], 0.7)
    for n in (20, 100, 1000):
        most(
            f"p95 truly 1.1 × the limit, {n} independent: called met",
            independent(n, 1.1, TRIALS),
            0.05,
        )
    most("p95 at the limit, M/M/1 0.5, 300 s: called met", chance("mm1 0.5", 300, 1.0, TRIALS), 0.1)
    most(
        "p95 truly 1.1 × the limit, M/M/1 0.5, 300 s: called met",
        chance("mm1 0.5", 300, 1.1, TRIALS),
        0.05,
    )
    least(
        "p95 truly 0.7 × the limit, M/M/1 0.5, 300 s: called met",
        chance("mm1 0.5", 300, 0.7, TRIALS),
        0.8,
    )
    for n in (10, 20, 40):
        most(f"{n} runs without a change, φ 0.8: a false turn", false_turns(n, 0.8, TRIALS), 0.1)
        most(f"{n} runs without a change, φ 0: a false turn", false_turns(n, 0.0, TRIALS), 0.02)
    for count in (1, 3):
        most(
            f"bound from {count} baseline runs, τ known: false alarm",
            false_alarms(count, TRIALS),
            0.06,
        )
    return made
