"""Each form of check as a function that makes its Look."""

import re
from collections.abc import Callable, Iterator
from decimal import Decimal, DivisionByZero, InvalidOperation, localcontext
from itertools import islice
from typing import Any

from dynamikos.core.captures import CssForm
from dynamikos.core.captures.base import View
from dynamikos.core.captures.forms import by_css
from dynamikos.core.captures.paths import as_text, compile_all
from dynamikos.core.checks.base import (
    Beyond,
    Bounds,
    Comparing,
    CssText,
    Expected,
    HeaderText,
    JsonEquals,
    Look,
    Values,
)
from dynamikos.core.errors import RuleError
from dynamikos.core.values import compile_text

MOST = 100_000
Found = Callable[[View], Iterator[str]]
TYPES = {str: "text", bool: "boolean", list: "list", dict: "object", type(None): "null", int: "number", float: "number"}
OPERATORS: dict[str, Callable[[Any, Any], bool]] = {
    "=": lambda a, b: a == b,
    "≠": lambda a, b: a != b,
    "<": lambda a, b: a < b,
    "≤": lambda a, b: a <= b,
    ">": lambda a, b: a > b,
    "≥": lambda a, b: a >= b,
}
NUMBER = re.compile(r"\s*(?:(\d+(?:\.\d+)?)|([-+*/()−×÷]))")


def status(given: int | str | tuple[int | str, ...]) -> Look:
    codes: set[int] = set()
    for each in given if isinstance(given, tuple) else (given,):
        text = str(each).strip().lower()
        if re.fullmatch(r"[1-5]xx", text):
            codes.update(range(int(text[0]) * 100, int(text[0]) * 100 + 100))
        elif re.fullmatch(r"[1-5]\d\d", text):
            codes.add(int(text))
        else:
            raise RuleError(f"{each} is not an HTTP status; write 100 to 599, or a class such as 2xx")
    expected = "status " + " or ".join(map(str, given)) if isinstance(given, tuple) else f"status {given}"
    return Look(lambda view, values: view.status in codes, lambda view, values: (expected, f"status {view.status}"))


def content_type(given: str) -> Look:
    wanted = given.strip().lower()
    if "/" not in wanted:
        raise RuleError(f"'{given}' is not a content type; write one such as application/json")

    def actual(view: View) -> str:
        return view.content_type.partition(";")[0].strip().lower()

    return Look(
        lambda view, values: actual(view) == wanted,
        lambda view, values: (f"content type {wanted}", actual(view) or "no content type"),
    )


def nearest(text: str, wanted: str) -> str:
    """The place of `text` that has most of the beginning or of the end of `wanted`, between » and «, with what is
    around it; empty when there is none.

    Looked for in O(len(text) · log len(wanted)).
    """
    text, wanted = text[:2_000_000], wanted[:200]

    def longest(part: Callable[[int], str]) -> int:
        low, high = 0, len(wanted)
        while low < high:
            middle = (low + high + 1) // 2
            low, high = (middle, high) if part(middle) in text else (low, middle - 1)
        return low

    head, tail = longest(lambda n: wanted[:n]), longest(lambda n: wanted[len(wanted) - n :])
    if max(head, tail) < min(3, len(wanted)):
        return ""
    begin = text.find(wanted[:head]) if head >= tail else text.find(wanted[len(wanted) - tail :]) + tail - len(wanted)
    begin = max(0, begin)
    end = begin + len(wanted)
    return f"{text[max(0, begin - 20) : begin]}»{text[begin:end]}«{text[end : end + 20]}"


def contains(given: str) -> Look:
    if not given:
        raise RuleError("'contains' needs a text")
    template = compile_text(given)

    def is_so(view: View, values: Values) -> bool:
        wanted = template.fill(values)
        return wanted.encode() in view.body or (not wanted.isascii() and wanted in view.text)

    def words(view: View, values: Values) -> tuple[str, str]:
        wanted = template.fill(values)
        expected, size = f"contains “{wanted}”", f"{len(view.body):,} bytes"
        if is_so(view, values):
            return expected, f"it stands in {size}"
        near = nearest(view.text, wanted)
        return expected, f"{size} without it; nearest: {near}" if near else f"{size} without it: {view.text[:120]}"

    return Look(is_so, words)


