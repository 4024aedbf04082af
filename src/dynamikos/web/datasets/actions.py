"""Changing data sets: every change keeps what was before as lists of hashes, so that it can be undone."""

import contextlib
import uuid
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path, PurePath

import msgspec
from django.conf import settings
from django.db import transaction

from dynamikos import workers
from dynamikos.core.dealing import SAMPLE, Block, Deal, Form, Reading, Rule, column, detect, pack, packed, secret_columns
from dynamikos.core.dealing.reading import COLUMN, LONGEST_CELL, MOST_COLUMNS
from dynamikos.core.errors import DynamikosError, ImportRefused
from dynamikos.core.journeys import key_from
from dynamikos.web.datasets import queries
from dynamikos.web.datasets.models import DataBlock, DataSet, DataState, Upload
from dynamikos.web.projects.access import note
from dynamikos.web.projects.models import Membership, Project

Progress = Callable[[float], None]
STATES_KEPT, SPLIT_ROWS = 50, 2000
IMPORT_S, IMPORT_MB = 300.0, 512


class Changed(DynamikosError):
    """Somebody else changed the same cell meanwhile."""


# reading files ------------------------------------------------------------------------------------------


def file_of(upload: Upload) -> Path:
    return Path(settings.UPLOADS) / str(upload.pk)


def keep_upload(member: Membership, chunks: Iterable[bytes], name: str, size: int) -> Upload:
    """A file kept as it came, with how it seems to be written. Raises ImportRefused."""
    if not size:
        raise ImportRefused(f"{name} is empty. A data set needs at least one row.")
    if size > settings.MAX_UPLOAD_BYTES:
        raise ImportRefused(f"{name} has {size:,} bytes; at most {settings.MAX_UPLOAD_BYTES:,} are taken at once.")
    Path(settings.UPLOADS).mkdir(parents=True, exist_ok=True, mode=0o700)
    forget_old(member.project)
    made = Upload.objects.create(project=member.project, name=name[:120], size=size)
    with file_of(made).open("wb") as file:
        for chunk in chunks:
            file.write(chunk)
    with file_of(made).open("rb") as file:
        made.form = msgspec.to_builtins(detect(file.read(SAMPLE)))
    made.save(update_fields=["form"])
    return made


def forget_old(project: Project) -> None:
    """Uploads of this project that were never taken in, but the newest ten."""
    for old in Upload.objects.filter(project=project).order_by("-at")[10:]:
        forget(old)


def forget(upload: Upload) -> None:
    file_of(upload).unlink(missing_ok=True)
    upload.delete()


def preview(upload: Upload, form: Form, rows: int = 12) -> tuple[tuple[str, ...], list[list[str]], str]:
    """(columns, first rows, what is wrong) of an upload read as `form`."""
    found: list[list[str]] = []
    columns: tuple[str, ...] = ()
    try:
        with file_of(upload).open("rb") as file:
            reading = Reading(iter(lambda: file.read(1 << 15), b""), upload.name, form)
            columns = reading.columns
            for row in reading.rows():
                found.append(row)
                if len(found) >= rows:
                    break
    except ImportRefused as problem:
        return columns, found, str(problem)
    except OSError:
        return (), [], f"{upload.name} is not here any more (uploads are kept for a while only); choose the file again."
    return columns, found, ""


def key_for(name: str) -> str:
    return key_from(PurePath(name).stem).replace("-", "_")


def take_in(member: Membership, upload: Upload, form: Form, progress: Progress = lambda share: None) -> DataSet:
    """An upload as a data set; one with the same key is replaced, and can be gone back to. Raises ImportRefused; then nothing is changed."""
    path, out = file_of(upload), file_of(upload).with_suffix(".blocks")
    try:
        answer = workers.call(
            "read_table", msgspec.msgpack.encode((str(path), upload.name, form, str(out))), seconds=IMPORT_S, memory_mb=IMPORT_MB,
            progress=lambda share: progress(0.7 * share),
        )  # fmt: skip
        columns, blocks = msgspec.msgpack.decode(answer, type=tuple[tuple[str, ...], list[tuple[str, int, int]]])

        def bodies() -> Iterator[Block]:
            with out.open("rb") as file:
                for at, (sha256, rows, length) in enumerate(blocks):
                    yield Block(sha256=sha256, body=file.read(length), rows=rows)
                    progress(0.7 + 0.3 * at / len(blocks))

        made = _replace(member, upload.name, columns, bodies(), form)
    except workers.WorkerError as problem:
        raise ImportRefused(f"{upload.name}: {problem}") from problem
    finally:
        with contextlib.suppress(OSError):
            out.unlink()
    forget(upload)
    return made


