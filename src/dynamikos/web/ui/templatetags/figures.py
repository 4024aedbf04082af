"""Figures with their units: three significant digits, tabular; available in every template."""

import datetime
from difflib import SequenceMatcher
from typing import Any
from urllib.parse import urlsplit

from django import template
from django.templatetags.static import static
from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

from dynamikos.core import figures
from dynamikos.core.failure_kinds import kind_of
from dynamikos.core.figures import clock, milliseconds, short
from dynamikos.core.reports import Row
from dynamikos.core.reports.columns import Column

register = template.Library()


@register.filter
def ms(value: Any) -> str:
    """A duration in ms as `182 ms` or `1.94 s`."""
    if value is None or value == "":
        return "–"
    return milliseconds(value)


@register.filter
def odds(value: float) -> str:
    return figures.odds(value)


@register.filter
def three(value: Any) -> str:
    """A figure of any unit with three significant digits, thousands parted."""
    if value is None or value == "":
        return "–"
    return short(value)


@register.filter
def length_of_base64(text: str) -> int:
    """Bytes that a base64 text stands for."""
    return len(text) * 3 // 4 - text[-2:].count("=")


@register.filter
def us(value: Any) -> str:
    return ms(None if value is None or value == "" else value / 1000)


@register.filter
def rate(value: Any) -> str:
    return "–" if value is None or value == "" else f"{short(value)} /s"


@register.filter
def count(value: Any) -> str:
    return "–" if value is None or value == "" else f"{value:,}"


@register.filter
def size(value: Any) -> str:
    """Bytes as B, kB or MB (powers of 1,000)."""
    if value is None or value == "" or value < 0:
        return "–"
    if value < 1000:
        return f"{value} B"
    return f"{short(value / 1000)} kB" if value < 999_500 else f"{short(value / 1_000_000)} MB"


@register.filter
def bits(value: Any) -> str:
    """Bits a second as kbit/s or Mbit/s."""
    return f"{short(value / 1000)} kbit/s" if value < 999_500 else f"{short(value / 1e6)} Mbit/s"


@register.filter
def percent(value: Any) -> str:
    return "–" if value is None or value == "" else f"{short(value)} %"


@register.filter
def runclock(seconds: Any) -> str:
    """The run clock as `04:35`."""
    return "–" if seconds is None or seconds == "" else clock(seconds)


@register.filter
def utc(value: datetime.datetime | None) -> str:
    return "–" if not value else value.astimezone(datetime.UTC).strftime("%Y-%m-%d %H:%M:%S UTC")


@register.filter
def plural(number: int, word: str) -> str:
    """`{{ 3|plural:"step" }}` → 3 steps."""
    return f"{number:,} {word}" if number == 1 else f"{number:,} {word}s"


@register.filter
def marked(actual: str, expected: str) -> str:
    """`actual` with what differs from the expected value marked: <ins> is too much, <del> is
    missing.
    """
    wanted = expected.partition(" = ")[2] or expected.partition("“")[2].rpartition("”")[0]
    said, near, place = actual.partition("nearest: ")
    if near:  # where most of it stands: what is around it is no part of what was wanted
        before, _, rest = place.partition("»")
        inner, _, after = rest.rpartition("«")
        return format_html("{}{}{}{}{}", said, near, before, marked(inner, f"“{wanted}”"), after)
    if not wanted or len(wanted) > 400 or len(actual) > 400 or wanted == actual:
        return actual
    parts = []
    for what, a, b, c, d in SequenceMatcher(None, wanted, actual, autojunk=False).get_opcodes():
        if what == "equal":
            parts.append(format_html("{}", actual[c:d]))
            continue
        if a < b:
            parts.append(format_html("<del>{}</del>", wanted[a:b]))
        if c < d:
            parts.append(format_html("<ins>{}</ins>", actual[c:d]))
    return mark_safe("".join(parts))


@register.filter
def path(url: str) -> str:
    """What an address asks its host for."""
    parts = urlsplit(url)
    asked = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    return asked if len(asked) <= 90 else asked[:89] + "…"


@register.filter
def at(values: Any, index: int) -> Any:
    return values[index]


@register.filter
def get(mapping: Any, key: Any) -> Any:
    return mapping.get(key)


