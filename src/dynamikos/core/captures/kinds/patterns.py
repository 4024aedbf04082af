"""Regular expressions of captures."""

import re

from dynamikos.core.errors import RuleError


def pattern_of(text: str, group: int) -> re.Pattern[bytes]:
    """`text` compiled for bytes. Raises RuleError for one that is none, or has no such group."""
    try:
        pattern = re.compile(text.encode(), re.S)
    except re.error as problem:
        raise RuleError(f"'{text}' is not a regular expression: {problem}") from problem
    if not 0 <= group <= pattern.groups:
        raise RuleError(f"'{text}' has {pattern.groups} groups, so there is no group {group}")
    return pattern
