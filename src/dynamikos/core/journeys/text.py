"""The journey's text form: YAML in, YAML out, and its JSON Schema."""

from typing import Any

import msgspec

from dynamikos.core.errors import TextError
from dynamikos.core.forms import VersionedCodec
from dynamikos.core.journeys.kinds import TAG
from dynamikos.core.journeys.model import Journey, as_read, as_written
from dynamikos.core.text import parse, schema, write

NOTED = frozenset({"journey", "step", "request", "name", "status", "contains"})


JOURNEY = VersionedCodec("journey", Journey, as_read=as_read, as_written=as_written)


def parse_journey(text: str, *, file: str = "") -> Journey:
    """The journey in `text`. Raises TextError with line and column."""
    journey = parse(text, JOURNEY, noted=NOTED, file=file)
    seen: set[str] = set()
    for _, step in journey.steps():
        if step.step in seen:
            raise TextError(
                f"two steps have the key '{step.step}'; a key is unique in its journey", file=file
            )
        seen.add(step.step)
        if step.use and step.requests:
            raise TextError(
                f"step '{step.step}' uses the shared step '{step.use}', so its requests stand "
                "there; take either `use`"
                " or `requests` away",
                file=file,
            )
        requests = [request.request for request in step.requests]
        twice = next((key for key in requests if requests.count(key) > 1), None)
        if twice:
            raise TextError(f"two requests of step '{step.step}' have the key '{twice}'", file=file)
    return journey


def write_journey(journey: Journey) -> str:
    """`journey` as text that `parse_journey` reads back to the same value."""
    return write(as_written(msgspec.to_builtins(journey)))


def journey_schema() -> dict[str, Any]:
    """The published JSON Schema of the text form."""
    return untold(schema(Journey, "Dynamikos journey, form 1"))


def untold(schema: dict[str, Any]) -> dict[str, Any]:
    """A schema without the kinds of steps, which follow from their keys."""

    def without(value: Any) -> Any:
        if isinstance(value, list):
            return [without(each) for each in value]
        if not isinstance(value, dict):
            return value
        made = {
            name: without(each)
            for name, each in value.items()
            if name not in ("discriminator", TAG)
        }
        if "required" in made:
            made["required"] = [name for name in made["required"] if name != TAG]
        return made

    return dict(without(schema))
