"""By a JSONPath."""

from collections.abc import Iterator

from dynamikos.core.captures.paths import MISSING, as_text, compile_all, compile_path, compile_text
from dynamikos.core.captures.view import Captured, CaptureKind, Finder, Taker, View

MOST_MISSES = 20  # bodies that were not as a path says: then they are all read as a whole


def find(path: str) -> Finder:
    """All values a JSONPath finds; none when the body is not JSON."""
    walk = compile_all(path)

    def all_of(view: View) -> Iterator[str]:
        try:
            document = view.json()
        except ValueError:
            return
        yield from (as_text(value) for value in walk(document) if value is not None)

    return all_of


def first(path: str) -> Taker:
    """The first value a JSONPath finds; nothing when the body is not JSON. A body that somebody
    reads as a whole anyway is not read twice.
    """
    walk, quick = compile_path(path), compile_text(path)
    misses = 0

    def take(view: View) -> Captured:
        nonlocal misses
        if quick is not None and misses < MOST_MISSES and view.reads_json == 1:
            try:
                return quick(view.body)
            except ValueError:
                misses += 1
        try:
            found = walk(view.json())
        except ValueError:
            return None
        return None if found is MISSING or found is None else as_text(found)

    return take


KIND = CaptureKind("json", find, str, first)
