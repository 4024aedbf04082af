"""Shapes: how the address a value is sent in would be written in an answer, with what varies left
open.
"""

import re
from collections.abc import Iterable, Iterator, Sequence
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
    """Shapes of the addresses that carry a value, those that tell most first."""
    made: dict[str, Shape] = {}
    for site in each.sites[:12]:
        there = [
            _segments(other, mapped[site.entry])
            for other, mapped in zip(others, maps, strict=True)
            if site.entry in mapped
        ]
        address = _Address(_segments(main, site.entry), there)
        kind, _, name = site.place.partition(" ")
        shapes: Iterable[Shape] = ()
        if kind == "path" and name.isdigit():
            shapes = address.around(int(name))
        elif kind == "query" and name:
            shapes = address.of_query(name, site.value)
        for shape in shapes:
            made.setdefault(shape.pattern, shape)
    return sorted(made.values(), key=lambda shape: -shape.weight)


def _segments(answers: Answers, position: int) -> list[str]:
    return urlsplit(answers.exchanges[position].sent.url).path.split("/")


class _Address:
    """The path of an address, and which of its segments vary: between recordings, or as numbers
    and codes do.
    """

    def __init__(self, segments: list[str], there: Sequence[list[str]]) -> None:
        self._segments = segments
        self._varies = [
            any(number >= len(path) or path[number] != segment for path in there)
            or bool(re.search(r"\d", segment) and VARIABLE.search(segment))
            for number, segment in enumerate(segments)
        ]

    def around(self, at: int) -> Iterator[Shape]:
        """Of segment `at`: after what stands before it, from the whole path to one segment."""
        segments, varies = self._segments, self._varies
        if unquote(segments[at].split(";")[0]) != segments[at]:
            return
        after = ""
        if at + 1 < len(segments):
            after = "/" + ("" if varies[at + 1] else re.escape(segments[at + 1]))
        for back in dict.fromkeys((at - 1, 3, 2, 1)):
            lead = range(max(1, at - back), at)
            fixed = [n for n in lead if not varies[n] and re.search(r"[A-Za-z]{2}", segments[n])]
            if not fixed or (fixed[0] != lead[0] and back != at - 1):
                continue
            text = "".join("/" + (OPEN if varies[n] else re.escape(segments[n])) for n in lead)
            literal = "".join("/" + segments[number] for number in [*lead, at])
            weight = min(1.0, 0.45 + 0.15 * len(fixed))
            for tail in dict.fromkeys((after, "")):
                more = 0.1 if len(tail) > 1 else 0.0
                yield Shape(f"{text}/({OPEN}){tail}", min(1.0, weight + more), literal)

    def of_query(self, name: str, value: str) -> Iterator[Shape]:
        """Of a field of the query: after the last segment that stays, and anywhere."""
        segments, literal = self._segments, f"{name}={value}"
        stays = [n for n, each in enumerate(segments) if n and each and not self._varies[n]]
        field = rf"[?&;]{re.escape(name)}=([^&#\"'<>\s\\]+)"
        if stays:
            yield Shape(rf"{re.escape(segments[stays[-1]])}[^\"'<>\s]*{field}", 0.85, literal)
        yield Shape(field, 0.7, literal)
