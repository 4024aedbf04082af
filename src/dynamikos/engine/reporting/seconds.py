"""What is counted in one second, and the message that it becomes when it is over."""

from dynamikos.core.failure_kinds import Leaving, LeavingCause
from dynamikos.core.reports import Health, ShardSecond
from dynamikos.core.reports.by_value import ByValue
from dynamikos.engine.reporting.cells import Cell, Lost

ARRIVED = ("started", "turned away", "not started")


class Second:
    """Counts of a second, while it is open."""

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
        self.cells: dict[int, Cell] = {}
        self.carried: dict[int, Cell] = {}
        self.sent = self.answered = self.failed = self.reopened = self.skipped = (
            self.checks_passed
        ) = self.checks_failed = 0
        self.abandoned = self.late_rounds = self.learned_late = self.left = self.reloaded = 0
        self.arrivals = [0, 0, 0]  # as ARRIVED
        self.leavings: dict[tuple[LeavingCause, str], int] = {}
        self.dealt: list[tuple[int, int, int, int]] = []
        self.judged: dict[int, int] = {}
        self.missed: dict[int, int] = {}

    def cell(self, series: int) -> Cell:
        """That of a series."""
        found = self.cells.get(series)
        if found is None:
            found = self.cells[series] = Cell()
        return found

    def carry(self, series: int) -> Cell:
        """That of what was under way at the end of the measured part, of a series."""
        found = self.carried.get(series)
        if found is None:
            found = self.carried[series] = Cell()
        return found

    @property
    def ended(self) -> int:
        """Exchanges that are not on the wire any more: answered, failed or abandoned."""
        return self.answered + self.failed + self.abandoned

    def message(
        self,
        number: int,
        shard: int,
        gauges: "Gauges",
        health: Health,
        *,
        planned: int,
        in_flight: int,
        oldest_us: int,
        last: bool = False,
        still_open: "list[tuple[int, int]] | None" = None,
        lost: Lost | None = None,
        by_value: ByValue | None = None,
    ) -> ShardSecond:
        """Of second `number`. `still_open`: (series, age in µs) of what has not ended with the last
        one; `lost` says what samples can have lost by stops.
        """
        return ShardSecond(
            shard=shard,
            second=number,
            planned_users=planned,
            users=gauges.users,
            sent=self.sent,
            answered=self.answered,
            failed=self.failed,
            in_flight=in_flight,
            oldest_us=oldest_us,
            reopened=self.reopened,
            skipped_steps=self.skipped,
            checks_passed=self.checks_passed,
            checks_failed=self.checks_failed,
            leavings=[Leaving(*why, count) for why, count in sorted(self.leavings.items())],
            series=[cell.wire(no, lost) for no, cell in sorted(self.cells.items())],
            health=health,
            last=last,
            dealt=self.dealt,
            judged=self.judged,
            missed=self.missed,
            carried=[cell.wire(no) for no, cell in sorted(self.carried.items())],
            open=still_open or [],
            arrivals=(self.arrivals[0], self.arrivals[1], self.arrivals[2]),
            late_rounds=self.late_rounds,
            abandoned=self.abandoned,
            by_row=gauges.rows,
            older=gauges.older,
            learned_late=self.learned_late,
            left=self.left,
            reloaded=self.reloaded,
            by_value=by_value,
        )


class Gauges:
    """What is there at the end of a second: users by state, users by row, and by objective how much
    of what is under way is too old for it.
    """

    __slots__ = ("older", "rows", "users")

    def __init__(self, users: dict[str, int], rows: dict[int, int], older: dict[int, int]) -> None:
        self.users = {state: count for state, count in users.items() if count}
        self.rows = {row: count for row, count in rows.items() if count}
        self.older = {no: count for no, count in older.items() if count}
