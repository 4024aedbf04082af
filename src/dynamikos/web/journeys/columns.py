"""Replacing recorded values by columns of the test data, every occurrence with its context and a tick."""

import uuid

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys.columns import matches, occurrences, put_column
from dynamikos.web.datasets import queries as datasets
from dynamikos.web.journeys import actions, queries
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import Stale, token

ROWS_LOOKED_AT, SHOWN = 20_000, 60


@member_view("engineer")
def columns(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found = queries.journey(member, pk)
    problem, status = "", 200
    if request.method == "POST":
        value, name, places = request.POST.get("value", ""), request.POST.get("name", ""), request.POST.getlist("place")
        try:
            if not places:
                raise DynamikosError("Tick at least one place.")
            if name not in datasets.columns_known(member.project):
                raise DynamikosError(f"There is no column {name} any more; reload the page.")
            actions.change(member, found, request.POST.get("parent", ""), lambda core: put_column(core, value, name, places), label="")
            return redirect(reverse("journey-columns", args=[member.project_id, pk]))
        except Stale as stale:
            problem, status = str(stale), 409
        except DynamikosError as wrong:
            problem, status = str(wrong), 422
    core = queries.content(found)
    known: dict[str, dict[str, int]] = {}
    for table in datasets.datasets(member):
        rows = datasets.page(table, 0, ROWS_LOOKED_AT)
        for at, column in enumerate(table.columns):
            held: dict[str, int] = {}
            for number, cells in enumerate(rows):
                held.setdefault(cells[at], number)
            known[f"{table.key}.{column}"] = held
    offers = []
    for value, name, number in matches(core, known)[:SHOWN]:
        found_in = occurrences(core, value)
        if found_in:
            offers.append((value, name, number + 1, found_in))
    context = {"journey": found, "offers": offers, "token": token(found.head), "problem": problem}
    return render(request, "journeys/columns.html", context, status=status)
