"""Errors meant for a person become a fragment or a page that says what, where and what to do."""

import errno
import logging
import socket
from collections.abc import Callable

from django.core.exceptions import PermissionDenied
from django.db import DataError, OperationalError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from psycopg.errors import DiskFull

from dynamikos.core.errors import DynamikosError
from dynamikos.core.unsafe_characters import UNKEPT, storable

log = logging.getLogger(__name__)


class ClearErrors:
    """Turns DynamikosError into 422 and PermissionDenied into 403, as a fragment for htmx and a
    page otherwise.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        return self.get_response(request)

    def process_view(self, request: HttpRequest, view: object, *_: object) -> HttpResponse | None:
        """A sign that no database keeps is refused before anything is done with it, unless the view
        says where it is.
        """
        if request.method == "POST" and not getattr(view, "any_signs", False):
            for name, values in request.POST.lists():
                if UNKEPT.search(name) or any(UNKEPT.search(str(value)) for value in values):
                    said = (
                        f"“{storable(name)[:60]}” holds a sign that can't be kept (NUL). Take it "
                        "out, or type it anew."
                    )
                    return problem(request, said, 422)
        return None

    def process_exception(self, request: HttpRequest, exception: Exception) -> HttpResponse | None:
        if isinstance(exception, DynamikosError):
            return problem(request, str(exception), 422)
        if isinstance(exception, DataError):
            log.warning("%s: the database refused what was sent: %s", request.path, exception)
            return problem(
                request, f"This can't be kept: {str(exception).strip().splitlines()[0]}.", 422
            )
        if _is_full(exception):
            log.error("%s: there is no room left: %s", request.path, exception)
            return problem(
                request,
                f"Nothing was saved: the disk of {socket.gethostname()}, or of its database, is "
                "full. Make room there,"
                " or have an operator do it, and send this again; what you typed is still in the "
                "page before.",
                507,
            )
        if isinstance(exception, PermissionDenied):
            return problem(
                request,
                str(exception) or "Your role in this project does not allow this; ask an owner.",
                403,
            )
        return None


def _is_full(exception: Exception) -> bool:
    """Whether it failed for lack of room on a disk, this machine's or the database's."""
    if isinstance(exception, OSError):
        return exception.errno in (errno.ENOSPC, errno.EDQUOT)
    return (
        isinstance(exception.__cause__, DiskFull)
        if isinstance(exception, OperationalError)
        else False
    )


def problem(request: HttpRequest, message: str, status: int) -> HttpResponse:
    """The one way an error is shown."""
    short = bool(getattr(request, "htmx", False))
    return render(
        request,
        "ui/_problem.html" if short else "ui/problem.html",
        {"lines": message.split("\n"), "status": status},
        status=status,
    )
