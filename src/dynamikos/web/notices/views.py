"""Who is told, with a test and the log of what was sent."""

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render

from dynamikos.core.errors import DynamikosError
from dynamikos.core.notices import EVENTS
from dynamikos.web.notices import actions
from dynamikos.web.notices.models import Notice, Sending
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership

MOST = 60  # lines of the log


@member_view(get="reader", post="engineer")
def notices(request: HttpRequest, member: Membership) -> HttpResponse:
    """By POST one more; its key is shown then, and never again."""
    wrong, key = "", ""
    if request.method == "POST":
        try:
            _, key = actions.add(member, request.POST.dict(), request.POST.getlist("event"))
        except DynamikosError as problem:
            wrong = str(problem)
    context = {
        "notices": list(Notice.objects.filter(project=member.project).select_related("plan", "by")),
        "plans": list(LoadPlan.objects.filter(project=member.project).order_by("name")),
        "events": EVENTS,
        "wrong": wrong,
        "key": key,
        "typed": request.POST if wrong else {},
        "chosen": request.POST.getlist("event") if wrong else ["ended", "stopped", "lost"],
        "has_mail": bool(settings.EMAIL_HOST),
        **_log(member),
    }
    return render(request, "notices/notices.html", context, status=422 if wrong else 200)


def _log(member: Membership) -> dict[str, object]:
    found = Sending.objects.filter(notice__project=member.project).select_related("notice", "run")
    lines = list(found[:MOST])
    return {"log": lines, "is_waiting": any(each.state == Sending.State.WAITING for each in lines)}


@member_view(get="reader")
def sent(request: HttpRequest, member: Membership) -> HttpResponse:
    """The log alone, which comes anew while something waits."""
    return render(request, "notices/_log.html", _log(member))


@member_view(post="engineer")
def change(request: HttpRequest, member: Membership, number: int) -> HttpResponse:
    """do=test, on, off or remove."""
    found = get_object_or_404(Notice, project=member.project, pk=number)
    what = request.POST.get("do", "")
    if what == "test":
        actions.keep_tests_few(member, found)
        actions.test(member, found)
    elif what == "remove":
        actions.remove(member, found)
    elif what in ("on", "off"):
        actions.switch(member, found, is_on=what == "on")
    return redirect("notices", member.project_id)


@member_view(post="engineer")
def again(request: HttpRequest, member: Membership, number: int) -> HttpResponse:
    """What was given up is tried once more."""
    actions.again(member, get_object_or_404(Sending, notice__project=member.project, pk=number))
    return redirect("notices", member.project_id)
