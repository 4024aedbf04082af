"""What follows from a plan, before it runs: from think times, recorded answer times and the
profile.
"""

import math
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import islice
from typing import NamedTuple

from dynamikos.core.figures import digits
from dynamikos.core.journeys import Journey, Step
from dynamikos.core.journeys.kinds import Choosing, Repeating
from dynamikos.core.plans.crowds import Crowd, CrowdRow, run_ends_s, turns_of
from dynamikos.core.plans.model import Plan
from dynamikos.core.plans.workloads import Expected, OneRow
from dynamikos.core.profiles import highest
from dynamikos.core.profiles.instants import evenly

SHORTEST_ROUND_S = 0.1  # one that takes less is not believed
MOST = 100_000  # arrivals that are looked at for the rows they need


class Took(NamedTuple):
    """What an exchange took when it was recorded: µs, and bytes of its answer."""

    us: int
    size_bytes: int = 0


Answered = Callable[[str, int], Took | None]  # journey and number of the exchange in its recording


class Round(NamedTuple):
    """One round, as it is expected: seconds with its think times, exchanges, bytes of their
    answers, and whether every request's time is known.
    """

    seconds: float
    exchanges: float
    size_bytes: float
    known: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class RowFollows:
    """One row of a crowd: `users` of it when most are there; rounds in all and an hour when most
    are there, and its parts of its crowd's visits and users, in %.
    """

    row: str
    name: str
    crowd: str
    journey: str
    users: float
    rounds: float
    rounds_per_h: float
    visits_percent: float
    users_percent: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Follows:
    """`users` at most, for `seconds`; of those who arrive they are predicted (Little's law),
    between `users_range`, and no more than their `ceiling`, which is 0 where nobody arrives. The
    longest of the journeys' rounds takes `round_s`; there are so many `rounds` and, at the peak,
    exchanges a second and bits a second of answers (Little's law: users divided by the time of a
    round). `answers_known`: every request's time was recorded; what was not counts as none.
    """

    users: int
    seconds: float
    round_s: float
    rounds: int
    exchanges_per_s: float
    answers_known: bool
    ceiling: int = 0
    users_range: tuple[int, int] = (0, 0)
    bits_per_s: float = 0.0
    rows: tuple[RowFollows, ...] = ()

    @property
    def to_carry(self) -> int:
        """Users that generators are to carry: as many as are expected at most. Up to the ceiling
        come only where the target stalls, and those who wait take no processor; it is taken where
        it is not known how long answers take.
        """
        return self.users_range[1] if self.answers_known else self.ceiling or self.users


def expected(steps: Iterable[Step], share: float = 1.0) -> Iterator[tuple[Step, float]]:
    """Steps with how often a round is expected to perform each: branches by weight, repetitions by
    their number where it is a plain one, all else once.
    """
    for step in steps:
        yield step, share
        total = sum(branch.weight for branch in step.branches)
        for branch in step.branches:
            part = (
                branch.weight / total
                if isinstance(step, Choosing) and total
                else 1 / len(step.branches)
            )
            yield from expected(branch.steps, share * part)
        times = digits(step.repeat.times) if isinstance(step, Repeating) else None
        times = 1 if times is None else times
        yield from expected(step.steps, share * min(times, 1000))


def thinks_s(journey: Journey) -> float:
    """Think times of one round, in seconds, as they are expected."""
    return sum(share * step.mean_think_s() for step, share in expected(journey.active().rounds))


def one_round(journey: Journey, think_factor: float, answered: Answered) -> Round:
    """What one round of a journey is expected to be; switched-off steps count nothing."""
    requests = total_us = size = 0.0
    known = True
    for step, share in expected(journey.active().rounds):
        for request in step.requests:
            requests += share * (1 + len(request.embedded))
            took = (
                answered(journey.journey, request.recorded)
                if request.recorded is not None
                else None
            )
            known = known and took is not None
            total_us += share * (took.us if took else 0)
            size += share * (took.size_bytes if took else 0)
    return Round(thinks_s(journey) * think_factor + total_us / 1e6, requests, size, known)


def weighed(crowd: Crowd, round_s: Mapping[str, float]) -> dict[str, float]:
    """In which proportion users are given to the rows of a crowd whose shares are of visits: a
    row's share times the time of its round, since who takes longer for a round begins fewer.
    `round_s` are seconds of a round by journey. Empty where shares are of users, or there is one
    row.
    """
    if len(crowd.rows) < 2 or not crowd.load.is_weighed:
        return {}
    return {row.row: round(row.share * taken_s(crowd, row, round_s), 6) for row in crowd.rows}


def taken_s(crowd: Crowd, row: CrowdRow, round_s: Mapping[str, float]) -> float:
    """Seconds between the begins of two rounds of a user of a row; pacing may make them more."""
    pacing = crowd.load.pacing_s
    paced = sum(pacing) / len(pacing) if pacing else 0.0
    return max(round_s.get(row.journey, 0.0), paced, SHORTEST_ROUND_S)


