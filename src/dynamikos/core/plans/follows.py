"""What follows from a plan, before it runs: from think times, recorded answer times and the profile."""

import math
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import islice

from dynamikos.core.journeys import Journey, Step
from dynamikos.core.journeys.kinds import Choosing, Repeating
from dynamikos.core.plans.crowds import Crowd, CrowdRow, run_ends_s, turns_of
from dynamikos.core.plans.model import Plan
from dynamikos.core.profiles import Arrivals, UserRounds, Users, highest, segments
from dynamikos.core.profiles.instants import evenly, instants_s
from dynamikos.core.profiles.instants import expected as arrivals_of

SHORTEST_ROUND_S = 0.1  # one that takes less is not believed
MOST = 100_000  # arrivals that are looked at for the rows they need
Answered = Callable[[str, int], int | None]  # journey and number of the exchange in its recording


@dataclass(frozen=True, slots=True)
class Follows:
    """`users` at most, for `seconds`; of those who arrive they are predicted (Little's law), and no more than their
    `ceiling`, which is 0 where nobody arrives. The longest of the journeys' rounds takes `round_s`; there are so many
    `rounds` and, at the peak, exchanges a second (Little's law: users divided by the time of a round).
    `answers_known`: every request's time was recorded; what was not counts as none.
    """

    users: int
    seconds: float
    round_s: float
    rounds: int
    exchanges_per_s: float
    answers_known: bool
    ceiling: int = 0


def expected(steps: Iterable[Step], share: float = 1.0) -> Iterator[tuple[Step, float]]:
    """Steps with how often a round is expected to perform each: branches by weight, repetitions by their number where
    it is a plain one, all else once.
    """
    for step in steps:
        yield step, share
        total = sum(branch.weight for branch in step.branches)
        for branch in step.branches:
            part = branch.weight / total if isinstance(step, Choosing) and total else 1 / len(step.branches)
            yield from expected(branch.steps, share * part)
        times = int(step.repeat.times) if isinstance(step, Repeating) and step.repeat.times.isdigit() else 1
        yield from expected(step.steps, share * min(times, 1000))


def thinks_s(journey: Journey) -> float:
    """Think times of one round, in seconds, as they are expected."""
    return sum(share * step.mean_think_s() for step, share in expected(journey.active().rounds))


def one_round(journey: Journey, think_factor: float, answered_us: Answered) -> tuple[float, float, bool]:
    """(seconds, exchanges, whether every request's time is known) of one round, as it is expected."""
    requests = total_us = 0.0
    known = True
    for step, share in expected(journey.active().rounds):
        for request in step.requests:
            requests += share * (1 + len(request.embedded))
            took = answered_us(journey.journey, request.recorded) if request.recorded is not None else None
            known = known and took is not None
            total_us += share * (took or 0)
    return thinks_s(journey) * think_factor + total_us / 1e6, requests, known


def weighed(crowd: Crowd, round_s: Mapping[str, float]) -> dict[str, float]:
    """In which proportion users are given to the rows of a crowd whose shares are of visits: a row's share times the
    time of its round, since who takes longer for a round begins fewer. `round_s` are seconds of a round by journey.
    Empty where shares are of users, or there is one row.
    """
    if len(crowd.rows) < 2 or not isinstance(crowd.load, Users) or crowd.load.shares != "visits":
        return {}
    return {row.row: round(row.share * taken_s(crowd, row, round_s), 6) for row in crowd.rows}


def taken_s(crowd: Crowd, row: CrowdRow, round_s: Mapping[str, float]) -> float:
    """Seconds between the begins of two rounds of a user of a row; pacing may make them more."""
    pacing = crowd.load.pacing_s
    paced = sum(pacing) / len(pacing) if pacing else 0.0
    return max(round_s.get(row.journey, 0.0), paced, SHORTEST_ROUND_S)


def follows(plan: Plan, journeys: Mapping[str, Journey], answered_us: Answered) -> Follows:
    """`answered_us` gives the recorded time in µs of an exchange of a journey's recording, None where it is not known.
    `journeys` are by what the plan's rows name.
    """
    times = {name: one_round(journey, plan.think_factor, answered_us) for name, journey in journeys.items()}
    round_s = {name: took for name, (took, _, _) in times.items()}
    rounds = exchanges_per_s = 0.0
    users = ceiling = 0
    for crowd in plan.everybody():
        weights = weighed(crowd, round_s)
        every = sum(weights.get(row.row, row.share) for row in crowd.rows)
        here_s = sum(end - start for _, start, end in crowd.users())
        begun = arrivals_of(segments(crowd.profile), crowd.unit_s) if crowd.unit_s else 0.0
        per_s = highest(crowd.profile) / crowd.unit_s if crowd.unit_s else 0.0
        at_once = 0.0
        for row in crowd.rows:
            part = weights.get(row.row, row.share) / every if every else 0.0
            took, requests = taken_s(crowd, row, round_s), times[row.journey][1] if row.journey in times else 0.0
            if crowd.unit_s:  # Little's law, both ways
                rounds += part * begun
                exchanges_per_s += part * per_s * requests
                at_once += part * per_s * round_s.get(row.journey, 0.0)
                continue
            exchanges_per_s += part * crowd.seats * requests / took
            if isinstance(crowd.load, UserRounds):
                rounds += part * crowd.load.users * crowd.load.rounds
            else:
                rounds += part * here_s / took
        users += min(crowd.seats, math.ceil(at_once)) if crowd.unit_s else crowd.seats
        ceiling += crowd.seats if crowd.unit_s else 0
    return Follows(
        users=users,
        ceiling=ceiling,
        seconds=run_ends_s(plan.everybody()),
        round_s=max(round_s.values(), default=0.0),
        rounds=int(rounds + 1e-6),
        exchanges_per_s=exchanges_per_s,
        answers_known=all(known for _, _, known in times.values()),
    )


def rows_needed(
    plan: Plan, round_s: Mapping[str, float], using: Collection[str], *, by_seat: bool = False
) -> tuple[list[tuple[float, float]], float]:
    """((start, end) in seconds of each user who needs rows since its journey is one of `using`, the shortest time of
    their rounds). Who arrives is there for one round, who holds a rate for all of it; `by_seat`: arrivals as so many
    places that are taken again and again, as slices are dealt.
    """
    shortest = min((round_s.get(journey, 0.0) for journey in using), default=0.0)
    made: list[tuple[float, float]] = []
    for crowd in plan.everybody():
        if not sum(row.share for row in crowd.rows):
            continue
        turns = turns_of(crowd, weighed(crowd, round_s))
        uses = [row.journey in using for row in crowd.rows]
        if isinstance(crowd.load, Arrivals) and not by_seat:
            instants = instants_s(segments(crowd.profile), crowd.unit_s, evenly())
            here = islice(enumerate(instants), MOST)
            made.extend((crowd.starts_s + at, crowd.starts_s + at + shortest / 2) for k, at in here if uses[turns[k]])
        elif crowd.unit_s:
            mean_s = max((round_s.get(row.journey, 0.0) for row in crowd.rows), default=0.0)
            places = min(crowd.seats, max(1, math.ceil(highest(crowd.profile) / crowd.unit_s * mean_s)))
            made.extend((crowd.starts_s, crowd.ends_s) for k in range(places) if uses[turns[k]])
        else:
            rounds = crowd.load.rounds if isinstance(crowd.load, UserRounds) else math.inf
            for k, start, end in crowd.users():
                if uses[turns[k - 1]]:
                    made.append((start, min(end, start + (rounds - 0.5) * shortest) if shortest else end))
    return sorted(made), shortest
