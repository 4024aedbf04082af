import uuid
from collections.abc import Iterator
from typing import Any

import orjson
from asgiref.sync import sync_to_async
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET

from dynamikos.core.errors import DynamikosError
from dynamikos.core.reports import Row
from dynamikos.core.reports.frames import Frame
from dynamikos.core.verdicts.outcome import NOT_VALID
from dynamikos.web.plans import queries as plans
from dynamikos.web.projects.access import member_view, membership, stream_member
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import actions, queries
from dynamikos.web.runs.models import Run
from dynamikos.web.streams.views import event_stream
from dynamikos.web.ui.numbers import number, whole

TAPE_LABEL = (
    "Tape: lanes on the run clock. Left and right move the crosshair, with Shift they make the window longer, Escape"
    " shows the measured part."
)
COLUMNS = (
    ("count", "count"),
    ("failures", "failed"),
    ("per_s", "/s"),
    ("min_ms", "min"),
    ("mean_ms", "mean"),
    ("sd_ms", "sd"),
    ("p50_ms", "p50"),
    ("p90_ms", "p90"),
    ("p95_ms", "p95"),
    ("p99_ms", "p99"),
    ("max_ms", "max"),
)


@member_view(get="reader")
def runs(request: HttpRequest, member: Membership) -> HttpResponse:
    return render(request, "runs/list.html", {"runs": queries.runs(member)[:200]})


