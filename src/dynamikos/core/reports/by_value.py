"""Failures by the values of dealt columns: what a shard counts since its begin, and what all of
them say together.
"""

import zlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import msgspec

from dynamikos.core.frozen import Series

MOST_VALUES = 1000  # different ones that a column may have for its values to be told
EVERY_S = 10
# in the first ten minutes of a run a window begins and ends at each telling, later at whole minutes
FINE_S = 600


class OfValue(msgspec.Struct, array_like=True, kw_only=True):
    """A value of a column that is no secret: how often it was dealt, and what failed with it, by
    request's series.
    """

    name: str  # data set.column
    value: str
    dealt: int = 0
    failed: dict[int, int] = {}


class OfMany(msgspec.Struct, array_like=True, kw_only=True):
    """A column with more than MOST_VALUES: how many failures a request had, of how many different
    values (some thousands at most are told apart), and how many of the one that failed most.
    """

    name: str
    series: int
    failed: int
    values: int
    most: int


class ByValue(msgspec.Struct, array_like=True, kw_only=True):
    """All of a shard since its begin."""

    values: list[OfValue] = []
    many: list[OfMany] = []


_decoder = msgspec.msgpack.Decoder(ByValue)


def packed(told: ByValue) -> bytes:
    return zlib.compress(msgspec.msgpack.encode(told), 1)


def unpacked(body: bytes) -> ByValue:
    return _decoder.decode(zlib.decompress(body))


Asked = tuple[str, str, str]  # journey, step, request


@dataclass(frozen=True, slots=True)
class Failing:
    """Failures of a request (of all rows that perform it) with one value: `of` all of its failures
    with that column. The value was dealt `dealt` times of `dealt_in_all`, and there were
    `different` ones. `values`, if the column has too many to tell them (`is_many`): how many of
    them failed; `failed` is then the most of one, as far as one generator saw it. Of a part of the
    run neither is known, and both are 0.
    """

    asked: Asked
    name: str
    value: str
    failed: int
    of: int
    dealt: int = 0
    dealt_in_all: int = 0
    different: int = 0
    values: int = 0
    is_many: bool = False

    @property
    def part_dealt(self) -> float:
        return self.dealt / self.dealt_in_all if self.dealt_in_all else 1.0


def failing(shards: Iterable[ByValue], series: Mapping[int, Series]) -> list[Failing]:
    """What all shards say together, the most failures first."""
    dealt: dict[str, dict[str, int]] = {}
    counts: dict[tuple[Asked, str], dict[str, int]] = {}
    many: dict[tuple[Asked, str], list[int]] = {}
    for shard in shards:
        for each in shard.values:
            here = dealt.setdefault(each.name, {})
            here[each.value] = here.get(each.value, 0) + each.dealt
            for no, count in each.failed.items():
                if no in series:
                    by = counts.setdefault((_asked(series[no]), each.name), {})
                    by[each.value] = by.get(each.value, 0) + count
        for wide in shard.many:
            if wide.series in series:
                told = many.setdefault((_asked(series[wide.series]), wide.name), [0, 0, 0])
                told[0], told[1] = told[0] + wide.failed, told[1] + wide.values
                told[2] = max(told[2], wide.most)
    made = [
        Failing(
            asked,
            name,
            value,
            count,
            sum(by.values()),
            dealt[name].get(value, 0),
            sum(dealt[name].values()),
            len(dealt[name]),
        )
        for (asked, name), by in counts.items()
        for value, count in by.items()
        if count
    ]
    made += [
        Failing(asked, name, "", most, every, values=values, is_many=True)
        for (asked, name), (every, values, most) in many.items() if every
    ]  # fmt: skip
    return sorted(made, key=lambda each: (-each.failed, each.name, each.value))


def is_kept(second: int, *, is_last: bool) -> bool:
    """Whether what is told at the end of a second is one of the instants that windows begin and end
    at.
    """
    return is_last or second < FINE_S or second % 60 == 59


def counted(from_s: int, to_s: int, end_s: int) -> tuple[int, int]:
    """The least part of the run clock with [from_s, to_s) in it that begins and ends at such
    instants, or at `end_s`, the newest.
    """
    first, last = (EVERY_S if each <= FINE_S else 60 for each in (from_s, to_s))
    return from_s // first * first, min(-(-to_s // last) * last, max(end_s, 0))


def between(
    told: Sequence[tuple[ByValue | None, ByValue]], *, is_from_begin: bool
) -> list[ByValue]:
    """Of each shard what came after the first of its two tellings; None where nothing had failed
    until then.

    How many of many values failed, and most of one, is not known of a part, nor how often values
    were dealt in it where nothing was told before: these are 0 then.
    """
    if is_from_begin:
        return [now for _, now in told]
    is_dealt_known = all(before is not None for before, _ in told)
    return [_since(before or ByValue(), now, is_dealt_known) for before, now in told]


def _since(before: ByValue, now: ByValue, is_dealt_known: bool) -> ByValue:
    had = {(each.name, each.value): each for each in before.values}
    by_column: dict[
        tuple[str, int], int
    ] = {}  # failures before, also of a column that has become one of many since
    for value in before.values:
        for series, count in value.failed.items():
            by_column[value.name, series] = by_column.get((value.name, series), 0) + count
    by_column |= {(each.name, each.series): each.failed for each in before.many}
    values = []
    for each in now.values:
        old = had.get((each.name, each.value)) or OfValue(name=each.name, value=each.value)
        failed = {
            series: count - old.failed.get(series, 0) for series, count in each.failed.items()
        }
        dealt = each.dealt - old.dealt if is_dealt_known else 0
        values.append(OfValue(name=each.name, value=each.value, dealt=dealt, failed=failed))
    many = [
        OfMany(
            name=each.name,
            series=each.series,
            failed=each.failed - by_column.get((each.name, each.series), 0),
            values=0,
            most=0,
        )
        for each in now.many
    ]
    return ByValue(values=values, many=many)


def _asked(series: Series) -> Asked:
    return series.journey, series.step, series.request
