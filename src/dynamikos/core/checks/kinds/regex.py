"""A regular expression that matches in the body."""

import re

from dynamikos.core.captures.view import View
from dynamikos.core.checks.check_kinds import CheckKind, Look, Values
from dynamikos.core.errors import RuleError


def look(given: str) -> Look:
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


KIND = CheckKind(
    "regex", look, lambda given: f"matches {given}", looks_inside=True, needs_body=True
)
