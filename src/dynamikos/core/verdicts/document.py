"""A run as JSON: the form that other programs read. Its schema is published as
docs/run.schema.json.
"""

from collections.abc import Sequence
from typing import Any, Literal

import msgspec

from dynamikos.core.frozen import FrozenRun
from dynamikos.core.objectives import Judgement
from dynamikos.core.reports.by_value import Failing
from dynamikos.core.reports.ledger import Row
from dynamikos.core.text.convert import schema
from dynamikos.core.verdicts.ending import Ending
from dynamikos.core.verdicts.outcome import ArrivalFigures, Outcome, RowFigures
from dynamikos.core.verdicts.own import OwnDelay
from dynamikos.core.verdicts.states import State

# where nothing can be said of the limit
NO_CAPACITY = (
    "The run has fewer than two steady levels of load with ten rounds each, and no probe that told "
    "how much of a"
    " resource was used there; stairs of eight steps show where the limit is."
)


class _Document(msgspec.Struct, frozen=True, kw_only=True):
    pass


class Exchanges(_Document, frozen=True, kw_only=True):
    """`sent` = `answered` + `failed` + `abandoned` + `in_flight`: every exchange on the wire.
    `reopened`: sent once more, on a new connection, since a kept one was closed without a byte.
    """

    sent: int
    answered: int
    failed: int
    abandoned: int
    in_flight: int
    reopened: int


class People(_Document, frozen=True, kw_only=True):
    """`planned_peak` is 0 where all of them arrive; `left` and `reloaded` ran out of patience."""

    planned_peak: int
    peak: int
    left: int
    reloaded: int


class Rounds(_Document, frozen=True, kw_only=True):
    """Of the measured part, and of the whole run; `late`: begun later than planned."""

    passed: int
    failed: int
    passed_in_all: int | None
    failed_in_all: int | None
    late: int


class Generators(_Document, frozen=True, kw_only=True):
    """What they did themselves. `late_share`: of the measured seconds, 0 … 1, and `late_by` why.
    `load_share`: achieved of planned load. `bursts`: seconds after a stop in which they sent at
    once what was overdue. `own_limits`: requests that failed on limits of their machine.
    `carries_users`: of this kind, one generator at 70 % of its processor.
    """

    late_share: float
    bursts: list[int]
    late_by: dict[str, int]
    lost: list[str]
    load_share: float
    own_delay: OwnDelay | None
    own_limits: int
    carries_users: int | None
    processor_share: float


class RunDocument(_Document, frozen=True, kw_only=True):
    """A run and its verdict. Times in ms or s as their names say, on the run clock. `findings`:
    what was noticed, with `rule`, `about`, `sentence`, `means`, `try`, `evidence`, and `window`,
    `journey`, `step`, `request` where they are known. `failures_by_value`: by values of dealt
    columns, the most failures first.
    """

    form: Literal[1] = 1
    plan: str
    name: str
    journey: str
    journeys: list[str]
    seed: int
    verdict: str
    exit_code: int
    state: State
    doubted: bool
    ended: str
    ending: Ending
    measured_from_s: float
    measured_to_s: float
    objectives: list[Judgement]
    doubts: list[str]
    findings: list[dict[str, Any]]
    capacity: dict[str, Any] | None
    capacity_missing: str
    exchanges: Exchanges
    arrivals: ArrivalFigures | None
    crowd: list[RowFigures]
    users: People
    rounds: Rounds
    generators: Generators
    rows: list[Row]
    failures_by_value: list[dict[str, Any]]


def run_schema() -> dict[str, Any]:
    """The published JSON Schema of a run."""
    return schema(RunDocument, "Dynamikos run, form 1")


def document_of(
    frozen: FrozenRun, outcome: Outcome, findings: Sequence[msgspec.Struct], capacity: object
) -> RunDocument:
    """`findings` and `capacity` are those of the analysis, where it was made."""
    passed_in_all, failed_in_all = outcome.rounds_in_all or (None, None)
    return RunDocument(
        plan=frozen.plan.plan,
        name=frozen.plan.name,
        journey=frozen.journey.journey,
        journeys=sorted(frozen.journeys),
        seed=frozen.seed,
        verdict=outcome.sentence,
        exit_code=outcome.exit_code,
        state=outcome.state,
        doubted=outcome.is_doubted,
        ended=outcome.ended,
        ending=outcome.ending,
        measured_from_s=outcome.from_s,
        measured_to_s=outcome.to_s,
        objectives=outcome.judgements,
        doubts=outcome.doubts,
        findings=[_finding(each) for each in findings],
        capacity=msgspec.to_builtins(capacity),
        capacity_missing="" if capacity is not None else NO_CAPACITY,
        exchanges=Exchanges(
            sent=outcome.sent,
            answered=outcome.answered,
            failed=outcome.failed,
            abandoned=outcome.abandoned,
            in_flight=outcome.in_flight,
            reopened=outcome.reopened,
        ),
        arrivals=outcome.arrivals,
        crowd=outcome.crowd,
        users=People(
            planned_peak=outcome.planned_peak,
            peak=outcome.peak_users,
            left=outcome.left,
            reloaded=outcome.reloaded,
        ),
        rounds=Rounds(
            passed=outcome.rounds_passed,
            failed=outcome.rounds_failed,
            passed_in_all=passed_in_all,
            failed_in_all=failed_in_all,
            late=outcome.late_rounds,
        ),
        generators=Generators(
            late_share=outcome.late_share,
            bursts=outcome.bursts,
            late_by=outcome.late_by,
            lost=outcome.lost,
            load_share=outcome.load_share,
            own_delay=outcome.own_delay,
            own_limits=outcome.own_limits,
            carries_users=outcome.carries,
            processor_share=outcome.processor_share,
        ),
        rows=outcome.rows,
        failures_by_value=[_failing(each) for each in outcome.failing],
    )


def _finding(found: msgspec.Struct) -> dict[str, Any]:
    plain: dict[str, Any] = msgspec.to_builtins(found)
    return {name.rstrip("_"): value for name, value in plain.items() if value not in ("", None)}


def _failing(each: Failing) -> dict[str, Any]:
    journey, step, request = each.asked
    plain = {
        "journey": journey,
        "step": step,
        "request": request,
        "column": each.name,
        "failed": each.failed,
    }
    if each.values:
        return {**plain, "of": each.of, "different_values": each.values}
    return {
        **plain,
        "value": each.value,
        "of": each.of,
        "dealt": each.dealt,
        "dealt_in_all": each.dealt_in_all,
    }
