"""A run, or what was gathered of several, told to somebody who has not this product: one page that
needs nothing else, and its text in Markdown.

Never reads a run and never writes a file: others gather and keep. Start reading at `model`, for
casebooks at `casebook`.
"""

from dynamikos.core.telling.model import PARTS, Lane, Report, report_of
from dynamikos.core.telling.page import as_html, as_markdown, as_page

__all__ = ["PARTS", "Lane", "Report", "as_html", "as_markdown", "as_page", "report_of"]
