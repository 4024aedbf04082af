"""A data set read from CSV: names of columns, rows of texts, and clear words when it is not one."""

import csv
import io
import re
from collections.abc import Callable

import msgspec

from dynamikos.core.errors import ImportRefused

COLUMN = re.compile(r"[A-Za-z_][A-Za-z0-9_]*\Z")
SECRET = re.compile(r"passw|secret|token|pin\Z|api_?key", re.I)


class Table(msgspec.Struct, frozen=True, kw_only=True):
    """Columns and rows, all texts. `secret` names columns whose values are masked wherever an exchange is shown."""

    columns: tuple[str, ...]
    rows: list[list[str]]
    secret: tuple[str, ...] = ()
    encoding: str = "utf-8"
    delimiter: str = ","


def read_csv(data: bytes, name: str, progress: Callable[[float], None] | None = None) -> Table:
    """The table in a CSV file's bytes; delimiter and encoding are found out. `name` is for messages.

    Raises ImportRefused: not text, no header, a header that can't be names, or ragged rows (the first three by line).
    """
    text, encoding = _decode(data, name)
    if not text.strip():
        raise ImportRefused(f"{name} is empty. A data set needs a first line with column names and at least one row.")
    first = text.split("\n", 1)[0]
    delimiter = max(",;\t|", key=first.count) if any(sign in first for sign in ",;\t|") else ","
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=False)
    header = [cell.strip() for cell in next(reader)]
    _verify_header(header, name)
    width = len(header)
    rows: list[list[str]] = []
    ragged: list[str] = []
    total = len(text)
    for row in reader:
        if len(row) != width:
            if not row:
                continue
            ragged.append(f"{name}, line {reader.line_num}: {len(row)} columns found, {width} expected")
            if len(ragged) == 3:
                break
            continue
        rows.append(row)
        if progress is not None and len(rows) % 20_000 == 0:
            progress(min(0.99, len(rows) * 60 / total))
    if ragged:
        raise ImportRefused("; ".join(ragged) + ". Mend these lines (a quote or delimiter too many?) and import again.")
    if not rows:
        raise ImportRefused(f"{name} has a header but no rows. Add at least one row.")
    return Table(
        columns=tuple(header), rows=rows, secret=tuple(c for c in header if SECRET.search(c)), encoding=encoding, delimiter=delimiter
    )


def _decode(data: bytes, name: str) -> tuple[str, str]:
    if b"\x00" in data[:4000] and data[:2] not in (b"\xff\xfe", b"\xfe\xff"):
        raise ImportRefused(f"{name} is not text (it holds NUL bytes). Save it as CSV in UTF-8.")
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace"), "utf-16"
    try:
        return data.decode("utf-8-sig"), "utf-8"
    except UnicodeDecodeError as problem:
        line = data.count(b"\n", 0, problem.start) + 1
        raise ImportRefused(
            f"{name}, line {line}: byte {data[problem.start]:#04x} is not UTF-8. Save the file as CSV in UTF-8 and import again."
        ) from problem


def _verify_header(header: list[str], name: str) -> None:
    if len(set(header)) != len(header):
        twice = next(cell for cell in header if header.count(cell) > 1)
        raise ImportRefused(f"{name}, line 1: the column '{twice}' stands twice. Give each column its own name.")
    wrong = [cell for cell in header if not COLUMN.match(cell)]
    if wrong:
        raise ImportRefused(
            f"{name}, line 1: '{wrong[0][:60]}' can't be a column name (letters, digits and _, not beginning with a digit). "
            "Is the header line missing? Add one, such as email,password."
        )
