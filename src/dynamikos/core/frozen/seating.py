"""Who is planned where: the users and arrivals of one generator. Pure, and the same for all that ask."""

import itertools
import math
from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

from dynamikos.core.frozen.document import FrozenRun, stream
from dynamikos.core.plans.crowds import Crowd, turns_of
from dynamikos.core.profiles import Arrivals, Held, UserRounds, segments, shard_of
from dynamikos.core.profiles.instants import evenly, expected, instants_s, poisson


@dataclass(frozen=True, slots=True)
class Seat:
    """A planned user: `number` through the run, from 1; `seat`, the place that it takes and that others may take after
    it; number of its row and crowd; when it is there, in seconds of the run; how many rounds it performs, if that is
    said.
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
    """A planned arrival, or with a held rate a planned round: its `number` as that of users, row, instant in seconds of
    the run.
    """

    number: int
    row: int
    at_s: float


def numbers_before(crowds: Sequence[Crowd]) -> list[int]:
    """For each crowd how many users' numbers are taken by those before it."""
    before, made = 0, []
    for crowd in crowds:
        made.append(before)
        if isinstance(crowd.load, Held):
            before += crowd.load.ceiling
        elif isinstance(crowd.load, Arrivals):
            mean = expected(segments(crowd.profile), crowd.unit_s)
            before += math.ceil(mean + 10 * math.sqrt(mean) + 10)  # ten standard deviations of a Poisson process
        else:
            before += sum(1 for _ in crowd.users())
    return made


def seats_of(frozen: FrozenRun, shard: int, shards: int) -> list[Seat]:
    """The planned users of one shard, in order of start. Those of a row go to the shards in turn."""
    places, made = frozen.places, list[Seat]()
    for no, (crowd, before) in enumerate(zip(frozen.crowds, numbers_before(frozen.crowds), strict=True)):
        if isinstance(crowd.load, Arrivals | Held):
            continue
        turns, first = turns_of(crowd, frozen.weights), places.first_row[no]
        rows = [first + turns[k] for k in range(crowd.seats)]
        given: dict[int, int] = {}
        shard_at = []
        for row in rows:
            shard_at.append(shard_of(given.get(row, 0), row, shards))
            given[row] = given.get(row, 0) + 1
        rounds = crowd.load.rounds if isinstance(crowd.load, UserRounds) else None
        made.extend(
            Seat(before + number, places.before[no] + k, rows[k - 1], no, start, end, rounds)
            for number, (k, start, end) in enumerate(crowd.users(), 1)
            if shard_at[k - 1] == shard
        )
    return sorted(made, key=lambda each: (each.start_s, each.number))


def planned_by(seats: Sequence[Seat]) -> Callable[[float], int]:
    """How many of `seats` are planned to be taken, by second of the run."""
    starts, ends = sorted(each.start_s for each in seats), sorted(each.end_s for each in seats)
    return lambda second: bisect_right(starts, second) - bisect_right(ends, second)


def arrivals_of(frozen: FrozenRun, crowd_no: int, shard: int, shards: int) -> Iterator[Arrival]:
    """Those of one shard, in order. Evenly spread ones go to the rows by turns and Poisson ones by lot, since dealt in
    turn a row's would come too evenly; those of a row go to the shards in turn.
    """
    crowd, places = frozen.crowds[crowd_no], frozen.places
    before, first = numbers_before(frozen.crowds)[crowd_no], places.first_row[crowd_no]
    assert isinstance(crowd.load, Arrivals | Held)
    if crowd.load.spread == "poisson":
        counted: Iterable[float] = poisson(stream(frozen.seed, "arrivals", crowd.crowd, 0))
        lot = stream(frozen.seed, "row", crowd.crowd, 0)
        shares = [row.share for row in crowd.rows]
        rows: Iterator[int] = (lot.choices(range(len(shares)), shares)[0] for _ in itertools.repeat(None))
    else:
        counted = evenly()
        turns = turns_of(crowd, frozen.weights)
        rows = (turns[k] for k in itertools.count())
    given = [0] * len(crowd.rows)
    for number, at in enumerate(instants_s(segments(crowd.profile), crowd.unit_s, counted), 1):
        row = next(rows)
        turn, given[row] = given[row], given[row] + 1
        if shard_of(turn, first + row, shards) == shard:
            yield Arrival(before + number, first + row, crowd.starts_s + at)


def slices_of(frozen: FrozenRun, uses: Sequence[frozenset[str]], table: str) -> tuple[int, dict[int, int]]:
    """(how many slices there are of `table`, which slice, from 1, each seat has); `uses` are the tables of each row.

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
