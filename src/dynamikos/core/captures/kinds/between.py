"""Between two texts."""

from collections.abc import Iterator

from dynamikos.core.captures.view import CaptureKind, Finder, View
from dynamikos.core.errors import RuleError
from dynamikos.core.text import Frozen


class BetweenForm(Frozen, frozen=True, kw_only=True):
    """What stands between a `before` and the next `after`."""

    before: str
    after: str


def find(form: BetweenForm) -> Finder:
    """Searches bytes: no decoding of a large page for one value."""
    if not form.before or not form.after:
        raise RuleError("both texts around the value must be given")
    before, after = form.before.encode(), form.after.encode()

    def all_of(view: View) -> Iterator[str]:
        body = view.body
        start = body.find(before)
        while start >= 0:
            start += len(before)
            end = body.find(after, start)
            if end < 0:
                break
            yield body[start:end].decode("utf-8", "replace")
            start = body.find(before, start)

    return all_of


KIND = CaptureKind("between", find, lambda form: f"{form.before} … {form.after}")
