"""How a value is taken out of an answer: one file a form, one registry.

Never sends or keeps anything. Start reading at `base`.
"""

from dynamikos.core.captures.base import Capture, Captured, View, compile_capture

__all__ = ["Capture", "Captured", "View", "compile_capture"]
