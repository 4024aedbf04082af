"""Signs that no database keeps."""

import re
from typing import Any

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