@member_view(post="engineer")
def start(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    plan, environment = plans.plan(member, pk), request.POST.get("environment", "")
    try:
        made = actions.start(member, plan, environment=environment, sure=bool(request.POST.get("sure")))
    except actions.Unrehearsed as asked:
        core = plans.content(plan)
        context = {"plan": plan, "core": core, "environment": environment or core.environment, "asked": asked}
        return render(request, "runs/ask.html", context)
    return redirect("run", member.project_id, made.pk)


@member_view(get="engineer", post="engineer")
def quick(request: HttpRequest, member: Membership) -> HttpResponse:
    """A run of one address alone."""
    typed = {name: request.POST.get(name, "").strip() for name in ("address", "how", "many", "seconds")}
    if request.method != "POST":
        return render(request, "runs/quick.html", {"typed": {"how": "users", "many": "10", "seconds": "60"}})
    try:
        seconds = number(typed["seconds"], "For how long, in seconds", 1, 604_800)
        if typed["how"] == "arrivals":
            load = {"arrivals_per_s": number(typed["many"], "Arrivals a second", 0, 100_000)}
        else:
            load = {"users": whole(typed["many"], "Users", 1, 1_000_000)}
        made = actions.start_quickly(member, typed["address"], seconds, **load)  # type: ignore[arg-type]
    except DynamikosError as problem:
        return render(request, "runs/quick.html", {"typed": typed, "problem": str(problem)}, status=422)
    return redirect("run", member.project_id, made.pk)


@member_view(post="engineer")
def stop(request: HttpRequest, member: Membership, pk: uuid.UUID, how: str) -> HttpResponse:
    actions.stop(member, queries.run(member, pk), now=how == "now")
    return redirect("run", member.project_id, pk)


def _window(request: HttpRequest, found: Run, measured: tuple[float, float], total: float) -> tuple[int, int]:
    """The window asked for, else the measured part (so far)."""

    def whole(name: str, default: float) -> int:
        text = request.GET.get(name, "")
        return int(text) if text.isdigit() else int(default)

    begin, end = whole("from", measured[0]), whole("to", measured[1])
    return (begin, end) if end > begin else (0, int(total) + 60)


def _tables(request: HttpRequest, found: Run) -> dict[str, Any]:
    inputs = queries.frozen(found)
    measured, total = inputs.measured, inputs.ends_s
    begin, end = _window(request, found, measured, total)
    is_measured = (begin, end) == (int(measured[0]), int(measured[1]))
    ledger = queries.window(found, inputs, begin, end)
    seen = max(0, min(end, found.watermark + 1) - begin)
    sort = request.GET.get("sort", "")
    if sort not in Row.__struct_fields__:
        sort = ""
    down = request.GET.get("down", "1") == "1"
    rows = queries.table(ledger, seen, sort, down)
    return {
        "run": found,
        "inputs": inputs,
        "from_s": begin,
        "to_s": end,
        "is_measured": is_measured,
        "is_doubted": is_measured and found.outcome is not None and found.outcome.get("exit_code") == NOT_VALID,
        "seen": seen,
        "columns": [(name, title, 0 if sort == name and down else 1) for name, title in COLUMNS],
        "sort": sort,
        "down": down,
        "rows": rows,
        "folded": {step.no for step, below in rows if queries.is_same(step, below)},
        "rounds": queries.rounds(ledger),
        "has_tls": any(row.handshakes for _, below in rows for row in below),
        "connections": [row for _, below in rows for row in below if row.connects or row.ttfb_p50_ms is not None],
        "judgements": queries.judgements(inputs, ledger),
        "kinds": queries.kinds(ledger),
        "kept": queries.kept(found, begin, end),
        "checks": queries.checks(found, inputs, begin, min(end, found.watermark + 1)),
        "dealt": queries.dealt(found, inputs, 0, found.watermark + 1),
        "names": queries.step_names(inputs),
        "row_of_series": {each.no: each.row for each in ledger.series},
        "crowd": queries.crowd(found, inputs, ledger, is_measured=is_measured),
        "tones": {row.row: at % 6 for at, row in enumerate(inputs.places.rows)},
        "row_names": {row.row: row.name or row.row for row in inputs.places.rows},
        "many": len(inputs.places.rows) > 1,
        "arrivals": queries.arrivals(found),
    }


@member_view(get="reader")
def run(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    last = queries.newest_message(pk)
    found = queries.run(member, pk)
    context = _tables(request, found)
    inputs = context["inputs"]
    frames = queries.frames(found)
    total = inputs.ends_s
    context.update(
        {
            "duration": total,
            "tape_label": TAPE_LABEL,
            "sentence": queries.sentence(found),
            "peak": inputs.planned_peak,
            "last": last,
            "shards": list(found.shards.all()),
            "tape": {
                "fields": Frame.__struct_fields__,
                "frames": [orjson.loads(frame) for frame in frames],
                "duration": total,
                "measured": inputs.measured,
                "planned": inputs.planned([second + 0.995 for second in range(int(total) + 1)]),
                "begins": found.begins_at.timestamp() if found.begins_at else None,
                "over": found.is_over,
                "last": last,
                "limit": min(
                    (o.limit for o in inputs.plan.objectives if o.measure == "p95" and o.step is None), default=None
                ),
            },
        }
    )
    return render(request, "runs/run.html", context)


@member_view(get="reader")
def tables(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    return render(request, "runs/tables.html", {**_tables(request, queries.run(member, pk)), "swap": True})


@member_view(get="reader")
def headline(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found = queries.run(member, pk)
    inputs = queries.frozen(found)
    context = {
        "run": found,
        "inputs": inputs,
        "duration": inputs.ends_s,
        "peak": inputs.planned_peak,
        "shards": list(found.shards.all()),
    }
    context["sentence"] = queries.sentence(found)
    return render(request, "runs/headline.html", context)


@member_view(get="reader")
def kept(request: HttpRequest, member: Membership, pk: uuid.UUID, number: int) -> HttpResponse:
    found = queries.run(member, pk)
    return render(request, "runs/kept.html", {"run": found, "kept": queries.one_kept(found, number)})


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


@require_GET
async def stream(request: HttpRequest, project: uuid.UUID, pk: uuid.UUID) -> StreamingHttpResponse:
    member = await stream_member(request, project)
    await sync_to_async(queries.run)(member, pk)

    async def may() -> bool:
        return bool(await sync_to_async(membership)(member.account, project))

    return event_stream(request, pk, may)
