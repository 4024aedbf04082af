"""A run and what moves on its page."""

import uuid
from urllib.parse import urlencode

import msgspec
from django.http import HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET

from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits
from dynamikos.core.frozen.changing import said
from dynamikos.core.objectives import Objective
from dynamikos.core.reports.frames import Frame
from dynamikos.core.telling.capacity import throughput
from dynamikos.web.projects.access import member_view, membership, stream_member
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import analysis, baselines, drawings, log, measures, people, queries
from dynamikos.web.runs.models import Run
from dynamikos.web.runs.recorded import beside_recording
from dynamikos.web.runs.slice import Slice
from dynamikos.web.runs.tables import tables_of
from dynamikos.web.streams.views import event_stream
from dynamikos.web.ui.release_connection import briefly

TAPE_LABEL = (
    "Tape: lanes on the run clock. Left and right move the crosshair, with Shift they make the "
    "window longer, Escape"
    " shows the measured part."
)


HEADS = (
    ("began", "run", "n"),
    ("plan", "plan", ""),
    ("", "verdict", ""),
    ("exchanges", "exchanges", "n"),
    ("failed", "failed", "n"),
    ("slowest", "slowest p95", "n"),
    ("", "not as before", ""),
    ("took", "began, took", ""),
)


def _head(
    name: str, title: str, look: str, sort: str, *, down: bool
) -> tuple[str, str, str, str, str]:
    """With which way it turns next, and an arrow where it is the order."""
    is_it = bool(name) and (sort or "began") == name
    return (
        name,
        title,
        look,
        "0" if is_it and down else "1",
        (" ↓" if down else " ↑") if is_it else "",
    )


@member_view(get="reader")
def runs(request: HttpRequest, member: Membership) -> HttpResponse:
    words, verdict = request.GET.get("q", "")[:200], request.GET.get("verdict", "")
    only_starred, archived = bool(request.GET.get("starred")), bool(request.GET.get("archived"))
    sort, down = request.GET.get("sort", ""), request.GET.get("down", "1") == "1"
    every = queries.runs(member)
    found = log.found(every, words, verdict, only_starred=only_starred, archived=archived)
    lines = log.ordered(log.lines(list(found[: log.MOST])), sort, down=down)
    context = {
        "every": every.filter(is_archived=archived).count(),
        "in_archive": every.filter(is_archived=True).count(),
        "archived": archived,
        "lines": lines,
        "most": log.MOST,
        "heads": [_head(*each, sort, down=down) for each in HEADS],
        "sort": sort,
        "down": down,
        "kept": urlencode(
            [(name, value) for name, value in request.GET.items() if name not in ("sort", "down")]
        ),
        "words": words,
        "verdict": verdict,
        "verdicts": list(log.CODES),
        "only_starred": only_starred,
        "is_filtered": bool(words.strip() or verdict in log.CODES or only_starred or archived),
    }
    return render(request, "runs/list.html", context)


def _of_tape(objective: Objective) -> bool:
    """Whether its limit stands on the tape's lane of response times."""
    return objective.measure == "p95" and objective.level == "step" and objective.step is None


