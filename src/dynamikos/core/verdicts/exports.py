"""JSON (docs/run-command.md) and JUnit XML of an outcome."""

import re
from collections import Counter
from collections.abc import Sequence
from xml.etree import ElementTree

import msgspec
import orjson

from dynamikos.core.figures import short
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.verdicts.document import document_of
from dynamikos.core.verdicts.outcome import Outcome
from dynamikos.core.verdicts.states import MISSED, NOT_JUDGED, code_of

NO_XML = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # XML 1.0, 2.2


def as_json(
    frozen: FrozenRun,
    outcome: Outcome,
    findings: Sequence[msgspec.Struct] = (),
    capacity: object = None,
) -> bytes:
    """Every step and request with its figures in named units, what was noticed, and the capacity
    where it was looked for; indented UTF-8 JSON.
    """
    value = msgspec.to_builtins(document_of(frozen, outcome, findings, capacity))
    return orjson.dumps(value, option=orjson.OPT_INDENT_2)


def refused_junit(plan: str, problem: str) -> bytes:
    """What stands for a run that could not be made: one test case in error."""
    return _suite(plan, [("the run is made", "error", problem, "")])


def as_junit(frozen: FrozenRun, outcome: Outcome) -> bytes:
    """One test case an objective and one for the measurement; missed = failure, not judged = error.
    What is not decided is a failure where the plan counts it as missed.
    """
    cases: list[_Case] = []
    for each in outcome.judgements:
        value = "nothing" if each.value is None else f"{short(each.value, 4)} {each.unit}"
        kind, message = "", ""
        if each.word == "missed":
            kind, message = "failure", f"{each.sentence}: was {value}"
        elif (
            each.word == "not decided"
            and code_of([each], frozen.plan.undecided, is_turned=False) == MISSED
        ):
            kind, message = "failure", f"{each.sentence}: was {value}; {each.reason}"
        elif each.word == "not judged":
            kind, message = "error", f"not judged: {each.reason}"
        cases.append((each.sentence, kind, message, value))
    doubted = outcome.exit_code == NOT_JUDGED and bool(outcome.doubts)
    cases.append(
        ("the measurement is not doubted", "error" if doubted else "", " ".join(outcome.doubts), "")
    )
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
