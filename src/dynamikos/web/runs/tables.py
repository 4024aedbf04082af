"""The tables of a slice of a run as the page shows them: a presenter a section."""

from typing import Any
from urllib.parse import urlencode

from dynamikos.core.frozen import every_series
from dynamikos.core.objectives import worst_first
from dynamikos.core.reports.columns import shown_at
from dynamikos.web.runs import by_value, checked, generator_filter, queries, reading
from dynamikos.web.runs.slice import Slice

COLUMNS = shown_at("page")
MOST_FAILING = 20  # values that fail
Context = dict[str, Any]


def tables_of(part: Slice) -> Context:
    """All sections: what templates are given."""
    sections = (_choices, _steps, _connections, _rounds, _objectives, _visitors, _failures, _kept,
                _names)  # fmt: skip
    return {name: value for section in sections for name, value in section(part).items()}


def _choices(part: Slice) -> Context:
    """What is looked at, and what else could be."""
    found = part.run
    return {
        "run": found,
        "inputs": part.inputs,
        "from_s": part.begin,
        "to_s": part.end,
        "seen": part.seen,
        "is_measured": part.is_measured,
        "is_doubted": part.is_measured and bool((found.outcome or {}).get("doubts")),
        "is_sliced": part.is_part,
        # whether there are drawings of it
        "is_whole": part.generators is None and not part.row.startswith(reading.PERSONA),
        "row_chosen": part.row,
        "slices": part.rows_to_choose,
        "outcome": "failed" if part.is_of_failed else "",
        "generators": generator_filter.choices(part.shards),
        "generator_chosen": part.generator,
        "slice": part.address(),
        "other_outcome": part.address(is_of_failed=not part.is_of_failed),
        "sides": urlencode({"a-from": part.begin, "a-to": part.end, "a-row": part.row}),
    }


def _steps(part: Slice) -> Context:
    sort, is_down = part.sort, part.is_down
    return {
        "columns": [(each, 0 if sort == each.key and is_down else 1) for each in COLUMNS],
        "wide": len(COLUMNS) + 1,
        "sort": sort,
        "down": is_down,
        "rows": part.rows,
        "folded": {step.no for step, below in part.rows if queries.is_same(step, below)},
        "own_delay": queries.own_delay(part.run),
    }


def _connections(part: Slice) -> Context:
    below = [row for _, rows in part.rows for row in rows]
    timed = [row for row in below if row.connects or row.ttfb_p50_ms is not None]
    return {"has_tls": any(row.handshakes for row in below), "connections": timed}


def _rounds(part: Slice) -> Context:
    totals, series = part.ledger.totals, part.series
    several = part.whose if part.whose is not None and len(part.whose) > 1 else ()
    levels = ("request", "embedded")
    return {
        "rounds": queries.rounds(part.ledger, part.row or None, several),
        "left": sum(totals[each.no].left for each in series if each.level == "step"),
        "cached": sum(totals[each.no].cached for each in series if each.level in levels),
        "arrivals": queries.arrivals(part.run),
    }


def _objectives(part: Slice) -> Context:
    """The verdict is about everybody: of a part it is shown of the measured part alone."""
    if part.is_part and not (part.is_measured and part.run.outcome is not None):
        return {"judgements": []}
    judgements = queries.judgements(
        part.run, part.inputs, part.ledger, part.begin, part.seen, is_measured=part.is_measured
    )
    return {"judgements": worst_first(judgements)}


def _visitors(part: Slice) -> Context:
    is_all = part.generators is None
    crowd = queries.crowd(
        part.run, part.inputs, part.ledger, is_measured=part.is_measured and is_all
    )
    whose = part.whose
    return {
        "crowd": [each for each in crowd if is_all or whose is None or each.row in whose],
        "dealt": queries.dealt(part.run, part.inputs, 0, part.run.watermark + 1),
    }


def _failures(part: Slice) -> Context:
    found, inputs, begin = part.run, part.inputs, part.begin
    is_all = part.generators is None
    levels = queries.ASKED if is_all else ("step",)
    kinds = queries.kinds(part.ledger, part.series, levels)
    over_time = []
    if kinds and not (part.row or part.generator):
        over_time = queries.failures_over_time(found, begin, begin + part.seen)
    failures = by_value.failures(found, inputs, begin, part.end, part.whose, part.generators)
    return {
        "kinds": kinds,
        "over_time": over_time,
        "failing": failures.values[:MOST_FAILING],
        "failing_of": failures,
        "checks": checked.checks(found, inputs, begin, part.reached, part.whose) if is_all else [],
    }


def _kept(part: Slice) -> Context:
    begin, end = part.begin, part.end
    return {
        "kept": queries.kept(part.run, begin, end, series=part.numbers, shards=part.generators),
        "shots": queries.shots(part.run, begin, end),
    }


def _names(part: Slice) -> Context:
    inputs = part.inputs
    rows = inputs.places.rows
    return {
        "names": queries.step_names(inputs),
        "of_journey": queries.names_of_steps(inputs),
        "journey_names": {key: each.name for key, each in inputs.journeys.items()},
        "row_of_series": {each.no: each.row for each in every_series(inputs)},
        "tones": {row.row: at % 6 for at, row in enumerate(rows)},
        "row_names": {row.row: row.name or row.row for row in rows},
        "many": len(rows) > 1,
    }
