"""Regular expressions of captures: their own, and those of the names they look for."""

import re

from dynamikos.core.errors import RuleError

TOKEN = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")  # RFC 9110, 5.6.2: names of headers and cookies


def pattern_of(text: str, group: int) -> re.Pattern[bytes]:
    """`text` compiled for bytes. Raises RuleError for one that is none, or has no such group."""
    try:
        pattern = re.compile(text.encode(), re.S)
    except re.error as problem:
        raise RuleError(f"'{text}' is not a regular expression: {problem}") from problem
    if not 0 <= group <= pattern.groups:
        raise RuleError(f"'{text}' has {pattern.groups} groups, so there is no group {group}")
    return pattern
