"""A header of the answer."""

from collections.abc import Iterator

from dynamikos.core.captures.view import View
from dynamikos.core.checks.check_kinds import CheckKind, Look
from dynamikos.core.checks.kinds.expected import Expected, look_for


class HeaderText(Expected, frozen=True, kw_only=True):
    """A header of the answer."""

    name: str


def look(given: HeaderText) -> Look:
    wanted = given.name.lower().encode("latin-1", "replace")

    def find(view: View) -> Iterator[str]:
        return (value.decode("latin-1") for name, value in view.headers if name.lower() == wanted)

    return look_for(given, f"header {given.name}", find, "no such header")


KIND = CheckKind(
    "header", look, lambda given: f"header {given.name} {given.says()}", HeaderText.with_texts
)
