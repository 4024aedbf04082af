"""Casebooks: pinning, editing, closing, exporting, and reading without an account."""

import uuid
from urllib.parse import parse_qsl

import msgspec
from csp.decorators import csp_replace
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.safestring import mark_safe
from django.views.decorators.clickjacking import xframe_options_sameorigin
from django.views.decorators.http import require_GET

from dynamikos.chromium.printing import printed
from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits
from dynamikos.core.telling import casebook as core
from dynamikos.web.casebook import actions, queries, showing
from dynamikos.web.casebook.models import Casebook
from dynamikos.web.projects.access import member_view
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import Stale, Unreadable, token
from dynamikos.web.runs.queries import run
from dynamikos.web.runs.views.files import KINDS
from dynamikos.web.ui.numbers import number

OWN = {
    "default-src": ["'none'"],
    "style-src": ["'unsafe-inline'"],
    "img-src": ["data:"],
    "form-action": ["'none'"],
    # what the application's own pages may, this one need not
    "script-src": None,
    "connect-src": None,
    "font-src": None,
    "frame-src": None,
}  # of a page that needs nothing else
SIGNS, MOST_OF = 4000, 20  # of what a pin names: signs of each, and how many


@member_view(get="reader", post="engineer")
def casebooks(request: HttpRequest, member: Membership) -> HttpResponse:
    """All of a project; by POST a new one begins."""
    wrong = ""
    if request.method == "POST":
        try:
            made = actions.create(member, core.Casebook(title=request.POST.get("title", "")))
            return redirect("casebook", member.project_id, made.pk)
        except DynamikosError as problem:
            wrong = str(problem)
    context = {
        "casebooks": list(queries.casebooks(member)),
        "current": queries.current(member),
        "wrong": wrong,
        "typed": request.POST.get("title", ""),
    }
    return render(request, "casebook/list.html", context, status=422 if wrong else 200)


@member_view(post="engineer")
def pin(request: HttpRequest, member: Membership) -> JsonResponse:
    """What a page shows (what=…, title=…, of=its address) goes into the open casebook; answers
    where it is now.
    """
    of = dict(parse_qsl(request.POST.get("of", ""), keep_blank_values=True)[:MOST_OF])
    try:
        block = msgspec.convert(
            {
                "block": "pin",
                "key": request.POST.get("what", ""),
                "what": request.POST.get("what", ""),
                "of": {name[:40]: value[:SIGNS] for name, value in of.items()},
                "title": request.POST.get("title", "")[:300],
            },
            core.Pin,
        )
        found = actions.pin(member, block)
    except msgspec.ValidationError:
        return JsonResponse({"problem": "Nothing of this kind can be pinned."}, status=422)
    except DynamikosError as problem:
        return JsonResponse({"problem": f"It was not pinned: {problem}"}, status=422)
    return JsonResponse(
        {"name": found.name, "address": reverse("casebook", args=[member.project_id, found.pk])}
    )


