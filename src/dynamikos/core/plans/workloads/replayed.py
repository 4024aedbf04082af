"""Arrivals at instants that are given, as those of a log."""

import datetime
import itertools
import math
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING, Annotated, ClassVar, NamedTuple

import msgspec
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.plans.workloads.base import Base, Begun, Count, Span
from dynamikos.core.profiles import Stretch
from dynamikos.core.profiles.changing import Change

if TYPE_CHECKING:
    from dynamikos.core.plans.crowds import Crowd

MOST, MOST_CHARS = 50_000, 3_000_000
PARTS = 120  # of the curve that is drawn of them
LONGEST_S = 604_800.0
Factor = Annotated[float, msgspec.Meta(gt=0, le=1000)]


class Told(NamedTuple):
    """Instants in seconds after the first, or after the crowd's begin, in order, and the row of
    each; "" for none.
    """

    at_s: tuple[float, ...]
    rows: tuple[str, ...]


@lru_cache(16)
def read_times(text: str) -> Told:
    """Of CSV text: a line each, an instant and, after a comma, the key or name of a row. Instants
    are seconds after the crowd's begin, or stamps of RFC 3339, which count from the first. A first
    line without an instant is a heading. Raises DynamikosError with line and reason.
    """
    if len(text) > MOST_CHARS:
        raise DynamikosError(
            f"The instants take {len(text):,} characters; at most {MOST_CHARS:,} can be in one "
            "crowd."
        )
    made: list[tuple[float, str]] = []
    stamps: bool | None = None
    for number, line in enumerate(text.splitlines(), 1):
        cell, _, row = line.partition(",")
        cell = cell.strip().strip('"')
        if not cell:
            continue
        try:
            at, is_stamp = float(cell), False
        except ValueError:
            try:
                at, is_stamp = _stamp(cell), True
            except ValueError:
                if number == 1:
                    continue
                raise DynamikosError(
                    f"Line {number} of the instants: “{cell[:40]}” is neither seconds nor a time "
                    "stamp such as"
                    " 2026-11-30T20:15:00.250Z."
                ) from None
        if stamps is not None and stamps != is_stamp:
            raise DynamikosError(
                f"Line {number} of the instants: seconds and time stamps can't be mixed."
            )
        if not math.isfinite(at) or (not is_stamp and at < 0):
            raise DynamikosError(
                f"Line {number} of the instants: “{cell[:40]}” is before the crowd's begin, or "
                "none."
            )
        stamps = is_stamp
        made.append((at, row.strip().strip('"')))
        if len(made) > MOST:
            raise DynamikosError(
                f"There are more than {MOST:,} instants; share them over several crowds."
            )
    if not made:
        raise DynamikosError(
            "No instants are given: write a line each, in seconds or as time stamps."
        )
    made.sort(key=lambda each: each[0])
    first = made[0][0] if stamps else 0.0
    if made[-1][0] - first > LONGEST_S:
        raise DynamikosError(
            "The instants are spread over more than a week; are they stamps in seconds since 1970?"
        )
    return Told(tuple(at - first for at, _ in made), tuple(row for _, row in made))


def _stamp(text: str) -> float:
    found = datetime.datetime.fromisoformat(text)
    if found.tzinfo is None:
        found = found.replace(tzinfo=datetime.UTC)
    return found.timestamp()


