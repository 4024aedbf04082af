"""A slope under steady load: Theil–Sen, Mann–Kendall on means of blocks."""

import math
from collections.abc import Iterator

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Found, Trace, name_of
from dynamikos.core.analysis.findings.blocks import EFFECT, LEAST, SAMPLES, block_means
from dynamikos.core.figures import odds, short

FEW = 30  # values whose orders are counted


def drift(evidence: Evidence) -> Iterator[Found]:
    """A slope under steady load: Theil–Sen, Mann–Kendall on means of blocks."""
    stretches = evidence.steady()
    tests = max(1, len(stretches) * len(evidence.steps()))
    found: list[tuple[float, Found]] = []
    for begin, end in stretches:
        for line in evidence.steps():
            logs, counts = block_means(line, evidence, begin, end, 10)
            known = ~np.isnan(logs)
            if known.sum() < 8 or counts.sum() < SAMPLES:
                continue
            values, at = logs[known], np.flatnonzero(known)
            slope = theil_sen(values, at)
            effect = math.exp(slope * (at[-1] - at[0]))
            p = mann_kendall(values)
            if p >= LEAST / tests / 2 or effect - 1 < EFFECT:
                continue
            found.append(
                (
                    effect,
                    Found(
                        rule="drift",
                        about="target",
                        sentence=f"{name_of(line.series)} grew by {100 * (effect - 1):.0f} % from "
                        f"second {begin} to {end} under"
                        " steady load.",
                        means="Something accumulates: rows, entries of a cache, memory, "
                        "connections.",
                        try_="Run a soak of several hours; look at heap, tables and caches that "
                        "only grow.",
                        evidence={
                            "growth a minute": f"{short(100 * (math.exp(slope * 6) - 1))} %",
                            "by chance": odds(p),
                        },
                        window=(begin, end),
                        journey=line.series.journey,
                        step=line.series.step,
                    ),
                )
            )
    yield from (each for _, each in sorted(found, key=lambda pair: -pair[0]))


def theil_sen(values: Trace, at: np.ndarray) -> float:
    """Median of the slopes of all pairs (Sen 1968)."""
    i, j = np.triu_indices(len(values), 1)
    return float(np.median((values[j] - values[i]) / (at[j] - at[i])))


def mann_kendall(values: Trace) -> float:
    """Two-sided chance of such a trend (Mann 1945), without ties; of few values by counting all
    orders (Kendall 1938): the normal law calls nine that only rise likelier than they are by fifty
    times.
    """
    n = len(values)
    i, j = np.triu_indices(n, 1)
    s = abs(float(np.sign(values[j] - values[i]).sum()))
    if n > FEW:
        z = max(0.0, s - 1) / math.sqrt(n * (n - 1) * (2 * n + 5) / 18)
        return math.erfc(z / math.sqrt(2))
    orders = np.ones(1)  # the share of all orders with 0, 1, 2 … pairs that fall
    for length in range(2, n + 1):
        orders = np.convolve(orders, np.full(length, 1 / length))
    pairs = n * (n - 1) // 2
    return min(1.0, 2 * float(orders[: math.floor((pairs - s) / 2) + 1].sum()))
