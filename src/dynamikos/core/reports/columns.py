"""The columns of the tables of steps and requests: title, unit, value, text, and where each stands.

One list for the page, the shell, reports in HTML and Markdown, pins, CSV, Parquet and JSON, so that
a figure reads the same wherever it is: ≥ before what can only be more, ~ before a percentile on few
samples, ? for one on too few.
"""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Final, Literal

from dynamikos.core.figures import milliseconds, short
from dynamikos.core.reports.ledger import Row
from dynamikos.core.statistics.histogram import enough_for

Place = Literal["page", "shell", "report", "markdown", "pin"]
Text = Callable[[Row], str]


@dataclass(frozen=True, slots=True)
class Column:
    """`key`: the figure's name in Row, files and JSON, with its unit. `title` as a heading. `where`
    it is shown; every one is in files. `text` as it is read; `is_bad` where it says that something
    failed.
    """

    key: str
    title: str = ""
    text: Text = lambda row: ""
    where: tuple[Place, ...] = ()
    is_bad: Callable[[Row], bool] = lambda row: False
    is_number: bool = True


def _time(key: str) -> Text:
    def text(row: Row) -> str:
        value = getattr(row, key)
        if value is None:
            return "–"
        return ("≥ " if key in row.at_least else "") + milliseconds(value)

    return text


def _percentile(percent: int) -> Text:
    key = f"p{percent}_ms"

    def text(row: Row) -> str:
        value, timed = getattr(row, key), row.timed or row.count - row.failures
        if value is None:
            return "?" if timed else "–"
        if key in row.at_least:
            return "≥ " + milliseconds(value)
        said = milliseconds(value)
        return {"no": "?", "uncertain": "~" + said, "yes": said}[enough_for(percent, timed)]

    return text


EVERYWHERE: Final[tuple[Place, ...]] = ("page", "shell", "report", "markdown", "pin")
COLUMNS: Final = (
    *(
        Column(key, is_number=False)
        for key in ("level", "row", "journey", "step", "request", "name")
    ),
    Column("count", "count", lambda row: f"{row.count:,}", EVERYWHERE),
    Column(
        "failures",
        "failed",
        lambda row: f"{row.failures:,}",
        EVERYWHERE,
        lambda row: bool(row.failures),
    ),
    Column("failure_percent"),
    Column("open"),
    Column("left"),
    Column("per_s", "/s", lambda row: short(row.per_s), EVERYWHERE),
    Column("min_ms", "min", _time("min_ms"), ("page",)),
    Column("mean_ms", "mean", _time("mean_ms"), EVERYWHERE),
    Column("sd_ms", "sd", _time("sd_ms"), ("page",)),
    Column("p50_ms", "p50", _percentile(50), EVERYWHERE),
    Column("p90_ms", "p90", _percentile(90), ("page", "report")),
    Column("p95_ms", "p95", _percentile(95), EVERYWHERE),
    Column("p99_ms", "p99", _percentile(99), EVERYWHERE),
    Column("max_ms", "max", _time("max_ms"), EVERYWHERE),
    *map(Column, ("bytes_in", "ttfb_p50_ms", "ttfb_p95_ms", "connects", "connect_ms")),
    *map(Column, ("handshakes", "resumed", "tls_ms")),
)
KEYS: Final = tuple(each.key for each in COLUMNS)  # the columns of files


def shown_at(place: Place) -> tuple[Column, ...]:
    """Those of one place, in order."""
    return tuple(each for each in COLUMNS if place in each.where)


def values(rows: Iterable[Row]) -> list[tuple[object, ...]]:
    """Rows of a file, in the order of KEYS."""
    return [tuple(getattr(each, key) for key in KEYS) for each in rows]
