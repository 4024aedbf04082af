"""Changing data sets: every change keeps what was before as lists of hashes, so that it can be
undone.
"""

import csv
import io
import uuid
from collections.abc import Sequence

from django.db import transaction

from dynamikos.core.dealing import ColumnRule, Deal, Form, Rewrite, pack, packed, secret_columns
from dynamikos.core.dealing.deal import DEAL
from dynamikos.core.dealing.reading import COLUMN, LONGEST_CELL, MOST_COLUMNS
from dynamikos.core.errors import DynamikosError
from dynamikos.web.datasets import hooks, queries, tables
from dynamikos.web.datasets.models import DataSet
from dynamikos.web.datasets.tables import Progress
from dynamikos.web.datasets.uploads import key_for
from dynamikos.web.projects.access import note
from dynamikos.web.projects.models import Membership, Project

SPLIT_ROWS, MOST_PASTED = 2000, 20_000
RENAMING = "rename {}"


class CellChanged(DynamikosError):
    """Somebody else changed the same cell meanwhile."""


def _swap(found: DataSet, at: int, rows: list[list[str]]) -> None:
    """Block `at` replaced by `rows`: split when they have become many, left out when there are
    none.
    """
    hashes, sizes = list(found.blocks), queries.sizes_of(found)
    parts = (
        [rows[: len(rows) // 2], rows[len(rows) // 2 :]]
        if len(rows) > SPLIT_ROWS
        else [rows]
        if rows
        else []
    )
    made, made_sizes = tables.store(pack(part) for part in parts)
    hashes[at : at + 1], sizes[at : at + 1] = made, made_sizes
    tables.put(found, hashes, sizes)


def _cell(text: str) -> str:
    if "\0" in text:
        raise DynamikosError("A cell can't hold a NUL byte; nothing was changed.")
    if len(text) > LONGEST_CELL:
        raise DynamikosError(
            f"A cell holds at most {LONGEST_CELL:,} characters; this text has {len(text):,}. "
            "Nothing was changed."
        )
    return text


def _row(found: DataSet, row: int) -> tuple[int, int, list[list[str]]]:
    if not 0 <= row < found.rows:
        raise DynamikosError(
            f"There is no row {row + 1:,} in {found.key} any more; reload the page."
        )
    at, inside = queries.place_of(found, row)
    return at, inside, queries.block(found.blocks[at])


def _column_at(found: DataSet, name: str) -> int:
    if name not in found.columns:
        raise DynamikosError(
            f"There is no column {name[:80]} in {found.key} any more; reload the page."
        )
    return list[str](found.columns).index(name)


def set_cell(
    member: Membership, pk: uuid.UUID, row: int, name: str, text: str, old: str | None
) -> None:
    """One cell, as typed. Raises CellChanged when it was not `old` any more, DynamikosError for
    what is no cell.
    """
    with tables.changing(member, pk, f"row {row + 1}, {name}") as found:
        at, inside, rows = _row(found, row)
        index = _column_at(found, name)
        now = rows[inside][index]
        if old is not None and now not in (old, text):
            raise CellChanged(
                f"Row {row + 1:,}, {name}, was changed to “{now[:60]}” meanwhile; “{text[:60]}” "
                "was not kept. Type it"
                " again to replace that."
            )
        rows[inside][index] = _cell(text)
        last = found.states.first()
        before = found.states.all()[1:2]
        _swap(found, at, rows)
        if last is not None and before and before[0].label == last.label:
            last.delete()  # one spell of typing in one cell is undone at once


def paste(member: Membership, pk: uuid.UUID, row: int, name: str, text: str) -> int:
    """Rows of cells parted by tabs, as a spreadsheet copies them, from a cell on; rows beyond the
    last are added.

    Gives their number.
    """
    try:
        grid = [
            [_cell(cell) for cell in cells]
            for cells in csv.reader(io.StringIO(text), delimiter="\t", strict=True)
        ]
    except csv.Error as problem:
        raise DynamikosError(
            f"What was pasted can't be read as cells: {problem}. Nothing was changed."
        ) from problem
    if not grid or len(grid) > MOST_PASTED:
        raise DynamikosError(
            f"At most {MOST_PASTED:,} rows are pasted at once, not {len(grid):,}; import more as a "
            "file."
        )
    with tables.changing(member, pk, f"paste {len(grid)} rows at row {row + 1}") as found:
        at, first = _column_at(found, name), row
        widest, there = max(map(len, grid)), len(found.columns) - at
        if widest > there:
            raise DynamikosError(
                f"What was pasted is {widest} columns wide; from {name} on there are {there}. "
                "Nothing was changed."
            )
        hashes, sizes = list(found.blocks), queries.sizes_of(found)
        rest = grid
        while rest and row < found.rows:
            block, inside, rows = _row(found, row)
            here = rest[: len(rows) - inside]
            for number, cells in enumerate(here, inside):
                rows[number][at : at + len(cells)] = cells
            (hashes[block],), _ = tables.store([pack(rows)])
            rest, row = rest[len(here) :], row + len(here)
        more, more_sizes = tables.store(
            packed([""] * at + cells + [""] * (there - len(cells)) for cells in rest)
        )
        tables.put(found, hashes + more, sizes + more_sizes)
        note(member, "rows pasted", found.key, row=first + 1, rows=len(grid))
    return len(grid)


def add_row(
    member: Membership, pk: uuid.UUID, after: int, cells: Sequence[str] | None = None
) -> int:
    """A new row after row number `after` (0: on top; beyond the end: last); gives its number
    from 1.
    """
    with tables.changing(member, pk, "add a row") as found:
        after = max(0, min(after, found.rows))
        new = [_cell(cell) for cell in cells] if cells is not None else [""] * len(found.columns)
        if not found.blocks:
            hashes, sizes = tables.store([pack([new])])
            tables.put(found, hashes, sizes)
            return 1
        at, inside = queries.place_of(found, after - 1) if after else (0, -1)
        rows = queries.block(found.blocks[at])
        rows.insert(inside + 1, new)
        _swap(found, at, rows)
        return after + 1


def delete_row(member: Membership, pk: uuid.UUID, row: int) -> None:
    with tables.changing(member, pk, f"delete row {row + 1}") as found:
        at, inside, rows = _row(found, row)
        rows.pop(inside)
        _swap(found, at, rows)


def move_row(member: Membership, pk: uuid.UUID, row: int, to: int) -> None:
    """Row `row` put where row `to` is (both from 0)."""
    with tables.changing(member, pk, f"move row {row + 1}") as found:
        at, inside, rows = _row(found, row)
        moved = rows.pop(inside)
        _swap(found, at, rows)
        if not found.blocks:
            hashes, sizes = tables.store([pack([moved])])
            tables.put(found, hashes, sizes)
            return
        to = max(0, min(to, found.rows))
        at, inside = (
            queries.place_of(found, to)
            if to < found.rows
            else (len(found.blocks) - 1, queries.sizes_of(found)[-1])
        )
        rows = queries.block(found.blocks[at])
        rows.insert(inside, moved)
        _swap(found, at, rows)


def _column_name(found: DataSet, name: str) -> str:
    name = name.strip()
    if not COLUMN.match(name) or len(name) > 80:
        raise DynamikosError(
            f"'{name[:60]}' can't be a column name (letters, digits and _, not beginning with a "
            "digit)."
        )
    if name in found.columns:
        raise DynamikosError(f"There is a column '{name}' already; give this one another name.")
    if len(found.columns) >= MOST_COLUMNS:
        raise DynamikosError(f"A data set has at most {MOST_COLUMNS} columns.")
    return name


def add_column(
    member: Membership,
    pk: uuid.UUID,
    name: str,
    rule: ColumnRule | None = None,
    progress: Progress = lambda share: None,
) -> None:
    """A new column at the end: empty, or made by `rule`; an existing one is made anew. Raises
    DynamikosError.
    """

    def plan(found: DataSet) -> tuple[Rewrite, str]:
        if name in found.columns and rule is not None:
            return Rewrite(what="fill", at=found.columns.index(name), rule=rule), name
        return Rewrite(what="insert", at=len(found.columns), rule=rule), _column_name(found, name)

    tables.change_columns(member, pk, f"column {name}", plan, progress)


def rename_column(member: Membership, pk: uuid.UUID, old: str, new: str) -> None:
    with tables.changing(member, pk, RENAMING.format(old)) as found:
        _column_at(found, old)
        new = _column_name(found, new)
        found.columns = [new if each == old else each for each in found.columns]
        found.secret = [new if each == old else each for each in found.secret]
        _renamed(member, found, old, new)
        tables.put(found, list(found.blocks), queries.sizes_of(found))


def _renamed(member: Membership, found: DataSet, old: str, new: str) -> None:
    """What refers to a column by its old name refers to it by the new one: its deal, and whatever
    uses it.
    """
    found.deal = {
        **found.deal,
        "apart": [new if each == old else each for each in found.deal.get("apart", [])],
    }
    hooks.column_renamed(member, f"{found.key}.{old}", f"{found.key}.{new}")


def delete_column(
    member: Membership, pk: uuid.UUID, name: str, progress: Progress = lambda share: None
) -> None:
    def plan(found: DataSet) -> tuple[Rewrite, str]:
        at = _column_at(found, name)
        if len(found.columns) == 1:
            raise DynamikosError("A data set keeps at least one column.")
        return Rewrite(what="delete", at=at), ""

    tables.change_columns(member, pk, f"delete column {name}", plan, progress)


def move_column(
    member: Membership, pk: uuid.UUID, name: str, by: int, progress: Progress = lambda share: None
) -> None:
    def plan(found: DataSet) -> tuple[Rewrite, str]:
        at = _column_at(found, name)
        return Rewrite(what="move", at=at, to=max(0, min(at + by, len(found.columns) - 1))), ""

    tables.change_columns(member, pk, f"move column {name}", plan, progress)


@transaction.atomic
def undo(member: Membership, pk: uuid.UUID) -> str:
    """What was before the last change; gives what that was.

    Raises DynamikosError when there is nothing to go back to.
    """
    found = DataSet.objects.select_for_update().get(project=member.project, pk=pk)
    last = found.states.first()
    if last is None:
        raise DynamikosError("There is no change to take back.")
    before = list(found.columns)
    found.columns, found.secret = last.columns, last.secret
    for now, then in zip(before, last.columns, strict=False):
        if now != then and last.label == RENAMING.format(then):  # all that followed it follow back
            _renamed(member, found, now, then)
    tables.put(found, last.blocks, last.sizes)
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
    return tables.replace(member, key, name.strip() or "data", ("value",), [pack([[""]])], Form())


def append_rows(project: Project, key: str, rows: Sequence[dict[str, str]]) -> None:
    """Rows that a run wrote back, at the end of a data set, which is made when it is not there; new
    columns are added to it.
    """
    with transaction.atomic():
        found = DataSet.objects.select_for_update().filter(project=project, key=key).first()
        if found is None:
            found = DataSet(project=project, key=key, name=key, version=0, columns=[])
            found.save()
        else:
            tables.remember(found, "rows written by a run")
        new = [
            name
            for name in dict.fromkeys(name for row in rows for name in row)
            if name not in found.columns
        ]
        hashes, sizes = list(found.blocks), queries.sizes_of(found)
        for name in new:
            if found.rows:
                hashes, sizes = tables.rewrite(
                    found, Rewrite(what="insert", at=len(found.columns)), lambda share: None
                )
                found.blocks, found.sizes = hashes, sizes
            found.columns = [*found.columns, name]
        found.secret = [*found.secret, *secret_columns(new)]
        made, made_sizes = tables.store(
            packed([row.get(name, "") for name in found.columns] for row in rows)
        )
        tables.put(found, hashes + made, sizes + made_sizes)


def set_secret(member: Membership, found: DataSet, columns: list[str]) -> None:
    """Which columns are masked wherever an exchange is shown."""
    found.secret = [column for column in found.columns if column in columns]
    found.save(update_fields=["secret", "changed_at"])
    note(member, "masked columns changed", found.key, columns=found.secret)


def set_deal(member: Membership, found: DataSet, deal: Deal) -> None:
    """How its rows are dealt. Raises DynamikosError for rules that can't be followed."""
    others = set(
        DataSet.objects.filter(project=member.project)
        .exclude(pk=found.pk)
        .values_list("key", flat=True)
    )
    if deal.follow and deal.follow not in others:
        raise DynamikosError(f"There is no data set {deal.follow} to follow.")
    if (
        deal.follow
        and DataSet.objects.filter(
            project=member.project, key=deal.follow, deal__follow=found.key
        ).exists()
    ):
        raise DynamikosError(
            f"{deal.follow} follows {found.key} already; one of the two has to lead."
        )
    unknown = next((name for name in deal.apart if name not in found.columns), None)
    if unknown is not None:
        raise DynamikosError(f"There is no column {unknown} in {found.key}.")
    found.deal = DEAL.plain(deal)
    found.save(update_fields=["deal", "changed_at"])
    note(member, "deal changed", found.key)
