"""What every page has: the spine of the project it is in."""

from typing import Any

from django.http import HttpRequest
from django.utils.functional import SimpleLazyObject

from dynamikos.web.ui.spine import places


def frame(request: HttpRequest) -> dict[str, Any]:
    member = getattr(request, "member", None)
    return {
        "member": member,
        # looked up by whole pages only: a fragment shows no spine
        "spine": SimpleLazyObject(lambda: places(member, request.path))
        if member is not None
        else [],
        "theme": request.COOKIES.get("dynamikos-theme", "paper"),
    }
