"""What follows from a plan, before it runs: from think times, recorded answer times and the profile."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from dynamikos.core.journeys import Journey, Step
from dynamikos.core.journeys.kinds import Choosing, Repeating
from dynamikos.core.plans.model import Plan
from dynamikos.core.profiles import duration_s, peak, start_instants_s


@dataclass(frozen=True, slots=True)
class Follows:
    """`users` at most, for `seconds`; a round takes `round_s`, so there are so many `rounds` and, at the peak,
    exchanges a second (Little's law: users divided by the time of a round). `starts_s` are the planned users'
    (start, end). `answers_known`: every request's time was recorded; what was not counts as none.
    """

    users: int
    seconds: float
    round_s: float
    rounds: int
    exchanges_per_s: float
    starts_s: list[tuple[float, float]]
    answers_known: bool


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


def follows(plan: Plan, journey: Journey, answered_us: Callable[[int], int | None]) -> Follows:
    """`answered_us` gives the recorded time in µs of an exchange of the journey's recording, None where it is not
    known.
    """
    requests = total_us = thinks_s = 0.0
    known = True
    for step, share in expected(journey.active().rounds):
        thinks_s += share * step.mean_think_s()
        for request in step.requests:
            requests += share * (1 + len(request.embedded))
            took = answered_us(request.recorded) if request.recorded is not None else None
            known = known and took is not None
            total_us += share * (took or 0)
    round_s = thinks_s * plan.think_factor + total_us / 1e6
    starts_s, users = start_instants_s(plan.profile), peak(plan.profile)
    return Follows(
        users=users,
        seconds=duration_s(plan.profile),
        round_s=round_s,
        rounds=int(sum(end - start for start, end in starts_s) / round_s) if round_s > 0 else 0,
        exchanges_per_s=users * requests / round_s if round_s > 0 else 0.0,
        starts_s=starts_s,
        answers_known=known,
    )
