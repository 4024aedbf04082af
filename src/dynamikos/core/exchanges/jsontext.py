"""Changing one scalar inside a JSON text without touching the rest of it; `{{ holes }}` may stand
anywhere a scalar may.
"""

import json
import re
from collections.abc import Iterator, Mapping


class NotJson(ValueError):
    """What is wrong, and at which character."""

    def __init__(self, message: str, at: int) -> None:
        self.at = at
        super().__init__(message)


SPACE = re.compile(r"\s*")
STRING = re.compile(r'"(?:[^"\\]|\\.)*"', re.S)
SCALAR = re.compile(r"\{\{.*?\}\}|-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?|true|false|null", re.S)


def spans(text: str) -> Iterator[tuple[str, int, int]]:
    """(JSONPath, start, end) of every scalar. Raises ValueError where the text is not JSON."""
    found: list[tuple[str, int, int]] = []
    end = SPACE.match(text, _value(text, 0, "$", found))
    if end is None or end.end() != len(text):
        raise NotJson("there is text after the JSON value", found[-1][2] if found else 0)
    return iter(found)


def problem_in(text: str) -> str:
    """What keeps `text` from being JSON, with line and column; "" when nothing does."""
    try:
        list(spans(text))
    except NotJson as problem:
        before = text[: problem.at]
        return (
            f"line {before.count(chr(10)) + 1}, column {problem.at - before.rfind(chr(10))}: "
            f"{problem}"
        )
    return ""


def change(text: str, changes: Mapping[str, str]) -> str:
    """`text` with the scalars at some JSONPaths written anew, each given as JSON or as a hole.
    Raises NotJson.
    """
    found = [(start, end, changes[path]) for path, start, end in spans(text) if path in changes]
    for start, end, new in sorted(found, reverse=True):
        text = text[:start] + new + text[end:]
    return text


def _value(text: str, at: int, path: str, found: list[tuple[str, int, int]]) -> int:
    at = _skip(text, at)
    if at >= len(text):
        raise NotJson("the JSON text ends too early", at)
    if text[at] == '"':
        match = STRING.match(text, at)
        if match is None:
            raise NotJson("a text in quotes has no end", at)
        found.append((path, at, match.end()))
        return match.end()
    if text.startswith("{{", at):
        match = SCALAR.match(text, at)
        if (
            match is not None
            and match.group(0).startswith("{{")
            and re.match(r"\{\{\s*[\w.]+[^{}\"]*\}\}", match.group(0))
        ):
            found.append((path, at, match.end()))
            return match.end()
    if text[at] == "{":
        return _members(text, at + 1, path, found)
    if text[at] == "[":
        return _items(text, at + 1, path, found)
    match = SCALAR.match(text, at)
    if match is None:
        raise NotJson(
            "a value is expected: text in quotes, number, true, false, null, [list], {object} or "
            "{{ name }}",
            at,
        )
    found.append((path, at, match.end()))
    return match.end()


def _members(text: str, at: int, path: str, found: list[tuple[str, int, int]]) -> int:
    at = _skip(text, at)
    if text[at : at + 1] == "}":
        return at + 1
    while True:
        key = STRING.match(text, _skip(text, at))
        if key is None:
            raise NotJson("a key in quotes is expected", _skip(text, at))
        name = json.loads(key.group(0))
        at = _skip(text, key.end())
        if text[at : at + 1] != ":":
            raise NotJson("a colon is expected after the key", at)
        step = (
            f".{name}" if re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", name) else f"[{json.dumps(name)}]"
        )
        at = _skip(text, _value(text, at + 1, path + step, found))
        if text[at : at + 1] != ",":
            break
        at += 1
    if text[at : at + 1] != "}":
        raise NotJson("a comma or the end of the object, }, is expected", at)
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
        raise NotJson("a comma or the end of the list, ], is expected", at)
    return at + 1


def _skip(text: str, at: int) -> int:
    match = SPACE.match(text, at)
    return match.end() if match else at
