"""By a regular expression."""

from collections.abc import Iterator

from dynamikos.core.captures.kinds.patterns import pattern_of
from dynamikos.core.captures.view import CaptureKind, Finder, View
from dynamikos.core.text import Frozen


class RegexForm(Frozen, frozen=True, kw_only=True):
    """A group of a match in the body, or in a `header`; group 0 is the whole match."""

    pattern: str
    group: int = 1
    header: str = ""


def find(form: RegexForm) -> Finder:
    """A group of a regular expression's matches, searched on bytes."""
    pattern = pattern_of(form.pattern, form.group)
    wanted = form.header.lower().encode("latin-1", "replace")

    def all_of(view: View) -> Iterator[str]:
        texts = (
            [value for name, value in view.headers if name.lower() == wanted]
            if wanted
            else [view.body]
        )
        groups = (match.group(form.group) for text in texts for match in pattern.finditer(text))
        return (found.decode("utf-8", "replace") for found in groups if found is not None)

    return all_of


def says(form: RegexForm) -> str:
    return form.pattern + (f" in header {form.header}" if form.header else "")


KIND = CaptureKind("regex", find, says)
