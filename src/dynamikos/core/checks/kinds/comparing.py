"""Two texts with holes, compared as numbers where both are."""

import re
from collections.abc import Callable
from decimal import Decimal, DivisionByZero, InvalidOperation, localcontext
from typing import Any, Literal, Self

from msgspec.structs import replace

from dynamikos.core.captures.view import View
from dynamikos.core.checks.check_kinds import CheckKind, Look, Values
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import Change
from dynamikos.core.values import compile_text

Comparison = Literal["=", "≠", "<", "≤", ">", "≥"]
OPERATORS: dict[str, Callable[[Any, Any], bool]] = {
    "=": lambda a, b: a == b,
    "≠": lambda a, b: a != b,
    "<": lambda a, b: a < b,
    "≤": lambda a, b: a <= b,
    ">": lambda a, b: a > b,
    "≥": lambda a, b: a >= b,
}
NUMBER = re.compile(r"\s*(?:(\d+(?:\.\d+)?)|([-+*/()−×÷]))")


class Comparing(Frozen, frozen=True, kw_only=True):
    """Two texts with holes, compared as numbers where both are (arithmetic with + − * / and
    brackets is done first), else as texts.
    """

    left: str
    right: str
    compare: Comparison = "="

    def with_texts(self, change: Change) -> Self:
        return replace(self, left=change("check", self.left), right=change("check", self.right))


def look(given: Comparing) -> Look:
    left, right, compared = (
        compile_text(given.left),
        compile_text(given.right),
        OPERATORS[given.compare],
    )

    def is_so(view: View, values: Values) -> bool:
        one, other = left.fill(values), right.fill(values)
        a, b = calculated(one), calculated(other)
        return compared(a, b) if a is not None and b is not None else compared(one, other)

    def words(view: View, values: Values) -> tuple[str, str]:
        one, other = left.fill(values), right.fill(values)
        a, b = calculated(one), calculated(other)
        if a is not None and b is not None:
            return f"{one} {given.compare} {other}", f"{a:f} and {b:f}"
        return (
            f"“{one}” {given.compare} “{other}”",
            "they are not" if given.compare == "=" else "it is not so",
        )

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
        tokens.append(
            (match.group(1) or match.group(2)).translate({0x2212: "-", 0xD7: "*", 0xF7: "/"})
        )
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


KIND = CheckKind(
    "value", look, lambda given: f"{given.left} {given.compare} {given.right}", Comparing.with_texts
)
