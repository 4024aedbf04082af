import uuid
from collections.abc import Sequence

from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from msgspec.structs import replace

from dynamikos.core.captures import Capture
from dynamikos.core.correlation import Strand
from dynamikos.core.correlation.accept import hard_wired
from dynamikos.core.correlation.model import Use
from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits
from dynamikos.web.journeys import actions as journey_actions
from dynamikos.web.journeys import queries as journeys
from dynamikos.web.journeys.forms import CAPTURE_FORMS, DECODINGS, captures_from
from dynamikos.web.journeys.models import Journey
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import Stale, token
from dynamikos.web.recordings.queries import own_origins
from dynamikos.web.rehearsals import history
from dynamikos.web.strands import actions, queries
from dynamikos.web.strands.models import Rule, Search
from dynamikos.web.ui.progress import streamed
from dynamikos.web.ui.uploads import uploaded


def _context(
    request: HttpRequest, member: Membership, pk: uuid.UUID, problem: str = ""
) -> dict[str, object]:
    journey = journeys.journey(member, pk)
    core = journeys.content(journey)
    found = queries.search_of(journey)
    failed = queries.failing(journey)
    every = queries.rows(journey, core, found, failed) if found else []
    others = list(journey.others.order_by("imported_at"))
    newest = queries.newest_rehearsal(journey)
    recording = journey.recording
    return {
        "journey": journey,
        "search": found,
        **_counts(every),
        **_chosen(request, journey, found, every),
        "token": token(journey.head),
        "width": queries.WIDTH,
        "lone": bool(found) and journey.recording_id is not None and not others and newest is None,
        "others": others,
        "further": journeys.further_of(member, journey),
        "targets": "\n".join(own_origins(recording)) if recording is not None else "",
        "dismissed": journey.dismissals.count(),
        "rules": Rule.objects.filter(project=member.project),
        "problem": problem,
        "failed": bool(failed),
        "newest": newest,
        "fresh": _fresh(journey, found),
        "may_undo": found is not None and queries.may_undo(journey, found),
        "since_passed": history.changed_since_passed(newest) if newest is not None else None,
        "capture_forms": CAPTURE_FORMS,
        "decodings": DECODINGS,
    }


def _fresh(journey: Journey, found: Search | None) -> list[str]:
    """Names of what the page's scripts make and stays as recorded until somebody accepts it."""
    if found is None:
        return []
    dismissed, core = queries.dismissed(journey), journeys.content(journey)
    waiting = (each for each in actions.unproven_makers(found) if not dismissed(each))
    return [each.name for each in waiting if hard_wired(core, each)]


def _counts(every: Sequence[queries.Row]) -> dict[str, object]:
    """How many of each kind, and of the server's those that wait for somebody."""
    waiting = [
        row.strand
        for row in every
        if row.strand.kind == "issued" and not row.taken and not row.strand.followed
    ]
    return {
        "counts": [(each, sum(row.strand.kind == each for row in every)) for each in queries.KINDS],
        "open": sum(strand.proven for strand in waiting),
        "unproven": sum(not strand.proven for strand in waiting),
        "taken": sum(row.taken and row.strand.kind == "issued" for row in every),
        "partly": [row.strand.name for row in every if row.taken and row.left],
        "likely": sum(row.likely for row in every),
    }


def _chosen(
    request: HttpRequest, journey: Journey, found: Search | None, every: Sequence[queries.Row]
) -> dict[str, object]:
    """The kind and the strand that are looked at."""
    kind, at = request.GET.get("kind") or "issued", request.GET.get("at", "")
    shown = [row for row in every if row.strand.kind == kind]
    chosen = next((row for row in every if row.strand.name == at), shown[0] if shown else None)
    columns: list[tuple[str, bool]] = []
    if chosen is not None and chosen.strand.kind == "typed":
        columns = queries.fitting_columns(journey, chosen.strand)
    alternatives = []
    if found and chosen is not None:
        alternatives = queries.alternatives(chosen.strand, found.evidence)
    return {
        "kind": kind,
        "rows": shown,
        "chosen": chosen,
        "alternatives": alternatives,
        "columns": columns,
        "column_held": any(fits for _, fits in columns),
    }


