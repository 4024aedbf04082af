"""Count, sum and sum of squares in Python integers: exact, addable, never overflowing."""

import math
from dataclasses import dataclass


@dataclass(slots=True)
class Moments:
    """n samples in µs with Σx and Σx²."""

    n: int = 0
    sum_us: int = 0
    squares_us2: int = 0

    def add(self, n: int, sum_us: int, squares_us2: int) -> None:
        self.n += n
        self.sum_us += sum_us
        self.squares_us2 += squares_us2

    @property
    def mean_us(self) -> float | None:
        return self.sum_us / self.n if self.n else None

    @property
    def sd_us(self) -> float | None:
        """Population standard deviation √(n·Σx² − (Σx)²)/n, decided in integers before the root."""
        if not self.n:
            return None
        return math.sqrt(max(0, self.n * self.squares_us2 - self.sum_us * self.sum_us)) / self.n