def regex(given: str) -> Look:
    try:
        pattern = re.compile(given.encode(), re.S)
    except re.error as problem:
        raise RuleError(f"'{given}' is not a regular expression: {problem}") from problem

    expected, search = f"matches {given}", pattern.search

    def words(view: View, values: Values) -> tuple[str, str]:
        match = search(view.body)
        if match is None:
            return expected, f"no match in {len(view.body):,} bytes"
        return expected, f"“{match.group(0)[:120].decode('utf-8', 'replace')}”"

    return Look(lambda view, values: search(view.body) is not None, words)


def json(given: JsonEquals) -> Look:
    walk = compile_all(given.path)
    if given.type:
        expected = f"{given.path} is {given.type}"

        def kind(view: View) -> tuple[str, Any]:
            found = next(iter(walk(view.json())), None)
            return TYPES.get(type(found), "something else"), found

        def is_so(view: View, values: Values) -> bool:
            try:
                return kind(view)[0] == given.type
            except ValueError:
                return False

        def words(view: View, values: Values) -> tuple[str, str]:
            try:
                actual, found = kind(view)
            except ValueError:
                return expected, "the body is not JSON"
            return expected, f"{actual}: {as_text(found)[:80]}"

        return Look(is_so, words)

    def find(view: View) -> Iterator[str]:
        return (as_text(each) for each in walk(view.json()))

    return _expected(given, given.path, find, "nothing at this path")


def css(given: CssText) -> Look:
    finder = by_css(CssForm(selector=given.selector, attribute=given.attribute))
    name = given.selector + (f" @{given.attribute}" if given.attribute else "")
    return _expected(given, name, lambda view: (text.strip() for text in finder(view)), "no such element")


def header(given: HeaderText) -> Look:
    wanted = given.name.lower().encode("latin-1", "replace")

    def find(view: View) -> Iterator[str]:
        return (value.decode("latin-1") for name, value in view.headers if name.lower() == wanted)

    return _expected(given, f"header {given.name}", find, "no such header")


def _expected(given: Expected, name: str, find: Found, nothing: str) -> Look:
    """The first of what was found against what is expected of it."""
    told = [each for each in ("equals", "matches", "above", "below", "count") if getattr(given, each) is not None]
    if len(told) > 1:
        raise RuleError(f"{name}: give one of equals, matches, above, below or count, not {' and '.join(told)}")
    how = told[0] if told else "exists"
    template = compile_text(str(given.equals)) if how == "equals" else None
    pattern = None
    if how == "matches":
        try:
            pattern = re.compile(str(given.matches))
        except re.error as problem:
            raise RuleError(f"'{given.matches}' is not a regular expression: {problem}") from problem

    def expected(values: Values) -> str:
        if how == "equals" and template is not None:
            return f"{name} = {template.fill(values)}"
        words = {
            "exists": f"{name} is there",
            "matches": f"{name} matches {given.matches}",
            "above": f"{name} > {given.above}",
            "below": f"{name} < {given.below}",
            "count": f"{given.count} × {name}",
        }
        return words[how]

    def compared(first: str, wanted: str) -> tuple[bool, str]:
        """(whether what was found is as expected, what came)."""
        actual = first[:400]
        if how == "equals":
            return first == wanted, actual
        if pattern is not None:
            return pattern.search(first) is not None, actual
        try:
            number = float(first)
        except ValueError:
            return False, f"{actual}, which is no number"
        return (number > given.above if given.above is not None else number < (given.below or 0.0)), actual

    def seen(view: View, values: Values) -> tuple[bool, str]:
        wanted = template.fill(values) if template is not None else ""  # a value that is missing is said first
        try:
            if how == "count":
                many = sum(1 for _ in islice(find(view), MOST))
                return many == given.count, f"{many:,}"
            first = next(find(view), None)
        except ValueError:
            return False, "the body is not JSON"
        if first is None:
            return False, nothing
        return (True, first[:400]) if how == "exists" else compared(first, wanted)

    return Look(
        lambda view, values: seen(view, values)[0], lambda view, values: (expected(values), seen(view, values)[1])
    )


