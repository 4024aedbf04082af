"""Tables read from files: what the file is (found out, or said), then its rows one after the other.

Never holds the whole table.
"""

import codecs
import csv
import re
from collections.abc import Callable, Iterable, Iterator
from typing import Literal

import msgspec
import orjson

from dynamikos.core.errors import ImportRefused

COLUMN = re.compile(r"[A-Za-z_][A-Za-z0-9_]*\Z")
SECRET = re.compile(r"passw|secret|token|pin\Z|api_?key", re.I)
DELIMITERS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "bar"}
QUOTES = {'"': "double", "'": "single", "": "none"}
ENCODINGS = (
    "utf-8",
    "utf-16",
    "cp1252",
    "iso-8859-1",
    "iso-8859-15",
    "cp1250",
    "cp1251",
    "shift_jis",
    "gb18030",
)
LONGEST_CELL, MOST_COLUMNS, SAMPLE = 1_000_000, 500, 64_000
Kind = Literal["separated", "json lines"]


class Form(msgspec.Struct, frozen=True, kw_only=True):
    """How a file is to be read. `header`: its first line names the columns."""

    kind: Kind = "separated"
    encoding: str = "utf-8"
    delimiter: str = ","
    quote: str = '"'
    header: bool = True


def detect(sample: bytes) -> Form:
    """How the file that begins with `sample` (64 kB are enough) seems to be written."""
    encoding = _encoding(sample)
    text = sample.decode(encoding, "replace").lstrip("\ufeff")
    lines = text.splitlines()[:200]
    if len(sample) >= SAMPLE and len(lines) > 1:
        lines.pop()  # cut off in the middle
    full = [line for line in lines if line.strip()]
    if full and full[0].lstrip().startswith("{"):
        try:
            if isinstance(orjson.loads(full[0]), dict):
                return Form(kind="json lines", encoding=encoding)
        except ValueError:
            pass
    best, score = (",", '"'), (0, 0.0, 0)
    for quote in ('"', "'"):
        if quote == "'" and not re.search(r"(^|[,;\t|])'[^'\n]*'([,;\t|]|$)", text[:4000], re.M):
            continue
        for delimiter in DELIMITERS:
            widths = [len(row) for row in _rows(full, delimiter, quote)][:100]
            if not widths or max(widths) < 2:
                continue
            common = max(set(widths), key=widths.count)
            if common < 2:
                continue
            found = (
                round(100 * widths.count(common) / len(widths)),
                float(common),
                -list(DELIMITERS).index(delimiter) - (quote == "'"),
            )
            if found > score:
                best, score = (delimiter, quote), found
    delimiter, quote = best
    rows = list(_rows(full, delimiter, quote))[:20]
    return Form(encoding=encoding, delimiter=delimiter, quote=quote, header=_has_header(rows))


def _rows(lines: Iterable[str], delimiter: str, quote: str) -> Iterator[list[str]]:
    try:
        yield from csv.reader(
            lines,
            delimiter=delimiter,
            quotechar=quote or None,
            quoting=csv.QUOTE_MINIMAL if quote else csv.QUOTE_NONE,
        )
    except csv.Error:
        return


def _has_header(rows: list[list[str]]) -> bool:
    """Names on top: all of them names, and none of them a value that the column has further
    down.
    """
    if not rows or not all(COLUMN.match(cell.strip()) for cell in rows[0]):
        return False
    return len(set(rows[0])) == len(rows[0]) and not any(row == rows[0] for row in rows[1:])


def _encoding(sample: bytes) -> str:
    if sample[:2] in (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE):
        return "utf-16"
    try:
        codecs.getincrementaldecoder("utf-8")().decode(
            sample
        )  # a letter cut off at the end is no error
        return "utf-8"
    except UnicodeDecodeError:
        from charset_normalizer import from_bytes

        found = from_bytes(sample[:20_000], cp_isolation=list(ENCODINGS)).best()
        if found is not None and found.encoding in ("shift_jis", "gb18030", "cp1251"):
            return found.encoding
        try:  # of the western ones hardly a text tells which; this one is by far the most common
            sample.decode("cp1252")
            return "cp1252"
        except UnicodeDecodeError:
            return "iso-8859-1"


