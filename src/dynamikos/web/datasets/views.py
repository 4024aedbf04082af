import csv
import io
import uuid
from collections.abc import Callable, Iterator
from typing import Any

import msgspec
from django.http import HttpRequest, HttpResponse, JsonResponse, QueryDict, StreamingHttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse

from dynamikos.core.dealing import Facts, Form
from dynamikos.core.errors import DynamikosError, ImportRefused, to_json
from dynamikos.core.figures import digits
from dynamikos.core.unsafe_characters import for_spreadsheet
from dynamikos.web.datasets import actions, deals, forms, hooks, queries, tables, uploads
from dynamikos.web.datasets.models import DataSet, Upload
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.ui.progress import streamed

PAGE = 50


@member_view(get="reader")
def datasets(request: HttpRequest, member: Membership) -> HttpResponse:
    return render(request, "datasets/list.html", {"datasets": queries.datasets(member)})


@member_view(post="engineer")
def upload(request: HttpRequest, member: Membership) -> HttpResponse | StreamingHttpResponse:
    """A file, or pasted text: kept, and shown as it seems to be written."""
    text = request.POST.get("text", "")
    if text.strip():
        made = uploads.keep_upload(
            member,
            [text.encode()],
            f"{request.POST.get('name', '').strip() or 'pasted'}.txt",
            len(text.encode()),
        )
        return redirect("data-upload", member.project_id, made.pk)
    file = request.FILES.get("file")
    if file is None:
        raise ImportRefused("No file was sent: choose a file, or paste rows.")

    def keep(progress: Callable[[float], None]) -> str:
        made = uploads.keep_upload(member, file.chunks(1 << 18), str(file.name), file.size or 0)
        return reverse("data-upload", args=[member.project_id, made.pk])

    return streamed(keep)