def _bounds(what: str, unit: str, measure: Callable[[View], float | None]) -> Callable[[Bounds], Look]:
    def make(given: Bounds) -> Look:
        low, high = given.at_least, given.at_most
        if low is None and high is None:
            raise RuleError(f"{what} needs at_least, at_most or both")
        words = [
            f"at least {low:,g} {unit}" if low is not None else "",
            f"at most {high:,g} {unit}" if high is not None else "",
        ]
        expected = f"{what} " + " and ".join(filter(None, words))

        def actual(view: View) -> float:
            found = measure(view)
            if found is None:
                raise Beyond(expected)
            return found

        def is_so(view: View, values: Values) -> bool:
            found = actual(view)
            return (low is None or found >= low) and (high is None or found <= high)

        return Look(is_so, lambda view, values: (expected, f"{actual(view):,g} {unit}"))

    return make


def value(given: Comparing) -> Look:
    left, right, compared = compile_text(given.left), compile_text(given.right), OPERATORS[given.compare]

    def is_so(view: View, values: Values) -> bool:
        one, other = left.fill(values), right.fill(values)
        a, b = calculated(one), calculated(other)
        return compared(a, b) if a is not None and b is not None else compared(one, other)

    def words(view: View, values: Values) -> tuple[str, str]:
        one, other = left.fill(values), right.fill(values)
        a, b = calculated(one), calculated(other)
        if a is not None and b is not None:
            return f"{one} {given.compare} {other}", f"{a:f} and {b:f}"
        return f"“{one}” {given.compare} “{other}”", "they are not" if given.compare == "=" else "it is not so"

    return Look(is_so, words)


def calculated(text: str) -> Decimal | None:
    """The number a text says, arithmetic with + − * / and brackets done; None when it says none."""
    tokens: list[str] = []
    at = 0
    text = text.strip()
    while at < len(text):
        match = NUMBER.match(text, at)
        if match is None or len(tokens) > 200:
            return None
        tokens.append((match.group(1) or match.group(2)).translate({0x2212: "-", 0xD7: "*", 0xF7: "/"}))
        at = match.end()
    if not tokens:
        return None
    try:
        with localcontext() as context:
            context.prec = 40
            found, rest = _sum(tokens, 0, 0)
    except (InvalidOperation, DivisionByZero, IndexError, ValueError):
        return None
    return found if rest == len(tokens) else None


def _sum(tokens: list[str], at: int, depth: int) -> tuple[Decimal, int]:
    found, at = _product(tokens, at, depth)
    while at < len(tokens) and tokens[at] in "+-":
        other, after = _product(tokens, at + 1, depth)
        found, at = (found + other if tokens[at] == "+" else found - other), after
    return found, at


def _product(tokens: list[str], at: int, depth: int) -> tuple[Decimal, int]:
    found, at = _factor(tokens, at, depth)
    while at < len(tokens) and tokens[at] in "*/":
        other, after = _factor(tokens, at + 1, depth)
        found, at = (found * other if tokens[at] == "*" else found / other), after
    return found, at


def _factor(tokens: list[str], at: int, depth: int) -> tuple[Decimal, int]:
    if depth > 50:
        raise ValueError("too deep")
    if tokens[at] in "+-":
        found, after = _factor(tokens, at + 1, depth + 1)
        return (-found if tokens[at] == "-" else found), after
    if tokens[at] == "(":
        found, after = _sum(tokens, at + 1, depth + 1)
        if tokens[after] != ")":
            raise ValueError("no closing bracket")
        return found, after + 1
    return Decimal(tokens[at]), at + 1


REGISTRY: dict[str, Callable[[Any], Look]] = {
    "status": status,
    "type": content_type,
    "contains": contains,
    "regex": regex,
    "json": json,
    "css": css,
    "header": header,
    "size": _bounds("size", "bytes", lambda view: view.size_bytes),
    "time": _bounds("response time", "ms", lambda view: view.duration_ms),
    "value": value,
}
