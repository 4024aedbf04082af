"""What workers do. A job takes and gives bytes (msgpack) and tells its progress; it imports the
core only.
"""

import re
from collections.abc import Callable, Iterable, Iterator
from itertools import islice
from pathlib import Path
from random import Random

import msgspec

from dynamikos.core.captures import Capture, View, compile_capture, compile_finder
from dynamikos.core.correlation import Rule, Strand, find_strands
from dynamikos.core.correlation.witnessed import with_proofs
from dynamikos.core.dealing import (
    Block,
    Form,
    Reading,
    Rewrite,
    count_columns,
    packed,
    rewritten,
    unpack,
)
from dynamikos.core.errors import TemplateError
from dynamikos.core.exchanges import Exchange
from dynamikos.core.values import Maker, Values, compile_condition, compile_list, compile_text
from dynamikos.core.values.template import HOLE
from dynamikos.workers.documents import GivenAnswer

Progress = Callable[[float], None]
MAX_MATCHES, AROUND = 200, 60


class Trial(msgspec.Struct, frozen=True, array_like=True):
    """What a capture finds in an answer: how many matches (up to 200), the one it takes, the text
    around it, and the groups of a regular expression's first match (of the one taken where it is
    known).
    """

    count: int
    taken: str | None
    before: str
    after: str
    groups: list[str]


def trial(payload: bytes, progress: Progress) -> bytes:
    """(Capture, answers) → a Trial for each. Raises RuleError for an expression that is wrong."""
    capture, answers = msgspec.msgpack.decode(payload, type=tuple[Capture, list[GivenAnswer]])
    find, take = compile_finder(capture), compile_capture(capture)
    made = []
    for answer in answers:
        view = View(
            answer.status,
            answer.headers,
            answer.body,
            lambda answer=answer: answer.cookies,  # type: ignore[misc]
            answer.addresses,
        )
        count = sum(1 for _ in islice(find(view), MAX_MATCHES))
        taken = take(view)
        text = view.text
        groups: list[str] = []
        at = text.find(taken) if taken else -1
        if capture.regex is not None and not capture.regex.header:
            for match in re.compile(capture.regex.pattern.encode(), re.S).finditer(answer.body):
                found = [
                    (group or b"").decode("utf-8", "replace")
                    for group in (match.group(0), *match.groups())
                ]
                if not groups or (
                    taken is not None
                    and len(found) > capture.regex.group
                    and found[capture.regex.group] == taken
                ):
                    groups, at = (
                        found,
                        len(answer.body[: match.start()].decode("utf-8", "replace"))
                        + (found[0].find(taken) if taken else 0),
                    )
                    if taken is not None and found[capture.regex.group] == taken:
                        break
        before = text[max(0, at - AROUND) : at] if at >= 0 else ""
        after = text[at + len(taken) : at + len(taken) + AROUND] if at >= 0 and taken else ""
        made.append(Trial(count, taken, before, after, [each[:400] for each in groups]))
    return msgspec.msgpack.encode(made)


class SearchJob(msgspec.Struct, frozen=True, array_like=True):
    """A search for strands: recordings of one journey, a rehearsal as further evidence, origins to
    look at, rules.
    """

    recordings: list[list[Exchange]]
    rehearsal: list[Exchange] | None
    origins: list[str] | None
    rules: list[Rule]


def strands(payload: bytes, progress: Progress) -> bytes:
    """SearchJob → list of Strand."""
    asked = msgspec.msgpack.decode(payload, type=SearchJob)
    found: list[Strand] = find_strands(
        asked.recordings,
        rehearsal=asked.rehearsal,
        origins=asked.origins,
        rules=asked.rules,
        progress=progress,
    )
    return msgspec.msgpack.encode(with_proofs(found, asked.recordings))


