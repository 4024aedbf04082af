"""What is counted of one series in one second, and how what was noted of its samples is packed."""

import struct
from collections.abc import Callable

import numpy as np
import numpy.typing

from dynamikos.core.failure_kinds import kind_of
from dynamikos.core.reports import SeriesSecond
from dynamikos.core.reports.messages import QUIET_US
from dynamikos.core.statistics import Histogram, bucket_of, buckets_of

Microseconds = np.typing.NDArray[np.int64]
Buckets = np.typing.NDArray[np.int64]
Rows = np.typing.NDArray[np.void]
Seconds = np.typing.NDArray[np.float64]
Lost = Callable[[Seconds, Seconds], Microseconds]  # of samples from and to instants of the clock
# A request that passed: its series, the series of the step that it is all of or −1; instants at
# which it was due, its last exchange began (−1 where that was noted apart) and was sent, its first
# and last byte came; bytes of all its exchanges; how many checks it passed, all of them; how much
# of its time was the generator's own doing at most.
PASSED = np.dtype(
    [
        (name, "f8")
        for name in (
            "series",
            "step",
            "due",
            "began",
            "sent",
            "first",
            "last",
            "bytes_out",
            "bytes_in",
            "checks",
            "own",
        )
    ]
)
pack_passed = struct.Struct("11d").pack
# a step or a round that passed
STRETCH = np.dtype([("series", "f8"), ("due", "f8"), ("last", "f8"), ("own", "f8")])
pack_stretch = struct.Struct("4d").pack
TRIP = np.dtype(
    [("began", "f8"), ("last", "f8")]
)  # an exchange that was answered and is in no row of PASSED


def microseconds(seconds: Seconds) -> Microseconds:
    """Rounded to whole ones."""
    return np.rint(seconds * 1e6).astype(np.int64)


def packed(pieces: "list[Buckets]") -> bytes:
    """One histogram of the buckets of all pieces."""
    return Histogram.packed(np.concatenate(pieces)) if pieces else b""


class Cell:
    """One series in one second, while it is being counted; times in µs."""

    __slots__ = (
        "bytes_in",
        "bytes_out",
        "cached",
        "connect",
        "connects",
        "cut",
        "cut_sum",
        "failed",
        "failed_hist",
        "failed_sum",
        "handshakes",
        "hist",
        "left",
        "n",
        "resumed",
        "samples",
        "squares",
        "sum",
        "tls",
        "tries",
        "ttfb",
    )

    def __init__(self) -> None:
        self.n = self.sum = self.squares = self.bytes_in = self.bytes_out = self.failed_sum = (
            self.tries
        ) = 0
        self.connects = self.connect = self.handshakes = self.tls = self.resumed = self.left = (
            self.cached
        ) = 0
        self.hist: list[Buckets] = []  # of samples, piece by piece
        self.ttfb: list[Buckets] = []
        self.failed: dict[str, int] = {}
        self.failed_hist: dict[int, int] = {}
        self.cut: dict[int, int] = {}
        self.cut_sum = 0
        self.samples: list[
            Rows
        ] = []  # as they are noted: what of each was the generator's doing follows at the end

    def wire(self, no: int, lost: "Lost | None" = None) -> SeriesSecond:
        """`lost`: what samples can have lost by stops of the process."""
        own_us, low, quiet_us = self._lowered(lost)
        return SeriesSecond(
            no=no,
            n=self.n,
            sum_us=self.sum,
            squares=str(self.squares),
            hist=packed(self.hist),
            failed=self.failed,
            failed_sum_us=self.failed_sum,
            failed_hist=Histogram(self.failed_hist).to_bytes() if self.failed_hist else b"",
            ttfb_hist=packed(self.ttfb),
            bytes_out=self.bytes_out,
            bytes_in=self.bytes_in,
            tries=self.tries,
            connects=self.connects,
            connect_us=self.connect,
            handshakes=self.handshakes,
            tls_us=self.tls,
            resumed=self.resumed,
            left=self.left,
            cached=self.cached,
            cut_hist=Histogram(self.cut).to_bytes() if self.cut else b"",
            cut_sum_us=self.cut_sum,
            own_us=own_us,
            low_hist=low,
            quiet_us=quiet_us,
        )

    def _lowered(self, lost: "Lost | None") -> tuple[int, bytes, int]:
        """(what each sample can have lost at most, µs; the distribution without what each can have
        lost, where that is more than QUIET_US; the smallest sample where it is not).
        """
        if not self.samples:
            return 0, b"", 0
        due, last, late = (
            np.concatenate([each[name] for each in self.samples]) for name in ("due", "last", "own")
        )
        durations, own = microseconds(last - due), np.maximum(microseconds(late), 0)
        if lost is not None:
            own = own + lost(due, last)
        most = int(own.max())
        if most <= QUIET_US:
            return most, b"", max(1, int(durations.min()))
        return 0, Histogram.packed(buckets_of(np.maximum(durations - own, 0))), 0

    def cut_off(self, age_us: int) -> None:
        """Something did not end by itself; it was this old."""
        index = bucket_of(age_us)
        self.cut[index] = self.cut.get(index, 0) + 1
        self.cut_sum += age_us

    def add(self, durations: "Microseconds", passed: "Rows | None" = None) -> None:
        """Counts durations; with rows of PASSED their other figures too."""
        self.n += len(durations)
        self.sum += int(durations.sum())
        if int(durations.max()) < 10_000_000:
            self.squares += int((durations * durations).sum())
        else:  # beyond 10 s the sum of squares may leave 64 bits
            self.squares += sum(each * each for each in durations.tolist())
        self.hist.append(buckets_of(durations))
        if passed is not None:
            self.ttfb.append(buckets_of(microseconds(passed["first"] - passed["sent"])))
            self.bytes_out += int(passed["bytes_out"].sum())
            self.bytes_in += int(passed["bytes_in"].sum())

    def miss(self, duration_us: int, kind: str) -> None:
        """Counts a failure of a kind."""
        self.failed[kind] = self.failed.get(kind, 0) + 1
        self.failed_sum += duration_us
        index = bucket_of(duration_us)
        self.failed_hist[index] = self.failed_hist.get(index, 0) + 1
        if kind_of(kind).is_time_out:
            self.cut_off(duration_us)
