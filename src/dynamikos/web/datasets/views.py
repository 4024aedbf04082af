import uuid

from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from dynamikos.core.errors import ImportRefused
from dynamikos.web.datasets import actions, queries
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.ui.progress import streamed
from dynamikos.web.ui.uploads import uploaded

PAGE = 50


@member_view()
def datasets(request: HttpRequest, member: Membership) -> HttpResponse:
    return render(request, "datasets/list.html", {"datasets": queries.datasets(member)})


@member_view("engineer")
def upload(request: HttpRequest, member: Membership) -> HttpResponse | StreamingHttpResponse:
    data, name = uploaded(request, "a CSV file")
    if not name.lower().endswith((".csv", ".tsv", ".txt")):
        raise ImportRefused(f"{name} does not look like CSV; choose a file whose name ends in .csv, .tsv or .txt.")
    address = reverse("datasets", args=[member.project_id])
    return streamed(lambda progress: f"{address}/{actions.import_csv(member, data, name, progress).pk}")


@member_view()
def dataset(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found = queries.dataset(member, pk)
    if request.method == "POST":
        actions.set_secret(member, found, request.POST.getlist("secret"))
        return redirect("dataset", member.project_id, pk)
    first = max(0, int(request.GET.get("from", "1") or 1) - 1) if request.GET.get("from", "1").isdigit() else 0
    first = min(first, max(0, found.rows - 1)) // PAGE * PAGE
    hidden = [index for index, column in enumerate(found.columns) if column in found.secret]
    rows = [
        (first + at + 1, ["•••••" if i in hidden else cell for i, cell in enumerate(row)])
        for at, row in enumerate(queries.page(found, first, PAGE))
    ]
    context = {
        "dataset": found,
        "rows": rows,
        "first": first + 1,
        "last": first + len(rows),
        "back": first + 1 - PAGE,
        "next": first + 1 + PAGE,
    }
    return render(request, "datasets/dataset.html", context)
