"""The forms of a capture, each made from its value; REGISTRY is the one list of them."""

import re
from collections.abc import Callable
from typing import Any

from dynamikos.core.captures.base import BetweenForm, Captured, CssForm, RegexForm, Taker, View
from dynamikos.core.captures.paths import MISSING, as_text, compile_path
from dynamikos.core.errors import RuleError


def by_json(path: str) -> Taker:
    """The first value a JSONPath finds; nothing when the body is not JSON."""
    walk = compile_path(path)

    def take(view: View) -> Captured:
        try:
            found = walk(view.json())
        except ValueError:
            return None
        return None if found is MISSING or found is None else as_text(found)

    return take


def by_css(form: CssForm) -> Taker:
    """An attribute, or the text, of the first element a CSS selector finds."""
    from selectolax.lexbor import LexborHTMLParser, SelectolaxError

    try:
        LexborHTMLParser("<p></p>").css_first(form.selector)
    except (SelectolaxError, ValueError, RuntimeError) as problem:
        raise RuleError(f"'{form.selector}' is not a CSS selector: {problem}") from problem

    def take(view: View) -> Captured:
        node = view.html().css_first(form.selector)
        if node is None:
            return None
        if form.attribute:
            return node.attributes.get(form.attribute)
        return node.text(deep=True, strip=True)

    return take


def between(form: BetweenForm) -> Taker:
    """Searches bytes: no decoding of a large page for one value."""
    if not form.before or not form.after:
        raise RuleError("both texts around the value must be given")
    before, after = form.before.encode(), form.after.encode()

    def take(view: View) -> Captured:
        start = view.body.find(before)
        if start < 0:
            return None
        start += len(before)
        end = view.body.find(after, start)
        return None if end < 0 else view.body[start:end].decode("utf-8", "replace")

    return take


def by_regex(form: RegexForm) -> Taker:
    """A group of a regular expression's first match, searched on bytes."""
    try:
        pattern = re.compile(form.pattern.encode(), re.S)
    except re.error as problem:
        raise RuleError(f"'{form.pattern}' is not a regular expression: {problem}") from problem
    if not 0 <= form.group <= pattern.groups:
        raise RuleError(f"'{form.pattern}' has {pattern.groups} groups, so there is no group {form.group}")

    def take(view: View) -> Captured:
        match = pattern.search(view.body)
        found = match.group(form.group) if match else None
        return None if found is None else found.decode("utf-8", "replace")

    return take


def by_header(name: str) -> Taker:
    """The first value of a response header."""
    if not re.fullmatch(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+", name):
        raise RuleError(f"'{name}' is not a header name")
    return lambda view: view.header(name)


def by_cookie(name: str) -> Taker:
    """The value of a cookie in the user's jar after this answer, redirects included."""
    if not re.fullmatch(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+", name):
        raise RuleError(f"'{name}' is not a cookie name")
    return lambda view: view.cookies().get(name)


REGISTRY: dict[str, Callable[[Any], Taker]] = {
    "json": by_json,
    "css": by_css,
    "between": between,
    "regex": by_regex,
    "header": by_header,
    "cookie": by_cookie,
}