class Replayed(Begun, frozen=True, kw_only=True, tag="replayed"):
    """New users for one round each, at the instants in `times` (see `read_times`). `rate`: so many
    times as many of them, between the same instants in the same proportion; `length`: in so many
    times the time. At `ceiling` users at once arrivals are turned away. `file`: where the instants
    are read from, beside a plan in files.

    A profile is made of them, and shows how many arrive a second. Changes of the load while it runs
    leave it as it is.
    """

    times: str = ""
    file: str = ""
    rate: Factor = 1.0
    length: Factor = 1.0
    ceiling: Count

    key: ClassVar[str] = "replayed"
    is_one_round: ClassVar[bool] = True
    makes_profile: ClassVar[bool] = True

    def at_most(self) -> int:
        return self.ceiling

    @property
    def unit_s(self) -> float:
        return 1.0

    @property
    def unit(self) -> str:
        return "arrivals a second"

    def _told(self) -> Told:
        """None where they can't be read, which `problems` says: a page shows such a plan so that it
        can be mended.
        """
        try:
            return read_times(self.times)
        except DynamikosError:
            return Told((), ())

    def _played(self) -> Iterator[tuple[float, str]]:
        """(second, row) of each arrival. The j-th stands j / rate of the way through those that are
        told: twice as many are those that are told and one half-way to the next.
        """
        at_s, rows = self._told()
        for number in range(math.ceil(len(at_s) * self.rate - 1e-9)):
            before, part = divmod(number / self.rate, 1)
            here = min(int(before), len(at_s) - 1)
            after = at_s[min(here + 1, len(at_s) - 1)]
            yield (at_s[here] + part * (after - at_s[here])) * self.length, rows[here]

    def instants(self, crowd: "Crowd", counted: Iterable[float]) -> Iterator[float]:
        return (at for at, _ in self._played())

    def numbers(self, crowd: "Crowd") -> int:
        return math.ceil(len(self._told().at_s) * self.rate - 1e-9)

    def row_of_each(self, crowd: "Crowd") -> list[int] | None:
        """By key or name; None where no row is told at all, and shares decide."""
        told = [row for _, row in self._played()]
        if not any(told):
            return None
        known = {
            name: no for no, row in enumerate(crowd.rows) for name in (row.name, row.row) if name
        }
        return [known.get(row, 0) for row in told]

    def row_shares(self, crowd: "Crowd", part: Span = (0.0, math.inf)) -> list[float]:
        rows = self.row_of_each(crowd)
        if rows is None:
            return super().row_shares(crowd)
        instants = (crowd.starts_s + at for at, _ in self._played())
        count = Counter(
            row for row, at in zip(rows, instants, strict=True) if part[0] <= at < part[1]
        )
        return [float(count[no]) for no in range(len(crowd.rows))]

    def profile(self, crowd: "Crowd") -> tuple[Stretch, ...]:
        """Arrivals a second in equal parts, as a curve that is drawn; a second of nothing where
        there are none.
        """
        at_s = [at for at, _ in self._played()]
        if not at_s:
            return (Stretch(stretch="hold", seconds=1.0),)
        lasts_s = max(1.0, math.ceil(at_s[-1] + 1e-6))
        part_s = max(1.0, math.ceil(lasts_s / PARTS))
        count = Counter(int(at / part_s) for at in at_s)
        points = list(
            itertools.chain.from_iterable(
                (
                    (no * part_s, count[no] / part_s),
                    (min(lasts_s, (no + 1) * part_s), count[no] / part_s),
                )
                for no in range(math.ceil(lasts_s / part_s))
            )
        )
        return (Stretch(stretch="drawn", seconds=lasts_s, points=tuple(points)),)

    def says(self) -> str:
        scaled = f", {self.rate:g} times as many" if self.rate != 1 else ""
        slower = f", in {self.length:g} times the time" if self.length != 1 else ""
        count = f"{len(self._told().at_s):,} given instants"
        return (
            f"New users arrive at {count}{scaled}{slower}; above {self.ceiling:,} at once they are "
            "turned away."
        )

    def problems(self, crowd: "Crowd") -> Iterator[str]:
        if self.file and not self.times:
            yield (
                f"Its instants stand in {self.file}, which is read where the plan is run from "
                "files."
            )
            return
        try:
            told = read_times(self.times)
        except DynamikosError as problem:
            yield str(problem)
            return
        if len(told.at_s) * self.rate > MOST:
            yield (
                f"{len(told.at_s):,} instants times {self.rate:g} are more than {MOST:,} arrivals."
            )
        known = {name for row in crowd.rows for name in (row.name, row.row)}
        for row in sorted(set(told.rows) - known - {""})[:3]:
            yield f"The instants name the row “{row[:40]}”, which the crowd has not."
        if any(told.rows) and not all(told.rows):
            yield "Some instants name a row and some don't; name it for all of them, or for none."
        yield from super().problems(crowd)

    def multiplied(self, load: float, length: float) -> "Base":
        ceiling = max(1, round(self.ceiling * load))
        return replace(self, rate=self.rate * load, length=self.length * length, ceiling=ceiling)

    def changed(self, crowd: "Crowd", changes: Sequence[Change]) -> "Crowd":
        return crowd
