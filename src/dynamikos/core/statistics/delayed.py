"""A distribution without the generators' own delay: what response times would have been at
least.
"""

from dataclasses import dataclass

from dynamikos.core.statistics.spread import Spread


def least(one: int, other: int) -> int:
    """The smaller of two where 0 is none."""
    return min(one, other) if one and other else one or other


@dataclass(frozen=True, slots=True)
class Undelayed:
    """`times` are those of `low` histograms (each sample less what it can have lost by much delay),
    `own_us` what each can have lost besides. Nothing was quicker than the quickest of quiet
    seconds, `quiet_us` (0: there were none).
    """

    times: Spread
    own_us: int = 0
    quiet_us: int = 0
    cut_sum_us: int = 0

    def _moved(self, value_us: float | None) -> float | None:
        if value_us is None:
            return None
        return max(value_us - self.own_us, min(value_us, float(self.quiet_us)), 0.0)

    def percentile_us(self, percent: float) -> float | None:
        """What the percentile is at least; None without samples."""
        return self._moved(self.times.low_us(percent))

    def over(self, limit_us: float) -> int:
        """How many are above a limit even so."""
        return self.times.n if self.quiet_us > limit_us else self.times.over(limit_us + self.own_us)

    @property
    def max_us(self) -> float | None:
        return self._moved(self.times.max_us())

    @property
    def mean_us(self) -> float | None:
        """By midpoints of bins (≤ 0.05 %)."""
        return self._moved(self.times.mean_us(self.cut_sum_us))
