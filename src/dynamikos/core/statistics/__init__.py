"""Distributions and their figures.

Never averages averages or percentiles. Start reading at `histogram`.
"""

from dynamikos.core.statistics.delayed import Undelayed
from dynamikos.core.statistics.histogram import Histogram, bucket_mid_us, bucket_of, buckets_of
from dynamikos.core.statistics.moments import Moments
from dynamikos.core.statistics.spread import Spread

__all__ = [
    "Histogram",
    "Moments",
    "Spread",
    "Undelayed",
    "bucket_mid_us",
    "bucket_of",
    "buckets_of",
]