def import_csv(member: Membership, data: bytes, file_name: str, progress: Progress = lambda share: None) -> DataSet:
    """A file as a data set, read as it seems to be written. Raises ImportRefused; then nothing is changed."""
    form = detect(data[:SAMPLE])
    reading = Reading([data], file_name, form)
    return _replace(member, file_name, reading.columns, packed(reading.rows()), form)


@transaction.atomic
def _replace(member: Membership, name: str, columns: Sequence[str], blocks: Iterable[Block], form: Form) -> DataSet:
    key = key_for(name)
    hashes, sizes = _store(blocks)
    found = DataSet.objects.select_for_update().filter(project=member.project, key=key).first()
    if found is None:
        found = DataSet(project=member.project, key=key, version=0)
    else:
        _remember(found, "import")
    found.name, found.columns, found.secret = name[:120], list(columns), list(secret_columns(columns))
    found.form = msgspec.to_builtins(form)
    _set(found, hashes, sizes)
    note(member, "data set imported", key, rows=found.rows)
    return found


def _store(blocks: Iterable[Block]) -> tuple[list[str], list[int]]:
    """Blocks put into the database, those that are there already left alone: (hashes, sizes)."""
    hashes: list[str] = []
    sizes: list[int] = []
    waiting: list[DataBlock] = []
    for each in blocks:
        hashes.append(each.sha256)
        sizes.append(each.rows)
        waiting.append(DataBlock(sha256=each.sha256, body=each.body))
        if len(waiting) == 100:
            DataBlock.objects.bulk_create(waiting, ignore_conflicts=True)
            waiting = []
    DataBlock.objects.bulk_create(waiting, ignore_conflicts=True)
    return hashes, sizes


def _remember(found: DataSet, label: str) -> None:
    DataState.objects.create(
        dataset=found, version=found.version, columns=found.columns, secret=found.secret, rows=found.rows, blocks=found.blocks,
        sizes=queries.sizes_of(found), label=label[:120],
    )  # fmt: skip
    for old in found.states.all()[STATES_KEPT:]:
        old.delete()


def _set(found: DataSet, hashes: list[str], sizes: list[int]) -> None:
    found.blocks, found.sizes, found.rows, found.version = hashes, sizes, sum(sizes), found.version + 1
    found.save()


# editing ------------------------------------------------------------------------------------------------


@contextlib.contextmanager
def _changing(member: Membership, pk: uuid.UUID, label: str) -> Iterator[DataSet]:
    with transaction.atomic():
        found = DataSet.objects.select_for_update().get(project=member.project, pk=pk)
        _remember(found, label)
        yield found


