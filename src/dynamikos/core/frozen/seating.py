"""Who is planned where: the users and arrivals of one generator. Pure, and the same for all that
ask.
"""

import itertools
from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

from dynamikos.core.frozen.document import FrozenRun, stream
from dynamikos.core.plans.crowds import Crowd, turns_of
from dynamikos.core.profiles import shard_of
from dynamikos.core.profiles.instants import evenly, poisson


@dataclass(frozen=True, slots=True)
class Seat:
    """A planned user: `number` through the run, from 1; `seat`, the place that it takes and that
    others may take after it; number of its row and crowd; when it is there, in seconds of the run;
    how many rounds it performs, if that is said.
    """

    number: int
    seat: int
    row: int
    crowd: int
    start_s: float
    end_s: float
    rounds: int | None = None


@dataclass(frozen=True, slots=True)
class Arrival:
    """A planned arrival, or with a held rate a planned round: its `number` as that of users, row,
    instant in seconds of the run.
    """

    number: int
    row: int
    at_s: float


def numbers_before(crowds: Sequence[Crowd]) -> list[int]:
    """For each crowd how many users' numbers are taken by those before it."""
    before, made = 0, []
    for crowd in crowds:
        made.append(before)
        before += crowd.load.numbers(crowd)
    return made


@dataclass(frozen=True, slots=True)
class Numbering:
    """The numbers of users and seats of a run as it was planned at first: where its load was
    changed since, those who were planned then keep theirs, and the others have numbers beyond all
    of them.
    """

    users: tuple[int, ...]  # before each crowd
    seats: tuple[int, ...]
    all_users: int
    all_seats: int
    own_users: tuple[int, ...]  # of each crowd
    own_seats: tuple[int, ...]

    @classmethod
    def of(cls, crowds: Sequence[Crowd]) -> "Numbering":
        users = [*numbers_before(crowds), 0]
        users[-1] = users[-2] + crowds[-1].load.numbers(crowds[-1])
        seats = list(itertools.accumulate((crowd.seats for crowd in crowds), initial=0))
        own = [b - a for a, b in itertools.pairwise(users)]
        return cls(
            tuple(users),
            tuple(seats),
            users[-1],
            seats[-1],
            tuple(own),
            tuple(crowd.seats for crowd in crowds),
        )

    def user(self, crowd: int, number: int) -> int:
        """The number of the `number`-th user of a crowd, from 1."""
        if number <= self.own_users[crowd]:
            return self.users[crowd] + number
        return (
            self.all_users + (number - self.own_users[crowd] - 1) * len(self.own_users) + crowd + 1
        )

    def seat(self, crowd: int, place: int) -> int:
        """The number of the `place`-th seat of a crowd, from 1."""
        if place <= self.own_seats[crowd]:
            return self.seats[crowd] + place
        return (
            self.all_seats + (place - self.own_seats[crowd] - 1) * len(self.own_seats) + crowd + 1
        )


def seats_of(
    frozen: FrozenRun,
    shard: int,
    shards: int,
    planned: Numbering | None = None,
    *,
    only: int | None = None,
) -> list[Seat]:
    """The planned users of one shard, or of its part of the crowd `only`, in order of start. Those
    of a row go to the shards in turn. `planned` numbers them where the load was changed since.
    """
    places, made, numbering = frozen.places, list[Seat](), planned or Numbering.of(frozen.crowds)
    for no, crowd in enumerate(frozen.crowds):
        if crowd.load.is_open or (only is not None and no != only):
            continue
        turns, first = turns_of(crowd, frozen.weights), places.first_row[no]
        rows = [first + turns[k] for k in range(crowd.seats)]
        given: dict[int, int] = {}
        shard_at = []
        for row in rows:
            shard_at.append(shard_of(given.get(row, 0), row, shards))
            given[row] = given.get(row, 0) + 1
        rounds = crowd.load.rounds_each
        made.extend(
            Seat(
                numbering.user(no, number),
                numbering.seat(no, k),
                rows[k - 1],
                no,
                start,
                end,
                rounds,
            )
            for number, (k, start, end) in enumerate(crowd.users(), 1)
            if shard_at[k - 1] == shard
        )
    return sorted(made, key=lambda each: (each.start_s, each.number))


def planned_by(seats: Sequence[Seat]) -> Callable[[float], int]:
    """How many of `seats` are planned to be taken, by second of the run."""
    starts, ends = sorted(each.start_s for each in seats), sorted(each.end_s for each in seats)
    return lambda second: bisect_right(starts, second) - bisect_right(ends, second)


def arrivals_of(
    frozen: FrozenRun, crowd_no: int, shard: int, shards: int, planned: Numbering | None = None
) -> Iterator[Arrival]:
    """Those of one shard, in order. Evenly spread ones go to the rows by turns and Poisson ones by
    lot, since dealt in turn a row's would come too evenly; those of a row go to the shards in turn.
    """
    crowd, places = frozen.crowds[crowd_no], frozen.places
    counted: Iterable[float]
    rows: Iterator[int]
    numbering, first = planned or Numbering.of(frozen.crowds), places.first_row[crowd_no]
    told = crowd.load.row_of_each(crowd)
    if told is not None:
        counted, rows = evenly(), iter(told)
    elif crowd.load.by_lot:
        counted = poisson(stream(frozen.seed, "arrivals", crowd.crowd, 0))
        lot = stream(frozen.seed, "row", crowd.crowd, 0)
        shares = [row.share for row in crowd.rows]
        rows = (lot.choices(range(len(shares)), shares)[0] for _ in itertools.repeat(None))
    else:
        counted = evenly()
        turns = turns_of(crowd, frozen.weights)
        rows = (turns[k] for k in itertools.count())
    given = [0] * len(crowd.rows)
    for number, at in enumerate(crowd.load.instants(crowd, counted), 1):
        row = next(rows)
        turn, given[row] = given[row], given[row] + 1
        if shard_of(turn, first + row, shards) == shard:
            yield Arrival(numbering.user(crowd_no, number), first + row, crowd.starts_s + at)


def slices_of(
    frozen: FrozenRun, uses: Sequence[frozenset[str]], table: str
) -> tuple[int, dict[int, int]]:
    """(how many slices there are of `table`, which slice, from 1, each seat has); `uses` are the
    tables of each row.

    Seats whose rows don't use it get none; under a ceiling any seat may.
    """
    places, made = frozen.places, dict[int, int]()
    for no, crowd in enumerate(frozen.crowds):
        first = places.first_row[no]
        if not any(table in uses[first + row] for row in range(len(crowd.rows))):
            continue
        turns = None if crowd.unit_s else turns_of(crowd, frozen.weights)
        for k in range(crowd.seats):
            if turns is None or table in uses[first + turns[k]]:
                made[places.before[no] + k + 1] = len(made) + 1
    return len(made), made
