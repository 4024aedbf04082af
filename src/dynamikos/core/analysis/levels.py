"""From the evidence of a run to its capacity: steady stretches as levels, and what a round takes of
each resource.
"""

import math
from collections.abc import Mapping

import numpy as np

from dynamikos.core.analysis.capacity import Array, Capacity, Level, capacity, student
from dynamikos.core.analysis.evidence import Evidence
from dynamikos.core.plans.follows import thinks_s
from dynamikos.core.profiles import segments

FEWEST = 10  # rounds of a level
PIECE_S, FEWEST_PIECES = 10, 3  # of a level, each with a rate and a utilization of its own
FULL = 0.95  # from such a utilization on more rounds don't use more of it


def capacity_of(whole: Evidence) -> Capacity | None:
    """None where the plan holds but one level of load, or nothing steady came of more, and no probe
    tells how much of a resource was used there.
    """
    flat = (
        part
        for crowd in whole.frozen.crowds
        for part in segments(crowd.profile)
        if part.low == part.high
    )
    planned = {part.low for part in flat if part.low and part.end > part.begin}
    think_s = _think_s(whole)
    levels = []
    for begin, end in whole.steady():
        passed, _, took_s = whole.rounds(begin, end)
        if passed >= FEWEST:
            load = float(np.nanmean(whole.users[begin:end]))
            levels.append(Level(load, passed / (end - begin), max(1e-6, took_s / passed - think_s)))
    demands, halves = _demands(whole)
    if (len(planned) < 2 or len({round(each.load) for each in levels}) < 2) and not (
        levels and demands
    ):
        return None
    return capacity(levels, demands, halves)


def _think_s(whole: Evidence) -> float:
    """Mean thinking of a round, in s, as the journeys say, by the rounds of each."""
    passed = {
        key: whole.ledger.all_of("round", journey=key).passed.n for key in whole.frozen.journeys
    }
    thinks = sum(n * thinks_s(whole.frozen.journeys[key]) for key, n in passed.items())
    return whole.frozen.plan.think_factor * thinks / max(1, sum(passed.values()))


def _demands(whole: Evidence) -> tuple[Mapping[str, float], Mapping[str, float]]:
    """Seconds of each resource a round takes, over its servers, from utilizations (in %) and
    rounds; and the half widths of their 95 % intervals.
    """
    stretches = whole.steady()
    pieces = [
        (at, begin + PIECE_S * number)
        for at, (begin, end) in enumerate(stretches) for number in range((end - begin) // PIECE_S)
    ]  # fmt: skip
    rate = np.array([whole.rounds(begin, end)[0] / (end - begin) for begin, end in stretches])
    begun = np.array([whole.rounds(begin, begin + PIECE_S)[0] / PIECE_S for _, begin in pieces])
    made, halves = {}, {}
    for each in whole.measures:
        if each.unit != "%" or each.is_host or "util" not in each.name:
            continue
        share = np.array([_mean(each.trace[begin:end]) / 100 for begin, end in stretches])
        used = np.array([_mean(each.trace[begin : begin + PIECE_S]) / 100 for _, begin in pieces])
        known = [
            number
            for number, (at, _) in enumerate(pieces)
            if share[at] < FULL and not np.isnan(used[number])
        ]
        if len(known) >= FEWEST_PIECES:
            of = rate[[pieces[number][0] for number in known]]
            found = demand(of, begun[known], used[known])
            if found is not None:
                made[each.name], halves[each.name] = found
    return made, halves


def _mean(trace: Array) -> float:
    kept = trace[~np.isnan(trace)]
    return float(kept.mean()) if len(kept) else float("nan")


def demand(of: Array, rate: Array, used: Array) -> tuple[float, float] | None:
    """(seconds of a resource a round takes over its servers, half the width of its 95 % interval)
    by the utilization law U = X·D/c: least squares through nought on the rates `of` whole levels,
    whose pieces had `rate` rounds a second and `used` of the resource in parts of 1. What a level's
    own rounds vary by is no error of the demand, so each piece is held against its own rate. None
    where nothing was used.
    """
    squares = float((of**2).sum())
    value = float((of * used).sum()) / squares if squares > 0 else 0.0
    if value <= 0:
        return None
    n = len(of)
    error = math.sqrt(float((of**2 * (used - value * rate) ** 2).sum()) * n / (n - 1)) / squares
    return value, student(n - 1) * error
