"""The mergeable histogram: log-linear, 1,024 sub-buckets an octave of microseconds, relative error
≤ 0.05 %.
"""

import functools
import struct
from collections.abc import Iterable, Mapping
from operator import mul

import numpy as np
from numpy.typing import NDArray

WIRE_VERSION = 1
LAST = 23_220  # 1 h; above is clamped here and counted as overflow
LIMIT_US = 3_600_000_000
FEW = 200  # bins that are added one by one
_HEAD = struct.Struct("<BH")


def bucket_of(value_us: int) -> int:
    """Index of a duration in µs: e = max(0, bit_length − 11), index = e·1024 + (v >> e); clamped to
    LAST.
    """
    if value_us < 2048:
        return value_us if value_us > 0 else 0
    e = value_us.bit_length() - 11
    index = (e << 10) + (value_us >> e)
    return index if index < LAST else LAST


def buckets_of(values_us: NDArray[np.int64]) -> NDArray[np.int64]:
    """`bucket_of` for a whole array (any shape), exact below 2⁵³ µs."""
    values = np.maximum(values_us, 0)
    e = np.maximum(np.frexp(values.astype(np.float64))[1].astype(np.int64) - 11, 0)
    indices: NDArray[np.int64] = np.minimum((e << 10) + (values >> e), LAST)
    return indices


def bucket_mid_us(index: int) -> int:
    """The midpoint of a bucket in µs (the value itself below 2,048 µs)."""
    if index < 2048:
        return index
    e = (index >> 10) - 1
    return ((index - (e << 10)) << e) + (1 << e >> 1)


@functools.cache
def _mids() -> list[int]:
    return [bucket_mid_us(index) for index in range(LAST + 1)]


@functools.cache
def mids_us() -> NDArray[np.int64]:
    """Midpoints of all buckets, shape (LAST + 1,), µs."""
    return np.array(_mids(), dtype=np.int64)


