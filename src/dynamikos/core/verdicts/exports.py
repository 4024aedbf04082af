"""JSON (docs/run-command.md) and JUnit XML of an outcome."""

import re
from collections import Counter
from collections.abc import Sequence
from typing import Any
from xml.etree import ElementTree

import msgspec
import orjson

from dynamikos.core.figures import short
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.reports.by_value import Failing
from dynamikos.core.verdicts.outcome import Outcome
from dynamikos.core.verdicts.states import MISSED, NOT_JUDGED, code_of

NO_XML = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # XML 1.0, 2.2


# where nothing can be said of the limit
NO_CAPACITY = (
    "The run has fewer than two steady levels of load with ten rounds each, and no probe that told how much of a"
    " resource was used there; stairs of eight steps show where the limit is."
)


def _finding(found: msgspec.Struct) -> dict[str, Any]:
    plain: dict[str, Any] = msgspec.to_builtins(found)
    return {name.rstrip("_"): value for name, value in plain.items() if value not in ("", None)}


def _failing(each: Failing) -> dict[str, Any]:
    journey, step, request = each.asked
    plain = {"journey": journey, "step": step, "request": request, "column": each.name, "failed": each.failed}
    if each.values:
        return {**plain, "of": each.of, "different_values": each.values}
    return {**plain, "value": each.value, "of": each.of, "dealt": each.dealt, "dealt_in_all": each.dealt_in_all}


def as_json(
    frozen: FrozenRun, outcome: Outcome, findings: Sequence[msgspec.Struct] = (), capacity: object = None
) -> bytes:
    """Every step and request with its figures in named units, what was noticed, and the capacity where it was looked
    for; indented UTF-8 JSON.
    """
    value: dict[str, Any] = {
        "form": 1,
        "plan": frozen.plan.plan,
        "name": frozen.plan.name,
        "journey": frozen.journey.journey,
        "journeys": sorted(frozen.journeys),
        "seed": frozen.seed,
        "verdict": outcome.sentence,
        "exit_code": outcome.exit_code,
        "state": outcome.state,
        "doubted": outcome.is_doubted,
        "ended": outcome.ended,
        "ending": msgspec.to_builtins(outcome.ending),
        "measured_from_s": outcome.from_s,
        "measured_to_s": outcome.to_s,
        "objectives": [msgspec.to_builtins(each) for each in outcome.judgements],
        "doubts": outcome.doubts,
        "findings": [_finding(each) for each in findings],
        "capacity": msgspec.to_builtins(capacity),
        "capacity_missing": "" if capacity is not None else NO_CAPACITY,
        "exchanges": {
            "sent": outcome.sent,
            "answered": outcome.answered,
            "failed": outcome.failed,
            "abandoned": outcome.abandoned,
            "in_flight": outcome.in_flight,
            "reopened": outcome.reopened,
        },
        "arrivals": None if outcome.arrivals is None else msgspec.to_builtins(outcome.arrivals),
        "crowd": [msgspec.to_builtins(each) for each in outcome.crowd],
        "users": {
            "planned_peak": outcome.planned_peak,
            "peak": outcome.peak_users,
            "left": outcome.left,
            "reloaded": outcome.reloaded,
        },
        "rounds": {
            "passed": outcome.rounds_passed,
            "failed": outcome.rounds_failed,
            "passed_in_all": outcome.rounds_in_all[0] if outcome.rounds_in_all else None,
            "failed_in_all": outcome.rounds_in_all[1] if outcome.rounds_in_all else None,
            "late": outcome.late_rounds,
        },
        "generators": {
            "late_share": outcome.late_share,
            "bursts": outcome.bursts,
            "late_by": outcome.late_by,
            "lost": outcome.lost,
            "load_share": outcome.load_share,
            "own_delay": msgspec.to_builtins(outcome.own_delay),
            "own_limits": outcome.own_limits,
            "carries_users": outcome.carries,
            "processor_share": outcome.processor_share,
        },
        "rows": [msgspec.to_builtins(each) for each in outcome.rows],
        "failures_by_value": [_failing(each) for each in outcome.failing],
    }
    return orjson.dumps(value, option=orjson.OPT_INDENT_2)


def refused_junit(plan: str, problem: str) -> bytes:
    """What stands for a run that could not be made: one test case in error."""
    return _suite(plan, [("the run is made", "error", problem, "")])


def as_junit(frozen: FrozenRun, outcome: Outcome) -> bytes:
    """One test case an objective and one for the measurement; missed = failure, not judged = error. What is not decided
    is a failure where the plan counts it as missed.
    """
    cases: list[_Case] = []
    for each in outcome.judgements:
        value = "nothing" if each.value is None else f"{short(each.value, 4)} {each.unit}"
        kind, message = "", ""
        if each.word == "missed":
            kind, message = "failure", f"{each.sentence}: was {value}"
        elif each.word == "not decided" and code_of([each], frozen.plan.undecided, is_turned=False) == MISSED:
            kind, message = "failure", f"{each.sentence}: was {value}; {each.reason}"
        elif each.word == "not judged":
            kind, message = "error", f"not judged: {each.reason}"
        cases.append((each.sentence, kind, message, value))
    doubted = outcome.exit_code == NOT_JUDGED and bool(outcome.doubts)
    cases.append(("the measurement is not doubted", "error" if doubted else "", " ".join(outcome.doubts), ""))
    return _suite(frozen.plan.name, cases)


_Case = tuple[str, str, str, str]  # name; "failure", "error" or ""; its message; what was measured


def _suite(name: str, cases: Sequence[_Case]) -> bytes:
    """A JUnit test suite. What XML can't hold is replaced."""
    count = Counter(kind for _, kind, _, _ in cases)
    suite = ElementTree.Element(
        "testsuite",
        name=_clean(name),
        tests=str(len(cases)),
        failures=str(count["failure"]),
        errors=str(count["error"]),
    )
    for title, kind, message, value in cases:
        case = ElementTree.SubElement(suite, "testcase", classname=_clean(name), name=_clean(title))
        if kind:
            ElementTree.SubElement(case, kind, message=_clean(message))
        if value:
            ElementTree.SubElement(case, "system-out").text = _clean(value)
    made: bytes = ElementTree.tostring(suite, "UTF-8", xml_declaration=True)
    return made + b"\n"


def _clean(text: str) -> str:
    return NO_XML.sub("\ufffd", text)
