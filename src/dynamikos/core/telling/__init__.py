"""A run told to somebody who has not this product: one page that needs nothing else, and its text in Markdown.

Never reads a run and never writes a file: others gather and keep. Start reading at `model`.
"""

from dynamikos.core.telling.model import Lane, Report, report_of
from dynamikos.core.telling.page import as_html, as_markdown

__all__ = ["Lane", "Report", "as_html", "as_markdown", "report_of"]