MARKS = {
    "met": '<path d="M3 8H21M12 8V17M8 17H16M3 8v4M21 8v4"/>',
    "close": '<path d="M3 10.5L21 5.5M12 8V17M8 17H16M3 10.5v4M21 5.5v4"/>',
    "not decided": '<path d="M3 10.5L21 5.5M12 8V17M8 17H16M3 10.5v4M21 5.5v4" stroke-dasharray="3 '
    '2"/>',
    "missed": '<path d="M5 15L19 2M12 8.5V17M8 17H16M5 15v3M19 2v4" stroke-dasharray="none"/>',
    "not judged": '<path d="M3 8H9M15 8H21M12 11V17M8 17H16" stroke-dasharray="2 2"/>',
}


@register.simple_tag
def balance(word: str) -> SafeString:
    """Our own mark of an objective: level, tilted, fallen; always with its word."""
    return format_html(
        '<span class="balance is-{}"><svg viewBox="0 0 24 20" aria-hidden="true">{}</svg>{}</span>',
        word.replace(" ", "-"),
        mark_safe(MARKS.get(word, "")),
        word,
    )


@register.filter
def in_unit(value: Any, unit: str) -> str:
    """A figure of an objective in its unit: ms, %, /s, or none of ours."""
    if unit == "ms":
        return str(ms(value))
    if unit == "%":
        return str(percent(value))
    return f"{short(value, 4)} {unit}".strip()


@register.simple_tag
def scaled(value: float | None, times: float, unit: str) -> str:
    """A compared figure in its unit."""
    if value is None:
        return "–"
    return str(ms(value)) if unit == "ms" else f"{short(value * times)} {unit}"


@register.simple_tag
def signed(part: float | None, unit: str) -> str:
    """A change as per cent (or points), with its sign."""
    return "–" if part is None else figures.signed(part, unit).replace("-", "−")


@register.filter
def hundredfold(part: float) -> float:
    """A part as per cent."""
    return 100 * part


RIBBON, HEIGHTS = (
    300,
    {"missed": (0, 14), "met": (9, 5), "not judged": (12, 2)},
)  # wide; top and height by word


@register.simple_tag
def ribbon(marks: Any, from_s: float, to_s: float, unit: str) -> SafeString:
    """The intervals of an objective on the clock of its window: those missed stand up, each leads
    to its seconds.
    """
    seconds = max(1.0, to_s - from_s)
    parts = []
    for each in marks:
        top, height = HEIGHTS[each.word]
        left = RIBBON * (each.from_s - from_s) / seconds
        value = (
            ""
            if each.value is None
            else f", {'at least ' if each.at_least else ''}{in_unit(each.value, unit)}"
        )
        said = f"{each.from_s}–{each.to_s} s: {each.word}{value}"
        parts.append(
            format_html(
                '<a href="?from={}&amp;to={}" aria-label="{}"><title>{}</title><rect class="is-{}" '
                'x="{}" y="{}"'
                ' width="{}" height="{}"/></a>',
                each.from_s,
                each.to_s,
                said,
                said,
                each.word.replace(" ", "-"),
                round(left, 1),
                top,
                max(0.6, round(RIBBON * (each.to_s - each.from_s) / seconds - 1, 1)),
                height,
            )
        )
    return format_html(
        '<svg class="ribbon" viewBox="0 0 {} 14" role="group" aria-label="Intervals">{}</svg>',
        RIBBON, mark_safe("".join(parts)),
    )  # fmt: skip


@register.simple_tag
def asset(path: str) -> str:
    """A static file's address with the version of its content, so that browsers may keep it."""
    from dynamikos.web.ui.assets import version_of

    return f"{static(path)}?v={version_of(path)}"


@register.filter
def cell(row: Row, column: Column) -> str:
    """A figure of a row as it reads everywhere."""
    return column.text(row)


@register.filter
def is_bad(row: Row, column: Column) -> bool:
    """Whether it says that something failed."""
    return column.is_bad(row)


@register.filter
def failure_says(kind: str) -> str:
    """What a kind of failure means; "" where the kind says it itself."""
    said = kind_of(kind).says
    return "" if said == kind else said
