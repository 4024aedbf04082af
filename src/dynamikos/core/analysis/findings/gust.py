"""Seconds in which a step took several times as long as usual, for three of them running at
least.
"""

import math
from collections.abc import Iterator

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Found, Line, name_of
from dynamikos.core.figures import milliseconds

TIMES = 20  # as long as usual: so much is no chance, however few there are in a second


def gust(evidence: Evidence) -> Iterator[Found]:
    """Seconds in which a step took several times as long as usual, for three of them running at
    least.
    """
    begin, end = evidence.measured
    best: tuple[float, Found] | None = None
    for line in evidence.steps():
        mean = line.mean_ms()
        part = mean[evidence.places(begin, end)]
        known = part[~np.isnan(part)]
        if len(known) < 20 or line.passed.sum() < 60:
            continue
        logs = np.log(np.maximum(part, 1e-3))
        middle = float(np.nanmedian(logs))
        scale = 1.4826 * float(np.nanmedian(np.abs(logs - middle)))
        high = np.nan_to_num(logs, nan=-np.inf) > middle + max(
            math.log(3), min(6 * scale, math.log(TIMES))
        )
        for first, last in _runs(high):
            low, top = (
                evidence.places(begin, end).start + first,
                evidence.places(begin, end).start + last,
            )
            # seconds in which nothing ends belong to a stall whose requests end together
            samples = int(line.passed[low:top].sum())
            quiet = _quiet_before(line, low)
            if (last - first + quiet) * evidence.width < 3 or samples < 5:
                continue
            times = math.exp(float(np.nanmean(logs[first:last])) - middle)
            at = (low - quiet) * evidence.width
            made = Found(
                rule="gust",
                about="target",
                sentence=f"{name_of(line.series)} took {times:.1f} times as long as usual from "
                f"second {at} to"
                f" {top * evidence.width}.",
                means="Something held it up for a while, and went away again.",
                try_="Read the suspects of this window.",
                evidence={
                    "usual": milliseconds(math.exp(middle)),
                    "then": milliseconds(math.exp(middle) * times),
                    "requests": f"{samples}",
                },
                window=(max(0, at), top * evidence.width),
                journey=line.series.journey,
                step=line.series.step,
            )
            if best is None or times * samples > best[0]:
                best = times * samples, made
    if best is not None:
        yield best[1]


def _runs(high: np.ndarray) -> Iterator[tuple[int, int]]:
    """(from, to) of stretches that are high; single places that are not, in between, belong to
    them.
    """
    begun, quiet = None, 0
    for at, value in enumerate([*high, False, False, False]):
        if value:
            begun, quiet = (at if begun is None else begun), 0
        elif begun is not None:
            quiet += 1
            if quiet > 2:
                yield begun, at - quiet + 1
                begun = None


def _quiet_before(line: Line, at: int) -> int:
    """Places before it in which nothing ended."""
    quiet = 0
    while at - quiet - 1 >= 0 and line.passed[at - quiet - 1] == 0 and quiet < 30:
        quiet += 1
    return quiet