@member_view(get="reader")
def strands(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    return render(request, "strands/strands.html", _context(request, member, pk))


@member_view(post="engineer")
def search(
    request: HttpRequest, member: Membership, pk: uuid.UUID
) -> HttpResponse | StreamingHttpResponse:
    journey = journeys.journey(member, pk)
    address = reverse("strands", args=[member.project_id, pk])

    def work(progress):  # type: ignore[no-untyped-def]
        actions.search(member, journey, progress)
        return address

    return streamed(work)


@member_view(post="engineer")
def add_recording(
    request: HttpRequest, member: Membership, pk: uuid.UUID
) -> HttpResponse | StreamingHttpResponse:
    journey = journeys.journey(member, pk)
    address = reverse("strands", args=[member.project_id, pk])
    chosen = request.POST.get("recording", "")
    there = next(
        (each for each in journeys.further_of(member, journey) if str(each.pk) == chosen), None
    )
    if chosen and there is None:
        raise DynamikosError(
            "That recording is not there any more, or is looked at already; choose another."
        )
    data, name = (b"", "") if there is not None else uploaded(request, "a HAR file")

    def work(progress):  # type: ignore[no-untyped-def]
        if there is not None:
            journey_actions.further(member, journey, there)
        else:
            actions.add_recording(member, journey, data, name, lambda share: progress(share * 0.6))
        actions.search(
            member, journeys.journey(member, pk), lambda share: progress(0.6 + share * 0.4)
        )
        return address

    return streamed(work)


@member_view(post="engineer")
def accept(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Accepts one strand with its chosen form and ticked places, all that are proven, or what the
    client makes without a proof.
    """
    journey, parent = journeys.journey(member, pk), request.POST.get("parent", "")
    at = request.POST.get("name", "")
    try:
        chosen, uses = _asked(request, journey)
        actions.take(member, journey, parent, chosen, uses)
    except (Stale, DynamikosError) as wrong:
        status = 409 if isinstance(wrong, Stale) else 422
        return render(
            request,
            "strands/strands.html",
            _context(request, member, pk, str(wrong)),
            status=status,
        )
    return redirect(reverse("strands", args=[member.project_id, pk]) + (f"?at={at}" if at else ""))


def _asked(
    request: HttpRequest, journey: Journey
) -> tuple[list[Strand], dict[str, Sequence[Use]] | None]:
    """(the strands that are accepted, the places that are ticked of one). Raises DynamikosError."""
    found = queries.search_of(journey)
    if found is None:
        raise DynamikosError(
            "Nothing was searched yet, so there is nothing to accept. Search first."
        )
    dismissed = queries.dismissed(journey)
    if request.POST.get("all"):
        return [each for each in actions.proven(found) if not dismissed(each)], None
    if request.POST.get("fresh"):
        return [each for each in actions.unproven_makers(found) if not dismissed(each)], None
    strand = _with_form(
        request, journey, queries.strand_named(journey, request.POST.get("name", ""))
    )
    ticked = request.POST.getlist("use")
    uses = [use for number, use in enumerate(strand.uses) if str(number) in ticked]
    if not uses:
        raise DynamikosError("No place is ticked, so nothing would be replaced. Tick at least one.")
    return [strand], {strand.name: uses}


def _with_form(request: HttpRequest, journey: Journey, strand: Strand) -> Strand:
    """The strand with the capture that is chosen, or written by hand, as its first. Raises
    DynamikosError for one that is wrong.
    """
    chosen = request.POST.get("form", "")
    if chosen == "own":
        own = _own(request, strand)
        queries.tried(strand, own, actions.recordings_of(journey))  # refused while it is wrong
        return replace(strand, captures=(own, *strand.captures))
    number = digits(chosen) or 0
    if not 0 < number < len(strand.captures):
        return strand
    first = strand.captures[number]
    return replace(strand, captures=(first, *(each for each in strand.captures if each != first)))


@member_view(post="engineer")
def undo(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Takes the last acceptance back, as a whole."""
    try:
        actions.undo(member, journeys.journey(member, pk))
    except DynamikosError as wrong:
        context = _context(request, member, pk, str(wrong))
        return render(request, "strands/strands.html", context, status=422)
    return redirect("strands", member.project_id, pk)


def _own(request: HttpRequest, strand: Strand) -> Capture:
    """The capture written by hand beside a strand. Raises DynamikosError when nothing is
    written.
    """
    made = captures_from(request.POST)
    if not made or not request.POST.get("capture-what", "").strip():
        raise DynamikosError(
            "Write where the value stands: a path, a selector, the text before it, or a pattern."
        )
    return replace(made[0], name=strand.name)


@member_view(post="engineer")
def attempt(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """What a capture written by hand finds on each recording; the part of the page that shows
    it.
    """
    journey = journeys.journey(member, pk)
    context: dict[str, object] = {}
    try:
        strand = queries.strand_named(journey, request.POST.get("name", ""))
        own = _own(request, strand)
        context = {"tried": queries.tried(strand, own, actions.recordings_of(journey)), "own": own}
    except DynamikosError as wrong:
        context = {"problem": str(wrong)}
    return render(request, "strands/_tried.html", context)


@member_view(post="engineer")
def typed(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Typed values into data: one into an existing column, or all of them into a new data set."""
    journey = journeys.journey(member, pk)
    found = queries.search_of(journey)
    strands = queries.strands_of(found) if found is not None else []
    parent, name = request.POST.get("parent", ""), request.POST.get("name", "")
    try:
        if request.POST.get("all"):
            dismissed = queries.dismissed(journey)
            every = [each for each in strands if each.kind == "typed" and not dismissed(each)]
            actions.into_new_set(member, journey, parent, every)
        else:
            strand = queries.strand_named(journey, name)
            ticked = [
                use for i, use in enumerate(strand.uses) if str(i) in request.POST.getlist("use")
            ]
            actions.into_column(
                member, journey, parent, strand, request.POST.get("column", ""), ticked
            )
    except DynamikosError as wrong:
        status = 409 if isinstance(wrong, Stale) else 422
        return render(
            request,
            "strands/strands.html",
            _context(request, member, pk, str(wrong)),
            status=status,
        )
    return redirect(
        reverse("strands", args=[member.project_id, pk])
        + "?kind=typed"
        + (f"&at={name}" if name else "")
    )


@member_view(post="engineer")
def by_hand(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """From a value marked in a recorded answer to its strand."""
    position = digits(request.POST.get("entry", ""))
    try:
        journey = journeys.journey(member, pk)
        made = actions.by_hand(
            member, journey, -1 if position is None else position, request.POST.get("text", "")
        )
    except DynamikosError as wrong:
        return render(
            request, "strands/strands.html", _context(request, member, pk, str(wrong)), status=422
        )
    return redirect(reverse("strands", args=[member.project_id, pk]) + f"?at={made.name}")


@member_view(post="engineer")
def dismiss(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    journey = journeys.journey(member, pk)
    found = queries.search_of(journey)
    name = request.POST.get("name", "")
    strand = (
        next((each for each in queries.strands_of(found) if each.name == name), None)
        if found
        else None
    )
    if strand is not None:
        actions.dismiss(member, journey, strand)
    elif request.POST.get("restore"):
        actions.restore(member, journey)
    return redirect("strands", member.project_id, pk)


@member_view(post="engineer")
def rule(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """Sets or drops a rule of the project."""
    try:
        if request.POST.get("drop"):
            actions.drop_rule(member, request.POST["drop"])
        else:
            kind = request.POST.get("kind", "")
            actions.set_rule(
                member,
                request.POST.get("name", ""),
                "constant" if kind == "ignore" else kind,
                ignore=kind == "ignore",
            )
    except DynamikosError as wrong:
        return render(
            request, "strands/strands.html", _context(request, member, pk, str(wrong)), status=422
        )
    return redirect("strands", member.project_id, pk)
