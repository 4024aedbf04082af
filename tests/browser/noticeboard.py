"""A small application with its framework's default cookie names: notices with an upload, saved
while they are written, under a key that is good for one saving. `python -m
tests.browser.noticeboard PORT`; GET /all counts what there is.
"""

import json
import secrets
import sys
from typing import Any
from wsgiref.simple_server import WSGIRequestHandler, make_server

import django
from django.conf import settings
from django.core.wsgi import get_wsgi_application
from django.http import (
    HttpRequest,
    HttpResponse,
    HttpResponseForbidden,
    HttpResponseRedirect,
    JsonResponse,
)
from django.middleware.csrf import get_token
from django.urls import path

FRAME = """<!DOCTYPE html><html lang="en"><head><title>{title} · Notices</title></head><body><h1>{title}</h1>
<nav><a href="/">All notices</a>{leave}</nav>{content}</body></html>"""  # noqa: E501
LEAVE = """<form method="post" action="/leave/"><input type="hidden" name="csrfmiddlewaretoken" value="{token}">
<button>Leave the board</button></form>"""  # noqa: E501
SIGN_IN = """<form method="post" action="/enter/"><input type="hidden" name="csrfmiddlewaretoken" value="{token}">
<input name="who"><input name="password" type="password"><button>Enter the board</button></form>"""  # noqa: E501
NEW = """<ul>{rows}</ul><form method="post" action="/notices/new/">
<input type="hidden" name="csrfmiddlewaretoken" value="{token}"><button>Write a notice</button></form>"""  # noqa: E501
EDIT = """<form method="post" enctype="multipart/form-data" id="notice">
<input type="hidden" name="csrfmiddlewaretoken" value="{token}"><input type="hidden" name="turn" value="{turn}">
<input name="title"><textarea name="text"></textarea><input type="file" name="picture"><button>Pin it</button></form>
<output></output><script>
const form = document.querySelector("#notice");
let saving = Promise.resolve(); // one after the other: each needs the key that the one before was given
form.addEventListener("change", (e) => {{ if (e.target.type !== "file") saving = saving.then(save); }});
const save = async () => {{
  const token = document.cookie.match(/csrftoken=([^;]+)/)[1];
  const answer = await fetch("/notices/{number}/draft/", {{ method: "POST",
    headers: {{ "Content-Type": "application/json", "X-CSRFToken": token }},
    body: JSON.stringify({{ turn: form.turn.value, title: form.title.value, text: form.text.value }}) }});
  const kept = await answer.json();
  form.turn.value = kept.turn;
  document.querySelector("output").textContent = "kept " + kept.times;
}};</script>"""  # noqa: E501

notices: dict[int, dict[str, Any]] = {}
turns: dict[int, str] = {}  # of a notice, the key that its next saving needs
refused = 0


def page(request: HttpRequest, title: str, content: str) -> HttpResponse:
    leave = LEAVE.format(token=get_token(request)) if request.session.get("who") else ""
    return HttpResponse(FRAME.format(title=title, leave=leave, content=content))


def front(request: HttpRequest) -> HttpResponse:
    if not request.session.get("who"):
        return page(request, "Who is there?", SIGN_IN.format(token=get_token(request)))
    rows = "".join(
        f'<li><a href="/notices/{key}/">{each["title"]}</a></li>' for key, each in notices.items()
    )
    return page(request, "All notices", NEW.format(rows=rows, token=get_token(request)))


def enter(request: HttpRequest) -> HttpResponse:
    request.session.cycle_key()
    request.session["who"] = request.POST["who"]
    return HttpResponseRedirect("/")


def leave(request: HttpRequest) -> HttpResponse:
    request.session.flush()
    return HttpResponseRedirect("/")


def new(request: HttpRequest) -> HttpResponse:
    number = 100 + len(notices) * 7
    notices[number] = {
        "title": "",
        "text": "",
        "picture": "",
        "times": 0,
        "who": request.session["who"],
    }
    turns[number] = secrets.token_hex(8)
    return HttpResponseRedirect(f"/notices/{number}/edit/")


def turned(number: int, given: str) -> bool:
    """Whether the key is the one of this turn; then the next is another."""
    global refused
    if turns[number] != given:
        refused += 1
        return False
    turns[number] = secrets.token_hex(8)
    return True


def edit(request: HttpRequest, number: int) -> HttpResponse:
    if request.method == "GET":
        return page(
            request,
            "Write",
            EDIT.format(token=get_token(request), turn=turns[number], number=number),
        )
    if not turned(number, request.POST["turn"]):
        return HttpResponseForbidden("This notice was saved meanwhile.")
    picture = request.FILES["picture"]
    text = {name: request.POST[name] for name in ("title", "text")}
    notices[number] |= {**text, "picture": picture.read().decode(), "pinned": True}
    return HttpResponseRedirect(f"/notices/{number}/")


def draft(request: HttpRequest, number: int) -> HttpResponse:
    sent = json.loads(request.body)
    if not turned(number, sent["turn"]):
        return HttpResponseForbidden("This notice was saved meanwhile.")
    notices[number] |= {
        "title": sent["title"],
        "text": sent["text"],
        "times": notices[number]["times"] + 1,
    }
    return JsonResponse({"times": notices[number]["times"], "turn": turns[number]})


def notice(request: HttpRequest, number: int) -> HttpResponse:
    each = notices[number]
    return page(
        request,
        each["title"],
        f"<p>{each['text']}</p><p>Pinned, with {len(each['picture'])} signs.</p>",
    )


def everything(request: HttpRequest) -> HttpResponse:
    return JsonResponse({"notices": notices, "refused": refused})


urlpatterns = [
    path("", front),
    path("enter/", enter),
    path("leave/", leave),
    path("notices/new/", new),
    path("notices/<int:number>/edit/", edit),
    path("notices/<int:number>/draft/", draft),
    path("notices/<int:number>/", notice),
    path("all", everything),
]


class Quiet(WSGIRequestHandler):
    def log_message(self, format: str, *args: Any) -> None:
        return None


if __name__ == "__main__":
    settings.configure(
        SECRET_KEY=secrets.token_hex(),
        ROOT_URLCONF=__name__,
        ALLOWED_HOSTS=["*"],
        SESSION_ENGINE="django.contrib.sessions.backends.cache",
        MIDDLEWARE=[
            "django.contrib.sessions.middleware.SessionMiddleware",
            "django.middleware.csrf.CsrfViewMiddleware",
        ],
        # behind a doorway it is reached by another name
        CSRF_TRUSTED_ORIGINS=["http://*.localhost", "http://127.0.0.1"],
    )
    django.setup()
    with make_server(
        "127.0.0.1", int(sys.argv[1]), get_wsgi_application(), handler_class=Quiet
    ) as server:
        server.serve_forever()
