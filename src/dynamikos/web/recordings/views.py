from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.urls import reverse

from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.recordings import actions
from dynamikos.web.ui.progress import streamed
from dynamikos.web.ui.uploads import uploaded


@member_view("engineer")
def upload(request: HttpRequest, member: Membership) -> HttpResponse | StreamingHttpResponse:
    data, name = uploaded(request, "a HAR file")
    address = reverse("journeys", args=[member.project_id])
    return streamed(lambda progress: f"{address}/from/{actions.import_har(member, data, name, progress).pk}")
