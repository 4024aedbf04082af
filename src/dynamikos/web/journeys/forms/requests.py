"""A whole request as the panel sends it."""

from typing import TypeVar

from django.http import QueryDict
from msgspec.structs import replace

from dynamikos.core.captures import Capture
from dynamikos.core.checks import Check
from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Request
from dynamikos.web.journeys.forms.bodies import body_from
from dynamikos.web.journeys.forms.captures import captures_from
from dynamikos.web.journeys.forms.checks import checks_from
from dynamikos.web.journeys.forms.proofs import authorization_from, headers_from
from dynamikos.web.journeys.forms.rows import pairs

Noted = TypeVar("Noted", Capture, Check)


def noted(new: tuple[Noted, ...], old: tuple[Noted, ...]) -> tuple[Noted, ...]:
    """With the notes of what stayed the same: the panel does not show them."""
    notes = {replace(each, note=""): each.note for each in old}
    return tuple(replace(each, note=notes.get(each, "")) for each in new)


def request_changes(data: QueryDict, old: Request) -> dict[str, object]:
    """The fields of a request that the panel edits."""
    method = data.get("method", "GET").strip().upper()
    if not (method.isalpha() and 3 <= len(method) <= 10):
        raise DynamikosError(f"'{method}' is not a method; write GET, POST, PUT, …")
    address = data.get("address", "").strip()
    if not address:
        raise DynamikosError("A request needs an address, such as {{ env.target }}/sign-in.")
    return {
        "method": method,
        "address": address,
        "query": pairs(data, "query"),
        "headers": headers_from(data, "header"),
        "body": body_from(data, old.body),
        "authorization": authorization_from(data),
        "embedded": tuple(
            line.strip() for line in data.get("embedded", "").splitlines() if line.strip()
        ),
        "captures": noted(captures_from(data), old.captures),
        "checks": noted(checks_from(data), old.checks),
        "note": data.get("note", "").strip(),
    }
