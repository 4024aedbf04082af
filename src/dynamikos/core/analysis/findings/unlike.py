"""Lines of the same step that differ from each other beyond chance: of rows, of places."""

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Line
from dynamikos.core.analysis.findings.samples import SAMPLES
from dynamikos.core.frozen import Series

FACTOR, CHANCE, SECONDS = 1.3, 1e-5, 20


@dataclass(frozen=True, slots=True)
class Unlike:
    """Of a step those who get it fastest and slowest, with their means in ms (geometric, by
    second).
    """

    series: Series
    fast: str
    slow: str
    fast_ms: float
    slow_ms: float

    @property
    def times(self) -> float:
        return self.slow_ms / self.fast_ms


def unlike(evidence: Evidence, lines: Iterable[tuple[str, Line]]) -> Iterator[Unlike]:
    """Of (who, line) those steps whose slowest take FACTOR times as long as the fastest, and not by
    chance.
    """
    begin, end = evidence.measured
    where = evidence.places(begin, end)
    alike: dict[tuple[str, str], list[tuple[str, float, float]]] = {}
    series: dict[tuple[str, str], Series] = {}
    for who, line in lines:
        logs = np.log(line.mean_ms()[where])
        known = logs[~np.isnan(logs)]
        if int(line.passed[where].sum()) >= SAMPLES and len(known) >= SECONDS:
            error = float(known.std(ddof=1)) / math.sqrt(len(known))
            key = line.series.journey, line.series.step
            alike.setdefault(key, []).append((who, float(known.mean()), error))
            series[key] = line.series
    for key, each in alike.items():
        if len(each) < 2:
            continue
        low, high = min(each, key=lambda one: one[1]), max(each, key=lambda one: one[1])
        z = (high[1] - low[1]) / math.hypot(high[2], low[2]) if high[2] or low[2] else math.inf
        if math.exp(high[1] - low[1]) >= FACTOR and math.erfc(z / math.sqrt(2)) <= CHANCE / max(
            1, len(alike)
        ):
            yield Unlike(series[key], low[0], high[0], math.exp(low[1]), math.exp(high[1]))
