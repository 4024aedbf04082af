"""The figures of a run as files."""

import uuid
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from django.http import Http404, HttpRequest, HttpResponse, StreamingHttpResponse

from dynamikos.chromium.printing import printed
from dynamikos.core.errors import DynamikosError
from dynamikos.core.reports.columns import KEYS, values
from dynamikos.core.telling import as_html, as_markdown, sheets
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import files, queries, telling
from dynamikos.web.runs.slice import Slice, window_of


def _file(
    form: str, name: str, head: Sequence[str], rows: Iterable[Sequence[object]]
) -> HttpResponse | Any:
    if form == "parquet":
        answer: Any = HttpResponse(
            sheets.as_parquet(head, rows), content_type="application/vnd.apache.parquet"
        )
    elif form == "csv":
        answer = StreamingHttpResponse(
            sheets.as_csv(head, rows), content_type="text/csv; charset=utf-8"
        )
    else:
        raise Http404
    answer["Content-Disposition"] = f'attachment; filename="{name}.{form}"'
    return answer


@member_view(get="reader")
def figures(request: HttpRequest, member: Membership, pk: uuid.UUID, form: str) -> HttpResponse:
    """The table of a window, of everybody or of a row, as CSV or Parquet."""
    part = Slice(queries.run(member, pk), request.GET)
    return _file(form, f"run-{part.run.number}-figures", KEYS, values(part.lines))


@member_view(get="reader")
def seconds(request: HttpRequest, member: Membership, pk: uuid.UUID, form: str) -> HttpResponse:
    """Every second of every series of a window, as CSV or Parquet."""
    found = queries.run(member, pk)
    inputs = queries.as_run(found, queries.frozen(found))
    begin, end = window_of(request.GET, (0, found.watermark + 1), inputs.ends_s)
    return _file(
        form, f"run-{found.number}-seconds", files.SECONDS, files.seconds(found, inputs, begin, end)
    )


@member_view(get="reader")
def metrics(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """The figures of a run that is over, in OpenMetrics."""
    found = queries.run(member, pk)
    if not found.is_over:
        raise DynamikosError(f"Run {found.number} is not over; its figures are not final.")
    lines = Slice(found, request.GET).lines
    kind = "application/openmetrics-text; version=1.0.0; charset=utf-8"
    return HttpResponse(files.as_openmetrics(found, lines), content_type=kind)


KINDS = {
    "html": "text/html; charset=utf-8",
    "md": "text/markdown; charset=utf-8",
    "pdf": "application/pdf",
    "zip": "application/zip",
}


@member_view(get="reader")
def report(request: HttpRequest, member: Membership, pk: uuid.UUID, form: str) -> HttpResponse:
    """The run told in one file: HTML that needs nothing else, Markdown, PDF, or a folder with its
    figures.
    """
    if form not in KINDS:
        raise Http404
    found = queries.run(member, pk)
    told = telling.report(found)
    body: str | bytes
    if form == "zip":
        body = sheets.packed(
            [("report.md", as_markdown(told).encode()), *sheets.as_files(sheets.sheets_of(told))]
        )
    else:
        body = as_markdown(told) if form == "md" else as_html(told)
        body = printed(body) if form == "pdf" else body
    answer = HttpResponse(body, content_type=KINDS[form])
    answer["Content-Disposition"] = f'attachment; filename="run-{found.number}-report.{form}"'
    return answer


@member_view(get="reader")
def dealt(request: HttpRequest, member: Membership, pk: uuid.UUID) -> StreamingHttpResponse:
    """Who got what: every row dealt in the run, as CSV."""
    found = queries.run(member, pk)

    def lines() -> Iterator[str]:
        yield "second,generator,data,user,round,row\n"
        for second, shard, name, user, turn, row in queries.all_dealt(found, queries.frozen(found)):
            yield f"{second},{shard},{name},{user},{turn},{row}\n"

    answer = StreamingHttpResponse(lines(), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="run-{found.number}-dealt.csv"'
    return answer
