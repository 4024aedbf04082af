"""Whether a plan measures for long enough: for the percentiles that its objectives ask for, and to
be compared.
"""

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from dynamikos.core.figures import short
from dynamikos.core.journeys import Journey
from dynamikos.core.objectives import Objective
from dynamikos.core.plans.follows import Follows, expected
from dynamikos.core.plans.model import Plan
from dynamikos.core.statistics.intervals import LEAST_N, LEAST_S

# a percentile p is shown from n·(100 − p) ≥ 100 on; see core.statistics.histogram.enough_for
PER_PERCENTILE = 100.0
LONGEST_S = 864_000.0  # what would take longer is asked too seldom to be waited for
Rates = Mapping[tuple[str, str], float]  # a second, by row and step


def rates_of(journeys: Mapping[str, Journey], follows: Follows) -> dict[tuple[str, str], float]:
    """How often a second each step of a round is expected to end when most users are there, by row
    and step.
    """
    made: dict[tuple[str, str], float] = {}
    for row in follows.rows:
        journey = journeys.get(row.journey)
        for step, share in expected(journey.active().rounds) if journey is not None else ():
            if step.requests:
                key = row.row, step.step
                made[key] = made.get(key, 0.0) + row.rounds_per_h / 3600 * share
    return made


@dataclass(frozen=True, slots=True)
class TooShort:
    """What the measured part is too short for, with how long would be enough; whether the plan
    itself asks for it.
    """

    said: str
    is_asked_for: bool


def too_short(
    plan: Plan, journeys: Mapping[str, Journey], follows: Follows | None
) -> Iterator[TooShort]:
    """Nothing where the measured part is long enough, or it is not known what comes of the plan."""
    if follows is None:
        return
    begin, end = plan.measured_s
    lasts, rates = end - begin, rates_of(journeys, follows)
    names = {step.step: step.name for journey in journeys.values() for _, step in journey.steps()}
    for each in plan.objectives:
        yield from (TooShort(said, True) for said in _percentile(each, plan, rates, lasts, names))
    by_step: dict[tuple[str, str], float] = {}
    rows = {row.row: row.journey for crowd in plan.everybody() for row in crowd.rows}
    for (row, step), rate in rates.items():
        key = rows.get(row, ""), step
        by_step[key] = by_step.get(key, 0.0) + rate
    seldom = min(by_step, key=lambda key: by_step[key], default=("", ""))
    needed = max(LEAST_S, LEAST_N / by_step[seldom]) if by_step.get(seldom) else LEAST_S
    if lasts < needed <= LONGEST_S:
        yield TooShort(
            f"To be compared with another run, each step needs {LEAST_N} samples and {LEAST_S:.0f} "
            "s of measured time:"
            f" about {_long(needed)} instead of {short(lasts)} s, for "
            f"“{names.get(seldom[1], seldom[1])}”.",
            False,
        )


def _percentile(
    each: Objective, plan: Plan, rates: Rates, lasts: float, names: Mapping[str, str]
) -> Iterator[str]:
    if (
        each.percent is None
        or each.probe is not None
        or each.number is not None
        or each.every_s is not None
    ):
        return
    rows = {row.row: row.journey for crowd in plan.everybody() for row in crowd.rows}
    rate = sum(
        rate
        for (row, step), rate in rates.items()
        if each.row in (None, row)
        and each.journey in (None, rows.get(row))
        and each.step in (None, step)
    )
    needed = PER_PERCENTILE / (100 - each.percent)
    if rate > 0 and rate * lasts < needed and needed / rate <= LONGEST_S:
        about = f"“{names.get(each.step, each.step)}”" if each.step else "all steps"
        yield (
            f"A {each.measure} of {about} needs {needed:,.0f} samples, and about "
            f"{short(rate * lasts)} are expected in"
            f" the measured {short(lasts)} s: {_long(needed / rate)} would be enough."
        )


def _long(seconds: float) -> str:
    return f"{math.ceil(seconds):,} s" if seconds < 600 else f"{short(seconds / 60)} min"
