"""The type of the content."""

from dynamikos.core.captures.view import View
from dynamikos.core.checks.check_kinds import CheckKind, Look
from dynamikos.core.errors import RuleError


def look(given: str) -> Look:
    wanted = given.strip().lower()
    if "/" not in wanted:
        raise RuleError(f"'{given}' is not a content type; write one such as application/json")

    def actual(view: View) -> str:
        return view.content_type.partition(";")[0].strip().lower()

    return Look(
        lambda view, values: actual(view) == wanted,
        lambda view, values: (f"content type {wanted}", actual(view) or "no content type"),
    )


KIND = CheckKind("type", look, lambda given: f"type {given}")
