"""Reads YAML with JSON's scalar rules into plain values, and remembers where each one stands.

`no`, `12:30` and `010` stay texts; anchors, aliases, tags and duplicate keys are errors. A `#`
comment is returned with the path of the thing below it, so that it can be kept as that thing's
note.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, Union

import yaml

from dynamikos.core.errors import TextError

MAX_BYTES = 5_000_000
MAX_DEPTH = 40
MAX_SCALAR = 1_000_000
NUMBER = re.compile(r"-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?\Z")
LITERALS: dict[str, object] = {"null": None, "true": True, "false": False}

Path = tuple[str | int, ...]
Plain = Union[None, bool, int, float, str, list["Plain"], dict[str, "Plain"]]


@dataclass(slots=True)
class Document:
    """A text as plain values. `places` maps each path to (line, column), both from 1; `notes` maps
    paths of mappings to comments.
    """

    value: Plain
    places: dict[Path, tuple[int, int]]
    notes: dict[Path, str] = field(default_factory=dict)


def scalar(text: str) -> Plain:
    """The value of a plain (unquoted) scalar by RFC 8259's grammar; everything else is a text."""
    if text in LITERALS:
        return LITERALS[text]  # type: ignore[return-value]
    match = NUMBER.match(text)
    if not match:
        return text
    if match.group(2) or match.group(3):
        number = float(text)
        return number if number not in (float("inf"), float("-inf")) else text
    return int(text) if len(text) <= 40 else text


@dataclass(slots=True)
class _Open:
    kind: str
    path: Path
    value: list[Plain] | dict[str, Plain]
    flow: bool
    key: str | None = None


def read(text: str, *, file: str = "") -> Document:
    """`text` as a Document. Raises TextError with line and column."""
    if len(text.encode("utf-8", "replace")) > MAX_BYTES:
        raise TextError(f"the text is longer than {MAX_BYTES // 1_000_000} MB; split it", file=file)
    places: dict[Path, tuple[int, int]] = {}
    lines: dict[int, Path] = {}
    covered: dict[int, list[tuple[int, int]]] = {}
    stack: list[_Open] = []
    result: list[Plain] = []

    def fail(message: str, mark: Any) -> TextError:
        return TextError(message, line=mark.line + 1, column=mark.column + 1, file=file)

    def put(value: Plain, mark: Any) -> Path:
        if not stack:
            result.append(value)
            path: Path = ()
        else:
            top = stack[-1]
            if isinstance(top.value, list):
                path = (*top.path, len(top.value))
                top.value.append(value)
            elif top.key is None:
                raise fail("a key must be a plain text; " + bare_template_hint, mark)
            else:
                path = (*top.path, top.key)
                top.value[top.key] = value
                top.key = None
        places.setdefault(path, (mark.line + 1, mark.column + 1))
        return path

    bare_template_hint = 'for a {{ name }}, put quotes around it: "{{ name }}"'
    try:
        documents = 0
        parsed: Iterator[Any] = yaml.parse(text, Loader=yaml.CSafeLoader)
        for event in parsed:
            mark: Any = event.start_mark
            if isinstance(event, yaml.DocumentStartEvent):
                documents += 1
                if documents > 1:
                    raise fail("only one document is allowed; remove the line '---'", mark)
            if isinstance(event, yaml.AliasEvent):
                raise fail("aliases (*name) are not allowed; write the value out", mark)
            if getattr(event, "anchor", None):
                raise fail("anchors (&name) are not allowed; write the value out", mark)
            if getattr(event, "tag", None) not in (None, "!"):
                raise fail(f"tags ({event.tag}) are not allowed; quote the text instead", mark)
            if isinstance(event, (yaml.MappingStartEvent, yaml.SequenceStartEvent)):
                if len(stack) >= MAX_DEPTH:
                    raise fail(f"nested deeper than {MAX_DEPTH} levels", mark)
                flow = bool(event.flow_style)
                if (
                    flow
                    and isinstance(event, yaml.MappingStartEvent)
                    and text_at(text, mark).startswith("{{")
                ):
                    raise fail(bare_template_hint, mark)
                value: list[Plain] | dict[str, Plain] = (
                    {} if isinstance(event, yaml.MappingStartEvent) else []
                )
                path = put(value, mark)
                known = lines.get(mark.line)
                if known is None or (isinstance(value, dict) and path[: len(known)] == known):
                    lines[mark.line] = path
                stack.append(_Open("map" if isinstance(value, dict) else "list", path, value, flow))
            elif isinstance(event, (yaml.MappingEndEvent, yaml.SequenceEndEvent)):
                stack.pop()
            elif isinstance(event, yaml.ScalarEvent):
                if len(event.value) > MAX_SCALAR:
                    raise fail("a single text longer than 1 MB", mark)
                last: Any = event.end_mark
                for row in range(mark.line, last.line + 1):
                    start = mark.column if row == mark.line else 0
                    end = last.column if row == last.line else 1 << 30
                    covered.setdefault(row, []).append((start, end))
                top = stack[-1] if stack else None
                if top is not None and isinstance(top.value, dict) and top.key is None:
                    if event.value in top.value:
                        raise fail(f"the key '{event.value}' stands here twice; remove one", mark)
                    top.key = event.value
                    places[(*top.path, event.value)] = (mark.line + 1, mark.column + 1)
                    lines.setdefault(mark.line, top.path)
                else:
                    path = put(scalar(event.value) if event.implicit[0] else event.value, mark)
                    lines.setdefault(mark.line, path)
    except yaml.YAMLError as problem:
        where: Any = getattr(problem, "problem_mark", None)
        message = str(getattr(problem, "problem", None) or problem)
        around = "" if where is None else text.split("\n")[min(where.line, text.count("\n"))]
        if "{{" in around and '"' not in around:
            message = bare_template_hint
        raise TextError(
            message,
            line=0 if where is None else where.line + 1,
            column=0 if where is None else where.column + 1,
            file=file,
        ) from problem
    except RecursionError as problem:
        raise TextError("nested too deeply", file=file) from problem
    if not result:
        raise TextError("the text is empty", line=1, column=1, file=file)
    notes = _notes(text, covered, lines) if "#" in text else {}
    return Document(value=result[0], places=places, notes=notes)


def text_at(text: str, mark: Any) -> str:
    """The two characters at a mark."""
    return text[mark.index : mark.index + 2]


def _notes(
    text: str, covered: dict[int, list[tuple[int, int]]], lines: dict[int, Path]
) -> dict[Path, str]:
    """Comments by the path of the first thing that starts on their own line or below."""
    waiting: list[str] = []
    notes: dict[Path, list[str]] = {}
    last: Path = ()
    for row, line in enumerate(text.split("\n")):
        here = lines.get(row)
        if here is not None:
            last = here
            if waiting:
                notes.setdefault(here, []).extend(waiting)
                waiting = []
        spans = covered.get(row, [])
        for found in re.finditer(r"(?:^|\s)#", line):
            at = found.end() - 1
            if any(start <= at < end for start, end in spans):
                continue
            comment = line[at + 1 :].strip()
            if here is None and not spans:
                waiting.append(comment)
            else:
                notes.setdefault(last, []).append(comment)
            break
    if waiting:
        notes.setdefault((), []).extend(waiting)
    return {path: "\n".join(note) for path, note in notes.items() if any(note)}