def read_table(payload: bytes, progress: Progress) -> bytes:
    """(path of a file, its name for messages, Form, path for blocks) → (columns, hash and rows and
    length of each block).

    The blocks' bodies are written one after the other into the second file. Raises ImportRefused.
    """
    path, name, form, out = msgspec.msgpack.decode(payload, type=tuple[str, str, Form, str])
    size = max(1, Path(path).stat().st_size)
    with open(path, "rb") as source:
        reading = Reading(iter(lambda: source.read(1 << 18), b""), name, form)
        blocks = _written(
            packed(reading.rows()), out, lambda done: progress(min(0.99, reading.read_bytes / size))
        )
    return msgspec.msgpack.encode((reading.columns, blocks))


def rewrite_table(payload: bytes, progress: Progress) -> bytes:
    """(path of blocks' bodies one after the other, their lengths, number of rows, Rewrite, path for
    the new ones) → as read_table, without columns.
    """
    path, lengths, rows, change, out = msgspec.msgpack.decode(
        payload, type=tuple[str, list[int], int, Rewrite, str]
    )
    with open(path, "rb") as source:
        made = rewritten((unpack(source.read(length)) for length in lengths), change, rows)
        return msgspec.msgpack.encode(
            _written(made, out, lambda done: progress(done / len(lengths)))
        )


def count_table(payload: bytes, progress: Progress) -> bytes:
    """(path of blocks' bodies one after the other, their lengths, number of columns) → Facts of
    each column.
    """
    path, lengths, columns = msgspec.msgpack.decode(payload, type=tuple[str, list[int], int])

    def blocks() -> Iterator[list[list[str]]]:
        with open(path, "rb") as source:
            for at, length in enumerate(lengths, 1):
                yield unpack(source.read(length))
                progress(0.8 * at / len(lengths))

    return msgspec.msgpack.encode(count_columns(blocks(), columns))


def _written(blocks: Iterable[Block], out: str, told: Progress) -> list[tuple[str, int, int]]:
    """Bodies into a file; hash, rows and length of each. `told` is given the number of blocks
    done.
    """
    found = []
    with open(out, "wb") as sink:
        for block in blocks:
            sink.write(block.body)
            found.append((block.sha256, block.rows, len(block.body)))
            told(len(found))
    return found


class Asked(msgspec.Struct, frozen=True, array_like=True):
    """An expression to be tried: a text with holes, the values there are, and what it is to be:
    text, condition or list.
    """

    text: str
    values: dict[str, str]
    kind: str
    now_us: int


class Evaluated(msgspec.Struct, frozen=True, array_like=True):
    """What a text came to, or what is wrong and at which of its characters (from, to; 0, 0:
    nowhere; from = to: something is missing there).
    """

    value: str
    problem: str
    start: int
    end: int


def evaluate(payload: bytes, progress: Progress) -> bytes:
    """Asked → Evaluated."""
    asked = msgspec.msgpack.decode(payload, type=Asked)
    holes = list(HOLE.finditer(asked.text))
    maker = Maker(lambda: Random(1), lambda: asked.now_us, known=asked.values)
    values = Values(asked.values, maker)

    def whole() -> str:
        if asked.kind == "condition":
            return "holds" if compile_condition(asked.text)(values) else "does not hold"
        if asked.kind == "list":
            found = compile_list(asked.text)(values)
            return f"{len(found)}: {', '.join(found[:8])}"
        return compile_text(asked.text).fill(values)

    try:
        return msgspec.msgpack.encode(Evaluated(whole()[:2000], "", 0, 0))
    except TemplateError as problem:
        for hole in holes:  # which hole it is, and what in it
            try:
                compile_text(hole.group(0)).fill(values)
            except TemplateError as inner:
                (start, end), within = hole.span(), hole.group(1)
                if inner.at is not None:
                    start, end = (
                        hole.start(1) + len(within) - len(within.lstrip()) + place
                        for place in inner.at
                    )
                return msgspec.msgpack.encode(Evaluated("", str(inner), start, end))
        return msgspec.msgpack.encode(Evaluated("", str(problem), 0, 0))


JOBS: dict[str, Callable[[bytes, Progress], bytes]] = {
    "trial": trial,
    "strands": strands,
    "read_table": read_table,
    "rewrite_table": rewrite_table,
    "count_table": count_table,
    "evaluate": evaluate,
}
