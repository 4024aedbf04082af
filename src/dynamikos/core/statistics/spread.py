"""Percentiles where some samples are only known to be at least so long (right-censored): what was still under way at
the end.
"""

from collections.abc import Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from dynamikos.core.statistics.histogram import Histogram, bucket_mid_us, enough_for, rank_of


class Spread:
    """A distribution with `open_us`, the ages of what had not ended.

    A censored sample can only move up. Nearest rank with censored samples at their ages is therefore a lower bound, and
    with them beyond everything an upper one (None: it has none); where both agree the percentile is exact.
    """

    def __init__(self, passed: Histogram, open_us: Sequence[int] = ()) -> None:
        self._passed, self._open = passed, open_us
        self._low = passed
        if open_us:
            self._low = Histogram(passed.counts)
            self._low.merge(Histogram.of(open_us))

    @cached_property
    def _ranks(self) -> tuple[list[int], NDArray[np.int64]]:
        """The buckets in order, and how many samples lie in each of them or below."""
        indices = sorted(self._low.counts)
        return indices, np.cumsum([self._low.counts[index] for index in indices], dtype=np.int64)

    @property
    def n(self) -> int:
        below = self._ranks[1]
        return int(below[-1]) if len(below) else 0

    def low_us(self, percent: float) -> int | None:
        """The percentile, or what it is at least; None without samples."""
        indices, below = self._ranks
        return bucket_mid_us(indices[int(np.searchsorted(below, rank_of(percent, self.n)))]) if indices else None

    def high_us(self, percent: float) -> int | None:
        """What the percentile is at most; None when that can't be said, or without samples."""
        if not self._open:
            return self.low_us(percent)
        rank = rank_of(percent, self.n)
        if rank > self._passed.n:
            return None
        return self._passed.ranked_us(rank)

    def is_open(self, percent: int) -> bool:
        """Whether the percentile is only known to be at least `low_us`."""
        return (
            bool(self._open) and enough_for(percent, self.n) != "no" and self.high_us(percent) != self.low_us(percent)
        )

    def shown_us(self, percent: int) -> int | None:
        """`low_us`, or None where there are too few samples for it."""
        return None if enough_for(percent, self.n) == "no" else self.low_us(percent)

    def max_us(self) -> int | None:
        return self._low.max_us()
