"""What an objective is about: something that users perform, a captured number, or what a probe
tells.

Documents say it by fields of the objective, so that a text stays short; here it is one value of
three kinds, with a line of text for forms and addresses. Start reading at `scope_of`.
"""

from typing import Any

import msgspec

from dynamikos.core.objectives.model import Objective


class Performed(msgspec.Struct, frozen=True, kw_only=True, tag="performed"):
    """All steps, one `step` or one of its requests, or the time from its start to the end of a
    later one (`until`); of everybody, or of one `journey` or one `row`.
    """

    step: str | None = None
    request: str | None = None
    until: str | None = None
    journey: str | None = None
    row: str | None = None

    @property
    def text(self) -> str:
        """As forms send it: `row=KEY`, or `JOURNEY/STEP#REQUEST` as far as it goes; `until` has a
        field of its own.
        """
        if self.row is not None:
            return f"row={self.row}"
        place = f"{self.journey}/{self.step or ''}" if self.journey else self.step or ""
        return f"{place}#{self.request}" if self.request else place


class Number(msgspec.Struct, frozen=True, kw_only=True, tag="number"):
    """A captured number, of everybody, or of one `journey` or one `row`."""

    number: str
    journey: str | None = None
    row: str | None = None

    @property
    def text(self) -> str:
        """As forms send it."""
        return f"number={self.number}"


class ProbeReading(msgspec.Struct, frozen=True, kw_only=True, tag="reading"):
    """What a probe tells of one measure."""

    probe: str
    reading: str

    @property
    def text(self) -> str:
        """As forms send it."""
        return f"probe={self.probe}#{self.reading}"


Scope = Performed | Number | ProbeReading
FIELDS = ("step", "request", "until", "number", "probe", "reading", "journey", "row")


def scope_of(objective: Objective) -> Scope:
    """What an objective is about. Where it says several (`problems` names them), a probe goes
    before a number, and that before what is performed.
    """
    o = objective
    if o.probe is not None:
        return ProbeReading(probe=o.probe, reading=o.reading or "")
    if o.number is not None:
        return Number(number=o.number, journey=o.journey, row=o.row)
    return Performed(step=o.step, request=o.request, until=o.until, journey=o.journey, row=o.row)


def read_scope(text: str) -> Scope:
    """What a form sent; "" are all steps."""
    kind, sign, rest = text.partition("=")
    if sign and kind == "row":
        return Performed(row=rest)
    if sign and kind == "number":
        return Number(number=rest)
    if sign and kind == "probe":
        probe, _, reading = rest.partition("#")
        return ProbeReading(probe=probe, reading=reading)
    place, _, request = text.partition("#")
    journey, _, step = place.rpartition("/")
    return Performed(step=step or None, request=request or None, journey=journey or None)


def fields_of(scope: Scope) -> dict[str, Any]:
    """The fields of an objective that say a scope."""
    said = {name: getattr(scope, name, None) for name in FIELDS}
    return {name: value for name, value in said.items() if value is not None}
