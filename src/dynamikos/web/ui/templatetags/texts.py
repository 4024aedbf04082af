"""Texts of several lines, for `<pre>`: blanks and line ends are shown there, so they are not left
to templates.
"""

from collections.abc import Iterable, Mapping
from typing import Any

from django import template
from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString

register = template.Library()
UNTOLD = ("parent", "csrfmiddlewaretoken")  # of a form, what nobody typed


@register.filter
def lines(pairs: Iterable[tuple[str, Any]]) -> str:
    """`name: value` a line."""
    return "".join(f"{name}: {value}\n" for name, value in pairs)


@register.filter
def one_a_line(texts: Iterable[str]) -> str:
    """Texts beneath each other."""
    return "".join(f"{text}\n" for text in texts)


@register.filter
def typed_lines(typed: Mapping[str, Iterable[str]]) -> str:
    """What was typed into the fields of a form, a line for each name."""
    return lines((name, " · ".join(values)) for name, values in typed.items() if name not in UNTOLD)


MARKS = {"+": ("ins", "+ "), "-": ("del", "− ")}


@register.filter
def differing(rows: Iterable[tuple[str, str]]) -> SafeString:
    """(mark, line): added and removed lines with their marks, the others indented alike; "@" is
    a gap.
    """
    made = []
    for mark, text in rows:
        if mark in MARKS:
            tag, sign = MARKS[mark]
            made.append(format_html("<{0}>{1}{2}</{0}>", tag, sign, text))
        elif mark == "@":
            made.append(format_html('<span class="faded">  …</span>'))
        else:
            made.append(format_html("  {}", text))
    return format_html_join("", "{}\n", ((each,) for each in made))
