"""Recorded texts that stand in a column of the test data: where they are sent, and a column put in
their place.
"""

import re
from collections.abc import Iterable, Mapping

import msgspec

from dynamikos.core.journeys.model import Journey
from dynamikos.core.journeys.request import Request
from dynamikos.core.values.template import HOLE

AROUND, SHORTEST = 24, 2
NAMES = "name of "  # of a field, which is no data
NO_DATA = (NAMES, "header ", "authorization, ", "embedded resource")
WORD = re.compile(r"[^\s\"'&=,;{}\[\]<>]+")


class Occurrence(msgspec.Struct, frozen=True, kw_only=True):
    """A text in a request: where (step and request keys, place such as "field email"), and what
    stands around it.
    """

    step: str
    request: str
    place: str
    before: str
    after: str

    @property
    def key(self) -> str:
        return f"{self.step}/{self.request}/{self.place}"


def _whole(value: str) -> "re.Pattern[str]":
    """`value` where it is not part of a longer word, and not inside a hole."""
    return re.compile(rf"(?<![A-Za-z0-9_]){re.escape(value)}(?![A-Za-z0-9_])(?![^{{}}]*\}}\}})")


def sent_texts(journey: Journey) -> set[str]:
    """Values that requests send as they are: whole fields, and the words of longer texts."""
    found: set[str] = set()

    def look(place: str, text: str) -> None:
        if place.startswith(("field ", "query ", "part ")) and "{{" not in text:
            found.add(text)
        elif not place.startswith(NO_DATA):
            found.update(
                WORD.findall(re.sub(r"\{\{.*?\}\}", " ", text.replace("/", " ").replace("?", " ")))
            )

    for _, request in journey.requests():
        for place, text in request.texts():
            look(place, text)
    return {text for text in found if len(text) >= SHORTEST}


def occurrences(journey: Journey, value: str) -> list[Occurrence]:
    """Every place in which `value` is sent, or expected by a check, as a whole word."""
    made: list[Occurrence] = []
    pattern = _whole(value)
    for step, request in journey.requests():
        for place, text in request.texts():
            match = None if place.startswith(NAMES) else pattern.search(text)
            if match is not None:
                before = text[max(0, match.start() - AROUND) : match.start()]
                after = text[match.end() : match.end() + AROUND]
                made.append(
                    Occurrence(
                        step=step.step,
                        request=request.request,
                        place=place,
                        before=before,
                        after=after,
                    )
                )
    return made


def put_column(journey: Journey, value: str, name: str, places: Iterable[str]) -> Journey:
    """With `value` replaced by `{{ name }}` in the places (keys of occurrences) that were
    chosen.
    """
    chosen, pattern, hole = set(places), _whole(value), f"{{{{ {name} }}}}"

    def put(at: str, request: Request) -> Request:
        return request.with_texts(
            lambda place, text: (
                pattern.sub(lambda _: hole, text)
                if f"{at}/{request.request}/{place}" in chosen
                else text
            )
        )

    return journey.mapped(lambda step: step.with_requests(lambda request: put(step.step, request)))


def renamed(journey: Journey, old: str, new: str) -> Journey:
    """With the name `old` ("observers.email") called `new` in every hole of every text; what stands
    between quotes there stays.
    """
    name = re.compile(rf"""('[^']*'|"[^"]*")|(?<![\w.]){re.escape(old)}(?![\w.])""")

    def hole(match: re.Match[str]) -> str:
        return "{{" + name.sub(lambda found: found.group(1) or new, match.group(1)) + "}}"

    return journey.with_texts(lambda _, text: HOLE.sub(hole, text))


def matches(
    journey: Journey, columns: Mapping[str, Mapping[str, int]]
) -> list[tuple[str, str, int]]:
    """(value, column, row from 0) of each sent text that a column holds; the columns of one row
    with most matches first.

    `columns` maps "table.column" to its values and the first row each is in.
    """
    texts = sent_texts(journey)
    found = [
        (value, name, rows[value])
        for name, rows in columns.items()
        for value in texts & rows.keys()
    ]
    together: dict[tuple[str, int], int] = {}
    for _, name, row in found:
        key = (name.partition(".")[0], row)
        together[key] = together.get(key, 0) + 1
    return sorted(
        found, key=lambda each: (-together[(each[1].partition(".")[0], each[2])], each[1], each[0])
    )
