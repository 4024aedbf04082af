"""The figures of a window of a run, as its tables show them."""

from typing import Any
from urllib.parse import urlencode

from django.http import HttpRequest

from dynamikos.core.figures import digits
from dynamikos.core.frozen import every_series
from dynamikos.core.objectives import worst_first
from dynamikos.core.reports import Row
from dynamikos.core.reports.columns import shown_at
from dynamikos.core.reports.folding import BY_SHARD
from dynamikos.web.runs import by_value, checked, generator_filter, queries, reading
from dynamikos.web.runs.models import Run

COLUMNS = shown_at("page")

MOST_FAILING = 20  # values that fail


def window_of(
    request: HttpRequest, found: Run, measured: tuple[float, float], total: float
) -> tuple[int, int]:
    """The window asked for, else the measured part (so far)."""

    def whole(name: str, default: float) -> int:
        given = digits(request.GET.get(name, ""))
        return int(default) if given is None else given

    begin, end = whole("from", measured[0]), whole("to", measured[1])
    return (begin, end) if end > begin else (0, int(total) + 60)


def tables_of(request: HttpRequest, found: Run) -> dict[str, Any]:
    inputs = queries.as_run(found, queries.frozen(found))
    measured, total = inputs.measured, inputs.ends_s
    begin, end = window_of(request, found, measured, total)
    is_measured = (begin, end) == (int(measured[0]), int(measured[1]))
    row = request.GET.get("row", "")
    slices = reading.slices_of(inputs)
    row = row if row in dict(slices) else ""
    of_failed = request.GET.get("outcome", "") == "failed"
    series = reading.shown_series(inputs, row or None)
    shards = list(found.shards.defer("by_value"))
    generator = request.GET.get("generator", "")
    those = generator_filter.chosen(shards, generator)
    generator = generator if those is not None else ""
    if those is None:
        ledger = queries.window(found, inputs, begin, end, row or None)
    else:
        ledger = queries.of_generators(found, inputs, those, begin, end, row or None)
        series = [each for each in series if each.level in BY_SHARD]
    seen = max(0, min(end, found.watermark + 1) - begin)
    sort = request.GET.get("sort", "")
    if sort not in (*Row.__struct_fields__, queries.WORST_FIRST):
        sort = ""
    down = request.GET.get("down", "1") == "1"
    rows = queries.table(ledger, series, seen, sort, down, of_failed=of_failed)
    whose = reading.rows_named(inputs, row or None)
    of = None if whose is None else [each.no for each in every_series(inputs) if each.row in whose]
    # the verdict is about everybody
    is_judged = (whose is None and those is None) or (is_measured and found.outcome is not None)
    judgements = (
        queries.judgements(found, inputs, ledger, begin, seen, is_measured=is_measured)
        if is_judged
        else []
    )
    levels = queries.ASKED if those is None else ("step",)
    failures = by_value.failures(found, inputs, begin, end, whose, those)
    crowd = queries.crowd(found, inputs, ledger, is_measured=is_measured and those is None)
    return {
        "run": found,
        "inputs": inputs,
        "from_s": begin,
        "to_s": end,
        "is_measured": is_measured,
        "is_doubted": is_measured
        and found.outcome is not None
        and bool(found.outcome.get("doubts")),
        "own_delay": queries.own_delay(found),
        "seen": seen,
        "columns": [(each, 0 if sort == each.key and down else 1) for each in COLUMNS],
        "wide": len(COLUMNS) + 1,
        "sort": sort,
        "down": down,
        "rows": rows,
        "folded": {step.no for step, below in rows if queries.is_same(step, below)},
        "row_chosen": row,
        "is_whole": those is None
        and not row.startswith(reading.PERSONA),  # there are drawings of it
        "slices": slices,
        "outcome": "failed" if of_failed else "",
        "generators": generator_filter.choices(shards),
        "generator_chosen": generator,
        "slice": urlencode(
            {
                "from": begin,
                "to": end,
                "row": row,
                "generator": generator,
                "outcome": "failed" if of_failed else "",
            }
        ),
        "other_outcome": urlencode(
            {
                "from": begin,
                "to": end,
                "row": row,
                "generator": generator,
                "outcome": "" if of_failed else "failed",
            }
        ),
        "sides": urlencode({"a-from": begin, "a-to": end, "a-row": row}),
        "rounds": queries.rounds(
            ledger, row or None, whose if whose is not None and len(whose) > 1 else ()
        ),
        "left": sum(ledger.totals[each.no].left for each in series if each.level == "step"),
        "cached": sum(
            ledger.totals[each.no].cached
            for each in series
            if each.level in ("request", "embedded")
        ),
        "has_tls": any(row.handshakes for _, below in rows for row in below),
        "connections": [
            row for _, below in rows for row in below if row.connects or row.ttfb_p50_ms is not None
        ],
        "judgements": worst_first(judgements),
        "is_sliced": whose is not None or those is not None,
        "kinds": (kinds := queries.kinds(ledger, series, levels)),
        "over_time": queries.failures_over_time(found, begin, begin + seen)
        if kinds and not (row or generator)
        else [],
        "failing": failures.values[:MOST_FAILING],
        "failing_of": failures,
        "shots": queries.shots(found, begin, end),
        "kept": queries.kept(found, begin, end, series=of, shards=those),
        "checks": checked.checks(found, inputs, begin, min(end, found.watermark + 1), whose)
        if those is None
        else [],
        "dealt": queries.dealt(found, inputs, 0, found.watermark + 1),
        "names": queries.step_names(inputs),
        "of_journey": queries.names_of_steps(inputs),
        "journey_names": {key: each.name for key, each in inputs.journeys.items()},
        "row_of_series": {each.no: each.row for each in every_series(inputs)},
        "crowd": [each for each in crowd if those is None or whose is None or each.row in whose],
        "tones": {row.row: at % 6 for at, row in enumerate(inputs.places.rows)},
        "row_names": {row.row: row.name or row.row for row in inputs.places.rows},
        "many": len(inputs.places.rows) > 1,
        "arrivals": queries.arrivals(found),
    }
