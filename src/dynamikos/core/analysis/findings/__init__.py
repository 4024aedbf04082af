"""Findings: each a rule that speaks where its evidence is there, and is silent elsewhere.

A rule takes the evidence of a run and yields what it found; those about the target have, all
together, a budget of one false finding in a hundred clear runs (tests/core/test_findings.py).
"""

import logging
from collections.abc import Callable, Iterator, Mapping, Sequence

from dynamikos.core.analysis.evidence import Evidence, Found
from dynamikos.core.analysis.findings.alike_although_data_differ import alike_although_data_differ
from dynamikos.core.analysis.findings.at_a_load import at_a_load
from dynamikos.core.analysis.findings.by_value import by_value
from dynamikos.core.analysis.findings.drift import drift
from dynamikos.core.analysis.findings.failing_steps import failing_steps
from dynamikos.core.analysis.findings.flat_throughput import flat_throughput
from dynamikos.core.analysis.findings.from_the_first_on import from_the_first_on
from dynamikos.core.analysis.findings.gust import gust
from dynamikos.core.analysis.findings.late_generators import late_generators
from dynamikos.core.analysis.findings.littles_law import littles_law
from dynamikos.core.analysis.findings.missed_in_part import missed_in_part
from dynamikos.core.analysis.findings.never_asked import never_asked
from dynamikos.core.analysis.findings.own_limits import own_limits
from dynamikos.core.analysis.findings.places_differ import places_differ
from dynamikos.core.analysis.findings.rows_differ import rows_differ
from dynamikos.core.analysis.findings.rows_used_up import rows_used_up
from dynamikos.core.analysis.findings.saturation import saturation
from dynamikos.core.analysis.findings.shift import shift
from dynamikos.core.analysis.findings.silent_probes import silent_probes
from dynamikos.core.analysis.findings.standstill import standstill
from dynamikos.core.analysis.findings.too_few import too_few
from dynamikos.core.analysis.findings.two_humps import two_humps
from dynamikos.core.analysis.findings.under_way import under_way
from dynamikos.core.analysis.findings.unverified import unverified
from dynamikos.core.objectives import Mark
from dynamikos.core.verdicts.objectives import judgements_of

log = logging.getLogger(__name__)
Rule = Callable[[Evidence], Iterator[Found]]
RULES: tuple[Rule, ...] = (
    late_generators,
    own_limits,
    littles_law,
    silent_probes,
    from_the_first_on,
    rows_used_up,
    unverified,
    never_asked,
    alike_although_data_differ,
    standstill,
    failing_steps,
    under_way,
    at_a_load,
    by_value,
    saturation,
    flat_throughput,
    gust,
    shift,
    drift,
    two_humps,
    rows_differ,
    places_differ,
    too_few,
)
ORDER = {"measurement": 0, "target": 1, "script": 2}
LAST = ("too-few-samples", "never-asked", "unverified")  # good to know, and no more


def findings(evidence: Evidence, marks: Mapping[int, Sequence[Mark]] | None = None) -> list[Found]:
    """Everything that was noticed: what touches a missed objective first, then by how much of what
    was measured it touches. A rule that breaks says so in the log and keeps nobody from the others.
    """
    found: list[Found] = []
    if evidence.frozen.trial:
        return found
    for rule in RULES:
        try:
            found.extend(rule(evidence))
        except Exception:
            log.exception("the rule %s can't be asked", rule.__name__)
    found.extend(missed_in_part(evidence, marks or {}))
    missed = _missed(evidence, marks or {})

    def place(each: Found) -> tuple[bool, bool, int, float]:
        touches = any(
            step in ("", each.step) and journey in ("", each.journey) for journey, step in missed
        )
        return (
            each.rule in LAST,
            not (touches and each.about == "target"),
            ORDER[each.about],
            -each.impact,
        )

    return sorted(found, key=place)


def _missed(evidence: Evidence, marks: Mapping[int, Sequence[Mark]]) -> list[tuple[str, str]]:
    """(journey, step) of the objectives that were missed; "" for all."""
    begin, end = evidence.measured
    try:
        judged = judgements_of(evidence.frozen, evidence.ledger, float(max(0, end - begin)), marks)
    except Exception:
        log.exception("objectives can't be judged for the order of findings")
        return []
    goals = zip(evidence.frozen.plan.objectives, judged, strict=True)
    return [(goal.journey or "", goal.step or "") for goal, each in goals if each.word == "missed"]


__all__ = ["RULES", "Evidence", "Found", "findings"]
