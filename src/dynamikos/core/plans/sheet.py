"""A requirement sheet, pasted from a spreadsheet, as rows of a crowd."""

import csv
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from dynamikos.core.errors import PlanError
from dynamikos.core.figures import figure
from dynamikos.core.journeys import key_from
from dynamikos.core.plans.crowds import MOST_ROWS, CrowdRow

What = Literal["name", "journey", "persona", "share"]
LONGEST = 100_000  # signs
WHATS: tuple[What, ...] = ("name", "journey", "persona", "share")
HINTS: dict[What, tuple[str, ...]] = {
    "name": ("row", "who", "name", "visitor", "kind"),
    "journey": ("journey", "does", "path", "scenario"),
    "persona": ("persona", "device", "client", "connection"),
    "share": ("share", "%", "percent", "count", "number", "users", "visits"),
}


@dataclass(frozen=True, slots=True)
class Sheet:
    """Its cells, row by row, all equally long; `head` are the names of its columns (made up where
    it has none).
    """

    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


@dataclass(slots=True)
class Taken:
    """Rows of a crowd; in `wrong` what is to be known of lines of the sheet, and of those that
    could not be taken.
    """

    rows: list[CrowdRow] = field(default_factory=list)
    wrong: list[str] = field(default_factory=list)


def read_sheet(text: str) -> Sheet:
    """Tabs, semicolons or commas between cells; empty lines and empty columns are left out. Raises
    PlanError.
    """
    cells = _cells(text)
    width = max(len(row) for row in cells)
    cells = [[*row, *[""] * (width - len(row))] for row in cells]
    used = [at for at in range(width) if any(row[at] for row in cells)]
    if not used:
        raise PlanError("The sheet has cells, but nothing stands in them.")
    table = [tuple(row[at] for at in used) for row in cells]
    named = len(table) > 1 and all(_number(cell) is None for cell in table[0])
    head = table[0] if named else ("",) * len(used)
    return Sheet(
        tuple(name or f"column {at + 1}" for at, name in enumerate(head)),
        tuple(table[1:] if named else table),
    )


def _cells(text: str) -> list[list[str]]:
    """Line by line. Raises PlanError."""
    if len(text) > LONGEST:
        raise PlanError(
            f"The sheet can't be read: it has {len(text):,} signs, at most {LONGEST:,} are taken. "
            "Paste its cells alone, without what is around."
        )
    lines = [line for line in text.replace("\r\n", "\n").split("\n") if line.strip()]
    if not lines:
        raise PlanError(
            "The sheet is empty: copy its cells in the spreadsheet, with their headings, and paste "
            "them."
        )
    sign = next((each for each in "\t;," if any(each in line for line in lines)), "\t")
    try:
        cells = [[cell.strip() for cell in row] for row in csv.reader(lines, delimiter=sign)]
    except csv.Error as problem:
        raise PlanError(
            f"The sheet can't be read: {problem}. Paste its cells alone, without what is around."
        ) from problem
    if len(cells) > MOST_ROWS + 1:
        raise PlanError(
            f"The sheet has {len(cells):,} lines; a crowd has at most {MOST_ROWS} rows."
        )
    return cells


def _number(text: str) -> float | None:
    return figure(text.replace("%", ""))


def guessed(sheet: Sheet) -> dict[What, int | None]:
    """Which column is what, by its heading; the first with numbers is the share."""
    made: dict[What, int | None] = {}
    for what in WHATS:
        hints = HINTS[what]
        found = (
            at for at, name in enumerate(sheet.head) if any(hint in name.lower() for hint in hints)
        )
        made[what] = next((at for at in found if at not in made.values()), None)
    if made["share"] is None:
        numeric = (
            at
            for at in range(len(sheet.head))
            if all(_number(row[at]) is not None for row in sheet.rows)
        )
        made["share"] = next((at for at in numeric if at not in made.values()), None)
    return made


def rows_from(
    sheet: Sheet,
    columns: Mapping[What, int | None],
    journeys: Mapping[str, str],
    personas: Mapping[str, str],
    taken: set[str],
) -> Taken:
    """`columns` say which column is what; `journeys` and `personas` give keys by what people call
    them, in lower case. An empty cell of a journey is that of the line above, as merged cells are
    pasted. What can't be taken is said, line by line, and nothing else is lost by it.
    """
    made, last, keys = Taken(), "", set(taken)

    def cell(row: Sequence[str], what: What) -> str:
        at = columns.get(what)
        return row[at] if at is not None and at < len(row) else ""

    if columns.get("journey") is None:
        raise PlanError("Say which column names the journey.")
    for number, row in enumerate(sheet.rows, 1):
        said = f"Line {number} ({' | '.join(each for each in row if each)[:60]})"
        called = cell(row, "journey") or last
        last = called
        journey = journeys.get(called.lower())
        if journey is None:
            made.wrong.append(
                f"{said}: there is no journey “{called}” here; choose one for it, or make it first."
            )
            continue
        who = cell(row, "persona")
        persona = personas.get(who.lower(), "") if who else ""
        if who and not persona:
            made.wrong.append(
                f"{said}: there is no persona “{who}” here; the row was taken without."
            )
        share = _number(cell(row, "share")) if columns.get("share") is not None else 100.0
        if share is None or not 0 <= share <= 1_000_000:
            made.wrong.append(f"{said}: “{cell(row, 'share')}” is no share; 0 was taken.")
            share = 0.0
        name = cell(row, "name")
        key = key_from(name or called, keys)
        keys.add(key)
        made.rows.append(
            CrowdRow(row=key, name=name[:80], journey=journey, persona=persona, share=share)
        )
    return made
