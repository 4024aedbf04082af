"""What a right answer looks like, and what it means when it does not.

Never acts on it: that is the engine's. Start reading at `base`.
"""

from dynamikos.core.checks.base import (
    FORMS,
    Bounds,
    Check,
    Comparing,
    CssText,
    Expected,
    HeaderText,
    JsonEquals,
    Then,
    Verdict,
    compile_check,
    described,
)
from dynamikos.core.checks.suggest import suggested

__all__ = [
    "FORMS",
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