@member_view(post="engineer")
def draft(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """A report of a run, to be edited."""
    made = actions.draft(member, run(member, pk))
    return redirect("casebook", member.project_id, made.pk)


@member_view(get="reader")
def casebook(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    return _page(request, member, queries.casebook(member, pk))


def _page(
    request: HttpRequest,
    member: Membership,
    found: Casebook,
    wrong: str = "",
    word: str = "",
    status: int = 200,
) -> HttpResponse:
    problem, blocks = "", list[showing.Shown]()
    try:
        if found.closed_at is None:
            blocks = list(showing.shown(found))
    except Unreadable as unread:
        problem = str(unread)
    context = {
        "book": found,
        "blocks": blocks,
        "token": token(found.head),
        "may_edit": member.may_edit and found.closed_at is None and not problem,
        "problem": problem,
        "wrong": wrong,
        "links": queries.links_of(member, found) if member.may_edit else [],
        "word": request.build_absolute_uri(reverse("read", args=[word])) if word else "",
        "typed": request.POST if wrong else {},
    }
    return render(request, "casebook/casebook.html", context, status=status)


@member_view(post="engineer")
def write(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """A paragraph, a note, or the title, as it is typed."""
    found, typed = queries.casebook(member, pk), request.POST
    key, text = typed.get("key", ""), typed.get("text", "")
    problem, status = "", 200
    try:
        if key:
            found = actions.change(
                member,
                found,
                typed.get("parent", ""),
                lambda book: core.written(book, key, text),
                f"text:{key}",
                actions.block_of(key),
            )
        else:
            found = actions.rename(member, found, typed.get("parent", ""), text)
    except Stale as stale:
        problem, status = str(stale), 409
    except DynamikosError as wrong:
        problem, status = str(wrong), 422
    context = {"token": token(found.head), "problem": problem, "typed": text, "swap": True}
    return render(request, "casebook/_says.html", context, status=status)


@member_view(post="engineer")
def blocks(request: HttpRequest, member: Membership, pk: uuid.UUID) -> JsonResponse:
    """A block is added (do=add, after=key), moved (do=move, key, to=place), or taken out
    (do=remove, key).
    """
    found, typed = queries.casebook(member, pk), request.POST
    key, to, what = typed.get("key", ""), digits(typed.get("to", "")), typed.get("do", "")

    fresh = ""

    def how(book: core.Casebook) -> core.Casebook:
        nonlocal fresh
        if what == "add":
            fresh = core.fresh_key(book, "text")
            return core.with_block(book, core.Text(key=fresh), typed.get("after"))
        if what == "move" and to is not None:
            return core.moved(book, key, to)
        if what == "remove":
            return core.without(book, key)
        raise DynamikosError("Nothing like this is done with a block.")

    try:
        about = (
            actions.block_of(key) if what == "remove" else lambda book: None
        )  # others go beside each other
        found = actions.change(member, found, typed.get("parent", ""), how, about=about)
    except Stale as stale:
        return JsonResponse({"problem": str(stale)}, status=409)
    except DynamikosError as wrong:
        return JsonResponse({"problem": str(wrong)}, status=422)
    made = {"token": token(found.head), "html": ""}
    if what == "add":
        context = {
            "each": showing.Shown(core.Text(key=fresh)),
            "book": found,
            "member": member,
            "may_edit": True,
        }
        made["html"] = render(request, "casebook/_block.html", context).content.decode()
    return JsonResponse(made)


@member_view(post="engineer")
def undo(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    actions.undo(member, queries.casebook(member, pk))
    return redirect("casebook", member.project_id, pk)


@member_view(post="engineer")
def close(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    actions.close(member, queries.casebook(member, pk))
    return redirect("casebook", member.project_id, pk)


@member_view(post="engineer")
def open_again(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    actions.open_again(member, queries.casebook(member, pk))
    return redirect("casebook", member.project_id, pk)


@member_view(post="engineer")
def delete(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    found = queries.casebook(member, pk)
    try:
        actions.delete(member, found, request.POST.get("sure", ""))
    except DynamikosError as problem:
        return _page(request, member, found, str(problem), status=422)
    return redirect("casebooks", member.project_id)


@member_view(post="engineer")
def link(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """A link to read it without an account; its address is shown once."""
    found = queries.casebook(member, pk)
    try:
        _, word = actions.make_link(
            member, found, number(request.POST.get("days", ""), "Days", 0.001, 10_000)
        )
    except DynamikosError as problem:
        return _page(request, member, found, str(problem), status=422)
    return _page(request, member, found, word=word)


@member_view(post="engineer")
def revoke(request: HttpRequest, member: Membership, pk: uuid.UUID, number: int) -> HttpResponse:
    actions.revoke(member, queries.casebook(member, pk), number)
    return _back(request, member, pk)


@member_view(post="owner")
def take_over(request: HttpRequest, member: Membership, pk: uuid.UUID, number: int) -> HttpResponse:
    actions.take_over(member, queries.casebook(member, pk), number)
    return _back(request, member, pk)


def _back(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """To where the link was seen."""
    if request.POST.get("from") == "settings":
        return redirect(reverse("settings", args=[member.project_id]) + "#links")
    return redirect("casebook", member.project_id, pk)


@member_view(get="owner")
def links(request: HttpRequest, member: Membership) -> HttpResponse:
    """All links of the project, as a part of Settings."""
    return render(
        request, "casebook/_links.html", {"links": queries.links_of(member), "of_project": True}
    )


@member_view(get="reader")
def export(request: HttpRequest, member: Membership, pk: uuid.UUID, form: str) -> HttpResponse:
    """As one HTML file that needs nothing else, Markdown, PDF, or a folder with the figures."""
    if form not in KINDS:
        raise Http404
    found = queries.casebook(member, pk)
    body: str | bytes
    if form == "zip":
        body = showing.as_folder(found)
    else:
        body = showing.as_markdown(found) if form == "md" else showing.as_html(found)
        body = printed(body) if form == "pdf" else body
    answer = HttpResponse(body, content_type=KINDS[form])
    answer["Content-Disposition"] = f'attachment; filename="{found.key}.{form}"'
    return answer


@xframe_options_sameorigin
@csp_replace({**OWN, "frame-ancestors": ["'self'"]})
@member_view(get="reader")
def page(request: HttpRequest, member: Membership, pk: uuid.UUID) -> HttpResponse:
    """As a reader sees it, in a frame of its page."""
    return HttpResponse(mark_safe(showing.as_html(queries.casebook(member, pk))))


@csp_replace({**OWN, "frame-ancestors": ["'none'"]})  # type: ignore[arg-type]
@require_GET
def read(request: HttpRequest, word: str) -> HttpResponse:
    """A casebook for somebody without an account, by the word of a link."""
    answer = HttpResponse(mark_safe(showing.for_readers(queries.read_by(word))))
    answer["Cache-Control"] = "private, no-store"
    answer["Referrer-Policy"] = "no-referrer"
    answer["X-Robots-Tag"] = "noindex"
    return answer
