"""A level that changed at a moment while the load did not: the place that parts a stretch best,
against the same of blocks in random order, and confirmed by Welch's test of what stands before and
after.
"""

import math
from collections.abc import Iterator

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Found, Trace, name_of
from dynamikos.core.analysis.findings.blocks import BLOCK_S, EFFECT, LEAST, SAMPLES, block_means
from dynamikos.core.figures import milliseconds, odds

PERMUTATIONS, SEED = 1999, 20_261


def shift(evidence: Evidence) -> Iterator[Found]:
    """A level that changed at a moment while the load did not: the place that parts a stretch best,
    against the same of blocks in random order, and confirmed by Welch's test of what stands before
    and after.
    """
    stretches = evidence.steady()
    tests = max(1, len(stretches) * len(evidence.steps()))
    for begin, end in stretches:
        for line in evidence.steps():
            logs, counts = block_means(line, evidence, begin, end, BLOCK_S)
            known = ~np.isnan(logs)
            if known.sum() < 12 or counts.sum() < SAMPLES:
                continue
            values = logs[known]
            at, score = _parting(values)
            p, level = _chance(values, score), LEAST / tests
            before, after = values[:at], values[at:]
            effect = math.exp(float(after.mean() - before.mean()))
            if (
                p > max(level, 1.5 / (PERMUTATIONS + 1))
                or abs(effect - 1) < EFFECT
                or not _welch(before, after, level)
            ):
                continue
            if _autocorrelated(before, after):
                continue
            where = begin + BLOCK_S * int(np.flatnonzero(known)[at])
            said = "rose" if effect > 1 else "fell"
            yield Found(
                rule="shift",
                about="target",
                sentence=f"{name_of(line.series)} {said} by {abs(effect - 1) * 100:.0f} % at "
                f"second {where}, while the"
                " load stayed as it was.",
                means="Something changed on the server at that moment, not with the load.",
                try_="Look at the suspects around it, and at what else ran then: a job, a "
                "deployment, another client.",
                evidence={
                    "geometric mean before": milliseconds(math.exp(before.mean()) / 1000),
                    "after": milliseconds(math.exp(after.mean()) / 1000),
                    "by chance": odds(p),
                },
                window=(max(0, where - 30), where + 30),
                journey=line.series.journey,
                step=line.series.step,
            )


def _parting(values: Trace) -> tuple[int, float]:
    """(the place that parts them best, how well): the greatest standardized difference of both
    sides' means.
    """
    n, total = len(values), values.sum()
    sums = np.cumsum(values)[:-1]
    sizes = np.arange(1, n)
    scores = np.abs(sums / sizes - (total - sums) / (n - sizes)) * np.sqrt(sizes * (n - sizes) / n)
    scores[: max(1, 10 // BLOCK_S) - 1] = 0
    scores[len(scores) - max(1, 10 // BLOCK_S) + 1 :] = 0
    at = int(np.argmax(scores))
    return at + 1, float(scores[at])


def _chance(values: Trace, score: float) -> float:
    """How often values in random order part as well; pairs of neighbours stay together."""
    draw = np.random.default_rng(SEED)
    pairs = values[: len(values) // 2 * 2].reshape(-1, 2)
    better = 0
    for turn in range(PERMUTATIONS):
        better += _parting(pairs[draw.permutation(len(pairs))].ravel())[1] >= score
        if better > 3 and turn < 200:
            return (better + 1) / (turn + 2)
    return (better + 1) / (PERMUTATIONS + 1)


def _welch(one: Trace, other: Trace, level: float) -> bool:
    """Whether two means differ, by a normal bound that is generous to chance: blocks are not quite
    independent.
    """
    if len(one) < 2 or len(other) < 2:
        return False
    spread = math.sqrt(one.var(ddof=1) / len(one) + other.var(ddof=1) / len(other))
    z = abs(float(one.mean() - other.mean())) / spread if spread > 0 else math.inf
    return math.erfc(z / math.sqrt(2)) < level / 20


def _autocorrelated(one: Trace, other: Trace) -> bool:
    """Whether blocks follow their neighbours within both sides, so that a wave looks like a
    level.
    """
    rest = np.concatenate((one - one.mean(), other - other.mean()))
    if len(rest) < 12:
        return False
    return float(rest[1:] @ rest[:-1]) / max(1e-12, float(rest @ rest)) > 0.5
