"""What somebody sees who tried too many passwords."""

from typing import Any

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render


def locked(
    request: HttpRequest, response: Any = None, credentials: Any = None, *args: Any, **kwargs: Any
) -> HttpResponse:
    return render(
        request,
        "accounts/locked.html",
        {"minutes": round(settings.AXES_COOLOFF_TIME.total_seconds() / 60)},
        status=429,
    )
