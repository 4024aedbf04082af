"""A report as one HTML file that needs nothing else, and as Markdown."""

from collections.abc import Sequence
from functools import cache
from pathlib import Path
from typing import Any

from jinja2 import Environment, FileSystemLoader, StrictUndefined, Template
from markdown_it import MarkdownIt
from markupsafe import Markup

from dynamikos.core.figures import milliseconds, short
from dynamikos.core.reports.columns import shown_at
from dynamikos.core.telling.capacity import evidence_of
from dynamikos.core.telling.drawing import HEIGHT, LEFT, TOP, WIDTH, drawn, ribbon
from dynamikos.core.telling.evidence import Evidence
from dynamikos.core.telling.model import PARTS, Report

SIZES = WIDTH, LEFT, TOP, TOP + HEIGHT
MOST_ROWS, MOST_SIGNS = 200, 200_000  # of the table of steps, and of each text of the inputs
MOST_KINDS = 15  # requests and kinds of what failed


def _figure(value: float | None, unit: str = "ms") -> str:
    if value is None:
        return "–"
    if unit == "ms":
        return milliseconds(value)
    return f"{short(value)} {unit}".strip()


@cache
def _template(name: str) -> Template:
    made = Environment(
        loader=FileSystemLoader(Path(__file__).parent),
        autoescape=name.endswith(".html"),
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    made.filters["figure"] = _figure
    made.globals["columns"] = shown_at
    made.filters["count"] = "{:,}".format
    made.filters["cells"] = lambda values: " | ".join(
        str(each).replace("|", "\\|") for each in values
    )
    return made.get_template(name)


def _arguments(part: str, report: Report) -> tuple[Any, ...]:
    """What the macro of a part is given."""
    if part == "objectives":
        return report, [ribbon(each.marks, report.measured) for each in report.objectives]
    if part == "lanes":
        return (
            report,
            [drawn(lane, report.seconds, report.measured) for lane in report.lanes],
            *SIZES,
        )
    if part == "steps":
        return report, report.rows[:MOST_ROWS], max(0, len(report.rows) - MOST_ROWS)
    if part == "failures":
        return report, report.failed[:MOST_KINDS], max(0, len(report.failed) - MOST_KINDS)
    if part == "capacity":
        return (None if report.capacity is None else evidence_of(report.capacity),)
    if part == "inputs":
        return (
            [(title, text[:MOST_SIGNS], len(text) > MOST_SIGNS) for title, text in report.inputs],
        )
    return (report,)


def _macro(file: str, name: str, *given: Any) -> str:
    return str(getattr(_template(file).module, name)(*given)).strip()


def part_as_html(part: str, report: Report) -> str:
    """One of PARTS as a fragment; "" where there is nothing to say."""
    return _macro("parts.html", part, *_arguments(part, report))


def part_as_markdown(part: str, report: Report) -> str:
    """The same without drawings; of inputs nothing."""
    if part in ("lanes", "inputs"):
        return ""
    given = _arguments(part, report)
    return _macro("parts.md", part, *given[: 2 if part in ("steps", "failures") else 1])


def evidence_as_html(each: Evidence) -> str:
    return _macro("parts.html", "evidence", each, each.lanes, *SIZES)


def evidence_as_markdown(each: Evidence) -> str:
    """The same without drawings."""
    return _macro("parts.md", "evidence", each)


# What a person's text may have of CommonMark: no HTML, no pictures; links as the library allows
# them
MARKUP = MarkdownIt("zero", {"breaks": True, "html": False}).enable(
    ["heading", "list", "blockquote", "code", "fence", "emphasis", "backticks", "link", "newline"]
)


def text_as_html(text: str) -> str:
    """What a person wrote: CommonMark's paragraphs, headings (all of one size), lists, quotations,
    code, emphasis and links; a line's end is kept. Nothing in it is taken for HTML.
    """
    tokens = MARKUP.parse(text)
    for token in tokens:
        if token.type in ("heading_open", "heading_close"):
            token.tag = "h2"
    return f'<div class="texts">\n{MARKUP.renderer.render(tokens, MARKUP.options, {})}</div>'


def heading_as_html(title: str) -> str:
    return str(Markup("<h1>{}</h1>").format(title))


def as_page(title: str, fragments: Sequence[str]) -> str:
    """One file that needs nothing else: styles and drawings in it, by day and by night, and a
    policy that lets it ask for nothing.
    """
    style = (Path(__file__).parent / "style" / "telling.css").read_text()
    return _template("page.html").render(
        title=title, style=Markup(style), fragments=[Markup(each) for each in fragments if each]
    )


def as_html(report: Report) -> str:
    """All its parts as one page."""
    title = f"{report.title}, {report.run}: {report.word}"
    return as_page(title, [part_as_html(part, report) for part in PARTS])


def as_markdown(report: Report) -> str:
    """All its parts without drawings and inputs."""
    return "\n\n".join(filter(None, (part_as_markdown(part, report) for part in PARTS))) + "\n"
