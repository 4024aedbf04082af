"""Counts every second of a shard; each second becomes one message when it is over."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Protocol

import numpy as np

# np.unique loads it when it is first called: a third of a second, in the middle of a run
import numpy.ma
import numpy.typing

from dynamikos.core.failure_kinds import LeavingCause
from dynamikos.core.reports import Health, ShardSecond
from dynamikos.core.reports.by_value import EVERY_S, ByValue
from dynamikos.core.verdicts.objectives import Older
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.reporting.cells import (
    PASSED,
    STRETCH,
    TRIP,
    Lost,
    Rows,
    Seconds,
    microseconds,
    pack_passed,
    pack_stretch,
)
from dynamikos.engine.reporting.seconds import ARRIVED, Gauges, Second

BATCH = 1000  # notes that may wait before they are counted: about a millisecond of work
SERIES_BITS = 32  # of a number that holds a second and a series


class Tallies(Protocol):
    """What fails, by the values that were dealt."""

    def failed(self, series: int, rows: Mapping[int, int]) -> None: ...

    def counted(self) -> ByValue | None: ...


class Recorder:
    """Counts. `begin` is the clock's instant of second 0; all instants are the clock's seconds.

    What went well is only noted, in plain lists, and counted by `count` in numpy a thousand at a
    time: on the path of every exchange a note costs a tenth of what counting costs. Users may
    append to the lists themselves.

    That an exchange was sent is counted when it has ended, or when its second is closed and it is
    still on the wire.
    """

    def __init__(
        self,
        shard: int,
        begin: float,
        measured_to: float = float("inf"),
        first_checks: dict[int, int] | None = None,
        older: Sequence[Older] = (),
    ) -> None:
        """`measured_to` is the instant at which the measured part ends: what is under way then
        counts there. `first_checks`: by series of a request the number of its first check. `older`:
        the objectives for which is counted what is under way for too long.
        """
        self._older = older
        self.first_checks = first_checks or {}
        self.shard, self.begin, self.measured_to = shard, begin, measured_to
        # of all that was sent, what is neither answered nor failed, up to the last closed second
        self._in_flight = 0
        self._seconds: dict[int, Second] = {}
        self.closed = -1
        self._hot: tuple[int, Second] = (
            -1,
            Second(),
        )  # the second that checks were last counted in
        self.users: dict[str, int] = {}
        self.flying: dict[
            int, float
        ] = {}  # exchanges on the wire: number → instant of sending, which was then
        self.trips: list[tuple[float, float]] = []  # rows of TRIP
        self.stretches: list[bytes] = []  # rows of STRETCH, packed
        self.passed_requests: list[bytes] = []  # rows of PASSED, packed
        self.tallies: Tallies | None = None
        self.failures = 0  # all that missed, whatever second
        self._gauges: dict[int, Gauges] = {}
        self.rows: dict[int, int] = {}  # users there by row

    def _second(self, instant: float) -> Second:
        return self._numbered(int(instant - self.begin))

    def _numbered(self, number: int) -> Second:
        if number <= self.closed:
            number = (
                self.closed + 1
            )  # its message is sent: counted in the next one rather than lost
        found = self._seconds.get(number)
        if found is None:
            found = self._seconds[number] = Second()
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
        """Exchanges that were answered, by the seconds in which they were sent and in which they
        came.
        """
        apart = rows["began"] < 0
        if apart.any():
            rows = rows[~apart]
        for number, found in self._by_second(rows["began"]):
            if number > self.closed:  # else it was counted when its second was closed
                self._numbered(number).sent += found
        for number, found in self._by_second(rows["last"]):
            self._numbered(number).answered += found

    def _by_second(self, instants: Seconds) -> list[tuple[int, int]]:
        seconds, counts = np.unique((instants - self.begin).astype(np.int64), return_counts=True)
        return list(zip(seconds.tolist(), counts.tolist(), strict=True))

    def _count(self, second: Second, no: int, rows: Rows, *, exchanges: bool = False) -> None:
        """Counts rows of one series that ended in one second; those that were under way at the end
        of the measured part there, too.
        """
        due, last = rows["due"], rows["last"]
        durations = microseconds(last - due)
        cell = second.cell(no)
        cell.add(durations, rows if exchanges else None)
        cell.samples.append(rows)
        if float(last.max()) >= self.measured_to:
            across = (due < self.measured_to) & (last >= self.measured_to)
            if across.any():
                carried = second.carry(no)
                carried.add(durations[across])
                for begun in due[across].tolist():
                    carried.cut_off(round((self.measured_to - begun) * 1e6))

    def _parts(self, rows: Rows) -> "Iterator[tuple[Second, int, Rows]]":
        """Rows by the second in which they ended, and series."""
        keys = ((rows["last"] - self.begin).astype(np.int64) << SERIES_BITS) + rows[
            "series"
        ].astype(np.int64)
        for key in np.unique(keys).tolist():
            yield (
                self._numbered(key >> SERIES_BITS),
                key & ((1 << SERIES_BITS) - 1),
                rows[keys == key],
            )

    # exchanges on the wire ------------------------------------------------------------------------

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

    def opened(
        self, series: int, instant: float, parts_us: tuple[int, int, int], *, resumed: bool
    ) -> None:
        """A connection was opened for a request of `series`: (name looked up, connected, TLS
        agreed) in µs, −1 for what did not happen.
        """
        cell = self._second(instant).cell(series)
        dns, connect, tls = parts_us
        cell.connects += 1
        cell.connect += max(0, dns) + max(0, connect)
        if tls >= 0:
            cell.handshakes += 1
            cell.tls += tls
            cell.resumed += resumed

    def reopened(self, instant: float) -> None:
        self._second(instant).reopened += 1

    # series ---------------------------------------------------------------------------------------

    def passed(self, series: int, begun: float, ended: float, own_s: float = 0.0) -> None:
        """A step or round passed; `own_s` of its time may have been the generator's own doing."""
        self.stretches.append(pack_stretch(series, begun, ended, own_s))
        if len(self.stretches) >= BATCH:
            self.count()

    def answered(
        self, series: int, due: float, reply: Reply, bytes_out: int = 0, bytes_in: int = 0
    ) -> None:
        """What is performed beside the requests passed: its exchanges are noted already. The bytes
        are those of all, or the reply's.
        """
        out, into = bytes_out or reply.bytes_out, bytes_in or reply.bytes_in
        row = pack_passed(
            series,
            -1,
            due,
            -1,
            reply.sent_at,
            reply.first_at,
            reply.last_at,
            out,
            into,
            0,
            reply.own_s,
        )
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
        cell = second.cell(series)
        cell.miss(duration_us, kind)
        cell.bytes_out += bytes_out
        cell.bytes_in += bytes_in
        begun = ended - duration_us / 1e6
        if ended >= self.measured_to > begun:
            second.carry(series).cut_off(round((self.measured_to - begun) * 1e6))

    def checks(self, instant: float, first: int, count: int, failed: Sequence[int]) -> None:
        """The `count` checks of a request, numbered from `first`, were asked; those in `failed`
        were not passed.
        """
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
        cell = self._second(instant).cell(series)
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
        self._second(instant).cell(series).tries += tries

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

    def abandoned(
        self, numbers: Iterable[int], instant: float, under_way: Sequence[tuple[int, float]]
    ) -> None:
        """Exchanges that a user leaves without waiting for them; (series, due) of all that it had
        under way, which count with their age.
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
            second.cell(no).cut_off(round((instant - due) * 1e6))
            if instant >= self.measured_to > due:
                second.carry(no).cut_off(round((self.measured_to - due) * 1e6))

    def cached(self, series: int, instant: float) -> None:
        """Nothing was sent: it was fresh in the user's cache."""
        self._second(instant).cell(series).cached += 1

    def left(self, instant: float, series: Iterable[int]) -> None:
        """A user did not wait for a step, and left: counted in each of `series`."""
        second = self._second(instant)
        second.left += 1
        for no in series:
            second.cell(no).left += 1

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
        """Users by state, and by row, at the end of a second; and of what is `under_way`, (series,
        due), how much is too old for an objective.
        """
        now = self.begin + second + 1
        late = {
            each.no: sum(
                series in each.series and (now - due) * 1e6 > each.limit_us
                for series, due in under_way
            )
            for each in self._older
        }
        self._gauges[second] = Gauges(self.users, self.rows, late)

    # messages -------------------------------------------------------------------------------------

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
        """The messages of all seconds up to `number`, empty ones too; they can't change any more.
        `under_way` is (series, due) of what has not ended with the last one; `lost` says what
        samples can have lost by stops.
        """
        ages = [(no, round((now - due) * 1e6)) for no, due in under_way if due < self.measured_to]
        self.count()
        self._note_sent(number)
        messages: list[ShardSecond] = []
        measured = health()
        oldest_us = int((now - min(self.flying.values())) * 1e6) if self.flying else 0
        for each in range(self.closed + 1, number + 1):
            second = self._seconds.pop(each, None) or Second()
            if each not in self._gauges:
                self.look(each)
            self._in_flight += second.sent - second.ended
            ends = last and each == number
            messages.append(
                second.message(
                    each,
                    self.shard,
                    self._gauges.pop(each),
                    measured,
                    planned=planned(each),
                    in_flight=self._in_flight,
                    oldest_us=oldest_us,
                    last=ends,
                    still_open=ages if ends else None,
                    lost=lost,
                    by_value=self._by_value() if ends or each % EVERY_S == EVERY_S - 1 else None,
                )
            )
            self.closed = each
        return messages

    def _note_sent(self, number: int) -> None:
        """What is still on the wire counts as sent in its second, for all seconds up to
        `number`.
        """
        for began in self.flying.values():
            if self.closed < (second := int(began - self.begin)) <= number:
                self._numbered(second).sent += 1

    def _by_value(self) -> ByValue | None:
        return self.tallies.counted() if self.tallies is not None else None
