"""The forms of a capture, each made from its value; REGISTRY is the one list of them."""

import re
from collections.abc import Callable, Iterator
from functools import lru_cache
from typing import Any

from dynamikos.core.captures.base import BetweenForm, Captured, CssForm, Finder, RegexForm, Taker, View
from dynamikos.core.captures.paths import MISSING, as_text, compile_all, compile_path, compile_text
from dynamikos.core.captures.selecting import compile_selector
from dynamikos.core.errors import RuleError

MOST_MISSES = 20  # bodies that were not as a path says: then they are all read as a whole


def first_by_json(path: str) -> Taker:
    """The first value a JSONPath finds; nothing when the body is not JSON. A body that somebody reads as a whole anyway
    is not read twice.
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


def by_json(path: str) -> Finder:
    """All values a JSONPath finds; none when the body is not JSON."""
    walk = compile_all(path)

    def find(view: View) -> Iterator[str]:
        try:
            document = view.json()
        except ValueError:
            return
        yield from (as_text(value) for value in walk(document) if value is not None)

    return find


def by_css(form: CssForm) -> Finder:
    """An attribute, or the text, of the elements a CSS selector finds."""
    _known_selector(form.selector)
    select = compile_selector(form.selector)

    def find(view: View) -> Iterator[str]:
        for node in select(view.html()):
            value = node.attributes.get(form.attribute) if form.attribute else node.text(deep=True, strip=True)
            if value is not None:
                yield value

    return find


@lru_cache(maxsize=4096)
def _known_selector(selector: str) -> None:
    from selectolax.lexbor import LexborHTMLParser, SelectolaxError

    try:
        LexborHTMLParser("<p></p>").css_first(selector)
    except (SelectolaxError, ValueError, RuntimeError) as problem:
        raise RuleError(f"'{selector}' is not a CSS selector: {problem}") from problem


def between(form: BetweenForm) -> Finder:
    """Searches bytes: no decoding of a large page for one value."""
    if not form.before or not form.after:
        raise RuleError("both texts around the value must be given")
    before, after = form.before.encode(), form.after.encode()

    def find(view: View) -> Iterator[str]:
        body = view.body
        start = body.find(before)
        while start >= 0:
            start += len(before)
            end = body.find(after, start)
            if end < 0:
                break
            yield body[start:end].decode("utf-8", "replace")
            start = body.find(before, start)

    return find


def _pattern(text: str, group: int) -> re.Pattern[bytes]:
    try:
        pattern = re.compile(text.encode(), re.S)
    except re.error as problem:
        raise RuleError(f"'{text}' is not a regular expression: {problem}") from problem
    if not 0 <= group <= pattern.groups:
        raise RuleError(f"'{text}' has {pattern.groups} groups, so there is no group {group}")
    return pattern


def by_regex(form: RegexForm) -> Finder:
    """A group of a regular expression's matches, searched on bytes."""
    pattern = _pattern(form.pattern, form.group)
    wanted = form.header.lower().encode("latin-1", "replace")

    def find(view: View) -> Iterator[str]:
        texts = [value for name, value in view.headers if name.lower() == wanted] if wanted else [view.body]
        groups = (match.group(form.group) for text in texts for match in pattern.finditer(text))
        return (found.decode("utf-8", "replace") for found in groups if found is not None)

    return find


def by_address(text: str) -> Finder:
    """The first group of a regular expression, searched in the request's address and those of its redirects."""
    pattern = _pattern(text, 1)

    def find(view: View) -> Iterator[str]:
        groups = (match.group(1) for address in view.addresses for match in pattern.finditer(address.encode()))
        return (found.decode("utf-8", "replace") for found in groups if found is not None)

    return find


def by_header(name: str) -> Finder:
    """The values of a response header."""
    if not re.fullmatch(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+", name):
        raise RuleError(f"'{name}' is not a header name")
    wanted = name.lower().encode()
    return lambda view: (value.decode("latin-1") for key, value in view.headers if key.lower() == wanted)


def by_cookie(name: str) -> Finder:
    """The value of a cookie in the user's jar after this answer, redirects included."""
    if not re.fullmatch(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+", name):
        raise RuleError(f"'{name}' is not a cookie name")

    def find(view: View) -> Iterator[str]:
        value = view.cookies().get(name)
        if value is not None:
            yield value

    return find


REGISTRY: dict[str, Callable[[Any], Finder]] = {
    "json": by_json,
    "css": by_css,
    "between": between,
    "regex": by_regex,
    "header": by_header,
    "cookie": by_cookie,
    "address": by_address,
}
