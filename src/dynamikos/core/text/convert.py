"""From a Document to a typed value (msgspec), with errors at the line where they stand."""

import re
from typing import Any, TypeVar

import msgspec

from dynamikos.core.errors import TextError
from dynamikos.core.forms import NewerForm, ValidationError, VersionedCodec
from dynamikos.core.text.reader import Document, Path, Plain, read

T = TypeVar("T")
STEP = re.compile(r"\.([A-Za-z_][\w-]*)|\[(\d+|\.\.\.)\]|\[(?:'|\")([^'\"]*)(?:'|\")\]")


class Frozen(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True
):
    """Base of the values in text forms: frozen, strict, defaults left out."""


def parse(
    text: str, kind: VersionedCodec[T], *, noted: frozenset[str] = frozenset(), file: str = ""
) -> T:
    """`text`, of any form up to today's, as a value of `kind`.

    `noted` names the keys that mark a mapping able to hold a `note` (e.g. "step"); a comment goes
    to the nearest such mapping. Raises TextError with line and column for anything the type
    refuses, unknown keys included.
    """
    document = read(text, file=file)
    if not isinstance(document.value, dict):
        raise TextError("expected keys and values, such as 'form: 1'", line=1, column=1, file=file)
    if noted:
        _attach(document, noted)
    try:
        return msgspec.convert(kind.as_read(kind.upgraded(document.value)), kind.type, strict=True)
    except ValidationError as problem:
        line, column = _place(document, list(problem.path), "")
        raise TextError(str(problem), line=line, column=column, file=file) from problem
    except NewerForm as problem:
        line, column = document.places.get(("form",), (1, 1))
        raise TextError(str(problem), line=line, column=column, file=file) from problem
    except msgspec.ValidationError as problem:
        message, path = _explain(str(problem))
        line, column = _place(document, path, message)
        raise TextError(message, line=line, column=column, file=file) from problem


def schema(kind: type[Any], title: str) -> dict[str, Any]:
    """The JSON Schema (2020-12) of the text form that `parse(…, kind)` accepts."""
    made = _unbroken(msgspec.json.schema(kind))
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, **made}


def _unbroken(value: Any) -> Any:
    """Descriptions are docstrings: paragraphs without the line breaks of a source."""
    if isinstance(value, list):
        return [_unbroken(each) for each in value]
    if not isinstance(value, dict):
        return value
    return {
        key: "\n\n".join(" ".join(part.split()) for part in each.split("\n\n"))
        if key == "description" and isinstance(each, str)
        else _unbroken(each)
        for key, each in value.items()
    }


def _attach(document: Document, noted: frozenset[str]) -> None:
    for path, note in document.notes.items():
        for size in range(len(path), -1, -1):
            found = _get(document.value, path[:size])
            if isinstance(found, dict) and (noted & found.keys() or size == 0):
                have = found.get("note")
                found["note"] = f"{have}\n{note}" if isinstance(have, str) and have else note
                break


def _get(value: Plain, path: Path) -> Plain:
    for part in path:
        if isinstance(value, dict) and isinstance(part, str):
            value = value.get(part)
        elif isinstance(value, list) and isinstance(part, int) and part < len(value):
            value = value[part]
        else:
            return None
    return value


def _explain(message: str) -> tuple[str, list[str | int]]:
    """msgspec's message in our words, and its path `$.a[0].b` as parts."""
    body, _, where = message.partition(" - at `")
    if not where:
        body, _, where = message.partition(" - at key in `")
    parts: list[str | int] = []
    for name, index, quoted in STEP.findall(where.rstrip("`").lstrip("$")):
        if index:
            parts.append(int(index) if index.isdigit() else 0)
        else:
            parts.append(name or quoted)
    body = body.replace("Object contains unknown field", "there is no key").replace(
        "Object missing required field", "the key is missing:"
    )
    body = body.replace(
        "Expected `str`, got `int`", "expected a text, got a number; put quotes around it"
    )
    body = body.replace(
        "Expected `str`, got `float`", "expected a text, got a number; put quotes around it"
    )
    body = body.replace(
        "Expected `str`, got `bool`", "expected a text, got true or false; put quotes around it"
    )
    body = body.replace("Expected `array`", "expected a list").replace(
        "Expected `object`", "expected keys and values"
    )
    return body, parts


def _place(document: Document, parts: list[str | int], message: str) -> tuple[int, int]:
    unknown = re.search(r"there is no key `([^`]+)`", message)
    if unknown:
        place = document.places.get((*parts, unknown.group(1)))
        if place:
            return place
    path: Path = tuple(parts)
    while path and path not in document.places:
        path = path[:-1]
    return document.places.get(path, (1, 1))
