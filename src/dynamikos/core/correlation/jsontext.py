"""Changing one scalar inside a JSON text without touching the rest of it; `{{ holes }}` may stand anywhere a scalar may."""

import json
import re
from collections.abc import Iterator

SPACE = re.compile(r"\s*")
STRING = re.compile(r'"(?:[^"\\]|\\.)*"', re.S)
SCALAR = re.compile(r"\{\{.*?\}\}|-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?|true|false|null", re.S)


def spans(text: str) -> Iterator[tuple[str, int, int]]:
    """(JSONPath, start, end) of every scalar. Raises ValueError where the text is not JSON."""
    found: list[tuple[str, int, int]] = []
    end = SPACE.match(text, _value(text, 0, "$", found))
    if end is None or end.end() != len(text):
        raise ValueError("text after the JSON value")
    return iter(found)


def _value(text: str, at: int, path: str, found: list[tuple[str, int, int]]) -> int:
    at = _skip(text, at)
    if at >= len(text):
        raise ValueError("the JSON text ends too early")
    if text[at] == '"':
        match = STRING.match(text, at)
        if match is None:
            raise ValueError("a text without end")
        found.append((path, at, match.end()))
        return match.end()
    if text.startswith("{{", at):
        match = SCALAR.match(text, at)
        if match is not None and match.group(0).startswith("{{") and re.match(r"\{\{\s*[\w.]+[^{}\"]*\}\}", match.group(0)):
            found.append((path, at, match.end()))
            return match.end()
    if text[at] == "{":
        return _members(text, at + 1, path, found)
    if text[at] == "[":
        return _items(text, at + 1, path, found)
    match = SCALAR.match(text, at)
    if match is None:
        raise ValueError(f"no JSON value at {at}")
    found.append((path, at, match.end()))
    return match.end()


def _members(text: str, at: int, path: str, found: list[tuple[str, int, int]]) -> int:
    at = _skip(text, at)
    if text[at : at + 1] == "}":
        return at + 1
    while True:
        key = STRING.match(text, _skip(text, at))
        if key is None:
            raise ValueError(f"no key at {at}")
        name = json.loads(key.group(0))
        at = _skip(text, key.end())
        if text[at : at + 1] != ":":
            raise ValueError(f"no colon at {at}")
        step = f".{name}" if re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", name) else f"[{json.dumps(name)}]"
        at = _skip(text, _value(text, at + 1, path + step, found))
        if text[at : at + 1] != ",":
            break
        at += 1
    if text[at : at + 1] != "}":
        raise ValueError(f"no end of the object at {at}")
    return at + 1


def _items(text: str, at: int, path: str, found: list[tuple[str, int, int]]) -> int:
    at = _skip(text, at)
    if text[at : at + 1] == "]":
        return at + 1
    index = 0
    while True:
        at = _skip(text, _value(text, at, f"{path}[{index}]", found))
        index += 1
        if text[at : at + 1] != ",":
            break
        at += 1
    if text[at : at + 1] != "]":
        raise ValueError(f"no end of the list at {at}")
    return at + 1


def _skip(text: str, at: int) -> int:
    match = SPACE.match(text, at)
    return match.end() if match else at
