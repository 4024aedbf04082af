"""Two slices of one run side by side."""

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.reports import Row
from dynamikos.core.reports.folding import BY_SHARD
from dynamikos.core.verdicts.sides import Key, rows_of, side_by_side
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import generator_filter, queries, reading
from dynamikos.web.runs.models import Run, Shard
from dynamikos.web.ui.numbers import whole


@dataclass(frozen=True, slots=True)
class Slice:
    """Whose figures, of which seconds: a row (or a persona's rows) or "" for everybody, of the
    `shards` that a generator's number or a place stands for, or None for all, with the times of
    what passed, or of what failed.
    """

    name: str
    row: str
    generator: str
    shards: Sequence[int] | None
    from_s: int
    to_s: int
    of_failed: bool = False


@member_view(get="reader")
def sides(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """What is chosen stands in the address, so that it can be passed on."""
    found = queries.run(member, pk)
    inputs = queries.as_run(found, queries.frozen(found))
    shards = list(found.shards.all())
    slices, wrong = [], ""
    for name in ("a", "b"):
        try:
            slices.append(_slice(request.GET, name, inputs, shards))
        except DynamikosError as problem:
            wrong = wrong or str(problem)
            slices.append(
                Slice(name, "", "", None, int(inputs.measured[0]), int(inputs.measured[1]))
            )
    a, b = (_rows(found, inputs, each) for each in slices)
    rows = reading.slices_of(inputs)
    context = {
        "run": found,
        "slices": slices,
        "wrong": wrong,
        "pairs": side_by_side(a, b),
        "rows": rows,
        "generators": generator_filter.choices(shards),
        "of_journey": queries.names_of_steps(inputs),
        "typed": request.GET,
    }
    return render(request, "runs/sides.html", context, status=422 if wrong else 200)


def _slice(
    given: Mapping[str, str], name: str, inputs: FrozenRun, shards: Sequence[Shard]
) -> Slice:
    """As the address says. Raises DynamikosError."""

    def second(which: str, default: float) -> int:
        typed = given.get(f"{name}-{which}", "").strip()
        return whole(typed, f"{name.upper()}, {which}", 0, 10**7) if typed else int(default)

    row = given.get(f"{name}-row", "")
    row = row if row in dict(reading.slices_of(inputs)) else ""
    generator = given.get(f"{name}-generator", "")
    those = generator_filter.chosen(shards, generator)
    begin, end = second("from", inputs.measured[0]), second("to", inputs.measured[1])
    if end <= begin:
        raise DynamikosError(
            f"{name.upper()} ends at second {end}, which is not after second {begin}."
        )
    return Slice(
        name,
        row,
        generator if those is not None else "",
        those,
        begin,
        end,
        given.get(f"{name}-outcome", "") == "failed",
    )


def _rows(found: Run, inputs: FrozenRun, wanted: Slice) -> dict[Key, Row]:
    row, begin, end = wanted.row or None, wanted.from_s, wanted.to_s
    series = reading.shown_series(inputs, row)
    if wanted.shards is None:
        ledger = queries.window(found, inputs, begin, end, row)
    else:
        ledger = queries.of_generators(found, inputs, wanted.shards, begin, end, row)
        series = [each for each in series if each.level in BY_SHARD]
    seconds = max(1, min(end, found.watermark + 1) - begin)
    return rows_of(ledger, series, seconds, of_failed=wanted.of_failed)
