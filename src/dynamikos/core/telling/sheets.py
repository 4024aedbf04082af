"""The figures of a report or a casebook as a folder: tables in CSV and Parquet, the text in
Markdown.
"""

import csv
import io
import itertools
import json
import re
import zipfile
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from dynamikos.core.reports.columns import KEYS, values
from dynamikos.core.telling.evidence import Evidence
from dynamikos.core.telling.model import Report
from dynamikos.core.unsafe_characters import for_spreadsheet

OBJECTIVES = (
    "objective",
    "sentence",
    "word",
    "value",
    "limit",
    "unit",
    "samples",
    "seconds_over",
    "then",
    "reason",
)
FIGURE = re.compile(
    r"[+-]\d[\d.,]*(e[+-]?\d+)?( (%|points|ms|s|/s))?\Z"
)  # as tables of changes have them


@dataclass(frozen=True, slots=True)
class Sheet:
    """A table: what its file is called, without ending, its columns, and its rows."""

    name: str
    head: Sequence[str]
    rows: Sequence[Sequence[object]]


def sheets_of(report: Report, folder: str = "") -> Iterator[Sheet]:
    """Steps, objectives, what was noticed, all lanes by the second, and the levels of a
    capacity.
    """
    yield Sheet(f"{folder}steps", KEYS, values(report.rows))
    judged = [tuple(getattr(each, name) for name in OBJECTIVES) for each in report.objectives]
    yield Sheet(f"{folder}objectives", OBJECTIVES, judged)
    noticed = [
        (
            each.rule,
            each.about,
            each.sentence,
            each.means,
            each.try_,
            json.dumps(dict(each.evidence), default=str),
        )
        for each in report.findings
    ]
    yield Sheet(
        f"{folder}noticed", ("rule", "about", "sentence", "means", "try", "evidence"), noticed
    )
    told = [
        (second, lane.title, name, lane.unit, float(values[second]))
        for lane in report.lanes
        for name, values in lane.lines
        for second in np.flatnonzero(~np.isnan(values)).tolist()
    ]
    yield Sheet(f"{folder}lanes", ("second", "lane", "line", "unit", "value"), told)
    if report.capacity is not None:
        levels = [(each.load, each.rate, each.response_s) for each in report.capacity.levels]
        yield Sheet(f"{folder}capacity", ("users", "rounds_per_s", "round_waits_s"), levels)


def sheets_of_evidence(each: Evidence, name: str) -> Iterator[Sheet]:
    """Its tables, as they are shown."""
    for at, table in enumerate(each.tables):
        yield Sheet(f"{name}{f'-{at + 1}' if at else ''}", table.names, table.rows)


def as_csv(head: Sequence[str], rows: Iterable[Sequence[object]]) -> Iterator[str]:
    """Line by line; a text that a spreadsheet would take for a formula begins with an apostrophe, a
    signed figure with its unit does not.
    """
    for row in itertools.chain([head], rows):
        line = io.StringIO()
        csv.writer(line, lineterminator="\n").writerow(map(_plain, row))
        yield line.getvalue()


def _plain(cell: object) -> object:
    return for_spreadsheet(cell) if isinstance(cell, str) and not FIGURE.match(cell) else cell


def as_parquet(head: Sequence[str], rows: Iterable[Sequence[object]]) -> bytes:
    import pyarrow as pa
    import pyarrow.parquet as pq

    columns = list(zip(*rows, strict=True)) or [()] * len(head)
    sink = pa.BufferOutputStream()
    pq.write_table(
        pa.table({name: list(column) for name, column in zip(head, columns, strict=True)}), sink
    )
    return bytes(sink.getvalue().to_pybytes())


def as_files(sheets: Iterable[Sheet]) -> Iterator[tuple[str, bytes]]:
    """(name, content) of each as CSV and as Parquet."""
    for each in sheets:
        yield f"{each.name}.csv", "".join(as_csv(each.head, each.rows)).encode()
        yield f"{each.name}.parquet", as_parquet(each.head, each.rows)


def packed(files: Iterable[tuple[str, bytes]]) -> bytes:
    """A folder in one file (ZIP); the same content makes the same bytes."""
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files:
            told = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
            told.compress_type, told.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
            archive.writestr(told, content)
    return made.getvalue()