def follows(plan: Plan, journeys: Mapping[str, Journey], answered: Answered) -> Follows:
    """`answered` gives what an exchange of a journey's recording took, None where it is not known.
    `journeys` are by what the plan's rows name.
    """
    times = {
        name: one_round(journey, plan.think_factor, answered) for name, journey in journeys.items()
    }
    round_s = {name: each.seconds for name, each in times.items()}
    rows: list[RowFollows] = []
    users = ceiling = 0
    low = high = exchanges_per_s = bits_per_s = 0.0
    for crowd in plan.everybody():
        made, per_s = _rows_of(crowd, round_s)
        at_once = sum(row.users for row in made)
        for row, rate in zip(made, per_s, strict=True):
            one = times.get(row.journey, Round(0.0, 0.0, 0.0, False))
            exchanges_per_s += rate * one.exchanges
            bits_per_s += rate * one.size_bytes * 8
        rows.extend(made)
        if crowd.unit_s:
            users += min(crowd.seats, math.ceil(at_once))
            ceiling += crowd.seats
            # of users who come at random so many are there as a Poisson number, of standard
            # deviation √mean
            about = 1.96 * math.sqrt(at_once) if crowd.load.by_lot else 1.0
            low, high = low + max(0.0, at_once - about), high + min(crowd.seats, at_once + about)
        else:
            users, low, high = users + crowd.seats, low + crowd.seats, high + crowd.seats
    return Follows(
        users=users,
        users_range=(math.floor(low), math.ceil(high)),
        ceiling=ceiling,
        seconds=run_ends_s(plan.everybody()),
        round_s=max(round_s.values(), default=0.0),
        rounds=int(sum(row.rounds for row in rows) + 1e-6),
        exchanges_per_s=exchanges_per_s,
        bits_per_s=bits_per_s,
        answers_known=all(each.known for each in times.values()),
        rows=tuple(rows),
    )


def _rows_of(crowd: Crowd, round_s: Mapping[str, float]) -> tuple[list[RowFollows], list[float]]:
    """Its rows, and how many rounds a second each begins when most are there."""
    weights = weighed(crowd, round_s)
    shares = [
        weights.get(row.row, share)
        for row, share in zip(crowd.rows, crowd.load.row_shares(crowd), strict=True)
    ]
    every = sum(shares)
    expected = crowd.load.expecting(crowd)
    figures: list[tuple[CrowdRow, Expected]] = []
    for row, share in zip(crowd.rows, shares, strict=True):
        part = share / every if every else 0.0
        one = OneRow(part, round_s.get(row.journey, 0.0), taken_s(crowd, row, round_s))
        figures.append((row, expected(one)))
    rounds, users = sum(each.rounds for _, each in figures), sum(each.users for _, each in figures)
    made = [
        RowFollows(
            row=row.row,
            name=row.name,
            crowd=crowd.crowd,
            journey=row.journey,
            users=each.users,
            rounds=each.rounds,
            rounds_per_h=3600 * each.per_s,
            visits_percent=100 * each.rounds / rounds if rounds else 0.0,
            users_percent=100 * each.users / users if users else 0.0,
        )
        for row, each in figures
    ]
    return made, [each.per_s for _, each in figures]


def rows_needed(
    plan: Plan, round_s: Mapping[str, float], using: Collection[str], *, by_seat: bool = False
) -> tuple[list[tuple[float, float]], float]:
    """((start, end) in seconds of each user who needs rows since its journey is one of `using`, the
    shortest time of their rounds). Who arrives is there for one round, who holds a rate for all of
    it; `by_seat`: arrivals as so many places that are taken again and again, as slices are dealt.
    """
    shortest = min((round_s.get(journey, 0.0) for journey in using), default=0.0)
    made: list[tuple[float, float]] = []
    for crowd in plan.everybody():
        if not sum(row.share for row in crowd.rows):
            continue
        turns = turns_of(crowd, weighed(crowd, round_s))
        uses = [row.journey in using for row in crowd.rows]
        if crowd.load.is_one_round and not by_seat:
            rows = crowd.load.row_of_each(crowd) or turns
            here = islice(enumerate(crowd.load.instants(crowd, evenly())), MOST)
            made.extend(
                (crowd.starts_s + at, crowd.starts_s + at + shortest / 2)
                for k, at in here
                if uses[rows[k]]
            )
        elif crowd.unit_s:
            mean_s = max((round_s.get(row.journey, 0.0) for row in crowd.rows), default=0.0)
            places = min(
                crowd.seats, max(1, math.ceil(highest(crowd.profile) / crowd.unit_s * mean_s))
            )
            made.extend((crowd.starts_s, crowd.ends_s) for k in range(places) if uses[turns[k]])
        else:
            rounds = crowd.load.rounds_each or math.inf
            for k, start, end in crowd.users():
                if uses[turns[k - 1]]:
                    made.append(
                        (start, min(end, start + (rounds - 0.5) * shortest) if shortest else end)
                    )
    return sorted(made), shortest
