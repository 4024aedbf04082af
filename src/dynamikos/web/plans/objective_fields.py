"""The objectives of a plan as its page sends and shows them. What can't be read raises
DynamikosError naming the field.
"""

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import zip_longest
from typing import Any, cast

from django.http import QueryDict

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Journey, key_from
from dynamikos.core.objectives import THENS, Objective, describe, source_of
from dynamikos.core.objectives.model import PERCENTILE
from dynamikos.core.objectives.scope import fields_of, read_scope, scope_of
from dynamikos.core.plans import Plan
from dynamikos.web.ui.numbers import number, whole

SPREADS = ("p50", "p90", "p95", "p99", "mean", "max")
MEASURES = (
    *((each, each) for each in SPREADS),
    *((f"first-byte {each}", f"{each} until the first byte") for each in ("p50", "p95", "p99")),
    ("failure-rate", "failures"),
    ("throughput", "throughput"),
    ("checks", "passed checks"),
    ("left", "left by users"),
)
FIELDS = (
    "objective",
    "measure",
    "step",
    "side",
    "limit",
    "until",
    "every",
    "allowed",
    "grace",
    "begins",
    "then",
    "in-a-row",
)
OPEN = 40  # of a plan with more, the others are folded until they are asked for


def objectives_from(data: QueryDict) -> tuple[Objective, ...]:
    """Every objective that has a limit; one without is taken away."""
    made: list[Objective] = []
    columns = [data.getlist(name) for name in FIELDS]
    for cells in zip_longest(*columns, fillvalue=""):
        typed = {name: cell.strip() for name, cell in zip(FIELDS, cells, strict=True)}
        typed["then"] = typed["then"] or "fail"
        if typed["limit"]:
            made.append(_objective(typed, len(made) + 1, {each.objective for each in made}))
    return tuple(made)


def _objective(typed: Mapping[str, str], place: int, taken: set[str]) -> Objective:
    said = f"Objective {place}"
    time, _, measure = typed["measure"].rpartition(" ")
    if typed["measure"] not in dict(MEASURES) and not re.fullmatch(PERCENTILE, measure):
        raise DynamikosError(
            f"{said}: “{typed['measure']}” is no measure; choose one of those on the page."
        )
    then = typed["then"]
    if then not in THENS:
        raise DynamikosError(
            f"{said}: “{then}” is nothing that can be done; choose one of {', '.join(THENS)}."
        )
    every = typed["every"]
    return Objective(
        objective=typed["objective"] or key_from(f"{measure} {typed['step']}", taken),
        measure=measure,
        time=cast(Any, time or "response"),
        at_least=typed["side"] == "at least",
        limit=number(typed["limit"], f"{said}: limit", 0, 1e9),
        **{**fields_of(read_scope(typed["step"])), "until": typed["until"] or None},
        every_s=whole(every, f"{said}: every so many seconds", 1, 86_400) if every else None,
        missed_allowed=number(
            typed["allowed"] or "0", f"{said}: % of intervals that may be missed", 0, 100
        ),
        grace_s=number(typed["grace"] or "0", f"{said}: grace", 0, 604_800),
        from_start=typed["begins"] == "start",
        then=cast(Any, then),
        in_a_row=whole(typed["in-a-row"] or "1", f"{said}: in a row", 1, 10_000),
    )


Known = Mapping[tuple[str, str], str]  # measures that probes told of: units by probe and name


@dataclass(frozen=True, slots=True)
class Shown:
    """An objective with what its selects have, and in words what is beside its limit: `more`."""

    objective: Objective
    measure: str
    scope: str
    more: str
    unit: str

    @property
    def sentence(self) -> str:
        return describe(self.objective, unit=self.unit or None)

    @property
    def typed(self) -> list[tuple[str, str]]:
        """Its fields as the form sends them."""
        of = self.objective
        values = (
            of.objective,
            self.measure,
            self.scope,
            "at least" if of.at_least else "at most",
            _digits(of.limit),
            of.until or "",
            "" if of.every_s is None else str(of.every_s),
            _digits(of.missed_allowed),
            _digits(of.grace_s),
            "start" if of.from_start else "",
            of.then,
            str(of.in_a_row),
        )
        return list(zip(FIELDS, values, strict=True))


def _digits(value: float) -> str:
    return f"{value:.10g}"


def shown(core: Plan, told: Known) -> list[Shown]:
    made = []
    for each in core.objectives:
        measure = f"{each.time} {each.measure}" if each.time != "response" else each.measure
        unit = each.unit if each.probe is None else told.get(source_of(each), "")
        made.append(Shown(each, measure, scope_of(each).text, _more(each), unit))
    return made


def _more(each: Objective) -> str:
    """When it is judged, and what happens then."""
    said = "over the measured part"
    if each.every_s is not None:
        said = f"every {each.every_s} s"
        if each.missed_allowed:
            said += f", {each.missed_allowed:g} % may be missed"
    if each.grace_s:
        said += f", after {each.grace_s:g} s"
    if each.from_start:
        said += ", from second 0"
    if each.until:
        said += f", to the end of {each.until}"
    then = {"fail": "fails the run", "note": "is noted", "warn": "warns"}
    after = (
        f"after {each.in_a_row} missed in a row" if each.in_a_row > 1 else "as soon as it is missed"
    )
    return f"{said} · {then.get(each.then, f'{each.then} {after}')}"


def scopes(core: Plan, scripts: Mapping[str, Journey], told: Known) -> Iterator[tuple[str, str]]:
    """(value, words) of all that an objective can be about, besides all steps."""
    rows = [row for crowd in core.everybody() for row in crowd.rows]
    if len(rows) > 1:
        yield from ((f"row={row.row}", f"all of {row.name or row.row}") for row in rows)
    for place, words, step in _steps(scripts):
        yield place, words
        if len(step.requests) > 1:
            yield from (
                (f"{place}#{each.request}", f"{words} / {each.request}") for each in step.requests
            )
    names = {name for script in scripts.values() for name in script.captured}
    yield from ((f"number={name}", f"the number {name}") for name in sorted(names))
    titles = {each.probe: each.title for each in core.probes}
    yield from (
        (f"probe={probe}#{name}", f"{titles[probe]}: {name}") for probe, name in sorted(told)
    )


def ends(scripts: Mapping[str, Journey]) -> list[tuple[str, str]]:
    """(step, words) of all steps until whose end a time can be taken."""
    return list({place.rpartition("/")[2]: words for place, words, _ in _steps(scripts)}.items())


def _steps(scripts: Mapping[str, Journey]) -> Iterator[tuple[str, str, Any]]:
    for key, script in scripts.items():
        for _, step in script.steps():
            if len(scripts) == 1:
                yield step.step, step.name, step
            else:
                yield f"{key}/{step.step}", f"{script.name}: {step.name}", step
