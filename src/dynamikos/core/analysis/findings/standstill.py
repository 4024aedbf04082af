"""Seconds in which nothing passed at all, although visitors were there."""

import math
from collections.abc import Iterator

import numpy as np

from dynamikos.core.analysis.evidence import Evidence, Found, joined
from dynamikos.core.analysis.findings.blocks import LEAST
from dynamikos.core.objectives import describe
from dynamikos.core.verdicts.objectives import names_of

SHORTEST_S = 3


def standstill(evidence: Evidence) -> Iterator[Found]:
    """Stretches of three seconds and more in which nothing passed, where as much as usual would
    leave none by chance.
    """
    begin, end = evidence.measured
    where = evidence.places(begin, end)
    lines = evidence.steps()
    if not lines or evidence.width > 1:
        return
    passed = np.sum([each.passed[where] for each in lines], axis=0)
    failed = np.sum([each.failed[where] for each in lines], axis=0)
    there = evidence.users[begin:end][: len(passed)] > 0
    usual = float(np.median(passed[passed > 0])) if (passed > 0).any() else 0.0
    needed = -math.log(LEAST / max(1, len(passed)))  # Poisson: so many that were due, and none came
    found = [
        (first, last) for first, last in _runs((passed == 0) & there)
        if last - first >= SHORTEST_S and usual * (last - first) >= needed and last < len(passed)
    ]  # fmt: skip
    if not found:
        return
    seconds = sum(last - first for first, last in found)
    first, last = max(found, key=lambda each: each[1] - each[0])
    lost = int(sum(failed[low:high].sum() for low, high in found))
    said = joined(f"{begin + low} to {begin + high}" for low, high in found)
    waited = list(_waited(evidence, found, len(passed)))
    yield Found(
        rule="standstill",
        about="target",
        sentence=f"Nothing passed from second {said}: {seconds} of {len(passed)} measured seconds"
        + (f"; {lost:,} steps failed meanwhile." if lost else "; whoever was there waited."),
        means=" ".join(waited) or "The target, or the way to it, stood still for everybody.",
        try_="Read the suspects of this window, and the target's log of these seconds.",
        evidence={"usual": f"{usual:.3g} steps/s"},
        window=(max(0, begin + first - 2), begin + last + 2),
        impact=seconds / len(passed),
    )


def _waited(evidence: Evidence, found: list[tuple[int, int]], measured_s: int) -> Iterator[str]:
    """Beside percentiles: in which part of the time somebody who came would have waited for longer
    than a limit.
    """
    for each in evidence.frozen.plan.objectives:
        if each.unit != "ms" or each.at_least or each.level not in ("step", "request"):
            continue
        over = sum(max(0.0, last - first - each.limit / 1000) for first, last in found)
        if over > 0:
            said = describe(each, *names_of(evidence.frozen, each))
            yield (
                f"In {100 * over / measured_s:.3g} % of the time a visitor who came waited longer "
                f"than {said} allows."
            )


def _runs(is_so: np.ndarray) -> Iterator[tuple[int, int]]:
    begun: int | None = None
    for at, value in enumerate([*is_so, False]):
        if value and begun is None:
            begun = at
        elif not value and begun is not None:
            yield begun, at
            begun = None