def _swap(found: DataSet, at: int, rows: list[list[str]]) -> None:
    """Block `at` replaced by `rows`: split when they have become many, left out when there are none."""
    hashes, sizes = list(found.blocks), queries.sizes_of(found)
    parts = [rows[: len(rows) // 2], rows[len(rows) // 2 :]] if len(rows) > SPLIT_ROWS else [rows] if rows else []
    made, made_sizes = _store(pack(part) for part in parts)
    hashes[at : at + 1], sizes[at : at + 1] = made, made_sizes
    _set(found, hashes, sizes)


def _cell(text: str) -> str:
    if "\0" in text:
        raise DynamikosError("A cell can't hold a NUL byte; nothing was changed.")
    if len(text) > LONGEST_CELL:
        raise DynamikosError(f"A cell holds at most {LONGEST_CELL:,} characters; this text has {len(text):,}. Nothing was changed.")
    return text


def _row(found: DataSet, row: int) -> tuple[int, int, list[list[str]]]:
    if not 0 <= row < found.rows:
        raise DynamikosError(f"There is no row {row + 1:,} in {found.key} any more; reload the page.")
    at, inside = queries.place_of(found, row)
    return at, inside, queries.block(found.blocks[at])


def set_cell(member: Membership, pk: uuid.UUID, row: int, name: str, text: str, old: str | None) -> None:
    """One cell, as typed. Raises Changed when it was not `old` any more, DynamikosError for what can't be a cell."""
    with _changing(member, pk, f"row {row + 1}, {name}") as found:
        at, inside, rows = _row(found, row)
        if name not in found.columns:
            raise DynamikosError(f"There is no column {name} in {found.key} any more; reload the page.")
        index = found.columns.index(name)
        now = rows[inside][index]
        if old is not None and now not in (old, text):
            raise Changed(
                f"Row {row + 1:,}, {name}, was changed to “{now[:60]}” meanwhile; “{text[:60]}” was not kept. Type it again to replace that."
            )
        rows[inside][index] = _cell(text)
        last = found.states.first()
        before = found.states.all()[1:2]
        _swap(found, at, rows)
        if last is not None and before and before[0].label == last.label:
            last.delete()  # one spell of typing in one cell is undone at once


def add_row(member: Membership, pk: uuid.UUID, after: int, cells: Sequence[str] | None = None) -> int:
    """A new row after row number `after` (0: on top; beyond the end: last); gives its number from 1."""
    with _changing(member, pk, "add a row") as found:
        after = max(0, min(after, found.rows))
        new = [_cell(cell) for cell in cells] if cells is not None else [""] * len(found.columns)
        if not found.blocks:
            hashes, sizes = _store([pack([new])])
            _set(found, hashes, sizes)
            return 1
        at, inside = queries.place_of(found, after - 1) if after else (0, -1)
        rows = queries.block(found.blocks[at])
        rows.insert(inside + 1, new)
        _swap(found, at, rows)
        return after + 1


def delete_row(member: Membership, pk: uuid.UUID, row: int) -> None:
    with _changing(member, pk, f"delete row {row + 1}") as found:
        at, inside, rows = _row(found, row)
        rows.pop(inside)
        _swap(found, at, rows)


def move_row(member: Membership, pk: uuid.UUID, row: int, to: int) -> None:
    """Row `row` put where row `to` is (both from 0)."""
    with _changing(member, pk, f"move row {row + 1}") as found:
        at, inside, rows = _row(found, row)
        moved = rows.pop(inside)
        _swap(found, at, rows)
        if not found.blocks:
            hashes, sizes = _store([pack([moved])])
            _set(found, hashes, sizes)
            return
        to = max(0, min(to, found.rows))
        at, inside = queries.place_of(found, to) if to < found.rows else (len(found.blocks) - 1, queries.sizes_of(found)[-1])
        rows = queries.block(found.blocks[at])
        rows.insert(inside, moved)
        _swap(found, at, rows)


def _rewritten(found: DataSet, change: Callable[[int, list[str]], list[str]], progress: Progress) -> tuple[list[str], list[int]]:
    def blocks() -> Iterator[Block]:
        number = 0
        for sha256 in found.blocks:
            rows = []
            for row in queries.block(sha256):
                rows.append(change(number, row))
                number += 1
            progress(number / max(1, found.rows))
            yield pack(rows)

    return _store(blocks())


def _column_name(found: DataSet, name: str) -> str:
    name = name.strip()
    if not COLUMN.match(name) or len(name) > 80:
        raise DynamikosError(f"'{name[:60]}' can't be a column name (letters, digits and _, not beginning with a digit).")
    if name in found.columns:
        raise DynamikosError(f"There is a column '{name}' already; give this one another name.")
    if len(found.columns) >= MOST_COLUMNS:
        raise DynamikosError(f"A data set has at most {MOST_COLUMNS} columns.")
    return name


def add_column(member: Membership, pk: uuid.UUID, name: str, rule: Rule | None = None, progress: Progress = lambda share: None) -> None:
    """A new column at the end: empty, or made by `rule`; an existing one is made anew. Raises DynamikosError."""
    with _changing(member, pk, f"column {name}") as found:
        there = found.columns.index(name) if name in found.columns and rule is not None else None
        if there is None:
            name = _column_name(found, name)
        cells = column(rule, found.rows) if rule is not None else None

        def change(number: int, row: list[str]) -> list[str]:
            cell = next(cells) if cells is not None else ""
            return [*row, cell] if there is None else [*row[:there], cell, *row[there + 1 :]]

        hashes, sizes = _rewritten(found, change, progress)
        if there is None:
            found.columns = [*found.columns, name]
            found.secret = [*found.secret, *secret_columns([name])]
        _set(found, hashes, sizes)


def rename_column(member: Membership, pk: uuid.UUID, old: str, new: str) -> None:
    with _changing(member, pk, f"rename {old}") as found:
        if old not in found.columns:
            raise DynamikosError(f"There is no column {old} any more; reload the page.")
        new = _column_name(found, new)
        found.columns = [new if each == old else each for each in found.columns]
        found.secret = [new if each == old else each for each in found.secret]
        _set(found, list(found.blocks), queries.sizes_of(found))


def delete_column(member: Membership, pk: uuid.UUID, name: str, progress: Progress = lambda share: None) -> None:
    with _changing(member, pk, f"delete column {name}") as found:
        if name not in found.columns or len(found.columns) == 1:
            raise DynamikosError(
                "A data set keeps at least one column." if name in found.columns else f"There is no column {name} any more."
            )
        at = found.columns.index(name)
        hashes, sizes = _rewritten(found, lambda number, row: row[:at] + row[at + 1 :], progress)
        found.columns, found.secret = found.columns[:at] + found.columns[at + 1 :], [each for each in found.secret if each != name]
        _set(found, hashes, sizes)


def move_column(member: Membership, pk: uuid.UUID, name: str, by: int, progress: Progress = lambda share: None) -> None:
    with _changing(member, pk, f"move column {name}") as found:
        if name not in found.columns:
            raise DynamikosError(f"There is no column {name} any more; reload the page.")
        at = found.columns.index(name)
        to = max(0, min(at + by, len(found.columns) - 1))

        def change(number: int, row: list[str]) -> list[str]:
            cells = list(row)
            cells.insert(to, cells.pop(at))
            return cells

        hashes, sizes = _rewritten(found, change, progress)
        found.columns = change(0, found.columns)
        _set(found, hashes, sizes)


@transaction.atomic
def undo(member: Membership, pk: uuid.UUID) -> str:
    """What was before the last change; gives what that was. Raises DynamikosError when there is nothing to go back to."""
    found = DataSet.objects.select_for_update().get(project=member.project, pk=pk)
    last = found.states.first()
    if last is None:
        raise DynamikosError("There is no change to take back.")
    found.columns, found.secret = last.columns, last.secret
    _set(found, last.blocks, last.sizes)
    label = last.label
    last.delete()
    note(member, "data change taken back", found.key, change=label)
    return label


@transaction.atomic
def delete(member: Membership, pk: uuid.UUID) -> None:
    """Takes a data set away. Its blocks stay for the runs that froze them."""
    found = DataSet.objects.select_for_update().get(project=member.project, pk=pk)
    note(member, "data set deleted", found.key, rows=found.rows)
    found.delete()


def create(member: Membership, name: str) -> DataSet:
    """An empty data set with one column and one row."""
    key = key_for(name.strip() or "data")
    if DataSet.objects.filter(project=member.project, key=key).exists():
        raise DynamikosError(f"There is a data set {key} already; choose another name.")
    return _replace(member, name.strip() or "data", ("value",), [pack([[""]])], Form())


def append_rows(project: Project, key: str, rows: Sequence[dict[str, str]]) -> None:
    """Rows that a run wrote back, at the end of a data set, which is made when it is not there; new columns are added to it."""
    with transaction.atomic():
        found = DataSet.objects.select_for_update().filter(project=project, key=key).first()
        if found is None:
            found = DataSet(project=project, key=key, name=key, version=0, columns=[])
            found.save()
        else:
            _remember(found, "rows written by a run")
        new = [name for name in dict.fromkeys(name for row in rows for name in row) if name not in found.columns]
        hashes, sizes = list(found.blocks), queries.sizes_of(found)
        if new and found.rows:
            hashes, sizes = _rewritten(found, lambda number, row: [*row, *[""] * len(new)], lambda share: None)
        found.columns = [*found.columns, *new]
        found.secret = [*found.secret, *secret_columns(new)]
        made, made_sizes = _store(packed([row.get(name, "") for name in found.columns] for row in rows))
        _set(found, hashes + made, sizes + made_sizes)


def set_secret(member: Membership, found: DataSet, columns: list[str]) -> None:
    """Which columns are masked wherever an exchange is shown."""
    found.secret = [column for column in found.columns if column in columns]
    found.save(update_fields=["secret", "changed_at"])
    note(member, "masked columns changed", found.key, columns=found.secret)


def set_deal(member: Membership, found: DataSet, deal: Deal) -> None:
    """How its rows are dealt. Raises DynamikosError for rules that can't be followed."""
    others = set(DataSet.objects.filter(project=member.project).exclude(pk=found.pk).values_list("key", flat=True))
    if deal.follow and deal.follow not in others:
        raise DynamikosError(f"There is no data set {deal.follow} to follow.")
    if deal.follow and DataSet.objects.filter(project=member.project, key=deal.follow, deal__follow=found.key).exists():
        raise DynamikosError(f"{deal.follow} follows {found.key} already; one of the two has to lead.")
    unknown = next((name for name in deal.apart if name not in found.columns), None)
    if unknown is not None:
        raise DynamikosError(f"There is no column {unknown} in {found.key}.")
    found.deal = msgspec.to_builtins(deal)
    found.save(update_fields=["deal", "changed_at"])
    note(member, "deal changed", found.key)