@member_view(get="reader")
def run(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    return show(request, member, pk)


def show(
    request: HttpRequest,
    member: Membership,
    pk: uuid.UUID,
    form: str = "",
    wrong: DynamikosError | None = None,
) -> HttpResponse:
    """A run's page; with what is `wrong` with the `form` that was sent, and what was typed into
    it.
    """
    last = queries.newest_message(pk)
    part = Slice(queries.run(member, pk), request.GET)
    found, changes = part.run, queries.changes_of(part.run)
    tape = Tape(part, last)
    siblings, set_word = queries.siblings(found)
    capacity = queries.capacity(found)
    context = {
        **tables_of(part),
        **_baseline(found),
        "duration": tape.lasts_s,
        "is_held": queries.is_held(changes),
        "changes": [said(each) for each in changes],
        "stretches": queries.stretches(part.inputs),
        "suggested": analysis.suggested(
            [(each.second, each.p95_ms) for each in tape.frames], found.watermark + 1
        ),
        "siblings": siblings,
        "set_word": set_word,
        "tape_label": TAPE_LABEL,
        "sentence": queries.sentence(found),
        "remarks": tape.remarks,
        "findings": found.findings,
        "rejudged": queries.rejudged(found),
        "capacity": capacity,
        "curve": throughput(capacity) if capacity is not None else None,
        "form": form,
        "wrong": str(wrong) if wrong is not None else "",
        "typed": request.POST if form else {},
        "peak": part.inputs.planned_peak,
        "last": last,
        "shards": list(found.shards.all()),
        "tape": tape.as_given(),
    }
    return render(request, "runs/run.html", context, status=422 if wrong is not None else 200)


def _baseline(found: Run) -> dict[str, object]:
    """The runs that those of its plan are compared with."""
    baseline = baselines.current(found.plan_id)
    if baseline is None:
        return {"baseline": None, "against_baseline": "", "is_baseline": False}
    runs = list(baseline.runs.all())
    pairs = [*(("a", each.pk) for each in runs), ("b", found.pk)]
    return {
        "baseline": baseline,
        "against_baseline": urlencode(pairs),
        "is_baseline": found in runs,
    }


class Tape:
    """What the page's script draws."""

    def __init__(self, part: Slice, last: int) -> None:
        self._part, self._last = part, last
        self.frames = queries.frames(part.run, part.inputs)
        self.remarks = queries.remarks(part.run)
        self.lasts_s = queries.lasts_s(part.run, part.inputs)

    def as_given(self) -> dict[str, object]:
        """As JSON in the page."""
        found, inputs, total = self._part.run, self._part.inputs, self.lasts_s
        every = measures.lanes(found, inputs)
        first = measures.shown_first(every)
        at, traces = measures.drawn(found, [no for lane in first for no, _ in lane.lines])
        begin, end = inputs.measured
        limits = (each.limit for each in inputs.plan.objectives if _of_tape(each))
        return {
            "fields": Frame.__struct_fields__,
            "frames": [msgspec.to_builtins(frame) for frame in self.frames],
            "lanes": [msgspec.to_builtins(each) for each in dict.fromkeys((*first, *every))],
            "shown": [lane.key for lane in first],
            "traces": {"at": at, "values": traces},
            "remarks": [(each.second, each.text) for each in self.remarks],
            "duration": total,
            "measured": (begin, min(end, max(total, begin))),
            "planned": inputs.planned([second + 0.995 for second in range(int(total) + 1)]),
            "begins": found.begins_at.timestamp() if found.begins_at else None,
            "over": found.is_over,
            "noticed": found.findings is not None or found.state != Run.State.ENDED,
            "last": self._last,
            "limit": min(limits, default=None),
        }


@member_view(get="reader")
def tables(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    return render(
        request,
        "runs/tables.html",
        {**tables_of(Slice(queries.run(member, pk), request.GET)), "swap": True},
    )


@member_view(get="reader")
def headline(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found = queries.run(member, pk)
    inputs = queries.as_run(found, queries.frozen(found))
    context = {
        "run": found,
        "inputs": inputs,
        "duration": queries.lasts_s(found, inputs),
        "is_held": queries.is_held(queries.changes_of(found)),
        "peak": inputs.planned_peak,
        "shards": list(found.shards.all()),
    }
    context["sentence"] = queries.sentence(found)
    return render(request, "runs/headline.html", context)


@member_view(get="reader")
def kept(request: HttpRequest, member: Membership, pk: uuid.UUID, number: int) -> HttpResponse:
    found = queries.run(member, pk)
    exchange = queries.one_kept(found, number)
    context = {
        "run": found,
        "kept": exchange,
        "number": number,
        "in_table": "HX-Request" in request.headers,
        "waterfall": drawings.waterfall(beside)
        if len(beside := people.beside(found, exchange)) > 1
        else None,
        "bar": drawings.parts(exchange.parts_us),
        "trace_link": queries.trace_link(found, exchange.trace),
        "beside": beside_recording(found, number, exchange),
    }
    return render(request, "runs/kept.html", context)


@member_view(get="reader")
def shot(request: HttpRequest, member: Membership, pk: uuid.UUID, number: int) -> HttpResponse:
    """What a browser saw, as a picture."""
    found = get_object_or_404(queries.run(member, pk).shots, pk=number)
    answer = HttpResponse(bytes(found.jpeg), content_type="image/jpeg")
    answer["Cache-Control"] = "private, max-age=86400, immutable"
    return answer


@member_view(get="reader")
def lines(request: HttpRequest, member: Membership, pk: uuid.UUID) -> JsonResponse:
    """The lines of measures, by their numbers (no=1&no=2)."""
    found = queries.run(member, pk)
    numbers = [no for no in map(digits, request.GET.getlist("no")) if no is not None][:200]
    at, traces = measures.drawn(found, numbers)
    return JsonResponse({"at": at, "values": traces})


@require_GET
async def stream(request: HttpRequest, project: uuid.UUID, pk: uuid.UUID) -> StreamingHttpResponse:
    member = await stream_member(request, project)
    await briefly(queries.run)(member, pk)

    async def may() -> bool:
        return bool(await briefly(membership)(member.account, project))

    return event_stream(request, pk, may)
