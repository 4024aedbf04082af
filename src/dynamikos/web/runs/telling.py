"""A run as it is told in a report."""

import msgspec
import numpy as np

from dynamikos.core.analysis.capacity import Capacity
from dynamikos.core.analysis.evidence import Found
from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms import Unfit
from dynamikos.core.frozen.differing import differing
from dynamikos.core.telling import Report, report_of
from dynamikos.core.telling.model import Trace, lanes_of
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.web.runs import analysis, baselines, queries
from dynamikos.web.runs.models import Run


def report(found: Run) -> Report:
    """A draft of what is known of it. Raises DynamikosError for one that is not over, or of an unreadable verdict."""
    if not found.is_over or not found.outcome or found.watermark < 0:
        raise DynamikosError(f"Run {found.number} is not over, or nothing came of it; there is nothing to tell yet.")
    try:
        outcome = OUTCOME.of(found.outcome)
    except Unfit as problem:
        raise DynamikosError(f"The verdict of run {found.number} can't be read: {problem}.") from problem
    inputs = queries.as_run(found, queries.frozen(found))
    noticed, capacity = _noticed(found)
    changed, against = _changed(found)
    return report_of(
        inputs,
        outcome,
        lanes(found),
        run=f"run {found.number}",
        when=f"{found.begins_at:%Y-%m-%d %H:%M:%S} UTC" if found.begins_at else "",
        findings=noticed,
        capacity=capacity,
        changed=changed,
        against=against,
        remarks=[(each.second, each.text) for each in queries.remarks(found)],
    )


def _noticed(found: Run) -> tuple[list[Found], Capacity | None]:
    """As it was noticed when it was over; looked for now where that is still to come or can't be read."""
    try:
        if found.findings is not None:
            return msgspec.convert(found.findings, list[Found]), queries.capacity(found)
    except msgspec.ValidationError:
        pass
    return analysis.look(found)


def lanes(found: Run):  # type: ignore[no-untyped-def]
    """Those of the run, second by second, and of its servers."""
    frames, seconds = list(queries.every_frame(found)), found.watermark + 1
    inputs = queries.as_run(found, queries.frozen(found))

    def trace(value) -> Trace:  # type: ignore[no-untyped-def]
        made = np.full(seconds, np.nan)
        for each in frames:
            told = value(each)
            if each.second < seconds and told is not None:
                made[each.second] = told
        return made

    percentiles = {"p95": trace(lambda each: each.p95_ms), "p50": trace(lambda each: each.p50_ms)}
    return lanes_of(
        trace(lambda each: float(each.users)), trace(lambda each: each.answered + each.failed),
        trace(lambda each: float(sum(each.kinds.values()))), percentiles, analysis.measured(found, inputs),
        inputs.plan.objectives,
    )  # fmt: skip


def _changed(found: Run) -> tuple[list[str], str]:
    """What is not as in the baseline of its plan, else as in the run before it."""
    baseline = baselines.current(found.plan_id)
    first = baseline.runs.order_by("number").first() if baseline is not None else None
    if first is not None and first.pk != found.pk:
        return differing(queries.frozen(first), queries.frozen(found)), f"the baseline, run {first.number}"
    if found.differs is not None:
        return found.differs, "the run before it"
    return [], ""