@member_view(get="engineer", post="engineer")
def reading(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """How an upload is read; each change reads it again at once."""
    found = get_object_or_404(Upload, project=member.project, pk=pk)
    if request.method == "POST":
        found.form = msgspec.to_builtins(forms.form_from(request.POST))
        found.save(update_fields=["form"])
    form = msgspec.convert(found.form, Form)
    columns, rows, problem = uploads.preview(found, form)
    there = queries.datasets(member).filter(key=uploads.key_for(found.name)).first()
    context = {
        "upload": found,
        "columns": columns,
        "rows": rows,
        "problem": problem,
        "there": there,
        "key": uploads.key_for(found.name),
        **forms.form_context(form),
    }
    return render(
        request,
        "datasets/_reading.html" if request.headers.get("HX-Request") else "datasets/upload.html",
        context,
    )


@member_view(post="engineer")
def take_in(
    request: HttpRequest, member: Membership, pk: uuid.UUID
) -> HttpResponse | StreamingHttpResponse:
    found = get_object_or_404(Upload, project=member.project, pk=pk)
    form = msgspec.convert(found.form, Form)
    address = reverse("datasets", args=[member.project_id])
    return streamed(
        lambda progress: f"{address}/{uploads.take_in(member, found, form, progress).pk}"
    )


@member_view(post="engineer")
def create(request: HttpRequest, member: Membership) -> HttpResponse:
    made = actions.create(member, request.POST.get("name", ""))
    return redirect("dataset", member.project_id, made.pk)


def _first(request: HttpRequest, found: DataSet) -> int:
    given = request.GET.get("from") or request.POST.get("from") or "1"
    first = max(0, (digits(given) or 1) - 1)
    return min(first, max(0, found.rows - 1)) // PAGE * PAGE


def _context(request: HttpRequest, member: Membership, found: DataSet) -> dict[str, Any]:
    wanted = request.GET.get("find", "").strip()
    after = request.GET.get("after", "0")
    first = _first(request, found)
    hidden = {index for index, column in enumerate(found.columns) if column in found.secret}
    if wanted:  # who may not export them can't find out by asking what masked cells hold
        numbered, looked = queries.find(
            found, wanted, digits(after) or 0, but=() if member.may_edit else hidden
        )
    else:
        numbered, looked = list(enumerate(queries.page(found, first, PAGE), first)), found.rows
    counted = queries.facts(found)
    rows = [
        (at + 1, [("•••••" if i in hidden else cell, i in hidden) for i, cell in enumerate(row)])
        for at, row in numbered
    ]
    return {
        "widths": [
            min(34, max([6, len(name), *(len(row[1][i][0]) for row in rows)]))
            for i, name in enumerate(found.columns)
        ],
        "dataset": found,
        "rows": rows,
        "first": first + 1,
        "last": first + len(rows),
        "back": first + 1 - PAGE,
        "next": first + 1 + PAGE,
        "find": wanted,
        "looked": looked,
        "kinds": forms.KINDS,
        "undoes": found.states.first(),
        "large": found.rows > queries.LARGE,
        "facts": _facts(member, found, counted),
        "uncounted": counted is None,
        "shown_reading": msgspec.convert(found.form, Form),
        **_deal_context(member, found),
    }


def _facts(
    member: Membership, found: DataSet, counted: list[Facts] | None
) -> list[tuple[str, str, list[str]]]:
    """(column, what it holds in words, journeys that use it)."""
    used = hooks.columns_used(member)
    return [
        (
            name,
            _told(found, at, counted[at]) if counted and found.rows else "",
            used.get(f"{found.key}.{name}", []),
        )
        for at, name in enumerate(found.columns)
    ]


def _told(found: DataSet, at: int, fact: Facts) -> str:
    """“8 different; “lyra” 250 times; 3 empty”; values of masked columns are not shown."""
    hidden = found.columns[at] in found.secret
    most = "" if hidden else queries.cell(found, fact.first, at)
    shown = most if len(most) <= 24 else most[:23] + "…"
    if fact.different == found.rows:
        said = "all differ"
    elif fact.different == 1 and not hidden:
        said = f"always “{shown}”"
    else:
        said = f"{fact.different:,} different" + (
            "" if hidden else f"; “{shown}” {fact.times:,} times"
        )
    return said + (f"; {fact.empty:,} empty" if fact.empty and fact.different > 1 else "")


def _deal_context(member: Membership, found: DataSet) -> dict[str, Any]:
    deal = queries.deal_of(found)
    starts, round_s, seed, load = hooks.load_of(member, found)
    others = queries.datasets(member).exclude(pk=found.pk)
    return {
        "others": others,
        "dataset": found,
        "deal": deal,
        "drawing": deals.draw(deal, found.key, seed, found.rows, starts, round_s, load),
        "words": {
            "whose": forms.WHOSE,
            "order": forms.ORDER,
            "when": forms.WHEN,
            "then": forms.THEN,
        },
        "planned": len(starts),
    }


@member_view(get="reader", post="engineer")
def dataset(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found = queries.dataset(member, pk)
    if request.method == "POST":
        actions.set_secret(member, found, request.POST.getlist("secret"))
        return redirect("dataset", member.project_id, pk)
    return render(request, "datasets/dataset.html", _context(request, member, found))


@member_view(post="engineer", any_signs=True)
def cell(request: HttpRequest, member: Membership, pk: uuid.UUID) -> JsonResponse:
    """One cell, saved as typed; or the cells of `block`, pasted from one on."""
    data = request.POST
    try:
        row = forms.whole(data, "row", 0)
        if "block" in data:
            actions.paste(
                member,
                queries.dataset(member, pk).pk,
                row - 1,
                data.get("column", ""),
                data["block"],
            )
            return JsonResponse(
                {"address": f"{reverse('dataset', args=[member.project_id, pk])}?from={row}"}
            )
        actions.set_cell(
            member,
            queries.dataset(member, pk).pk,
            row - 1,
            data.get("column", ""),
            data.get("text", ""),
            data.get("old"),
        )
    except actions.CellChanged as problem:
        return JsonResponse(to_json(problem), status=409)
    except DynamikosError as problem:
        return JsonResponse(to_json(problem), status=422)
    return JsonResponse({"saved": True})


@member_view(post="engineer", any_signs=True)
def change(
    request: HttpRequest, member: Membership, pk: uuid.UUID
) -> HttpResponse | StreamingHttpResponse:
    """Rows and columns: added, moved, deleted, made; the last change taken back.

    A large table's columns with progress, for the page's script.
    """
    found, data = queries.dataset(member, pk), request.POST
    what, name = data.get("what", ""), data.get("column", "")
    first = _first(request, found) + 1
    try:
        row = forms.whole(data, "row", 0)
        if what == "delete":
            if data.get("sure") != found.key:
                raise DynamikosError(
                    f"To delete {found.key} write its name beside the button; this can't be taken "
                    "back."
                )
            actions.delete(member, pk)
            return redirect("datasets", member.project_id)
        if what in COLUMN_WORK:
            work = _column_work(member, pk, what, name, data)
            if found.rows > queries.LARGE and request.headers.get("HX-Request"):
                address = f"{reverse('dataset', args=[member.project_id, pk])}?from={first}"
                return streamed(lambda progress: work(progress) or address)
            work(lambda share: None)
        elif what == "add-row":
            first = actions.add_row(member, pk, row)
        elif what in ROW_WORK:
            ROW_WORK[what](member, pk, row, data)
        else:
            raise DynamikosError(f"'{what[:40]}' is nothing that can be done here.")
    except DynamikosError as wrong:
        context = {
            **_context(request, member, queries.dataset(member, pk)),
            "problem": str(wrong),
            "typed": data,
        }
        return render(request, "datasets/dataset.html", context, status=422)
    return redirect(f"{reverse('dataset', args=[member.project_id, pk])}?from={first}")


ROW_WORK: dict[str, Callable[[Membership, uuid.UUID, int, QueryDict], object]] = {
    "delete-row": lambda member, pk, row, data: actions.delete_row(member, pk, row - 1),
    "row-up": lambda member, pk, row, data: actions.move_row(member, pk, row - 1, row - 2),
    "row-down": lambda member, pk, row, data: actions.move_row(member, pk, row - 1, row),
    "row-to": lambda member, pk, row, data: actions.move_row(
        member, pk, row - 1, forms.whole(data, "to", 1) - 1
    ),
    "undo": lambda member, pk, row, data: actions.undo(member, pk),
}
COLUMN_WORK = (
    "count",
    "add-column",
    "rename-column",
    "delete-column",
    "column-left",
    "column-right",
)


def _column_work(
    member: Membership, pk: uuid.UUID, what: str, name: str, data: QueryDict
) -> Callable[[Callable[[float], None]], None]:
    """What touches every row. Raises DynamikosError for a rule that can't be read, before any of it
    begins.
    """
    if what == "add-column":
        rule = forms.rule_from(data)
        return lambda progress: actions.add_column(member, pk, name, rule, progress)
    if what == "count":
        return lambda progress: tables.count(queries.dataset(member, pk), progress)
    if what == "rename-column":
        return lambda progress: actions.rename_column(member, pk, name, data.get("to", ""))
    if what == "delete-column":
        return lambda progress: actions.delete_column(member, pk, name, progress)
    return lambda progress: actions.move_column(
        member, pk, name, 1 if what == "column-right" else -1, progress
    )


@member_view(post="engineer")
def deal(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found, problem = queries.dataset(member, pk), ""
    try:
        actions.set_deal(member, found, forms.deal_from(request.POST))
    except DynamikosError as wrong:
        problem = str(wrong)
    return render(
        request,
        "datasets/_deal.html",
        {**_deal_context(member, found), "problem": problem},
        status=422 if problem else 200,
    )


@member_view(get="engineer")
def export(request: HttpRequest, member: Membership, pk: uuid.UUID) -> StreamingHttpResponse:
    """All rows as CSV; for a spreadsheet with cells it would take for formulas marked by an
    apostrophe.
    """
    found = queries.dataset(member, pk)
    safe = for_spreadsheet if request.GET.get("for") == "spreadsheet" else str

    def lines() -> Iterator[str]:
        for batch in ([found.columns], *(queries.block(sha256) for sha256 in found.blocks)):
            out = io.StringIO()
            csv.writer(out).writerows([safe(text) for text in row] for row in batch)
            yield out.getvalue()

    answer = StreamingHttpResponse(lines(), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{found.key}.csv"'
    return answer
