"""By a CSS selector."""

from collections.abc import Iterator
from functools import lru_cache

from dynamikos.core.captures.selecting import compile_selector
from dynamikos.core.captures.view import CaptureKind, Finder, View
from dynamikos.core.errors import RuleError
from dynamikos.core.text import Frozen


class CssForm(Frozen, frozen=True, kw_only=True):
    """The elements that `selector` finds: one `attribute` of each, or its text when none is
    named.
    """

    selector: str
    attribute: str = ""


def find(form: CssForm) -> Finder:
    """An attribute, or the text, of the elements a CSS selector finds."""
    _known_selector(form.selector)
    select = compile_selector(form.selector)

    def all_of(view: View) -> Iterator[str]:
        for node in select(view.html()):
            value = (
                node.attributes.get(form.attribute)
                if form.attribute
                else node.text(deep=True, strip=True)
            )
            if value is not None:
                yield value

    return all_of


@lru_cache(maxsize=4096)
def _known_selector(selector: str) -> None:
    from selectolax.lexbor import LexborHTMLParser, SelectolaxError

    try:
        LexborHTMLParser("<p></p>").css_first(selector)
    except (SelectolaxError, ValueError, RuntimeError) as problem:
        raise RuleError(f"'{selector}' is not a CSS selector: {problem}") from problem


def says(form: CssForm) -> str:
    return form.selector + (f" @{form.attribute}" if form.attribute else "")


KIND = CaptureKind("css", find, says)
