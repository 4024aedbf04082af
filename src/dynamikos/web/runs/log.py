"""The runs of a project as a log: what each was, what came of it, and what was different from the
one before.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from django.db.models import Q, QuerySet

from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms import Unfit
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.differing import differing
from dynamikos.core.verdicts.changes import changes_in
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.core.verdicts.states import COULD_NOT_RUN, WORDS
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.runs.models import Run

MOST = 200
CODES: dict[str, int] = {word: code for code, word in WORDS.items() if code != COULD_NOT_RUN}
LONGEST_WORDS = 300  # of what differs, each


@dataclass(frozen=True, slots=True)
class Line:
    """A run with its key figures: exchanges a second and the share that failed of the measured
    part, and the step that was slowest with its p95.
    """

    run: Run
    per_s: float | None
    failed: float | None
    slowest: str
    p95_ms: float | None
    lasted_s: float | None


def lines(runs: Sequence[Run]) -> list[Line]:
    return [_line(run) for run in runs]


def _line(run: Run) -> Line:
    outcome: dict[str, Any] = run.outcome or {}
    rows = [each for each in outcome.get("rows", []) if isinstance(each, dict)]
    requests = [each for each in rows if each.get("level") == "request"]
    every = sum(each.get("count", 0) for each in requests)
    timed = [
        each for each in rows if each.get("level") == "step" and each.get("p95_ms") is not None
    ]
    slowest = max(timed, key=lambda each: each["p95_ms"], default=None)
    lasted = (
        (run.ended_at - run.begins_at).total_seconds() if run.ended_at and run.begins_at else None
    )
    return Line(
        run,
        sum(each.get("per_s", 0.0) for each in requests) if requests else None,
        100 * sum(each.get("failures", 0) for each in requests) / every if every else None,
        slowest["name"] if slowest else "",
        slowest["p95_ms"] if slowest else None,
        lasted,
    )


SORTS: dict[str, Callable[[Line], Any]] = {
    "plan": lambda each: each.run.name.lower(),
    "exchanges": lambda each: each.per_s,
    "failed": lambda each: each.failed,
    "slowest": lambda each: each.p95_ms,
    "took": lambda each: each.lasted_s,
}


def ordered(every: list[Line], sort: str, *, down: bool) -> list[Line]:
    """By a key figure, those without it last; the newest first where none is named."""
    if sort not in SORTS:
        return every if down else every[::-1]
    known = [each for each in every if SORTS[sort](each) is not None]
    known.sort(key=SORTS[sort], reverse=down)
    return [*known, *(each for each in every if SORTS[sort](each) is None)]


def found(
    runs: QuerySet[Run],
    words: str,
    verdict: str,
    *,
    only_starred: bool = False,
    archived: bool = False,
) -> QuerySet[Run]:
    """Those whose name, plan, tags, note or differences have all the words, with a verdict where
    one is asked for; of those in the archive, or of all others.
    """
    runs = runs.defer("frozen", "marks", "findings", "capacity", "rejudged", "figures").filter(
        is_archived=archived
    )
    for word in words.split()[:10]:
        number = (
            Q(number=int(word)) if word.isascii() and word.isdigit() and len(word) < 10 else Q()
        )
        runs = runs.filter(
            Q(name__icontains=word) | Q(tags__icontains=word) | Q(remark__icontains=word)
            | Q(plan__name__icontains=word) | Q(differs__icontains=word) | number
        )  # fmt: skip
    if verdict in CODES:
        runs = runs.filter(outcome__exit_code=CODES[verdict], is_trial=False)
    if only_starred:
        runs = runs.filter(is_starred=True)
    return runs


def with_changes(run: Run) -> list[str] | None:
    """What was not as before, with what came of it: steps that fail now, and those far slower or
    quicker; None where there was no run before.
    """
    told: list[str] | None = run.differs
    before = _before(run)
    if before is None or not before.outcome or not run.outcome or run.is_trial:
        return told
    try:
        was, now = OUTCOME.of(before.outcome), OUTCOME.of(run.outcome)
    except Unfit:
        return told
    return [*(told or []), *(each[:LONGEST_WORDS] for each in changes_in(was.rows, now.rows))]


def _before(run: Run) -> Run | None:
    if run.plan is None:
        return None
    ended = run.plan.runs.filter(
        state=Run.State.ENDED, is_trial=run.is_trial, asked_at__lt=run.asked_at
    )
    return ended.order_by("-asked_at").first()


def differs_from_before(plan: LoadPlan, frozen: FrozenRun) -> list[str] | None:
    """What is not as in the run of the plan before; None where there is none that can be read."""
    before = (
        plan.runs.filter(state=Run.State.ENDED, is_trial=frozen.trial).order_by("-asked_at").first()
    )
    if before is None:
        return None
    from dynamikos.web.runs.queries import frozen as frozen_of

    try:
        return [each[:LONGEST_WORDS] for each in differing(frozen_of(before), frozen)]
    except DynamikosError:
        return None
