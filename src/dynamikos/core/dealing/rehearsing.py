"""Which rows a rehearsal is dealt: others than the last ones, from the end, so that runs find
theirs unused.
"""

import re

from dynamikos.core.errors import DynamikosError

# How applications say that something can be used once only
USED = re.compile(
    r"\balready\b|\bduplicates?\b|\bnot unique\b|\bmust be unique\b|\bin use\b|\bexists\b"
    r"|\bhas been (?:used|taken)\b|\bis taken\b|\bused up\b",
    re.I,
)


class UsedUp(DynamikosError):
    """Every row was dealt to a rehearsal before."""


def next_rows(rows: int, taken: int, wanted: int, *, endless: bool) -> tuple[int, int]:
    """(the first row, counted from 0; how many from the end are taken then).

    `taken` were dealt before. Where rows can't be used up it begins again at the end; elsewhere
    raises UsedUp.
    """
    wanted = min(wanted, rows)
    if rows - taken >= wanted:
        return rows - taken - wanted, taken + wanted
    if endless:
        return rows - wanted, wanted
    raise UsedUp(
        f"every one of the {rows:,} rows was dealt to a rehearsal, and its rows are used once only"
    )


def reads_used(status: int, text: str) -> bool:
    """Whether a failed answer reads as if what was sent had been used before (409 Conflict: RFC
    9110 §15.5.10).
    """
    return status == 409 or (400 <= status < 500 and bool(USED.search(text[:20_000])))
