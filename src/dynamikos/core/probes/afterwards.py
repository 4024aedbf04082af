"""Measures that come afterwards, as CSV: a column of times and one for each measure, laid on the
run's clock.
"""

import csv
import datetime
import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import figure
from dynamikos.core.probes.model import MOST_MEASURES

LONGEST = 20_000_000  # signs
EARLIEST, LATEST = (
    946_684_800.0,
    4_102_444_800.0,
)  # what can be seconds since 1970: the years 2000 to 2100


def measures_from_csv(
    text: str, begins_s: float, seconds: int, shift_s: float = 0.0
) -> dict[str, NDArray[np.float64]]:
    """By name the values of each second of a run that began `begins_s` after 1970 (UTC) and has
    `seconds`; NaN where there is none, the mean where there are several. Times are ISO 8601 (UTC
    where no offset is said), seconds or milliseconds since 1970, or seconds of the run; `shift_s`
    is added to them. Raises DynamikosError with the line.
    """
    names, rows = _table(text)
    sums, counts = np.zeros((len(names), seconds)), np.zeros((len(names), seconds))
    at_of: Callable[[str], float] | None = None
    inside = 0
    for number, row in enumerate(rows, 2):
        if at_of is None:
            at_of = _reader(row[0], begins_s, number)
        if len(row) != len(names) + 1:
            raise DynamikosError(
                f"Line {number}: {len(row)} columns found, {len(names) + 1} expected."
            )
        try:
            second = math.floor(at_of(row[0]) + shift_s)
        except (ValueError, OverflowError):
            raise DynamikosError(
                f"Line {number}: “{row[0][:40]}” is not a time like that of line 2."
            ) from None
        if not 0 <= second < seconds:
            continue
        inside += 1
        for column, cell in enumerate(row[1:]):
            value = _value(cell, names[column], number)
            if value is not None:
                sums[column, second] += value
                counts[column, second] += 1
    if not inside:
        began = datetime.datetime.fromtimestamp(begins_s, datetime.UTC)
        raise DynamikosError(
            f"None of its times lies in the run, which began at {began:%Y-%m-%d %H:%M:%S} UTC and "
            f"took {seconds} s. Are they of another zone? Say by how many seconds they are to be "
            "shifted."
        )
    means = np.divide(sums, counts, out=np.full(sums.shape, np.nan), where=counts > 0)
    return dict(zip(names, means, strict=True))


def _table(text: str) -> tuple[list[str], list[list[str]]]:
    """(names of the measures, rows). Raises DynamikosError."""
    if len(text) > LONGEST:
        raise DynamikosError(
            f"The file has {len(text):,} signs; at most {LONGEST:,} are taken. Leave columns out."
        )
    lines = [line for line in text.lstrip("\ufeff").splitlines() if line.strip()]
    if len(lines) < 2:
        raise DynamikosError(
            "The file needs a line of names and one of values: times first, then a measure a "
            "column."
        )
    sign = max(",;\t", key=lines[0].count)
    try:
        head, *rows = csv.reader(lines, delimiter=sign, strict=True)
    except csv.Error as problem:
        raise DynamikosError(f"The file can't be read as CSV: {problem}.") from problem
    names = [name.strip() for name in head[1:]]
    if not names or len(names) > MOST_MEASURES:
        raise DynamikosError(f"The file has {len(names)} measures; 1 to {MOST_MEASURES} are taken.")
    doubled = sorted({name for name in names if names.count(name) > 1})
    if doubled or "" in names:
        raise DynamikosError(
            f"Each measure needs a name of its own; “{doubled[0] if doubled else ''}” is none."
        )
    return names, rows


def _value(cell: str, name: str, number: int) -> float | None:
    """None for a cell that says that there is none. Raises DynamikosError."""
    said = cell.strip()
    value = figure(cell) if said else None
    if said and value is None and said.lower() not in ("nan", "null", "none", "-"):
        raise DynamikosError(f"Line {number}: “{cell[:40]}” in the column {name} is not a number.")
    return value


def _reader(first: str, begins_s: float, number: int) -> Callable[[str], float]:
    """What makes seconds of the run of a time, by what the first one looks like."""
    value = figure(first)
    if value is None:
        try:
            _iso(first)
        except ValueError:
            raise DynamikosError(
                f"Line {number}: “{first[:40]}” is not a time: write ISO 8601, seconds or "
                "milliseconds since 1970, or"
                " seconds of the run."
            ) from None
        return lambda text: _iso(text) - begins_s
    if EARLIEST <= value <= LATEST:
        return lambda text: _number(text) - begins_s
    if EARLIEST <= value / 1000 <= LATEST:
        return lambda text: _number(text) / 1000 - begins_s
    return _number


def _number(text: str) -> float:
    value = figure(text)
    if value is None:
        raise ValueError(text)
    return value


def _iso(text: str) -> float:
    found = datetime.datetime.fromisoformat(text.strip())
    return (found if found.tzinfo is not None else found.replace(tzinfo=datetime.UTC)).timestamp()
