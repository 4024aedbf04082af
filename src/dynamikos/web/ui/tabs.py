"""Which tab of a browser a change comes from, so that two tabs of one account don't fold into each
other's edits.
"""

from collections.abc import Callable
from contextvars import ContextVar

from django.http import HttpRequest, HttpResponse

_tab: ContextVar[str] = ContextVar("tab", default="")


def this_tab() -> str:
    """What the page under way calls its tab; empty for one that says nothing."""
    return _tab.get()


class Tabs:
    """Remembers the tab for as long as a request takes."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        before = _tab.set(request.headers.get("X-Tab", "")[:16])
        try:
            return self.get_response(request)
        finally:
            _tab.reset(before)
