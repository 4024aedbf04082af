"""Signs that no database keeps, and those that a spreadsheet takes for the begin of a formula."""

import re
from typing import Any

FORMULA = ("=", "+", "-", "@", "\t", "\r")
UNKEPT = re.compile("[\0\ud800-\udfff]")


def storable(value: Any) -> Any:
    """A text, or dicts and lists of texts, with U+FFFD for NUL and for halves of pairs."""
    if isinstance(value, str):
        return UNKEPT.sub("\ufffd", value)
    if isinstance(value, dict):
        return {storable(key): storable(each) for key, each in value.items()}
    if isinstance(value, (list, tuple)):
        return [storable(each) for each in value]
    return value


def for_spreadsheet(text: str) -> str:
    """With an apostrophe before what a spreadsheet would take for a formula."""
    return f"'{text}" if text[:1] in FORMULA else text
