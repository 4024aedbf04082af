"""What all workloads share, and what each may say otherwise: the interface that the rest of the
product asks.
"""

import math
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal

import msgspec
from msgspec.structs import replace

from dynamikos.core.profiles import Stretch, highest, peak, segments
from dynamikos.core.profiles.changing import Change, changed
from dynamikos.core.profiles.instants import expected, instants_s

if TYPE_CHECKING:
    from dynamikos.core.plans.crowds import Crowd

Unit = Literal["second", "minute", "hour"]
UNIT_S: dict[Unit, float] = {"second": 1.0, "minute": 60.0, "hour": 3600.0}
Count = Annotated[int, msgspec.Meta(ge=1, le=1_000_000)]
Pause = Annotated[float, msgspec.Meta(ge=0, le=86_400)]
Pacing = Annotated[
    tuple[Pause, ...], msgspec.Meta(min_length=1, max_length=2)
]  # fixed, or from … to
SPREADS = {"even": "evenly", "poisson": "at random (Poisson)"}
Span = tuple[float, float]


@dataclass(frozen=True, slots=True)
class Expected:
    """What is expected of a row: users when most are there, rounds in all, rounds a second when
    most begin.
    """

    users: float
    rounds: float
    per_s: float


@dataclass(frozen=True, slots=True)
class OneRow:
    """A row as predictions need it: its `part` of the crowd's users or visits, seconds of a round,
    and from one round's begin to the next's.
    """

    part: float
    round_s: float
    taken_s: float


class Base(
    msgspec.Struct,
    frozen=True,
    kw_only=True,
    forbid_unknown_fields=True,
    omit_defaults=True,
    tag_field="workload",
):
    """What a crowd's load can be. `pacing_s`: a user's next round begins so many seconds after its
    last one began, or after a number drawn from a range; one that comes too late for that begins at
    once and is counted as late.

    `key` is its tag and the name of its files on the three floors. A kind overrides what differs:
    what stands here is right for users whose number a profile says. All times are seconds; those of
    a crowd count from the run's begin.
    """

    pacing_s: Pacing | None = None

    key: ClassVar[str]
    is_open: ClassVar[bool] = (
        False  # its profile says when something begins, not how many users there are
    )
    makes_profile: ClassVar[bool] = False  # out of its own fields; see `profile`
    has_curve: ClassVar[bool] = (
        True  # else its profile is one stretch, of which the length alone counts
    )
    is_one_round: ClassVar[bool] = False  # each user performs opening, one round and closing
    in_wholes: ClassVar[bool] = True  # levels of its profile are whole numbers
    is_scalable: ClassVar[bool] = False  # whether the shell may stretch it to a number of users

    @property
    def unit(self) -> str:
        """What its curve counts."""
        return "users"

    @property
    def unit_s(self) -> float:
        """Seconds of the profile's “per”; 0 where it is users."""
        return 0.0

    @property
    def by_lot(self) -> bool:
        """Whether its users come at random: then how many are there varies, and rows are drawn."""
        return False

    @property
    def shares_of_users(self) -> bool:
        """Whether shares are those of users at once; else of visits."""
        return False

    @property
    def is_weighed(self) -> bool:
        """Whether users are given to rows in proportion to the time of their rounds, so that visits
        have the shares.
        """
        return False

    @property
    def leaves(self) -> Literal["step", "round", "now"]:
        """When those leave whom a fall of the profile takes away."""
        return "step"

    @property
    def rounds_each(self) -> int | None:
        """How many rounds a user performs, where that is said."""
        return None

    # users and numbers ----------------------------------------------------------------------------

    def seats(self, crowd: "Crowd") -> int:
        """How many users there are at most at once."""
        return peak(crowd.profile)

    def spans(self, crowd: "Crowd") -> Iterator[tuple[int, float, float]]:
        """(k, start, end) of each planned user, in order of start; none where they arrive."""
        raise NotImplementedError

    def planned(self, crowd: "Crowd", times: Sequence[float]) -> list[int]:
        """Users that are planned at each of `times` after the crowd's begin, which are in order."""
        raise NotImplementedError

    def numbers(self, crowd: "Crowd") -> int:
        """How many users' numbers it takes."""
        return sum(1 for _ in self.spans(crowd))

    def instants(self, crowd: "Crowd", counted: Iterable[float]) -> Iterator[float]:
        """Seconds after the crowd's begin at which what its profile counts begins: where the
        profile's sum reaches each of `counted` in turn.
        """
        return instants_s(segments(crowd.profile), self.unit_s, counted)

    def row_of_each(self, crowd: "Crowd") -> list[int] | None:
        """The row of each that begins, where the load says so itself; None where the shares of the
        rows decide.
        """
        return None

    def row_shares(self, crowd: "Crowd", part: Span = (0.0, math.inf)) -> list[float]:
        """The shares of its rows in a part of the run, in proportion to each other."""
        return [row.share for row in crowd.rows]

    def profile(self, crowd: "Crowd") -> tuple[Stretch, ...]:
        """Its profile: as it is given, unless the load makes it."""
        return crowd.profile

    # words ----------------------------------------------------------------------------------------

    def says(self) -> str:
        """It in a sentence."""
        raise NotImplementedError

    def brief(self, crowd: "Crowd") -> str:
        """How many come, in a few words."""
        return f"{self.seats(crowd):,} users"

    def problems(self, crowd: "Crowd") -> Iterator[str]:
        """What stands in the way, a sentence each."""
        pacing = self.pacing_s
        if pacing is not None and len(pacing) == 2 and pacing[0] > pacing[1]:
            yield (
                f"Its pacing is from {pacing[0]:g} to {pacing[1]:g} s; the first has to be the "
                "smaller."
            )

    @property
    def paced(self) -> str:
        if not self.pacing_s:
            return ""
        return f", a round every {'–'.join(f'{each:g}' for each in self.pacing_s)} s"

    # changes --------------------------------------------------------------------------------------

    def multiplied(self, load: float, length: float) -> "Base":
        """With so many times the load and the length; the profile is multiplied by whoever asks."""
        return self

    def changed(self, crowd: "Crowd", changes: Sequence[Change]) -> "Crowd":
        """The crowd after changes of its load while it runs."""
        return replace(crowd, profile=changed(crowd.profile, changes, crowd.starts_s))

    # predictions ----------------------------------------------------------------------------------

    def slopes(self, crowd: "Crowd") -> list[Span]:
        """Every part of the profile, and the parts in which it is not constant: see `steady`."""
        return [
            (crowd.starts_s + part.begin, crowd.starts_s + part.end)
            for part in segments(crowd.profile)
            if part.low != part.high and part.end > part.begin
        ]

    def edges(self, crowd: "Crowd") -> set[float]:
        """Seconds at which its profile turns."""
        return {
            crowd.starts_s + at for part in segments(crowd.profile) for at in (part.begin, part.end)
        }

    def expecting(self, crowd: "Crowd") -> Callable[[OneRow], Expected]:
        """What is expected of its rows."""
        there_s, seats = sum(end - start for _, start, end in self.spans(crowd)), self.seats(crowd)
        return lambda row: Expected(
            row.part * seats, row.part * there_s / row.taken_s, row.part * seats / row.taken_s
        )


