"""Apdex (Apdex Technical Specification 1.1)."""

from dataclasses import dataclass

from dynamikos.core.statistics.histogram import Histogram


@dataclass(frozen=True, slots=True)
class Apdex:
    """Samples in its three zones: up to T, up to 4T, beyond or failed; `value` None without
    samples.
    """

    satisfied: int
    tolerating: int
    frustrated: int

    @property
    def value(self) -> float | None:
        n = self.satisfied + self.tolerating + self.frustrated
        return (self.satisfied + self.tolerating / 2) / n if n else None


def apdex(passed: Histogram, failed: int, limit_us: float) -> Apdex:
    """By the midpoints of buckets; failures count as frustrated."""
    beyond, far = passed.over(limit_us), passed.over(4 * limit_us)
    return Apdex(passed.n - beyond, beyond - far, far + failed)
