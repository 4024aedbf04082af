"""Blocks of a steady stretch, which levels and trends are looked for in."""

import math

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Line, Trace
from dynamikos.core.statistics.histogram import bucket_mid_us

BLOCK_S, LEAST, EFFECT, SAMPLES = 5, 0.001, 0.10, 500


def block_means(
    line: Line, evidence: Evidence, begin: int, end: int, block_s: int
) -> tuple[Trace, Trace]:
    """(means of log response time, how many samples) of blocks of a stretch, in order."""
    logs, counts = [], []
    width = max(1, block_s // evidence.width)
    where = evidence.places(begin, end)
    for at in range(where.start, where.stop - width + 1, width):
        spread = line.over(at, at + width)
        n = spread.n
        if n:
            total = sum(
                count * math.log(max(1, bucket_mid_us(index)))
                for index, count in spread.counts.items()
            )
            logs.append(total / n)
            counts.append(n)
        else:
            logs.append(np.nan)
            counts.append(0)
    return np.array(logs), np.array(counts, float)
