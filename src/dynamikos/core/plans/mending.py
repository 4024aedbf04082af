"""Mending what is odd about the rows of crowds, by one word."""

from collections.abc import Collection
from typing import Literal

from msgspec.structs import replace

from dynamikos.core.errors import PlanError
from dynamikos.core.plans.crowds import Crowd, CrowdRow
from dynamikos.core.plans.model import Plan

Mend = Literal["sum", "zero", "twice"]
WORDS: dict[Mend, str] = {
    "sum": "Make them 100",
    "zero": "Take away who does not come",
    "twice": "Make one row of them",
}


def mended(plan: Plan, what: str, locked: Collection[str] = ()) -> Plan:
    """`plan` with its shares scaled to 100 in each crowd (those of rows in `locked` stay as they
    are), without rows that nobody is of, or with rows of the same journey and persona made one.
    Raises PlanError for what can't be.
    """
    if what not in WORDS:
        raise PlanError(f"“{what}” is nothing that can be mended by itself.")
    return plan.with_crowds(tuple(_mended(crowd, what, locked) for crowd in plan.everybody()))


def _mended(crowd: Crowd, what: str, locked: Collection[str]) -> Crowd:
    rows = crowd.rows
    if what == "zero":
        rows = tuple(row for row in rows if row.share) or rows[:1]
    elif what == "twice":
        rows = _joined(rows)
    elif len(rows) > 1:
        rows = _scaled(rows, locked)
    return replace(crowd, rows=rows)


def _scaled(rows: tuple[CrowdRow, ...], locked: Collection[str]) -> tuple[CrowdRow, ...]:
    kept = sum(row.share for row in rows if row.row in locked)
    free = sum(row.share for row in rows if row.row not in locked)
    if kept > 100 or (not free and kept != 100):
        raise PlanError(
            f"The locked rows have {kept:g} already; unlock one, or give another row a share."
        )
    scaled = {
        row.row: round(row.share * (100 - kept) / free, 2)
        for row in rows
        if row.row not in locked and free
    }
    if scaled:  # what rounding leaves goes to the largest
        largest = max(scaled, key=lambda key: scaled[key])
        scaled[largest] = round(scaled[largest] + 100 - kept - sum(scaled.values()), 2)
    return tuple(replace(row, share=scaled.get(row.row, row.share)) for row in rows)


def _joined(rows: tuple[CrowdRow, ...]) -> tuple[CrowdRow, ...]:
    made: dict[tuple[str, str], CrowdRow] = {}
    for row in rows:
        kind = (row.journey, row.persona)
        made[kind] = (
            replace(made[kind], share=made[kind].share + row.share) if kind in made else row
        )
    return tuple(made.values())
