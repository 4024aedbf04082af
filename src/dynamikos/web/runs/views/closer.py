"""One step or request, and what moved with it."""

import uuid
from typing import Any
from urllib.parse import urlencode

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen import FrozenRun, Series
from dynamikos.core.statistics.apdex import apdex
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import analysis, drawings, measures, queries, reading
from dynamikos.web.runs.models import Run
from dynamikos.web.runs.slice import window_of
from dynamikos.web.runs.tables import COLUMNS
from dynamikos.web.ui.numbers import number


def _chosen(request: HttpRequest, inputs: FrozenRun) -> Series:
    """The series that an address names, as the page shows them. Raises DynamikosError."""
    given = request.GET
    row = given.get("of", "")
    wanted = given.get("journey", ""), given.get("step", ""), given.get("request", "")
    for each in reading.shown_series(inputs, row or None):
        if (each.journey, each.step, each.request) == wanted and each.level in (
            "step",
            "repeat",
            "request",
            "item",
        ):
            return each
    raise DynamikosError("There is no such step or request in this run.")


@member_view(get="reader")
def closer(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """One step or request in a window: when, and how spread; what moved with it is asked for by
    what is shown.
    """
    found = queries.run(member, pk)
    inputs = queries.as_run(found, queries.frozen(found))
    begin, end = window_of(request.GET, inputs.measured, inputs.ends_s)
    series = _chosen(request, inputs)
    points = reading.line(found, [series.no], begin, end)
    total = queries.of_one(found, inputs, series, begin, end)
    limit_ms = number(request.GET.get("apdex") or "500", "Apdex, ms", 1, 3_600_000)
    strips = reading.strips_of(found, inputs, series, begin, end)
    context = {
        "run": found,
        "member": member,
        "series": series,
        "key": series.no,
        "title": series.name,
        "from_s": begin,
        "to_s": end,
        "heat": drawings.heat(points) if points else None,
        "spread": drawings.distribution(total.timed),
        "apdex_ms": limit_ms,
        "apdex": apdex(total.passed, total.failures, 1000 * limit_ms),
        "against": drawings.against(points, queries.every_frame(found)),
        "spent": drawings.stacked(strips),
        "over_time": drawings.kinds_over_time(
            [reading.failed_by_kind(totals) for _, _, totals in strips]
        ),
        "suggested": analysis.suggested(
            [(each.at, each.ms(95)) for each in points], min(end, found.watermark + 1)
        ),
        "wide": len(COLUMNS) + 1,
        "has_measures": found.measures.exists(),
        "asked": urlencode(_place(series, begin, end)),
    }
    return render(request, "runs/closer.html", context)


def _place(series: Series, begin: int, end: int) -> dict[str, object]:
    """A series and a window, as an address says them."""
    names = {
        "journey": series.journey,
        "step": series.step,
        "request": series.request,
        "of": series.row,
    }
    return {"from": begin, "to": end, **names}


@member_view(get="reader")
def suspects(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """What moved with a step in a window, from a score on."""
    found = queries.run(member, pk)
    inputs = queries.as_run(found, queries.frozen(found))
    begin, end = window_of(request.GET, inputs.measured, inputs.ends_s)
    series = _chosen(request, inputs)
    context = {
        "run": found,
        "member": member,
        "series": series,
        "key": series.no,
        "from_s": begin,
        "to_s": end,
    }
    return render(
        request,
        "runs/suspects.html",
        {**context, **_suspects(request, found, inputs, series, (begin, end))},
    )


def _suspects(
    request: HttpRequest, found: Run, inputs: FrozenRun, series: Series, window: tuple[int, int]
) -> dict[str, Any]:
    typed = request.GET.get("z", "")
    least = number(typed, "Score", 0, 99) if typed else None
    look, step, known = analysis.suspects_of(found, inputs, [series.no], window, least)
    end = min(window[1], found.watermark + 1)
    drawn = []
    for each in look.every[:12]:
        over = drawings.laid_over(step, known[each.measure].trace, (window[0], end))
        drawn.append((each, (*over, over[3] - over[2])))
    return {
        "lane_of": measures.lane_of(found, inputs),
        "suspects": drawn,
        "look": look,
        "least": typed,
    }
