"""Who comes: crowds of rows, each a journey with its share, and when their users are there."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated

import msgspec
from msgspec.structs import force_setattr, replace

from dynamikos.core.journeys.request import Key
from dynamikos.core.plans.workloads import Users, Workload
from dynamikos.core.profiles import Stretch, Turns, duration_s, measured_part_s, profile_problems
from dynamikos.core.text import Frozen

MOST_ROWS, MOST_CROWDS = 200, 50


class CrowdRow(Frozen, frozen=True, kw_only=True):
    """One kind of visitor: its `journey` (a path beside the plan, or a key in a project), its
    `persona` likewise, and its `share`, in proportion to those of the other rows. Keys are unique
    in the plan.
    """

    row: Key
    name: str = ""
    journey: str
    persona: str = ""
    share: Annotated[float, msgspec.Meta(ge=0, le=1_000_000)] = 100.0


class Crowd(Frozen, frozen=True, kw_only=True):
    """Rows that share one load, which begins at second `starts_s` of the run."""

    crowd: Key
    name: str = ""
    starts_s: Annotated[float, msgspec.Meta(ge=0, le=604_800)] = 0.0
    load: Workload = Users()
    profile: tuple[Stretch, ...] = ()
    rows: Annotated[tuple[CrowdRow, ...], msgspec.Meta(min_length=1, max_length=MOST_ROWS)]

    def __post_init__(self) -> None:
        if self.load.makes_profile:
            force_setattr(self, "profile", self.load.profile(self))

    @property
    def ends_s(self) -> float:
        """When its profile ends, in seconds of the run."""
        return self.starts_s + duration_s(self.profile)

    @property
    def seats(self) -> int:
        """How many users there are at most at once: its numbers of users, or of places under the
        ceiling.
        """
        return self.load.seats(self)

    @property
    def unit_s(self) -> float:
        """Seconds of the profile's “per”; 0 where it is users."""
        return self.load.unit_s

    def planned(self, seconds: Sequence[float]) -> list[int]:
        """Users that are planned to be there at each of `seconds` of the run, which are in order; 0
        where none are, but arrivals or rounds.
        """
        return self.load.planned(self, [second - self.starts_s for second in seconds])

    def users(self) -> Iterator[tuple[int, float, float]]:
        """(k, start, end) in seconds of the run of each planned user, in order of start; none where
        they arrive.
        """
        return self.load.spans(self)


def with_journeys(
    crowds: Sequence[Crowd], named: Mapping[str, str], personas: Mapping[str, str] | None = None
) -> tuple[Crowd, ...]:
    """The same crowds, with `named[journey]` for each row's journey: a key for a path, another key;
    and likewise for personas, where those are given.
    """

    def renamed(row: CrowdRow) -> CrowdRow:
        persona = (personas or {}).get(row.persona, row.persona)
        return replace(row, journey=named[row.journey], persona=persona)

    return tuple(replace(crowd, rows=tuple(renamed(row) for row in crowd.rows)) for crowd in crowds)


@dataclass(frozen=True, slots=True)
class Places:
    """The rows of all crowds in order, numbered from 0 through the run, and the users' numbers
    before each crowd's.
    """

    rows: tuple[CrowdRow, ...]
    first_row: tuple[int, ...]  # of each crowd
    before: tuple[int, ...]  # seats of the crowds before each

    @classmethod
    def of(cls, crowds: Sequence[Crowd]) -> "Places":
        rows: list[CrowdRow] = []
        first, before, seats = [], [], 0
        for crowd in crowds:
            first.append(len(rows))
            before.append(seats)
            seats += crowd.seats
            rows.extend(crowd.rows)
        return cls(tuple(rows), tuple(first), tuple(before))


def turns_of(crowd: Crowd, weights: dict[str, float]) -> Turns:
    """Which of its rows the k-th user, or arrival, has. `weights` by row stand for the shares where
    they are there.
    """
    return Turns([weights.get(row.row, row.share) if row.share else 0.0 for row in crowd.rows])


def run_ends_s(crowds: Sequence[Crowd]) -> float:
    """When the last profile ends."""
    return max((crowd.ends_s for crowd in crowds), default=0.0)


def measured_of(crowds: Sequence[Crowd]) -> tuple[float, float]:
    """The part that is suggested to be measured: where every crowd is past its first climb and
    before its last fall; everything where there is no such part.
    """
    parts = [
        (crowd.starts_s + begin, crowd.starts_s + end)
        for crowd in crowds
        for begin, end in [measured_part_s(crowd.profile)]
    ]
    begin, end = (
        max((part[0] for part in parts), default=0.0),
        min((part[1] for part in parts), default=0.0),
    )
    return (begin, end) if end > begin else (0.0, run_ends_s(crowds))


def crowd_problems(crowds: Sequence[Crowd]) -> list[str]:
    """What stands in the way, a sentence each; empty when nothing does."""
    found: list[str] = []
    if len(crowds) > MOST_CROWDS:
        found.append(f"There are {len(crowds)} crowds; at most {MOST_CROWDS} can be in one plan.")
    for crowd in crowds:
        said = f"Crowd {crowd.name or crowd.crowd}: " if len(crowds) > 1 else ""
        found.extend(
            f"{said}{each}"
            for each in profile_problems(
                crowd.profile, only_lasts=crowd.load.makes_profile or not crowd.load.has_curve
            )
        )
        if not sum(row.share for row in crowd.rows):
            found.append(f"{said}No row has a share above 0, so nobody would come.")
        found.extend(f"{said}{each}" for each in crowd.load.problems(crowd))
    for what, names in (
        ("crowds", [crowd.crowd for crowd in crowds]),
        ("rows", [row.row for crowd in crowds for row in crowd.rows]),
    ):
        twice = sorted({name for name in names if names.count(name) > 1})
        found.extend(
            f"Two {what} have the key '{name}'; keys are unique in the plan." for name in twice
        )
    return found