class Histogram:
    """Counts per bucket, sparse. Adding two is exact; figures are bucket midpoints."""

    __slots__ = ("counts",)

    def __init__(self, counts: Mapping[int, int] | None = None) -> None:
        self.counts: dict[int, int] = dict(counts or {})

    @classmethod
    def of(cls, values_us: Iterable[int]) -> "Histogram":
        made = cls()
        for value in values_us:
            index = bucket_of(value)
            made.counts[index] = made.counts.get(index, 0) + 1
        return made

    def merge(self, other: "Histogram") -> None:
        if self.counts:
            self._count(other.counts.items())
        else:
            self.counts = dict(other.counts)

    @property
    def n(self) -> int:
        return sum(self.counts.values())

    @property
    def overflow(self) -> int:
        """Samples of an hour or more."""
        return self.counts.get(LAST, 0)

    def percentile_us(self, percent: int | float) -> int | None:
        """Nearest rank: the smallest value v with count(≤ v) ≥ ⌈p/100·n⌉, in integers; None without
        samples.

        `percent` has at most three decimals.
        """
        n = self.n
        if n == 0:
            return None
        return self.ranked_us(rank_of(percent, n))

    def percentiles_us(self, *percents: int | float) -> list[int | None]:
        """As `percentile_us` of each, with one look over the bins."""
        if not self.counts:
            return [None] * len(percents)
        indices = sorted(self.counts)
        below = np.cumsum([self.counts[index] for index in indices])
        n = int(below[-1])
        ranks = [rank_of(percent, n) for percent in percents]
        return [bucket_mid_us(indices[int(np.searchsorted(below, rank))]) for rank in ranks]

    def ranked_us(self, rank: int) -> int:
        """The `rank`-th smallest sample, from 1 (the largest for a higher rank). There must be
        samples.
        """
        below = 0
        for index in sorted(self.counts):
            below += self.counts[index]
            if below >= rank:
                return bucket_mid_us(index)
        return bucket_mid_us(max(self.counts))

    def over(self, limit_us: float) -> int:
        """How many samples are above a limit, by the midpoints of their buckets."""
        return sum(count for index, count in self.counts.items() if bucket_mid_us(index) > limit_us)

    def sum_us(self) -> int:
        """All samples added up, each as the midpoint of its bucket."""
        return sum(map(mul, map(_mids().__getitem__, self.counts), self.counts.values()))

    def min_us(self) -> int | None:
        return bucket_mid_us(min(self.counts)) if self.counts else None

    def max_us(self) -> int | None:
        return bucket_mid_us(max(self.counts)) if self.counts else None

    def coarser(self, bits: int) -> "Histogram":
        """Without the lowest `bits` of its indices."""
        made = Histogram()
        for index, count in self.counts.items():
            made.counts[index >> bits] = made.counts.get(index >> bits, 0) + count
        return made

    # wire ---------------------------------------------------------------------------------------

    def to_bytes(self) -> bytes:
        """Version byte, u16 count of bins, little-endian u16 bins, then u32 counts; Σx is not in
        here.
        """
        bins = sorted(self.counts)
        return struct.pack(
            f"<BH{len(bins)}H{len(bins)}I",
            WIRE_VERSION,
            len(bins),
            *bins,
            *(self.counts[index] for index in bins),
        )

    @staticmethod
    def packed(indices: "NDArray[np.int64]") -> bytes:
        """`to_bytes` of samples given by their buckets; shape (n,)."""
        bins, counts = np.unique(indices, return_counts=True)
        return (
            struct.pack("<BH", WIRE_VERSION, len(bins))
            + bins.astype("<u2").tobytes()
            + counts.astype("<u4").tobytes()
        )

    @classmethod
    def from_bytes(cls, data: bytes) -> "Histogram":
        """Reads `to_bytes`. Raises ValueError for another version or a wrong length."""
        return cls.joined((data,))

    @classmethod
    def joined(cls, many: Iterable[bytes], coarse: int = 0) -> "Histogram":
        """Reads any number of `to_bytes` and adds them up: many at once are added as arrays. Of
        those that were made `coarser` by so many bits, each bin is put in the middle of where it
        was. Raises ValueError for another version or a wrong length.
        """
        half = 1 << coarse >> 1
        made, found, bins = cls(), [], 0
        for data in many:
            if data:
                version, size = _HEAD.unpack_from(data)
                if version != WIRE_VERSION or len(data) != 3 + 6 * size:
                    raise ValueError(
                        f"histogram version {version} with {len(data)} bytes can't be read"
                    )
                found.append((data, size))
                bins += size
        if len(found) == 1 or bins < FEW:
            for data, size in found:
                numbers = struct.unpack_from(f"<{size}H{size}I", data, 3)
                indices_ = (
                    [(index << coarse) + half for index in numbers[:size]]
                    if coarse
                    else numbers[:size]
                )
                pairs = zip(indices_, numbers[size:], strict=True)
                if made.counts:
                    made._count(pairs)
                else:
                    made.counts = dict(pairs)  # a bin is in there once
            return made
        indices = np.frombuffer(b"".join([data[3 : 3 + 2 * size] for data, size in found]), "<u2")
        counts = np.frombuffer(b"".join([data[3 + 2 * size :] for data, size in found]), "<u4")
        total = np.bincount(indices, counts)  # exact below 2⁵³
        there = np.flatnonzero(total)
        made.counts = dict(
            zip(
                ((there << coarse) + half).tolist(),
                total[there].astype(np.int64).tolist(),
                strict=True,
            )
        )
        return made

    def _count(self, pairs: Iterable[tuple[int, int]]) -> None:
        counts = self.counts
        for index, count in pairs:
            counts[index] = counts.get(index, 0) + count


def rank_of(percent: int | float, n: int) -> int:
    """The rank of a percentile among n samples, from 1: ⌈p/100·n⌉ in integers; `percent` has at
    most three decimals.
    """
    return max(1, -(-round(percent * 1000) * n // 100_000))


def enough_for(percent: int | float, n: int) -> str:
    """ "yes", "uncertain" or "no": a percentile is shown if n·(100−p) ≥ 100 and uncertain while <
    1,000.
    """
    weight = n * (100 - percent)
    if weight < 100:
        return "no"
    return "uncertain" if weight < 1000 else "yes"
