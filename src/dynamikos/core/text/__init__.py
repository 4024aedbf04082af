"""The strict YAML that all text forms share: reading with positions, writing canonically.

Never knows what a journey or a plan is. Start reading at `reader`.
"""

from dynamikos.core.text.convert import Frozen, parse, schema
from dynamikos.core.text.reader import Document, read
from dynamikos.core.text.writer import write

__all__ = ["Document", "Frozen", "parse", "read", "schema", "write"]
