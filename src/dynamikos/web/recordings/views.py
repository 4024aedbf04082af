import uuid
from collections.abc import Callable

from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET

from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges import write_har
from dynamikos.core.figures import digits
from dynamikos.web.projects.access import member_view, membership, stream_member
from dynamikos.web.projects.models import Membership
from dynamikos.web.recordings import actions, queries
from dynamikos.web.recordings.models import Session
from dynamikos.web.streams.views import event_stream
from dynamikos.web.ui.progress import streamed
from dynamikos.web.ui.release_connection import briefly
from dynamikos.web.ui.uploads import several_uploaded


@member_view(post="engineer")
def upload(request: HttpRequest, member: Membership) -> HttpResponse | StreamingHttpResponse:
    """One HAR file, or several recordings of one journey at once: the first makes it, the others
    are its further evidence.
    """
    files = several_uploaded(request, "a HAR file")
    address = reverse("journeys", args=[member.project_id])

    def work(progress: Callable[[float], None]) -> str:
        first, *others = actions.import_several(member, files, progress)
        query = "&".join(f"other={each.pk}" for each in others)
        return f"{address}/from/{first.pk}" + (f"?{query}" if query else "")

    return streamed(work)


@member_view(post="engineer")
def paste(request: HttpRequest, member: Membership) -> HttpResponse:
    """curl calls, or a request as a browser shows it."""
    try:
        made = actions.paste(member, request.POST.get("text", ""), request.POST.get("name", ""))
    except DynamikosError as wrong:
        return render(
            request,
            "recordings/refused.html",
            {"problem": str(wrong), "pasted": request.POST},
            status=422,
        )
    return redirect(f"{reverse('journeys', args=[member.project_id])}/from/{made.pk}")


@member_view(get="reader")
def file(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """The recording as a HAR file."""
    found = queries.recording(member, pk)
    core = queries.as_core(found)
    name = (
        "".join(
            c if c.isalnum() or c in "-_" else "-" for c in found.name.removesuffix(".har")
        ).strip("-")
        or "recording"
    )
    headers = {"Content-Disposition": f'attachment; filename="{name}.har"'}
    return HttpResponse(
        write_har(core.exchanges, core.pages), content_type="application/json", headers=headers
    )


def _session(member: Membership, pk: uuid.UUID) -> Session:
    return get_object_or_404(
        Session.objects.select_related("recording"), recording__project=member.project, pk=pk
    )


@member_view(post="engineer")
def record(request: HttpRequest, member: Membership) -> HttpResponse:
    """Begins a recording by doorway or proxy."""
    try:
        made = actions.begin(
            member,
            request.POST.get("kind", ""),
            request.POST.get("targets", ""),
            request.POST.get("name", ""),
            request.POST.get("environment", ""),
        )
    except DynamikosError as wrong:
        return render(
            request,
            "recordings/refused.html",
            {
                "problem": str(wrong),
                "typed": request.POST,
                "environments": member.project.environments.all(),
            },
            status=422,
        )
    return redirect("recording-live", member.project_id, made.pk)


def _context(member: Membership, session: Session, problem: str = "") -> dict[str, object]:
    return {
        "session": session,
        "recording": session.recording,
        "strip": queries.strip(session),
        "wide": queries.WIDE,
        "high": queries.HIGH,
        "problem": problem,
        "parts": actions.PARTS,
        "current": session.marks[-1] if session.marks else None,
        "proxy_host": session.address.removeprefix("http://"),
    }


@member_view(get="reader")
def live(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    return render(request, "recordings/live.html", _context(member, _session(member, pk)))


@member_view(get="reader")
def results(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    return render(request, "recordings/results.html", _context(member, _session(member, pk)))


@member_view(post="engineer")
def mark(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    session = _session(member, pk)

    def number(name: str) -> int:
        return digits(request.POST.get(name, "")) or 0

    try:
        actions.mark(
            session.pk,
            request.POST.get("name", ""),
            request.POST.get("part", ""),
            number("from"),
            number("to"),
        )
    except DynamikosError as wrong:
        return render(
            request, "recordings/live.html", _context(member, session, str(wrong)), status=422
        )
    return redirect("recording-live", member.project_id, pk)


@member_view(post="engineer")
def control(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    session = _session(member, pk)
    what = request.POST.get("what", "")
    try:
        actions.control(member, session.pk, what)
    except DynamikosError as wrong:
        return render(
            request, "recordings/live.html", _context(member, session, str(wrong)), status=422
        )
    if what == "stop" and session.recording.exchanges.exists():
        return redirect(f"{reverse('journeys', args=[member.project_id])}/from/{session.pk}")
    return redirect("recording-live", member.project_id, pk)


@member_view(get="engineer")
def authority(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """The proxy's certificate, to be trusted by the browser that records."""
    session = _session(member, pk)
    return HttpResponse(
        session.authority,
        content_type="application/x-x509-ca-cert",
        headers={"Content-Disposition": 'attachment; filename="dynamikos-recorder.pem"'},
    )


@require_GET
async def stream(request: HttpRequest, project: uuid.UUID, pk: uuid.UUID) -> StreamingHttpResponse:
    member = await stream_member(request, project)
    await briefly(_session)(member, pk)

    async def may() -> bool:
        return bool(await briefly(membership)(member.account, project))

    return event_stream(request, pk, may)
