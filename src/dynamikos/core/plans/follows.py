"""What follows from a plan, before it runs: from think times, recorded answer times and the profile."""

import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass

from dynamikos.core.journeys import Journey, Step
from dynamikos.core.journeys.kinds import Choosing, Repeating
from dynamikos.core.plans.crowds import run_ends_s
from dynamikos.core.plans.model import Plan
from dynamikos.core.profiles import UserRounds, highest, peak, segments
from dynamikos.core.profiles.instants import expected as arrivals_of

Answered = Callable[[str, int], int | None]  # journey and number of the exchange in its recording


@dataclass(frozen=True, slots=True)
class Follows:
    """`users` at most, for `seconds`; of those who arrive they are predicted (Little's law), and no more than their
    `ceiling`, which is 0 where nobody arrives. The longest of the journeys' rounds takes `round_s`; there are so many
    `rounds` and, at the peak, exchanges a second (Little's law: users divided by the time of a round). `starts_s` are
    the planned users' (start, end). `answers_known`: every request's time was recorded; what was not counts as none.
    """

    users: int
    seconds: float
    round_s: float
    rounds: int
    exchanges_per_s: float
    starts_s: list[tuple[float, float]]
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


def follows(plan: Plan, journeys: Mapping[str, Journey], answered_us: Answered) -> Follows:
    """`answered_us` gives the recorded time in µs of an exchange of a journey's recording, None where it is not known.
    `journeys` are by what the plan's rows name.
    """
    crowds, known = plan.everybody(), True
    times = {name: one_round(journey, plan.think_factor, answered_us) for name, journey in journeys.items()}
    rounds = exchanges_per_s = 0.0
    users = ceiling = 0
    starts_s: list[tuple[float, float]] = []
    for crowd in crowds:
        spans = [(start, end) for _, start, end in crowd.users()]
        starts_s.extend(spans)
        every = sum(row.share for row in crowd.rows)
        mean_s = exchanges = 0.0
        for row in crowd.rows:
            took, requests, said = times.get(row.journey, (0.0, 0.0, True))
            known = known and said
            if every:
                mean_s += took * row.share / every
                exchanges += requests * row.share / every
        if crowd.unit_s:
            per_s = highest(crowd.profile) / crowd.unit_s
            rounds += arrivals_of(segments(crowd.profile), crowd.unit_s)
            exchanges_per_s += per_s * exchanges
            users += min(crowd.seats, math.ceil(per_s * mean_s))
            ceiling += crowd.seats
            continue
        users += crowd.seats
        if isinstance(crowd.load, UserRounds):
            rounds += crowd.load.users * crowd.load.rounds
            exchanges_per_s += crowd.load.users * exchanges / mean_s if mean_s else 0.0
        elif mean_s:
            rounds += sum(end - start for start, end in spans) / mean_s
            exchanges_per_s += peak(crowd.profile) * exchanges / mean_s
    return Follows(
        users=users,
        ceiling=ceiling,
        seconds=run_ends_s(crowds),
        round_s=max((took for took, _, _ in times.values()), default=0.0),
        rounds=int(rounds),
        exchanges_per_s=exchanges_per_s,
        starts_s=sorted(starts_s),
        answers_known=known,
    )
