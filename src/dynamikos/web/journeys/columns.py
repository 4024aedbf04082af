"""Replacing recorded values by columns of the test data, every occurrence with its context and a
tick.
"""

import uuid
from urllib.parse import quote

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys.changes import PutColumn
from dynamikos.core.journeys.columns import matches, occurrences
from dynamikos.web.datasets import queries as datasets
from dynamikos.web.journeys import actions, queries
from dynamikos.web.projects.access import member_view, require
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import Stale, token

SHOWN = 60


@member_view(get="reader", post="engineer")
def columns(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found = queries.journey(member, pk)
    problem, status = "", 200
    if request.method == "POST":
        value, name, places = (
            request.POST.get("value", ""),
            request.POST.get("name", ""),
            request.POST.getlist("place"),
        )
        try:
            if not places:
                raise DynamikosError("Tick at least one place.")
            if name not in datasets.columns_known(member.project):
                raise DynamikosError(f"There is no column {name} any more; reload the page.")
            change = PutColumn(value=value, name=name, places=tuple(places))
            actions.make(member, found, request.POST.get("parent", ""), lambda _: change)
            at = request.POST.get("at", "")
            back = reverse(
                "journey" if "ladder" in request.POST else "journey-columns",
                args=[member.project_id, pk],
            )
            return redirect(f"{back}?at={quote(at)}" if at else back)
        except Stale as stale:
            problem, status = str(stale), 409
        except DynamikosError as wrong:
            problem, status = str(wrong), 422
    core = queries.content(found)
    common = {"journey": found, "token": token(found.head), "problem": problem}
    if wanted := request.GET.get("value", "").strip():
        require(member, "engineer")  # masked columns are looked into
        held = dict(datasets.holding(member, wanted))
        there = occurrences(core, wanted)
        alike = {
            place.place.split()[-1].lower() for place in there
        }  # a column called as the field is comes first
        samples = datasets.samples(member)
        names = sorted(
            samples,
            key=lambda name: (name not in held, name.partition(".")[2].lower() not in alike, name),
        )
        context = {
            **common,
            "value": wanted,
            "at": request.GET.get("at", ""),
            "places": there,
            "held": len(held),
            "columns": [(name, held.get(name, 0), samples[name]) for name in names],
            "typed": request.POST,
        }
        return render(request, "journeys/column.html", context, status=status)
    offers = []
    for value, name, number in matches(core, _values(member))[:SHOWN]:
        found_in = occurrences(core, value)
        if found_in:
            offers.append((value, name, number + 1, found_in))
    return render(request, "journeys/columns.html", {**common, "offers": offers}, status=status)


def _values(member: Membership) -> dict[str, dict[str, int]]:
    """Each column's values with the first row, from 0, they are in."""
    known: dict[str, dict[str, int]] = {}
    for table in datasets.datasets(member):
        rows = datasets.page(table, 0, datasets.LOOKED_AT)
        for at, column in enumerate(table.columns):
            held: dict[str, int] = {}
            for number, cells in enumerate(rows):
                held.setdefault(cells[at], number)
            known[f"{table.key}.{column}"] = held
    return known


@member_view(get="engineer")
def near(request: HttpRequest, member: Membership, pk: uuid.UUID) -> JsonResponse:
    """In which columns a value stands that somebody looks at on the ladder."""
    queries.journey(member, pk)
    value = request.GET.get("value", "").strip()
    return JsonResponse(
        {"held": datasets.holding(member, value)[:3] if 2 <= len(value) <= 2_000 else []}
    )
