"""What an objective can't say, whatever the plan: wherever it comes from, it is asked here."""

from collections.abc import Callable, Iterator

from dynamikos.core.objectives.model import Objective


def problems(objective: Objective, said: str) -> Iterator[str]:
    """What can't be measured or done, a sentence each; `said` is its beginning."""
    for is_so, problem in SENSELESS:
        if is_so(objective):
            yield f"{said} {problem.format(objective)}"


def _is_of_probe(objective: Objective) -> bool:
    return objective.probe is not None


def _is_of_probe_and_more(objective: Objective) -> bool:
    o = objective
    others = (o.step, o.until, o.request, o.number, o.row, o.journey)
    return _is_of_probe(o) and (any(others) or o.time != "response")


def _is_from_step_to_part(objective: Objective) -> bool:
    is_part = objective.request is not None or objective.time == "first-byte"
    return objective.until is not None and is_part


def _is_number_of_step(objective: Objective) -> bool:
    o = objective
    return o.number is not None and bool(o.step or o.until or o.request)


# what an objective can't say, and in which words that is told ({0} is the objective)
SENSELESS: tuple[tuple[Callable[[Objective], bool], str], ...] = (
    (
        lambda o: o.stops and o.every_s is None,
        "is to stop the run: say over which intervals it is judged ('every_s'), since all of it is "
        "late.",
    ),
    (
        lambda o: o.time == "first-byte" and not o.is_spread,
        "is about the first byte: take a percentile, the mean or the longest.",
    ),
    (
        lambda o: o.until is not None and o.step is None,
        "is about a time until the end of '{0.until}': say from which step.",
    ),
    (
        _is_from_step_to_part,
        "is about a time from step to step; a request or the first byte is no part of that.",
    ),
    (
        lambda o: o.request is not None and o.step is None,
        "is about the request '{0.request}': say of which step.",
    ),
    (
        lambda o: (o.probe is None) != (o.reading is None),
        "is about a probe's measure: say both which probe ('probe') and which measure ('reading').",
    ),
    (
        lambda o: _is_of_probe(o) and not o.is_spread,
        "is about a probe's measure: take a percentile, the mean or the largest.",
    ),
    (
        _is_of_probe_and_more,
        "is about a probe's measure, which belongs to no step, row or number; leave those away.",
    ),
    (
        lambda o: o.number is not None and not o.is_spread,
        "is about a number: take a percentile, the mean or the largest.",
    ),
    (_is_number_of_step, "is about a number, which belongs to no step; leave the step away."),
    (
        lambda o: o.measure == "throughput" and o.until is not None,
        "is about a time from step to step, which has no throughput; leave 'until' away.",
    ),
)
