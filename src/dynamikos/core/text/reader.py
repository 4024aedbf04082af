"""Reads YAML with JSON's scalar rules into plain values, and remembers where each one stands.

`no`, `12:30` and `010` stay texts; anchors, aliases, tags and duplicate keys are errors. A `#`
comment is returned with the path of the thing below it, so that it can be kept as that thing's
note.
"""

import re
from dataclasses import dataclass, field
from typing import Any, Union

import yaml

from dynamikos.core.errors import TextError

MAX_BYTES = 5_000_000
MAX_DEPTH = 40
MAX_SCALAR = 1_000_000
NUMBER = re.compile(r"-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?\Z")
BARE_TEMPLATE = 'for a {{ name }}, put quotes around it: "{{ name }}"'
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
    building = _Building(text, file)
    try:
        for event in yaml.parse(text, Loader=yaml.CSafeLoader):
            building.take(event)
    except yaml.YAMLError as problem:
        raise building.misread(problem) from problem
    except RecursionError as problem:
        raise TextError("nested too deeply", file=file) from problem
    if not building.result:
        raise TextError("the text is empty", line=1, column=1, file=file)
    notes = _notes(text, building.covered, building.lines) if "#" in text else {}
    return Document(value=building.result[0], places=building.places, notes=notes)


class _Building:
    """A document as it is put together of the parser's events, with where everything stood."""

    def __init__(self, text: str, file: str) -> None:
        self._text, self._file = text, file
        self.places: dict[Path, tuple[int, int]] = {}
        self.lines: dict[int, Path] = {}
        self.covered: dict[int, list[tuple[int, int]]] = {}
        self.result: list[Plain] = []
        self._stack: list[_Open] = []
        self._documents = 0

    def take(self, event: Any) -> None:
        """The next event. Raises TextError for what the text form does not have."""
        self._refuse(event)
        if isinstance(event, (yaml.MappingStartEvent, yaml.SequenceStartEvent)):
            self._begin(event)
        elif isinstance(event, (yaml.MappingEndEvent, yaml.SequenceEndEvent)):
            self._stack.pop()
        elif isinstance(event, yaml.ScalarEvent):
            self._scalar(event)

    def misread(self, problem: yaml.YAMLError) -> TextError:
        """What the parser could not read."""
        where: Any = getattr(problem, "problem_mark", None)
        message = str(getattr(problem, "problem", None) or problem)
        if where is None:
            return TextError(message, line=0, column=0, file=self._file)
        around = self._text.split("\n")[min(where.line, self._text.count("\n"))]
        if "{{" in around and '"' not in around:
            message = BARE_TEMPLATE
        return self._wrong(message, where)

    def _wrong(self, message: str, mark: Any) -> TextError:
        return TextError(message, line=mark.line + 1, column=mark.column + 1, file=self._file)

    def _refuse(self, event: Any) -> None:
        mark = event.start_mark
        if isinstance(event, yaml.DocumentStartEvent):
            self._documents += 1
            if self._documents > 1:
                raise self._wrong("only one document is allowed; remove the line '---'", mark)
        if isinstance(event, yaml.AliasEvent):
            raise self._wrong("aliases (*name) are not allowed; write the value out", mark)
        if getattr(event, "anchor", None):
            raise self._wrong("anchors (&name) are not allowed; write the value out", mark)
        tag = getattr(event, "tag", None)
        if tag not in (None, "!"):
            raise self._wrong(f"tags ({tag}) are not allowed; quote the text instead", mark)

    def _begin(self, event: Any) -> None:
        """A mapping or a sequence."""
        mark, flow = event.start_mark, bool(event.flow_style)
        is_map = isinstance(event, yaml.MappingStartEvent)
        if len(self._stack) >= MAX_DEPTH:
            raise self._wrong(f"nested deeper than {MAX_DEPTH} levels", mark)
        if flow and is_map and text_at(self._text, mark).startswith("{{"):
            raise self._wrong(BARE_TEMPLATE, mark)
        value: list[Plain] | dict[str, Plain] = {} if is_map else []
        path = self._put(value, mark)
        known = self.lines.get(mark.line)
        if known is None or (is_map and path[: len(known)] == known):
            self.lines[mark.line] = path
        self._stack.append(_Open("map" if is_map else "list", path, value, flow))

    def _scalar(self, event: Any) -> None:
        """A value, or the key of one."""
        mark, last = event.start_mark, event.end_mark
        if len(event.value) > MAX_SCALAR:
            raise self._wrong("a single text longer than 1 MB", mark)
        for row in range(mark.line, last.line + 1):
            start = mark.column if row == mark.line else 0
            end = last.column if row == last.line else 1 << 30
            self.covered.setdefault(row, []).append((start, end))
        top = self._stack[-1] if self._stack else None
        if top is None or not isinstance(top.value, dict) or top.key is not None:
            path = self._put(scalar(event.value) if event.implicit[0] else event.value, mark)
            self.lines.setdefault(mark.line, path)
            return
        if event.value in top.value:
            raise self._wrong(f"the key '{event.value}' stands here twice; remove one", mark)
        top.key = event.value
        self.places[(*top.path, event.value)] = (mark.line + 1, mark.column + 1)
        self.lines.setdefault(mark.line, top.path)

    def _put(self, value: Plain, mark: Any) -> Path:
        """Into what is open; returns its path."""
        path: Path = ()
        if not self._stack:
            self.result.append(value)
        else:
            top = self._stack[-1]
            if isinstance(top.value, list):
                path = (*top.path, len(top.value))
                top.value.append(value)
            elif top.key is None:
                raise self._wrong("a key must be a plain text; " + BARE_TEMPLATE, mark)
            else:
                path = (*top.path, top.key)
                top.value[top.key] = value
                top.key = None
        self.places.setdefault(path, (mark.line + 1, mark.column + 1))
        return path


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
