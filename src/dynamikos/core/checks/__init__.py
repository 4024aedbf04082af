"""What a right answer looks like, and what it means when it does not.

Never acts on it: that is the engine's. Start reading at `base`.
"""

from dynamikos.core.checks.base import Check, Then, Verdict, compile_check, described
from dynamikos.core.checks.kinds import KINDS
from dynamikos.core.checks.kinds.bounds import Bounds
from dynamikos.core.checks.kinds.comparing import Comparing
from dynamikos.core.checks.kinds.css import CssText
from dynamikos.core.checks.kinds.expected import Expected
from dynamikos.core.checks.kinds.header import HeaderText
from dynamikos.core.checks.kinds.json import JsonEquals
from dynamikos.core.checks.suggest import suggested

__all__ = [
    "KINDS",
    "Bounds",
    "Check",
    "Comparing",
    "CssText",
    "Expected",
    "HeaderText",
    "JsonEquals",
    "Then",
    "Verdict",
    "compile_check",
    "described",
    "suggested",
]
