"""Counts every second of a shard; each second becomes one message when it is over."""

import struct
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Protocol

import numpy as np
import numpy.ma  # np.unique loads it when it is first called: a third of a second, in the middle of a run
import numpy.typing

from dynamikos.core.failure_kinds import Leaving, LeavingCause, kind_of
from dynamikos.core.reports import Health, SeriesSecond, ShardSecond
from dynamikos.core.reports.by_value import EVERY_S, ByValue
from dynamikos.core.reports.messages import QUIET_US
from dynamikos.core.statistics import Histogram, bucket_of, buckets_of
from dynamikos.core.verdicts.objectives import Older
from dynamikos.engine.http.protocol import Reply

ARRIVED = ("started", "turned away", "not started")
BATCH = 1000  # notes that may wait before they are counted: about a millisecond of work


class _Cell:
    """One series in one second, while it is being counted."""

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
        self.n = self.sum = self.squares = self.bytes_in = self.bytes_out = self.failed_sum = self.tries = 0
        self.connects = self.connect = self.handshakes = self.tls = self.resumed = self.left = self.cached = 0
        self.hist: list[Buckets] = []  # of samples, piece by piece
        self.ttfb: list[Buckets] = []
        self.failed: dict[str, int] = {}
        self.failed_hist: dict[int, int] = {}
        self.cut: dict[int, int] = {}
        self.cut_sum = 0
        self.samples: list[Rows] = []  # as they are noted: what of each was the generator's doing follows at the end

    def wire(self, no: int, lost: "Lost | None" = None) -> SeriesSecond:
        """`lost`: what samples can have lost by stops of the process."""
        own_us, low, quiet_us = self._lowered(lost)
        return SeriesSecond(
            no=no,
            n=self.n,
            sum_us=self.sum,
            squares=str(self.squares),
            hist=_packed(self.hist),
            failed=self.failed,
            failed_sum_us=self.failed_sum,
            failed_hist=Histogram(self.failed_hist).to_bytes() if self.failed_hist else b"",
            ttfb_hist=_packed(self.ttfb),
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
        """(what each sample can have lost at most, µs; the distribution without what each can have lost, where that is
        more than QUIET_US; the smallest sample where it is not).
        """
        if not self.samples:
            return 0, b"", 0
        due, last, late = (np.concatenate([each[name] for each in self.samples]) for name in ("due", "last", "own"))
        durations, own = _microseconds(last - due), np.maximum(_microseconds(late), 0)
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
            self.ttfb.append(buckets_of(_microseconds(passed["first"] - passed["sent"])))
            self.bytes_out += int(passed["bytes_out"].sum())
            self.bytes_in += int(passed["bytes_in"].sum())

    def miss(self, duration_us: int, kind: str) -> None:
        self.failed[kind] = self.failed.get(kind, 0) + 1
        self.failed_sum += duration_us
        index = bucket_of(duration_us)
        self.failed_hist[index] = self.failed_hist.get(index, 0) + 1
        if kind_of(kind).is_time_out:
            self.cut_off(duration_us)


Microseconds = np.typing.NDArray[np.int64]
Buckets = np.typing.NDArray[np.int64]
Rows = np.typing.NDArray[np.void]
Seconds = np.typing.NDArray[np.float64]
Lost = Callable[[Seconds, Seconds], Microseconds]  # of samples from and to instants of the clock
# A request that passed: its series, the series of the step that it is all of or −1; instants at which it was due, its
# last exchange began (−1 where that was noted apart) and was sent, its first and last byte came; bytes of all its
# exchanges; how many checks it passed, all of them; how much of its time was the generator's own doing at most.
PASSED = np.dtype([
    (name, "f8")
    for name in ("series", "step", "due", "began", "sent", "first", "last", "bytes_out", "bytes_in", "checks", "own")
])  # fmt: skip
pack_passed = struct.Struct("11d").pack
# a step or a round that passed
STRETCH = np.dtype([("series", "f8"), ("due", "f8"), ("last", "f8"), ("own", "f8")])
pack_stretch = struct.Struct("4d").pack
SERIES_BITS = 32  # of a number that holds a second and a series
TRIP = np.dtype([("began", "f8"), ("last", "f8")])  # an exchange that was answered and is in no row of PASSED


class _Second:
    __slots__ = (
        "abandoned",
        "answered",
        "arrivals",
        "carried",
        "cells",
        "checks_failed",
        "checks_passed",
        "dealt",
        "failed",
        "judged",
        "late_rounds",
        "learned_late",
        "leavings",
        "left",
        "missed",
        "reloaded",
        "reopened",
        "sent",
        "skipped",
    )

    def __init__(self) -> None:
        self.cells: dict[int, _Cell] = {}
        self.carried: dict[int, _Cell] = {}
        self.sent = self.answered = self.failed = self.reopened = self.skipped = self.checks_passed = (
            self.checks_failed
        ) = 0
        self.abandoned = self.late_rounds = self.learned_late = self.left = self.reloaded = 0
        self.arrivals = [0, 0, 0]  # as ARRIVED
        self.leavings: dict[tuple[LeavingCause, str], int] = {}
        self.dealt: list[tuple[int, int, int, int]] = []
        self.judged: dict[int, int] = {}
        self.missed: dict[int, int] = {}


def _microseconds(seconds: "np.typing.NDArray[np.float64]") -> Microseconds:
    return np.rint(seconds * 1e6).astype(np.int64)


def _packed(pieces: "list[Buckets]") -> bytes:
    return Histogram.packed(np.concatenate(pieces)) if pieces else b""


class Tallies(Protocol):
    """What fails, by the values that were dealt."""

    def failed(self, series: int, rows: Mapping[int, int]) -> None: ...

    def told(self) -> ByValue | None: ...


class Recorder:
    """Counts. `begin` is the clock's instant of second 0; all instants are the clock's seconds.

    What went well is only noted, in plain lists, and counted by `count` in numpy a thousand at a time: on the path of
    every exchange a note costs a tenth of what counting costs. Users may append to the lists themselves.

    That an exchange was sent is counted when it has ended, or when its second is closed and it is still on the wire.
    """

    def __init__(
        self,
        shard: int,
        begin: float,
        measured_to: float = float("inf"),
        first_checks: dict[int, int] | None = None,
        older: Sequence[Older] = (),
    ) -> None:
        """`measured_to` is the instant at which the measured part ends: what is under way then counts there.
        `first_checks`: by series of a request the number of its first check. `older`: the objectives for which is
        counted what is under way for too long.
        """
        self._older = older
        self.first_checks = first_checks or {}
        self.shard, self.begin, self.measured_to = shard, begin, measured_to
        self._in_flight = 0  # of all that was sent, what is neither answered nor failed, up to the last closed second
        self._seconds: dict[int, _Second] = {}
        self.closed = -1
        self._hot: tuple[int, _Second] = (-1, _Second())  # the second that checks were last counted in
        self.users: dict[str, int] = {}
        self.flying: dict[int, float] = {}  # exchanges on the wire: number → instant of sending, which was then
        self.trips: list[tuple[float, float]] = []  # rows of TRIP
        self.stretches: list[bytes] = []  # rows of STRETCH, packed
        self.passed_requests: list[bytes] = []  # rows of PASSED, packed
        self.tallies: Tallies | None = None
        self.failures = 0  # all that missed, whatever second
        self._gauges: dict[int, tuple[dict[str, int], dict[int, int], dict[int, int]]] = {}
        self.rows: dict[int, int] = {}  # users there by row

    def _second(self, instant: float) -> _Second:
        return self._numbered(int(instant - self.begin))

    def _numbered(self, number: int) -> _Second:
        if number <= self.closed:
            number = self.closed + 1  # its message is sent: counted in the next one rather than lost
        found = self._seconds.get(number)
        if found is None:
            found = self._seconds[number] = _Second()
        return found

    def count(self) -> None:
        """Counts what is noted."""
        if self.trips:
            self._exchanged(np.array(self.trips, TRIP))
            self.trips.clear()
        if self.stretches:
            rows = np.frombuffer(b"".join(self.stretches), STRETCH)
            self.stretches.clear()
            for second, no, part in self._parts(rows):
                self._count(second, no, part)
        if self.passed_requests:
            rows = np.frombuffer(b"".join(self.passed_requests), PASSED)
            self.passed_requests.clear()
            self._exchanged(rows)
            for second, no, part in self._parts(rows):
                self._count(second, no, part, exchanges=True)
                checks = int(part["checks"].sum())
                if checks:
                    asked = int(np.count_nonzero(part["checks"]))
                    first = self.first_checks.get(no, 0)
                    second.checks_passed += checks
                    second.judged[first] = second.judged.get(first, 0) + asked
                whole = part[part["step"] >= 0]
                if len(whole):
                    self._count(second, int(whole["step"][0]), whole)

    def _exchanged(self, rows: Rows) -> None:
        """Exchanges that were answered, by the seconds in which they were sent and in which they came."""
        apart = rows["began"] < 0
        if apart.any():
            rows = rows[~apart]
        for number, found in self._by_second(rows["began"]):
            if number > self.closed:  # else it was counted when its second was closed
                self._numbered(number).sent += found
        for number, found in self._by_second(rows["last"]):
            self._numbered(number).answered += found

    def _by_second(self, instants: "np.typing.NDArray[np.float64]") -> list[tuple[int, int]]:
        seconds, counts = np.unique((instants - self.begin).astype(np.int64), return_counts=True)
        return list(zip(seconds.tolist(), counts.tolist(), strict=True))

    def _count(self, second: _Second, no: int, rows: Rows, *, exchanges: bool = False) -> None:
        """Counts rows of one series that ended in one second; those that were under way at the end of the measured part
        there, too.
        """
        due, last = rows["due"], rows["last"]
        durations = _microseconds(last - due)
        cell = second.cells.setdefault(no, _Cell())
        cell.add(durations, rows if exchanges else None)
        cell.samples.append(rows)
        if float(last.max()) >= self.measured_to:
            across = (due < self.measured_to) & (last >= self.measured_to)
            if across.any():
                carried = second.carried.setdefault(no, _Cell())
                carried.add(durations[across])
                for begun in due[across].tolist():
                    carried.cut_off(round((self.measured_to - begun) * 1e6))

    def _parts(self, rows: Rows) -> "Iterator[tuple[_Second, int, Rows]]":
        """Rows by the second in which they ended, and series."""
        keys = ((rows["last"] - self.begin).astype(np.int64) << SERIES_BITS) + rows["series"].astype(np.int64)
        for key in np.unique(keys).tolist():
            yield self._numbered(key >> SERIES_BITS), key & ((1 << SERIES_BITS) - 1), rows[keys == key]

    # exchanges on the wire ---------------------------------------------------------------------------

    def landed(self, number: int, instant: float, *, failed: bool) -> None:
        """An exchange that was on the wire has ended."""
        began = self.flying.pop(number)
        if not failed:
            self.trips.append((began, instant))
            return
        if int(began - self.begin) > self.closed:
            self._second(began).sent += 1
        self._second(instant).failed += 1

    def withdrawn(self, number: int) -> None:
        """A request that was about to go out was not sent at all."""
        began = self.flying.pop(number)
        if int(began - self.begin) <= self.closed:
            self._second(began).sent -= 1

    def opened(self, series: int, instant: float, parts_us: tuple[int, int, int], *, resumed: bool) -> None:
        """A connection was opened for a request of `series`: (name looked up, connected, TLS agreed) in µs, −1 for what
        did not happen.
        """
        cell = self._second(instant).cells.setdefault(series, _Cell())
        dns, connect, tls = parts_us
        cell.connects += 1
        cell.connect += max(0, dns) + max(0, connect)
        if tls >= 0:
            cell.handshakes += 1
            cell.tls += tls
            cell.resumed += resumed

    def reopened(self, instant: float) -> None:
        self._second(instant).reopened += 1

    # series --------------------------------------------------------------------------------------------

    def passed(self, series: int, begun: float, ended: float, own_s: float = 0.0) -> None:
        """A step or round passed; `own_s` of its time may have been the generator's own doing."""
        self.stretches.append(pack_stretch(series, begun, ended, own_s))
        if len(self.stretches) >= BATCH:
            self.count()

    def answered(self, series: int, due: float, reply: Reply, bytes_out: int = 0, bytes_in: int = 0) -> None:
        """What is performed beside the requests passed: its exchanges are noted already. The bytes are those of all,
        or the reply's.
        """
        out, into = bytes_out or reply.bytes_out, bytes_in or reply.bytes_in
        row = pack_passed(series, -1, due, -1, reply.sent_at, reply.first_at, reply.last_at, out, into, 0, reply.own_s)
        self.passed_requests.append(row)
        if len(self.passed_requests) >= BATCH:
            self.count()

    def missed(
        self,
        series: int,
        ended: float,
        duration_us: int,
        kind: str,
        bytes_out: int = 0,
        bytes_in: int = 0,
        rows: Mapping[int, int] | None = None,
    ) -> None:
        """`rows`: those that the user of a request held, by number of what is dealt."""
        self.failures += 1
        if rows and self.tallies is not None:
            self.tallies.failed(series, rows)
        second = self._second(ended)
        cell = second.cells.setdefault(series, _Cell())
        cell.miss(duration_us, kind)
        cell.bytes_out += bytes_out
        cell.bytes_in += bytes_in
        begun = ended - duration_us / 1e6
        if ended >= self.measured_to > begun:
            second.carried.setdefault(series, _Cell()).cut_off(round((self.measured_to - begun) * 1e6))

    def checks(self, instant: float, first: int, count: int, failed: Sequence[int]) -> None:
        """The `count` checks of a request, numbered from `first`, were asked; those in `failed` were not passed."""
        hot = self._hot
        number = int(instant - self.begin)
        if number == hot[0] and number > self.closed:
            second = hot[1]
        else:
            second = self._numbered(number)
            self._hot = (number, second)
        second.checks_passed += count - len(failed)
        judged = second.judged
        judged[first] = judged.get(first, 0) + 1
        if not failed:
            return
        second.checks_failed += len(failed)
        for no in failed:
            second.missed[no] = second.missed.get(no, 0) + 1

    def number(self, series: int, instant: float, text: str) -> None:
        """A captured number, in thousandths; what is none, or below 0, is counted as failed."""
        cell = self._second(instant).cells.setdefault(series, _Cell())
        try:
            value = float(text)
        except ValueError:
            value = -1.0
        if not 0 <= value < 9e15:
            cell.miss(0, "no number")
            return
        cell.add(np.array([round(value * 1000)], np.int64))

    def tried(self, series: int, instant: float, tries: int) -> None:
        """A step that repeats made so many tries."""
        self._second(instant).cells.setdefault(series, _Cell()).tries += tries

    def dealt(self, instant: float, pile: int, user: int, round_number: int, row: int) -> None:
        """A user got a row."""
        self._second(instant).dealt.append((pile, user, round_number, row))

    def skipped(self, instant: float, steps: int) -> None:
        self._second(instant).skipped += steps

    def left_early(self, instant: float, cause: LeavingCause, detail: str = "") -> None:
        """A user left before its time."""
        leavings = self._second(instant).leavings
        leavings[cause, detail] = leavings.get((cause, detail), 0) + 1

    def arrived(self, instant: float, what: str) -> None:
        """An arrival that was planned for `instant`: started, turned away or not started."""
        self._second(instant).arrivals[ARRIVED.index(what)] += 1

    def learned_late(self, instant: float) -> None:
        """The shard learned of a change of load after the second from which on it holds."""
        self._second(instant).learned_late += 1

    def late_round(self, instant: float) -> None:
        """A round began later than it was planned."""
        self._second(instant).late_rounds += 1

    def abandoned(self, numbers: Iterable[int], instant: float, under_way: Sequence[tuple[int, float]]) -> None:
        """Exchanges that a user leaves without waiting for them; (series, due) of all that it had under way, which
        count with their age.
        """
        second = self._second(instant)
        for number in numbers:
            began = self.flying.pop(number, None)
            if began is None:
                continue
            if int(began - self.begin) > self.closed:
                self._second(began).sent += 1
            second.abandoned += 1
        for no, due in under_way:
            second.cells.setdefault(no, _Cell()).cut_off(round((instant - due) * 1e6))
            if instant >= self.measured_to > due:
                second.carried.setdefault(no, _Cell()).cut_off(round((self.measured_to - due) * 1e6))

    def cached(self, series: int, instant: float) -> None:
        """Nothing was sent: it was fresh in the user's cache."""
        self._second(instant).cells.setdefault(series, _Cell()).cached += 1

    def left(self, instant: float, series: Iterable[int]) -> None:
        """A user did not wait for a step, and left: counted in each of `series`."""
        second = self._second(instant)
        second.left += 1
        for no in series:
            second.cells.setdefault(no, _Cell()).left += 1

    def reloaded(self, instant: float) -> None:
        """A user did not wait for a step, and began it anew."""
        self._second(instant).reloaded += 1

    def move(self, old: str, new: str, row: int = 0) -> None:
        """A user of `row` changes state; "" is outside."""
        if not old:
            self.rows[row] = self.rows.get(row, 0) + 1
        elif not new:
            self.rows[row] -= 1
        if old:
            self.users[old] -= 1
        if new:
            self.users[new] = self.users.get(new, 0) + 1

    def look(self, second: int, under_way: Sequence[tuple[int, float]] = ()) -> None:
        """Users by state, and by row, at the end of a second; and of what is `under_way`, (series, due), how much is
        too old for an objective.
        """
        now = self.begin + second + 1
        late = {
            each.no: sum(series in each.series and (now - due) * 1e6 > each.limit_us for series, due in under_way)
            for each in self._older
        }
        self._gauges[second] = (
            {state: count for state, count in self.users.items() if count},
            {row: count for row, count in self.rows.items() if count},
            {no: count for no, count in late.items() if count},
        )

    # messages ------------------------------------------------------------------------------------------

    def close(
        self,
        number: int,
        now: float,
        planned: Callable[[int], int],
        health: Callable[[], Health],
        *,
        last: bool = False,
        under_way: Sequence[tuple[int, float]] = (),
        lost: Lost | None = None,
    ) -> list[ShardSecond]:
        """The messages of all seconds up to `number`, empty ones too; they can't change any more. `under_way` is
        (series, due) of what has not ended with the last one; `lost` says what samples can have lost by stops.
        """
        ages = [(no, round((now - due) * 1e6)) for no, due in under_way if due < self.measured_to] if last else []
        self.count()
        for began in self.flying.values():
            if self.closed < (each := int(began - self.begin)) <= number:
                self._numbered(each).sent += 1
        messages = []
        measured = health()
        for each in range(self.closed + 1, number + 1):
            second = self._seconds.pop(each, None) or _Second()
            if each not in self._gauges:
                self.look(each)
            users, by_row, older = self._gauges.pop(each)
            self._in_flight += second.sent - second.answered - second.failed - second.abandoned
            messages.append(
                ShardSecond(
                    shard=self.shard,
                    second=each,
                    planned_users=planned(each),
                    users=users,
                    sent=second.sent,
                    answered=second.answered,
                    failed=second.failed,
                    in_flight=self._in_flight,
                    oldest_us=int((now - min(self.flying.values())) * 1e6) if self.flying else 0,
                    reopened=second.reopened,
                    skipped_steps=second.skipped,
                    checks_passed=second.checks_passed,
                    checks_failed=second.checks_failed,
                    leavings=[Leaving(*why, count) for why, count in sorted(second.leavings.items())],
                    series=[cell.wire(no, lost) for no, cell in sorted(second.cells.items())],
                    health=measured,
                    last=last and each == number,
                    dealt=second.dealt,
                    judged=second.judged,
                    missed=second.missed,
                    carried=[cell.wire(no) for no, cell in sorted(second.carried.items())],
                    open=ages if each == number else [],
                    arrivals=(second.arrivals[0], second.arrivals[1], second.arrivals[2]),
                    late_rounds=second.late_rounds,
                    abandoned=second.abandoned,
                    by_row=by_row,
                    older=older,
                    learned_late=second.learned_late,
                    left=second.left,
                    reloaded=second.reloaded,
                    by_value=self._by_value() if each % EVERY_S == EVERY_S - 1 or (last and each == number) else None,
                )
            )
            self.closed = each
        return messages

    def _by_value(self) -> ByValue | None:
        return self.tallies.told() if self.tallies is not None else None
