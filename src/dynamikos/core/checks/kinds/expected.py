"""What the kinds have in common that find something first: by a path, a selector, a header's
name.
"""

import re
from collections.abc import Callable, Iterator
from itertools import islice
from typing import Self

from msgspec.structs import replace

from dynamikos.core.captures.view import View
from dynamikos.core.checks.check_kinds import Look, Values
from dynamikos.core.errors import RuleError
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import Change
from dynamikos.core.values import compile_text

MOST = 100_000
Found = Callable[[View], Iterator[str]]
SIGNS = {"equals": "=", "matches": "matches", "above": ">", "below": "<", "count": "so many:"}


class Expected(Frozen, frozen=True, kw_only=True):
    """What is expected of what was found: by default that it is there. At most one is given; texts
    may have holes.
    """

    equals: str | None = None
    matches: str | None = None
    above: float | None = None
    below: float | None = None
    count: int | None = None

    def with_texts(self, change: Change) -> Self:
        made = self
        if self.equals is not None:
            made = replace(made, equals=change("check", self.equals))
        if self.matches is not None:
            made = replace(made, matches=change("check", self.matches))
        return made

    def says(self) -> str:
        """What is expected, in words that come after what is looked for."""
        for name, sign in SIGNS.items():
            value = getattr(self, name)
            if value not in (None, ""):
                return f"{sign} {value}"
        return "is there"


def look_for(given: Expected, name: str, find: Found, nothing: str) -> Look:
    """The first of what was found against what is expected of it."""
    told = [each for each in SIGNS if getattr(given, each) is not None]
    if len(told) > 1:
        raise RuleError(
            f"{name}: give one of equals, matches, above, below or count, not {' and '.join(told)}"
        )
    how = told[0] if told else "exists"
    template = compile_text(str(given.equals)) if how == "equals" else None
    pattern = None
    if how == "matches":
        try:
            pattern = re.compile(str(given.matches))
        except re.error as problem:
            raise RuleError(
                f"'{given.matches}' is not a regular expression: {problem}"
            ) from problem

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
        return (
            number > given.above if given.above is not None else number < (given.below or 0.0)
        ), actual

    def seen(view: View, values: Values) -> tuple[bool, str]:
        wanted = (
            template.fill(values) if template is not None else ""
        )  # a value that is missing is said first
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
        lambda view, values: seen(view, values)[0],
        lambda view, values: (expected(values), seen(view, values)[1]),
    )
