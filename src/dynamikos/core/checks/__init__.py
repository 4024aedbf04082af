"""What a right answer looks like.

Never decides what a failure means for the round. Start reading at `base`.
"""

from dynamikos.core.checks.base import Check, JsonEquals, Verdict, compile_check

__all__ = ["Check", "JsonEquals", "Verdict", "compile_check"]
