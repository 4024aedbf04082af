"""Pages of the interface itself."""

from django.contrib.auth.decorators import login_required
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

INKS = ("ink", "faded", "verdigris", "indigo", "ochre", "madder", "slate", "plum")
CHOICES = (("steady", "steady"), ("climbing", "climbing"))
WORDS = ("met", "close", "not decided", "missed", "not judged")


@login_required
@require_safe
def patterns(request: HttpRequest) -> HttpResponse:
    """The parts that recur, as they look and are written: for those who build screens."""
    return render(
        request,
        "ui/patterns.html",
        {"inks": INKS, "words": WORDS, "share": 0.4, "choices": CHOICES},
    )
