"""Failures by the values of dealt columns: what a shard counts since its begin, and what all of them say together."""

import zlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import msgspec

from dynamikos.core.frozen import Series

MOST_VALUES = 1000  # different ones that a column may have for its values to be told
EVERY_S = 10


class OfValue(msgspec.Struct, array_like=True, kw_only=True):
    """A value of a column that is no secret: how often it was dealt, and what failed with it, by request's series."""

    name: str  # data set.column
    value: str
    dealt: int = 0
    failed: dict[int, int] = {}


class OfMany(msgspec.Struct, array_like=True, kw_only=True):
    """A column with more than MOST_VALUES: how many failures a request had, of how many different values (some
    thousands at most are told apart), and how many of the one that failed most.
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
    """Failures of a request (of all rows that perform it) with one value: `of` all of its failures with that column.
    The value was dealt `dealt` times of `dealt_in_all`, and there were `different` ones. `values`, if the column has
    too many to tell them: how many of them failed; `failed` is then the most of one, as far as one generator saw it.
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
        Failing(asked, name, value, count, sum(by.values()), dealt[name].get(value, 0), sum(dealt[name].values()),
                len(dealt[name]))
        for (asked, name), by in counts.items() for value, count in by.items()
    ]  # fmt: skip
    made += [
        Failing(asked, name, "", most, every, values=values) for (asked, name), (every, values, most) in many.items()
    ]
    return sorted(made, key=lambda each: (-each.failed, each.name, each.value))


def _asked(series: Series) -> Asked:
    return series.journey, series.step, series.request
