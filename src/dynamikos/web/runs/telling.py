"""A run as it is told in a report."""

from collections.abc import Sequence

import msgspec
import numpy as np

from dynamikos.core.analysis.capacity import Capacity
from dynamikos.core.analysis.evidence import Found
from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms import Unfit
from dynamikos.core.frozen import FrozenRun, every_series
from dynamikos.core.frozen.differing import differing
from dynamikos.core.objectives import Objective
from dynamikos.core.statistics import Histogram
from dynamikos.core.telling import Report, report_of
from dynamikos.core.telling.model import Lane, Trace, lanes_of, lanes_of_objectives
from dynamikos.core.verdicts.objectives import series_of_objective
from dynamikos.core.verdicts.outcome import OUTCOME, Outcome
from dynamikos.web.runs import analysis, baselines, queries, reading
from dynamikos.web.runs.models import Run


def report(found: Run) -> Report:
    """A draft of what is known of it. Raises DynamikosError for one that is not over, or of an
    unreadable verdict.
    """
    if not found.is_over or not found.outcome or found.watermark < 0:
        raise DynamikosError(
            f"Run {found.number} is not over, or nothing came of it; there is nothing to tell yet."
        )
    try:
        outcome = OUTCOME.of(found.outcome)
    except Unfit as problem:
        raise DynamikosError(
            f"The verdict of run {found.number} can't be read: {problem}."
        ) from problem
    inputs = queries.as_run(found, queries.frozen(found))
    noticed, capacity = _noticed(found)
    changed, against = _changed(found)
    return report_of(
        inputs,
        outcome,
        lanes(found, outcome, noticed),
        run=f"run {found.number}",
        when=f"{found.begins_at:%Y-%m-%d %H:%M:%S} UTC" if found.begins_at else "",
        findings=noticed,
        capacity=capacity,
        changed=changed,
        against=against,
        remarks=[(each.second, each.text) for each in queries.remarks(found)],
    )


def _noticed(found: Run) -> tuple[list[Found], Capacity | None]:
    """As it was noticed when it was over; looked for now where that is still to come or can't be
    read.
    """
    try:
        if found.findings is not None:
            return msgspec.convert(found.findings, list[Found]), queries.capacity(found)
    except msgspec.ValidationError:
        pass
    return analysis.look(found)


def _suspected(found: Run, inputs: FrozenRun, noticed: Sequence[Found]) -> list[str]:
    """The measures that are named as suspects of the first finding that has a step and a window."""
    about = next((each for each in noticed if each.step and each.window is not None), None)
    if about is None or about.window is None:
        return []
    every = [
        each
        for each in every_series(inputs)
        if each.level in ("step", "repeat") and each.step == about.step
    ]
    numbers = [each.no for each in every if about.journey in ("", each.journey)]
    if not numbers:
        return []
    look, _, _ = analysis.suspects_of(found, inputs, numbers, about.window)
    return [each.measure for each in look.named]


def lanes(found: Run, outcome: Outcome | None = None, noticed: Sequence[Found] = ()) -> list[Lane]:
    """Those of the run, second by second, and of its servers; of one with its `outcome` those that
    matter to it.
    """
    frames, seconds = list(queries.every_frame(found)), found.watermark + 1
    inputs = queries.as_run(found, queries.frozen(found))

    def trace(value) -> Trace:  # type: ignore[no-untyped-def]
        made = np.full(seconds, np.nan)
        for each in frames:
            told = value(each)
            if each.second < seconds and told is not None:
                made[each.second] = told
        return made

    def times(objective: Objective) -> dict[int, Histogram]:
        numbers = [each.no for each in series_of_objective(objective, every_series(inputs))]
        made: dict[int, Histogram] = {}
        for second, part in reading.fine_parts(found, numbers, 0, seconds):
            made.setdefault(second, Histogram()).merge(Histogram.joined((part.hist, part.cut_hist)))
        return made

    percentiles = {"p95": trace(lambda each: each.p95_ms), "p50": trace(lambda each: each.p50_ms)}
    return lanes_of(
        trace(lambda each: float(each.users)),
        trace(lambda each: each.answered + each.failed),
        trace(lambda each: float(sum(each.kinds.values()))),
        percentiles,
        analysis.measured(found, inputs),
        inputs.plan.objectives,
        []
        if outcome is None
        else lanes_of_objectives(outcome.judgements, inputs.plan.objectives, times, seconds),
        [] if outcome is None else _suspected(found, inputs, noticed),
        all_of=outcome is None,
    )


def _changed(found: Run) -> tuple[list[str], str]:
    """What is not as in the baseline of its plan, else as in the run before it."""
    baseline = baselines.current(found.plan_id)
    first = baseline.runs.order_by("number").first() if baseline is not None else None
    if first is not None and first.pk != found.pk:
        return differing(
            queries.frozen(first), queries.frozen(found)
        ), f"the baseline, run {first.number}"
    if found.differs is not None:
        return found.differs, "the run before it"
    return [], ""
