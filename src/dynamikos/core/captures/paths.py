"""JSONPath (RFC 9535): a simple path is a key walk, everything else the library's query."""

import re
from collections.abc import Callable
from typing import Any

import jsonpath_rfc9535
import orjson

from dynamikos.core.errors import RuleError

SIMPLE = re.compile(r"\$((\.[A-Za-z_][A-Za-z0-9_]*)|(\[\d+\])|(\['[^'\\]*'\])|(\[\"[^\"\\]*\"\]))*\Z")
PART = re.compile(r"\.([A-Za-z_][A-Za-z0-9_]*)|\[(\d+)\]|\['([^'\\]*)'\]|\[\"([^\"\\]*)\"\]")
MISSING = object()


def compile_path(path: str) -> Callable[[Any], Any]:
    """`path` as a function document → the first value found, or MISSING. Raises RuleError for an invalid path."""
    if SIMPLE.match(path):
        keys: list[str | int] = [
            int(match.group(2))
            if match.group(2) is not None
            else next(g for g in (match.group(1), match.group(3), match.group(4)) if g is not None)
            for match in PART.finditer(path)
        ]

        def walk(document: Any) -> Any:
            for key in keys:
                try:
                    if not isinstance(document, dict if isinstance(key, str) else list):
                        return MISSING
                    document = document[key]  # type: ignore[index]
                except (KeyError, IndexError, TypeError):
                    return MISSING
            return document

        return walk
    try:
        query = jsonpath_rfc9535.compile(path)
    except jsonpath_rfc9535.JSONPathError as problem:
        raise RuleError(f"'{path}' is not a JSONPath: {problem}") from problem

    def ask(document: Any) -> Any:
        found = query.find_one(document)
        return MISSING if found is None else found.value

    return ask


def compile_all(path: str) -> Callable[[Any], list[Any]]:
    """`path` as a function document → all values found. Raises RuleError for an invalid path."""
    if SIMPLE.match(path):
        walk = compile_path(path)

        def one(document: Any) -> list[Any]:
            found = walk(document)
            return [] if found is MISSING else [found]

        return one
    try:
        query = jsonpath_rfc9535.compile(path)
    except jsonpath_rfc9535.JSONPathError as problem:
        raise RuleError(f"'{path}' is not a JSONPath: {problem}") from problem
    return lambda document: [node.value for node in query.find(document)]


def as_text(value: Any) -> str:
    """A JSON value as it would be sent back: texts as they are, everything else as compact JSON."""
    return value if isinstance(value, str) else orjson.dumps(value).decode()
