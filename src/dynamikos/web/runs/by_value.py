"""What failed by the values of dealt columns, in a part of the run clock, of rows and
generators.
"""

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from django.db.models import QuerySet

from dynamikos.core.frozen import FrozenRun, every_series
from dynamikos.core.reports.by_value import ByValue, Failing, between, counted, failing, unpacked
from dynamikos.web.runs.models import ByValueAt, Run


@dataclass(frozen=True)
class Failures:
    """The most failures first; counted in [from_s, to_s) of the run clock."""

    values: list[Failing]
    from_s: int
    to_s: int


def failures(
    found: Run,
    inputs: FrozenRun,
    from_s: int,
    to_s: int,
    rows: Collection[str] | None = None,
    shards: Sequence[int] | None = None,
) -> Failures:
    """Of those rows and shards, of all of them where none are named. The part that is counted is a
    little larger than [from_s, to_s), and the whole run where nothing else was kept.
    """
    end = found.watermark + 1
    begin, stop = counted(from_s, to_s, end)
    newest = found.shards.exclude(by_value=b"")
    kept = found.by_value_at.all()
    if shards is not None:
        newest, kept = newest.filter(number__in=shards), kept.filter(shard__in=shards)
    if (
        not found.by_value_at.exists()
    ):  # of an earlier day, or nothing failed before the run's newest minute
        begin, stop = 0, end
    bodies = _before(kept, stop) if stop < end else dict(newest.values_list("number", "by_value"))
    earlier = _before(kept, begin)
    told = [(_read(earlier.get(number)), unpacked(bytes(body))) for number, body in bodies.items()]
    series = {each.no: each for each in every_series(inputs) if rows is None or each.row in rows}
    return Failures(failing(between(told, is_from_begin=begin == 0), series), begin, stop)


def _before(kept: QuerySet[ByValueAt], second: int) -> dict[int, bytes]:
    """By shard the newest that was told before a second."""
    newest = kept.filter(second__lt=second).order_by("shard", "-second").distinct("shard")
    return {number: bytes(body) for number, body in newest.values_list("shard", "body")}


def _read(body: bytes | None) -> ByValue | None:
    return None if body is None else unpacked(body)
