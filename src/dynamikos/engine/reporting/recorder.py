"""Counts every second of a shard; each second becomes one message when it is over."""

from collections.abc import Callable

from dynamikos.core.reports import Health, SeriesSecond, ShardSecond
from dynamikos.core.statistics import Histogram, bucket_of


class _Cell:
    """One series in one second, while it is being counted."""

    __slots__ = ("bytes_in", "bytes_out", "failed", "failed_hist", "failed_sum", "hist", "n", "squares", "sum", "ttfb")

    def __init__(self) -> None:
        self.n = self.sum = self.squares = self.bytes_in = self.bytes_out = self.failed_sum = 0
        self.hist: dict[int, int] = {}
        self.ttfb: dict[int, int] = {}
        self.failed: dict[str, int] = {}
        self.failed_hist: dict[int, int] = {}

    def wire(self, no: int) -> SeriesSecond:
        return SeriesSecond(
            no=no, n=self.n, sum_us=self.sum, squares=str(self.squares), hist=Histogram(self.hist).to_bytes() if self.hist else b"",
            failed=self.failed, failed_sum_us=self.failed_sum,
            failed_hist=Histogram(self.failed_hist).to_bytes() if self.failed_hist else b"",
            ttfb_hist=Histogram(self.ttfb).to_bytes() if self.ttfb else b"", bytes_out=self.bytes_out, bytes_in=self.bytes_in,
        )  # fmt: skip


class _Second:
    __slots__ = ("answered", "cells", "checks_failed", "checks_passed", "failed", "reopened", "retired", "sent", "skipped")

    def __init__(self) -> None:
        self.cells: dict[int, _Cell] = {}
        self.sent = self.answered = self.failed = self.reopened = self.skipped = self.checks_passed = self.checks_failed = 0
        self.retired: dict[str, int] = {}


class Recorder:
    """Counts. `begin` is the clock's instant of second 0; all instants are the clock's seconds."""

    def __init__(self, shard: int, begin: float) -> None:
        self.shard, self.begin = shard, begin
        self._seconds: dict[int, _Second] = {}
        self._closed = -1
        self.users: dict[str, int] = {}
        self.flying: dict[int, float] = {}
        self._exchange = 0
        self._current = _Second()  # the second of the last recording, and when it ends
        self._edge = float("-inf")
        self._gauges: dict[int, tuple[dict[str, int], int]] = {}

    def _second(self, instant: float) -> _Second:
        if self._edge - 1.0 <= instant < self._edge:
            return self._current
        number = int(instant - self.begin)
        if number <= self._closed:
            number = self._closed + 1  # its message is sent: counted in the next one rather than lost
        found = self._seconds.get(number)
        if found is None:
            found = self._seconds[number] = _Second()
        self._current, self._edge = found, self.begin + number + 1
        return found

    # exchanges on the wire ---------------------------------------------------------------------------

    def sent(self, instant: float) -> int:
        """A request is about to go out; returns its number for `landed`."""
        (self._current if self._edge - 1.0 <= instant < self._edge else self._second(instant)).sent += 1
        self._exchange += 1
        self.flying[self._exchange] = instant
        return self._exchange

    def landed(self, number: int, instant: float, *, failed: bool) -> None:
        del self.flying[number]
        second = self._current if self._edge - 1.0 <= instant < self._edge else self._second(instant)
        if failed:
            second.failed += 1
        else:
            second.answered += 1

    def reopened(self, instant: float) -> None:
        self._second(instant).reopened += 1

    # series --------------------------------------------------------------------------------------------

    def passed(self, series: int, ended: float, duration_us: int, ttfb_us: int = -1, bytes_out: int = 0, bytes_in: int = 0) -> None:
        # the hot path of the engine: a cell is looked up and counted without a further call
        cells = (self._current if self._edge - 1.0 <= ended < self._edge else self._second(ended)).cells
        cell = cells.get(series)
        if cell is None:
            cell = cells[series] = _Cell()
        cell.n += 1
        cell.sum += duration_us
        cell.squares += duration_us * duration_us
        hist = cell.hist
        index = duration_us if 0 <= duration_us < 2048 else bucket_of(duration_us)
        if index in hist:
            hist[index] += 1
        else:
            hist[index] = 1
        if ttfb_us >= 0:
            cell.bytes_out += bytes_out
            cell.bytes_in += bytes_in
            index = ttfb_us if ttfb_us < 2048 else bucket_of(ttfb_us)
            hist = cell.ttfb
            if index in hist:
                hist[index] += 1
            else:
                hist[index] = 1

    def missed(self, series: int, ended: float, duration_us: int, kind: str, bytes_out: int = 0, bytes_in: int = 0) -> None:
        cell = self._second(ended).cells.setdefault(series, _Cell())
        cell.failed[kind] = cell.failed.get(kind, 0) + 1
        cell.failed_sum += duration_us
        cell.bytes_out += bytes_out
        cell.bytes_in += bytes_in
        index = bucket_of(duration_us)
        cell.failed_hist[index] = cell.failed_hist.get(index, 0) + 1

    def checks(self, instant: float, passed: int, failed: int) -> None:
        second = self._second(instant)
        second.checks_passed += passed
        second.checks_failed += failed

    def skipped(self, instant: float, steps: int) -> None:
        self._second(instant).skipped += steps

    def retired(self, instant: float, reason: str) -> None:
        retired = self._second(instant).retired
        retired[reason] = retired.get(reason, 0) + 1

    def move(self, old: str, new: str) -> None:
        """A user changes state; "" is outside."""
        if old:
            self.users[old] -= 1
        if new:
            self.users[new] = self.users.get(new, 0) + 1

    def look(self, second: int) -> None:
        """Gauges at the end of a second: users by state, requests in flight."""
        self._gauges[second] = ({state: count for state, count in self.users.items() if count}, len(self.flying))

    # messages ------------------------------------------------------------------------------------------

    def close(
        self, number: int, now: float, planned: Callable[[int], int], health: Callable[[], Health], *, last: bool = False
    ) -> list[ShardSecond]:
        """The messages of all seconds up to `number`, empty ones too; they can't change any more."""
        self._edge = float("-inf")
        messages = []
        measured = health()
        for each in range(self._closed + 1, number + 1):
            second = self._seconds.pop(each, None) or _Second()
            if each not in self._gauges:
                self.look(each)
            users, flying = self._gauges.pop(each)
            messages.append(
                ShardSecond(
                    shard=self.shard, second=each, planned_users=planned(each),
                    users=users, sent=second.sent, answered=second.answered,
                    failed=second.failed, in_flight=flying,
                    oldest_us=int((now - min(self.flying.values())) * 1e6) if self.flying else 0, reopened=second.reopened,
                    skipped_steps=second.skipped, checks_passed=second.checks_passed, checks_failed=second.checks_failed,
                    retired=second.retired, series=[cell.wire(no) for no, cell in sorted(second.cells.items())], health=measured,
                    last=last and each == number,
                )
            )  # fmt: skip
            self._closed = each
        return messages
