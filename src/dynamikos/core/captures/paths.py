"""JSONPath (RFC 9535): a simple path is a key walk, everything else the library's query."""

import re
from collections.abc import Callable
from typing import Any

import jsonpath_rfc9535
import msgspec
import orjson

from dynamikos.core.errors import RuleError

SIMPLE = re.compile(
    r"\$((\.[A-Za-z_][A-Za-z0-9_]*)|(\[\d+\])|(\['[^'\\]*'\])|(\[\"[^\"\\]*\"\]))*\Z"
)
PART = re.compile(r"\.([A-Za-z_][A-Za-z0-9_]*)|\[(\d+)\]|\['([^'\\]*)'\]|\[\"([^\"\\]*)\"\]")
MISSING = object()
MOST_TYPED = 8  # parts of a path that is looked up without reading the rest


def compile_path(path: str) -> Callable[[Any], Any]:
    """`path` as a function document → the first value found, or MISSING. Raises RuleError for an
    invalid path.
    """
    keys = keys_of(path)
    if keys is not None:

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


def keys_of(path: str) -> list[str | int] | None:
    """The keys and positions of a simple path; None for any other."""
    if not SIMPLE.match(path):
        return None
    return [
        int(match.group(2))
        if match.group(2) is not None
        else next(g for g in (match.group(1), match.group(3), match.group(4)) if g is not None)
        for match in PART.finditer(path)
    ]


def compile_text(path: str) -> Callable[[bytes], str | None] | None:
    """A simple path as a function body → the text of the value there, without making objects of the
    rest of the body; None for other paths. It raises ValueError for a body that is not as the path
    says: then it has to be read as a whole.
    """
    keys = keys_of(path)
    if not keys or len(keys) > MOST_TYPED:
        return None

    def shaped(leaf: Any) -> msgspec.json.Decoder[Any]:
        for key in reversed(keys):
            parts = [("inner", leaf)]
            leaf = (
                list[leaf]
                if isinstance(key, int)
                else msgspec.defstruct("Part", parts, rename={"inner": key}, gc=False)
            )
        return msgspec.json.Decoder(leaf)

    scalar, raw = shaped(str | int | float | bool | None).decode, shaped(msgspec.Raw).decode
    # nothing in it but positions and the one name
    steps = "".join(f"[{key}]" if isinstance(key, int) else ".inner" for key in keys)
    at: Callable[[Any], Any] = eval(f"lambda document: document{steps}")

    def text(body: bytes) -> str | None:
        if not body.isascii():
            body.decode()  # what is skipped is not looked at; JSON is UTF-8 (RFC 8259 §8.1)
        try:
            try:
                found = at(scalar(body))
            except msgspec.ValidationError:
                found = orjson.loads(bytes(at(raw(body))))
        except (msgspec.MsgspecError, IndexError) as problem:
            raise ValueError(f"the body is not as {path} says: {problem}") from problem
        if found.__class__ is int and not -(1 << 63) <= found < 1 << 64:
            raise ValueError("a number that is not held exactly")
        return found if found is None else as_text(found)

    return text


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
