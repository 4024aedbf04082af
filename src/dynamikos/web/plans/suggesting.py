"""Objectives suggested from what was measured: by an earlier run of the plan, or by a rehearsal of
its journeys.
"""

import math
from collections.abc import Iterator

from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms import Unfit
from dynamikos.core.journeys import key_from
from dynamikos.core.objectives import Objective
from dynamikos.core.reports import unpack_kept
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.plans.queries import content, journeys_of
from dynamikos.web.rehearsals.models import Rehearsal


def sources(found: LoadPlan) -> list[tuple[str, str]]:
    """(value, words) of all that objectives can be taken from, the newest first."""
    runs = found.runs.filter(state="ended", outcome__isnull=False, is_trial=False).order_by(
        "-asked_at"
    )[:5]
    made = [(f"run:{run.pk}", f"run {run.number}") for run in runs]
    for journey in journeys_of(found, content(found)).values():
        if journey is None:
            continue
        passed = journey.rehearsals.filter(state=Rehearsal.State.PASSED).order_by("-number").first()
        if passed is not None:
            made.append((f"rehearsal:{passed.pk}", f"rehearsal {passed.number} of {journey.name}"))
    return made


def suggestions(found: LoadPlan, source: str, factor: float) -> list[Objective]:
    """A 95th percentile for each step that `source` measured, times `factor`, on two digits
    upwards; steps that have an objective on it already are left alone. Raises DynamikosError for
    what is not there.
    """
    if source not in dict(sources(found)):
        raise DynamikosError("Choose a run or a rehearsal to take objectives from.")
    kind, _, pk = source.partition(":")
    core = content(found)
    several = len(core.journeys) > 1
    has = {(each.journey, each.step) for each in core.objectives if each.measure == "p95"}
    taken = {each.objective for each in core.objectives}
    made: list[Objective] = []
    for journey, step, measured_ms in _of_run(found, pk) if kind == "run" else _of_rehearsal(pk):
        named = journey if several else None
        if (named, step) in has or measured_ms <= 0:
            continue
        has.add((named, step))
        key = key_from(f"p95 {step}", taken)
        taken.add(key)
        made.append(
            Objective(
                objective=key,
                measure="p95",
                step=step,
                journey=named,
                limit=up(measured_ms * factor),
            )
        )
    if not made:
        raise DynamikosError(
            "Nothing to suggest: every step it measured has such an objective, or none was "
            "measured."
        )
    return made


def up(value: float) -> float:
    """To two digits, upwards."""
    unit = 10.0 ** (math.floor(math.log10(value)) - 1)
    return float(f"{math.ceil(value / unit - 1e-9) * unit:.10g}")


def _of_run(found: LoadPlan, pk: str) -> Iterator[tuple[str, str, float]]:
    """(journey, step, ms) of its measured part."""
    outcome = found.runs.get(pk=pk).outcome
    try:
        rows = OUTCOME.of(outcome).rows
    except Unfit as problem:
        raise DynamikosError(f"What that run came to can't be read: {problem}.") from problem
    for row in rows:
        value = row.p95_ms if row.p95_ms is not None else row.max_ms
        if row.level == "step" and value is not None:
            yield row.journey, row.step, value


def _of_rehearsal(pk: str) -> Iterator[tuple[str, str, float]]:
    """(journey, step, ms): the longest of its rounds."""
    rehearsal = Rehearsal.objects.select_related("journey").get(pk=pk)
    took: dict[tuple[str, int], float] = {}
    for body in rehearsal.exchanges.values_list("body", flat=True):
        kept = unpack_kept(bytes(body))
        if not kept.item and not kept.resource:
            at = (kept.step, kept.round)
            took[at] = took.get(at, 0.0) + kept.duration_us / 1000
    for step in dict.fromkeys(step for step, _ in took):
        yield rehearsal.journey.key, step, max(ms for (name, _), ms in took.items() if name == step)
