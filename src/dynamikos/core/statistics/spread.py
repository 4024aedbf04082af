"""Percentiles where some samples are only known to be at least so long (right-censored): what was
cut off by a time-out of ours, by a user who left or was taken away, or by the end of what is
measured.
"""

from collections.abc import Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from dynamikos.core.statistics.histogram import Histogram, bucket_mid_us, enough_for, rank_of


class Spread:
    """A distribution: what `passed`, what was `cut` off at its age and what is open (`open_us`,
    ages in µs). `later` are the times of those of `cut` that ended after all.

    A censored sample can only move up. Nearest rank with censored samples at their ages is
    therefore a lower bound, and with them beyond everything (or at the time that is known since) an
    upper one (None: it has none); where both agree the percentile is exact. Both are at least the
    percentile of what passed: many that had only just begun when the end came tell nothing about
    how long they take, and don't make a server quick.
    """

    def __init__(
        self,
        passed: Histogram,
        cut: Histogram | None = None,
        open_us: Sequence[int] = (),
        later: Histogram | None = None,
    ) -> None:
        self._passed, self._low, self._high = passed, passed, passed
        self._open_us = open_us
        self._endless = len(open_us)
        if open_us or (cut is not None and cut.counts):
            self._low = Histogram(passed.counts)
            self._low.merge(Histogram.of(open_us))
            self._low.merge(cut or Histogram())
            self._endless += (cut.n if cut is not None else 0) - (
                later.n if later is not None else 0
            )
            if later is not None and later.counts:
                self._high = Histogram(passed.counts)
                self._high.merge(later)

    @cached_property
    def _ranks(self) -> tuple[list[int], NDArray[np.int64]]:
        """The buckets in order, and how many samples lie in each of them or below."""
        indices = sorted(self._low.counts)
        return indices, np.cumsum([self._low.counts[index] for index in indices], dtype=np.int64)

    @property
    def n(self) -> int:
        """What passed and what was cut off."""
        below = self._ranks[1]
        return int(below[-1]) if len(below) else 0

    @property
    def is_cut(self) -> bool:
        """Whether something did not end by itself."""
        return self._low is not self._passed

    def low_us(self, percent: float) -> int | None:
        """The percentile, or what it is at least; None without samples."""
        indices, below = self._ranks
        if not indices:
            return None
        aged = bucket_mid_us(indices[int(np.searchsorted(below, rank_of(percent, self.n)))])
        return max(aged, self._passed.percentile_us(percent) or 0) if self.is_cut else aged

    def high_us(self, percent: float) -> int | None:
        """What the percentile is at most; None when that can't be said, or without samples."""
        if not self.is_cut:
            return self.low_us(percent)
        known = self._high.n
        rank = rank_of(percent, known + self._endless)
        if rank > known:
            return None
        return max(
            self._high.ranked_us(rank),
            self._passed.percentile_us(percent) or 0,
            self.low_us(percent) or 0,
        )

    def is_open(self, percent: float) -> bool:
        """Whether the percentile is only known to be at least `low_us`."""
        return (
            self.is_cut
            and enough_for(percent, self.n) != "no"
            and self.high_us(percent) != self.low_us(percent)
        )

    def shown_us(self, percent: float) -> int | None:
        """`low_us`, or None where there are too few samples for it."""
        return None if enough_for(percent, self.n) == "no" else self.low_us(percent)

    def over(self, limit_us: float) -> int:
        """How many are above a limit, what was cut off at its age."""
        return self._low.over(limit_us)

    def mean_us(self, cut_sum_us: int) -> float | None:
        """Of what passed, by midpoints of bins, and at least with what was cut off at its age
        (`cut_sum_us` without the open ones).
        """
        if not self.n:
            return None
        passed = self._passed.sum_us()
        alone = passed / self._passed.n if self._passed.counts else 0.0
        return max(alone, (passed + cut_sum_us + sum(self._open_us)) / self.n)

    def max_us(self) -> int | None:
        return self._low.max_us()
