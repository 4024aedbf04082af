"""From the evidence of a run to its capacity: steady stretches as levels, and what a round takes of each resource."""

from collections.abc import Mapping

import numpy as np

from dynamikos.core.analysis.capacity import Capacity, Level, capacity
from dynamikos.core.analysis.evidence import Evidence
from dynamikos.core.plans.follows import thinks_s
from dynamikos.core.profiles import segments

FEWEST = 10  # rounds of a level
FULL = 0.95  # from such a utilization on more rounds don't use more of it


def capacity_of(whole: Evidence) -> Capacity | None:
    """None where the plan holds but one level of load, or nothing steady came of more."""
    flat = (part for crowd in whole.frozen.crowds for part in segments(crowd.profile) if part.low == part.high)
    if len({part.low for part in flat if part.low and part.end > part.begin}) < 2:
        return None
    think_s = _think_s(whole)
    levels = []
    for begin, end in whole.steady():
        passed, _, took_s = whole.rounds(begin, end)
        if passed >= FEWEST:
            load = float(np.nanmean(whole.users[begin:end]))
            levels.append(Level(load, passed / (end - begin), max(1e-6, took_s / passed - think_s)))
    if len({round(each.load) for each in levels}) < 2:
        return None
    return capacity(levels, _demands(whole))


def _think_s(whole: Evidence) -> float:
    """Mean thinking of a round, in s, as the journeys say, by the rounds of each."""
    passed = {key: whole.ledger.all_of("round", journey=key).passed.n for key in whole.frozen.journeys}
    thinks = sum(n * thinks_s(whole.frozen.journeys[key]) for key, n in passed.items())
    return whole.frozen.plan.think_factor * thinks / max(1, sum(passed.values()))


def _demands(whole: Evidence) -> Mapping[str, float]:
    """Seconds of each resource a round takes, over its servers: from utilizations (in %) and rounds, by least squares
    through nought (U = X·D/c).
    """
    stretches = whole.steady()
    rate = np.array([whole.rounds(begin, end)[0] / (end - begin) for begin, end in stretches])
    made = {}
    for each in whole.measures:
        if each.unit != "%" or each.is_host or "util" not in each.name:
            continue
        share = np.array([float(np.nanmean(each.trace[begin:end])) / 100 for begin, end in stretches])
        inside = share < FULL
        if inside.sum() >= 2 and (rate[inside] ** 2).sum() > 0:
            made[each.name] = float((rate[inside] * share[inside]).sum() / (rate[inside] ** 2).sum())
    return made