class Reading:
    """A table being read: `columns` are known after construction, then come `rows`.

    `chunks` are the file's bytes; `name` is for messages. Raises ImportRefused: not text, wrong
    encoding, a header that can't be names, ragged rows (the first three by line), a cell of more
    than a million characters, no rows.
    """

    def __init__(self, chunks: Iterable[bytes], name: str, form: Form) -> None:
        self.name, self.form, self.read_bytes = name, form, 0
        self._lines = self._decoded(chunks)
        self._line_no = 0
        self._first: list[str] | None = None
        if form.kind == "json lines":
            self.columns = self._json_columns()
        else:
            if form.delimiter not in DELIMITERS or form.quote not in QUOTES:
                raise ImportRefused(
                    f"{name}: a delimiter is comma, semicolon, tab or bar, a quote is double, "
                    "single or none"
                )
            csv.field_size_limit(LONGEST_CELL)
            self._reader = csv.reader(
                self._lines, delimiter=form.delimiter, quotechar=form.quote or None,
                quoting=csv.QUOTE_MINIMAL if form.quote else csv.QUOTE_NONE,
            )  # fmt: skip
            self.columns = self._header()

    def _refused(self, line: int, why: str) -> ImportRefused:
        return ImportRefused(f"{self.name}, line {line:,}: {why}")

    def _decoded(self, chunks: Iterable[bytes]) -> Iterator[str]:
        if self.form.encoding not in ENCODINGS:
            raise ImportRefused(
                f"{self.name}: '{self.form.encoding}' is none of the encodings that can be read: "
                f"{', '.join(ENCODINGS)}"
            )
        decoder = codecs.getincrementaldecoder(
            "utf-8-sig" if self.form.encoding == "utf-8" else self.form.encoding
        )()
        rest = ""
        lines = 0
        for final, chunk in _and_end(chunks):
            self.read_bytes += len(chunk)
            try:
                text = rest + decoder.decode(chunk, final)
            except UnicodeDecodeError as problem:
                line = lines + rest.count("\n") + chunk.count(b"\n", 0, max(0, problem.start)) + 1
                raise self._refused(
                    line,
                    f"byte {problem.object[problem.start]:#04x} is not "
                    f"{self.form.encoding.upper()}. Choose another"
                    " encoding above, or save the file in UTF-8.",
                ) from problem
            if "\0" in text:
                line = lines + text.count("\n", 0, text.index("\0")) + 1
                raise self._refused(
                    line,
                    "it holds NUL bytes, so it is not text (or in another encoding, such as "
                    "UTF-16). Choose it above,"
                    " or save the file as text.",
                )
            parts = text.split("\n")
            rest = parts.pop()
            lines += len(parts)
            for part in parts:
                yield part + "\n"
            if len(rest) > 20 * LONGEST_CELL:
                raise self._refused(
                    lines + 1,
                    f"a line of more than {20 * LONGEST_CELL:,} characters. Is this a table?",
                )
        if rest:
            yield rest

    def _header(self) -> tuple[str, ...]:
        first = self._next_row()
        if first is None:
            raise ImportRefused(
                f"{self.name} is empty. A data set needs at least one row, and a first line with "
                "names is a help."
            )
        if len(first) > MOST_COLUMNS:
            raise self._refused(1, f"{len(first)} columns; a data set has at most {MOST_COLUMNS}.")
        if not self.form.header:
            self._first = first
            return tuple(f"column_{at}" for at in range(1, len(first) + 1))
        names = [cell.strip() for cell in first]
        twice = next((cell for cell in names if names.count(cell) > 1), None)
        if twice is not None:
            raise self._refused(
                1, f"the column '{twice}' stands twice. Give each column its own name."
            )
        wrong = [cell for cell in names if not COLUMN.match(cell)]
        if wrong:
            raise self._refused(
                1,
                f"'{wrong[0][:60]}' can't be a column name (letters, digits and _, not beginning "
                "with a digit). Is the"
                " header line missing? Say so above (its columns are then column_1, column_2, …), "
                "or add one, such as"
                " email,password.",
            )
        return tuple(names)

    def _next_row(self) -> list[str] | None:
        try:
            for row in self._reader:
                if row:
                    return row
            return None
        except csv.Error as problem:
            words = (
                f"a cell of more than {LONGEST_CELL:,} characters"
                if "limit" in str(problem)
                else str(problem)
            )
            raise self._refused(
                self._reader.line_num,
                f"{words}. Is a quote never closed, or is the quote sign another one?",
            ) from problem

    def rows(self) -> Iterator[list[str]]:
        """Each row, as wide as `columns`. Raises ImportRefused."""
        if self.form.kind == "json lines":
            yield from self._json_rows()
            return
        width, ragged, count = len(self.columns), [], 0
        if self._first is not None:
            yield self._first
            count = 1
        reader = self._reader
        try:
            for row in reader:
                if len(row) != width:
                    if not row:
                        continue
                    ragged.append(
                        f"{self.name}, line {reader.line_num:,}: {len(row)} columns found, {width} "
                        "expected"
                    )
                    if len(ragged) == 3:
                        break
                    continue
                count += 1
                yield row
        except csv.Error as problem:
            words = (
                f"a cell of more than {LONGEST_CELL:,} characters"
                if "limit" in str(problem)
                else str(problem)
            )
            raise self._refused(
                reader.line_num,
                f"{words}. Is a quote never closed, or is the quote sign another one?",
            ) from problem
        if ragged:
            raise ImportRefused(
                "; ".join(ragged)
                + ". Mend these lines (a quote or delimiter too many?), or choose another "
                "delimiter above."
            )
        if not count:
            raise ImportRefused(f"{self.name} has a header but no rows. Add at least one row.")

    # JSON lines -----------------------------------------------------------------------------------

    def _objects(self) -> Iterator[tuple[int, dict[str, object]]]:
        for number, line in enumerate(self._lines, 1):
            if not line.strip():
                continue
            try:
                found = orjson.loads(line)
            except ValueError as problem:
                raise self._refused(number, f"not JSON: {str(problem)[:120]}") from problem
            if not isinstance(found, dict):
                raise self._refused(
                    number, 'not an object; each line is one, such as {"email": "a@example"}'
                )
            yield number, found

    def _json_columns(self) -> tuple[str, ...]:
        self._made = self._objects()
        first = next(self._made, None)
        if first is None:
            raise ImportRefused(
                f'{self.name} is empty. Each line is an object, such as {{"email": "a@example"}}.'
            )
        self._opening = first
        wrong = next((name for name in first[1] if not COLUMN.match(name)), None)
        if wrong is not None:
            raise self._refused(
                first[0],
                f"'{wrong[:60]}' can't be a column name (letters, digits and _, not beginning with "
                "a digit).",
            )
        if not first[1] or len(first[1]) > MOST_COLUMNS:
            raise self._refused(
                first[0], f"{len(first[1])} names; a data set has 1 to {MOST_COLUMNS} columns."
            )
        return tuple(first[1])

    def _json_rows(self) -> Iterator[list[str]]:
        columns = set(self.columns)

        def row(number: int, found: dict[str, object]) -> list[str]:
            other = next((name for name in found if name not in columns), None)
            if other is not None:
                raise self._refused(
                    number,
                    f"'{other[:60]}' is not in the first line, so it is no column. Name every "
                    "column there.",
                )
            cells = [_as_cell(found.get(name)) for name in self.columns]
            if any(len(cell) > LONGEST_CELL for cell in cells):
                raise self._refused(number, f"a cell of more than {LONGEST_CELL:,} characters")
            return cells

        yield row(*self._opening)
        for number, found in self._made:
            yield row(number, found)


def _as_cell(value: object) -> str:
    if value is None:
        return ""
    return (value if isinstance(value, str) else orjson.dumps(value).decode()).replace("\0", "")


def _and_end(chunks: Iterable[bytes]) -> Iterator[tuple[bool, bytes]]:
    for chunk in chunks:
        yield False, chunk
    yield True, b""


def secret_columns(columns: Iterable[str]) -> tuple[str, ...]:
    """Columns whose names say that their values are to be masked."""
    return tuple(column for column in columns if SECRET.search(column))


def read_table(
    data: bytes,
    name: str,
    form: Form | None = None,
    progress: Callable[[float], None] | None = None,
) -> "Table":
    """A whole file of moderate size. Raises ImportRefused."""
    reading = Reading([data], name, form or detect(data[:SAMPLE]))
    return Table(
        columns=reading.columns, rows=list(reading.rows()), secret=secret_columns(reading.columns)
    )


class Table(msgspec.Struct, frozen=True, kw_only=True):
    """Columns and rows, all texts. `secret` names columns whose values are masked wherever an
    exchange is shown.
    """

    columns: tuple[str, ...]
    rows: list[list[str]]
    secret: tuple[str, ...] = ()
