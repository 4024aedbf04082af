"""What a page says when something of ours is broken: the database away for a while, or an error
nobody foresaw.
"""

from django.db import Error, connection
from django.http import HttpRequest, HttpResponse
from django.template.loader import render_to_string


def broken(request: HttpRequest) -> HttpResponse:
    """Django's handler for 500. While the database is away it says so (503), and the page tries
    again by itself.
    """
    try:
        connection.close()
        connection.ensure_connection()
        away = False
    except Error:
        away = True
    short = bool(request.headers.get("HX-Request"))
    context = {"away": away, "again": away and request.method == "GET", "short": short}
    template = "ui/_broken.html" if short else "ui/broken.html"
    answer = HttpResponse(render_to_string(template, context), status=503 if away else 500)
    if away:
        answer["Retry-After"] = "3"
    return answer
