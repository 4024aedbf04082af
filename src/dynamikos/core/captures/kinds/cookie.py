"""By the name of a cookie."""

from collections.abc import Iterator

from dynamikos.core.captures.kinds.patterns import TOKEN
from dynamikos.core.captures.view import CaptureKind, Finder, View
from dynamikos.core.errors import RuleError


def find(name: str) -> Finder:
    """The value of a cookie in the user's jar after this answer, redirects included."""
    if not TOKEN.fullmatch(name):
        raise RuleError(f"'{name}' is not a cookie name")

    def all_of(view: View) -> Iterator[str]:
        value = view.cookies().get(name)
        if value is not None:
            yield value

    return all_of


KIND = CaptureKind("cookie", find, str, needs_body=False)
