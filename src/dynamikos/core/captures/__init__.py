"""How a value is taken out of an answer: one file a kind, one list.

Never sends or keeps anything. Start reading at `base`.
"""

from dynamikos.core.captures.base import (
    Capture,
    Decoding,
    compile_capture,
    compile_finder,
    described,
)
from dynamikos.core.captures.kinds import KINDS
from dynamikos.core.captures.kinds.between import BetweenForm
from dynamikos.core.captures.kinds.css import CssForm
from dynamikos.core.captures.kinds.regex import RegexForm
from dynamikos.core.captures.view import Captured, View

__all__ = [
    "KINDS",
    "BetweenForm",
    "Capture",
    "Captured",
    "CssForm",
    "Decoding",
    "RegexForm",
    "View",
    "compile_capture",
    "compile_finder",
    "described",
]
