"""A report as one HTML file that needs nothing else, and as Markdown."""

from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any

from jinja2 import Environment, FileSystemLoader, StrictUndefined, Template

from dynamikos.core.analysis.capacity import Capacity
from dynamikos.core.analysis.evidence import milliseconds
from dynamikos.core.telling.drawing import HEIGHT, LEFT, TOP, WIDTH, drawn, ribbon
from dynamikos.core.telling.model import Report

MOST_ROWS, MOST_SIGNS = 200, 200_000  # of the table of steps, and of each text of the inputs


def _figure(value: float | None, unit: str = "ms") -> str:
    if value is None:
        return "–"
    if unit == "ms":
        return milliseconds(value)
    return f"{value:,.0f} {unit}".strip() if abs(value) >= 1000 else f"{value:.3g} {unit}".strip()


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
    made.filters["count"] = "{:,}".format
    made.filters["cells"] = lambda values: " | ".join(str(each).replace("|", "\\|") for each in values)
    return made.get_template(name)


def _capacity(found: Capacity | None) -> Iterator[str]:
    """What can be said of it, in sentences."""
    if found is None:
        return
    if found.why_not:
        yield found.why_not
    if found.peak is not None:
        load, rate = found.peak
        yield f"The most it did was {rate:.3g} rounds a second, at {load:.3g} users."
    if found.first is not None:
        name, rate = found.first
        yield f"The first resource to run full is {name}, at {rate:.3g} rounds a second."


def _context(report: Report) -> dict[str, Any]:
    return {
        "report": report,
        "rows": report.rows[:MOST_ROWS],
        "left_out": max(0, len(report.rows) - MOST_ROWS),
        "capacity": list(_capacity(report.capacity)),
        "inputs": [(title, text[:MOST_SIGNS], len(text) > MOST_SIGNS) for title, text in report.inputs],
    }


def as_html(report: Report) -> str:
    """With styles and drawings in it, by day and by night, and a policy that lets it ask for nothing."""
    return _template("report.html").render(
        **_context(report),
        lanes=[drawn(lane, report.seconds, report.measured) for lane in report.lanes],
        ribbons=[ribbon(each.marks, report.measured) for each in report.objectives],
        width=WIDTH,
        left=LEFT,
        top=TOP,
        bottom=TOP + HEIGHT,
    )


def as_markdown(report: Report) -> str:
    """The same without drawings and inputs."""
    return _template("report.md").render(**_context(report))
