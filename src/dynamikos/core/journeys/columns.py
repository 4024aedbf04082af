"""Recorded texts that stand in a column of the test data: where they are sent, and a column put in their place."""

import re
from collections.abc import Callable, Iterable, Mapping
from typing import Any

import msgspec
from msgspec.structs import replace

from dynamikos.core.journeys.model import Journey, Request, Step
from dynamikos.core.values.template import HOLE

AROUND, SHORTEST = 24, 2
WORD = re.compile(r"[^\s\"'&=,;{}\[\]<>]+")


class Occurrence(msgspec.Struct, frozen=True, kw_only=True):
    """A text in a request: where (step and request keys, place such as "field email"), and what stands around it."""

    step: str
    request: str
    place: str
    before: str
    after: str

    @property
    def key(self) -> str:
        return f"{self.step}/{self.request}/{self.place}"


def mapped_texts(request: Request, change: Callable[[str, str], str]) -> Request:
    """With `change(place, text)` applied to every text it sends that may have holes."""
    body = request.body
    if body is not None:
        if body.form is not None:
            body = replace(body, form=tuple((name, change(f"field {name}", value)) for name, value in body.form))
        elif body.parts is not None:
            body = replace(
                body, parts=tuple(replace(part, value=change(f"part {part.name}", part.value)) for part in body.parts)
            )
        elif body.json is not None:
            body = replace(body, json=change("JSON body", body.json))
        elif body.raw is not None:
            body = replace(body, raw=change("body", body.raw))
    return replace(
        request,
        address=change("address", request.address),
        body=body,
        query=tuple((name, change(f"query {name}", value)) for name, value in request.query),
        headers=tuple((name, change(f"header {name}", value)) for name, value in request.headers),
        checks=tuple(
            replace(check, contains=change("check", check.contains)) if check.contains else check
            for check in request.checks
        ),
    )


def _whole(value: str) -> "re.Pattern[str]":
    """`value` where it is not part of a longer word, and not inside a hole."""
    return re.compile(rf"(?<![A-Za-z0-9_]){re.escape(value)}(?![A-Za-z0-9_])(?![^{{}}]*\}}\}})")


def sent_texts(journey: Journey) -> set[str]:
    """Values that requests send as they are: whole fields, and the words of longer texts."""
    found: set[str] = set()

    def look(place: str, text: str) -> str:
        if place.startswith(("field ", "query ", "part ")) and "{{" not in text:
            found.add(text)
        elif not place.startswith("header "):
            found.update(WORD.findall(re.sub(r"\{\{.*?\}\}", " ", text.replace("/", " ").replace("?", " "))))
        return text

    for _, step in journey.steps():
        for request in step.requests:
            mapped_texts(request, look)
    return {text for text in found if len(text) >= SHORTEST}


def occurrences(journey: Journey, value: str) -> list[Occurrence]:
    """Every place in which `value` is sent, or expected by a check, as a whole word."""
    made: list[Occurrence] = []
    pattern = _whole(value)
    for _, step in journey.steps():
        for request in step.requests:

            def look(place: str, text: str, step: Step = step, request: Request = request) -> str:
                match = pattern.search(text)
                if match is not None:
                    before, after = (
                        text[max(0, match.start() - AROUND) : match.start()],
                        text[match.end() : match.end() + AROUND],
                    )
                    made.append(
                        Occurrence(step=step.step, request=request.request, place=place, before=before, after=after)
                    )
                return text

            mapped_texts(request, look)
    return made


def put_column(journey: Journey, value: str, name: str, places: Iterable[str]) -> Journey:
    """With `value` replaced by `{{ name }}` in the places (keys of occurrences) that were chosen."""
    chosen, pattern, hole = set(places), _whole(value), f"{{{{ {name} }}}}"

    def changed(step: Step) -> Step:
        requests = tuple(
            mapped_texts(
                request,
                lambda place, text, r=request: (
                    pattern.sub(lambda _: hole, text) if f"{step.step}/{r.request}/{place}" in chosen else text
                ),  # type: ignore[misc]
            )
            for request in step.requests
        )
        return replace(step, requests=requests)

    return journey.mapped(changed)


def renamed(journey: Journey, old: str, new: str) -> Journey:
    """With the name `old` ("observers.email") called `new` in every hole of every text; what stands between quotes
    there stays.
    """
    name = re.compile(rf"""('[^']*'|"[^"]*")|(?<![\w.]){re.escape(old)}(?![\w.])""")

    def hole(match: re.Match[str]) -> str:
        return "{{" + name.sub(lambda found: found.group(1) or new, match.group(1)) + "}}"

    def changed(value: Any) -> Any:
        if isinstance(value, str):
            return HOLE.sub(hole, value)
        if isinstance(value, dict):
            return {key: changed(each) for key, each in value.items()}
        return [changed(each) for each in value] if isinstance(value, list | tuple) else value

    return msgspec.convert(changed(msgspec.to_builtins(journey)), Journey)


def matches(journey: Journey, columns: Mapping[str, Mapping[str, int]]) -> list[tuple[str, str, int]]:
    """(value, column, row from 0) of each sent text that a column holds; the columns of one row with most matches
    first.

    `columns` maps "table.column" to its values and the first row each is in.
    """
    texts = sent_texts(journey)
    found = [(value, name, rows[value]) for name, rows in columns.items() for value in texts & rows.keys()]
    together: dict[tuple[str, int], int] = {}
    for _, name, row in found:
        key = (name.partition(".")[0], row)
        together[key] = together.get(key, 0) + 1
    return sorted(found, key=lambda each: (-together[(each[1].partition(".")[0], each[2])], each[1], each[0]))
