"""Shapes: how the address a value is sent in would be written in an answer, with what varies left
open.
"""

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple
from urllib.parse import unquote, urlsplit

from dynamikos.core.correlation.align import VARIABLE
from dynamikos.core.correlation.answers import Answers

if TYPE_CHECKING:
    from dynamikos.core.correlation.found import Found

OPEN = r"""[^/?#"'<>&\s\\]+"""


class Shape(NamedTuple):
    """`pattern` has one group; `weight` 0…1: how much of the address is fixed; `literal` is this
    recording's own spelling.
    """

    pattern: str
    weight: float
    literal: str


def shapes_of(
    each: "Found", main: Answers, others: Sequence[Answers], maps: Sequence[dict[int, int]]
) -> list[Shape]:
    made: dict[str, Shape] = {}
    for site in each.sites[:12]:
        parts = urlsplit(main.exchanges[site.entry].sent.url)
        segments = parts.path.split("/")
        there = [
            urlsplit(other.exchanges[mapped[site.entry]].sent.url).path.split("/")
            for other, mapped in zip(others, maps, strict=True)
            if site.entry in mapped
        ]
        varies = [
            any(number >= len(path) or path[number] != segment for path in there)
            or bool(re.search(r"\d", segment) and VARIABLE.search(segment))
            for number, segment in enumerate(segments)
        ]
        place = re.fullmatch(r"path (\d+)", site.place)
        query = re.fullmatch(r"query (.+)", site.place)
        if place:
            at = int(place.group(1))
            if unquote(segments[at].split(";")[0]) != segments[at]:
                continue
            after = ""
            if at + 1 < len(segments):
                after = "/" + ("" if varies[at + 1] else re.escape(segments[at + 1]))
            for back in dict.fromkeys((at - 1, 3, 2, 1)):
                lead = range(max(1, at - back), at)
                fixed = [
                    number
                    for number in lead
                    if not varies[number] and re.search(r"[A-Za-z]{2}", segments[number])
                ]
                if not fixed or (fixed[0] != lead[0] and back != at - 1):
                    continue
                text = "".join(
                    "/" + (OPEN if varies[number] else re.escape(segments[number]))
                    for number in lead
                )
                literal = "".join("/" + segments[number] for number in lead) + "/" + segments[at]
                weight = min(1.0, 0.45 + 0.15 * len(fixed))
                for tail in dict.fromkeys((after, "")):
                    pattern = f"{text}/({OPEN}){tail}"
                    made.setdefault(
                        pattern,
                        Shape(pattern, min(1.0, weight + (0.1 if len(tail) > 1 else 0)), literal),
                    )
        elif query:
            last = next(
                (
                    number
                    for number in range(len(segments) - 1, 0, -1)
                    if segments[number] and not varies[number]
                ),
                0,
            )
            name = re.escape(query.group(1))
            if last:
                pattern = rf"{re.escape(segments[last])}[^\"'<>\s]*[?&;]{name}=([^&#\"'<>\s\\]+)"
                made.setdefault(pattern, Shape(pattern, 0.85, f"{query.group(1)}={site.value}"))
            pattern = rf"[?&;]{name}=([^&#\"'<>\s\\]+)"
            made.setdefault(pattern, Shape(pattern, 0.7, f"{query.group(1)}={site.value}"))
    return sorted(made.values(), key=lambda shape: -shape.weight)