class Begun(Base, frozen=True, kw_only=True):
    """Something begins at planned instants, whoever is there: the profile counts how much of it,
    and at most so many users are there at once.
    """

    is_open: ClassVar[bool] = True
    in_wholes: ClassVar[bool] = False

    def at_most(self) -> int:
        """How many users may be there at once."""
        raise NotImplementedError

    def seats(self, crowd: "Crowd") -> int:
        return self.at_most()

    def spans(self, crowd: "Crowd") -> Iterator[tuple[int, float, float]]:
        return iter(())

    def planned(self, crowd: "Crowd", times: Sequence[float]) -> list[int]:
        return [0] * len(times)

    def brief(self, crowd: "Crowd") -> str:
        return f"up to {highest(crowd.profile):g} {self.unit}"

    def problems(self, crowd: "Crowd") -> Iterator[str]:
        yield from super().problems(crowd)
        if self.pacing_s is not None:
            yield "Pacing is for users who begin round after round; here the profile says when."

    def expecting(self, crowd: "Crowd") -> Callable[[OneRow], Expected]:
        """By Little's law, both ways."""
        most, begun = (
            highest(crowd.profile) / self.unit_s,
            expected(segments(crowd.profile), self.unit_s),
        )
        return lambda row: Expected(
            row.part * most * row.round_s, row.part * begun, row.part * most
        )


class Open(Begun, frozen=True, kw_only=True):
    """The profile is something `per` time that begins at planned instants, `spread` evenly or as a
    Poisson process, and at most `ceiling` users are there at once.
    """

    per: Unit = "second"
    spread: Literal["even", "poisson"] = "even"
    ceiling: Count

    counts: ClassVar[str]  # what begins

    def at_most(self) -> int:
        return self.ceiling

    @property
    def unit(self) -> str:
        return f"{self.counts} a {self.per}"

    @property
    def unit_s(self) -> float:
        return UNIT_S[self.per]

    @property
    def by_lot(self) -> bool:
        return self.spread == "poisson"

    def multiplied(self, load: float, length: float) -> "Base":
        return replace(self, ceiling=max(1, round(self.ceiling * load)))


def beyond(mean: float) -> int:
    """Of a Poisson process with so many expected, more than will ever come: ten standard
    deviations.
    """
    return math.ceil(mean + 10 * math.sqrt(mean) + 10)
