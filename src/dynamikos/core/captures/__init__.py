"""How a value is taken out of an answer: one file a form, one registry.

Never sends or keeps anything. Start reading at `base`.
"""

from dynamikos.core.captures.base import (
    BetweenForm,
    Capture,
    Captured,
    CssForm,
    Decoding,
    RegexForm,
    View,
    compile_capture,
    compile_finder,
)

__all__ = [
    "BetweenForm",
    "Capture",
    "Captured",
    "CssForm",
    "Decoding",
    "RegexForm",
    "View",
    "compile_capture",
    "compile_finder",
]
