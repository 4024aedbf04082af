"""Reading data sets."""

import time
import uuid
import zlib
from collections.abc import Collection, Iterable, Iterator, Sequence

import msgspec
from django.core.cache import cache
from django.db.models import QuerySet
from django.shortcuts import get_object_or_404

from dynamikos.core.dealing import BLOCK_ROWS, Deal, Facts, count_columns, unpack
from dynamikos.core.dealing.deal import DEAL
from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms import Unfit
from dynamikos.core.frozen import DataPile
from dynamikos.web.datasets.models import DataBlock, DataSet
from dynamikos.web.projects.models import Membership, Project

Rows = list[list[str]]
LARGE = 20_000  # rows beyond which work on all of them is done in a worker, with a bar that moves


def datasets(member: Membership) -> QuerySet[DataSet]:
    return DataSet.objects.filter(project=member.project)


def dataset(member: Membership, pk: uuid.UUID) -> DataSet:
    return get_object_or_404(DataSet, project=member.project, pk=pk)


def sizes_of(found: DataSet) -> list[int]:
    """Rows of each block."""
    if found.sizes:
        return list(found.sizes)
    return [min(BLOCK_ROWS, found.rows - at * BLOCK_ROWS) for at in range(len(found.blocks))]


def place_of(found: DataSet, row: int) -> tuple[int, int]:
    """(block, row in it) of a row, all from 0; the end of the last block for a row after the
    last.
    """
    for at, size in enumerate(sizes_of(found)):
        if row < size:
            return at, row
        row -= size
    return max(0, len(found.blocks) - 1), sizes_of(found)[-1] if found.blocks else 0


def block(sha256: str) -> Rows:
    return unpack(bytes(DataBlock.objects.get(pk=sha256).body))


def bodies(hashes: Sequence[str], together: int = 50) -> Iterator[bytes]:
    """The stored bodies of blocks, in their order, some fetched at once."""
    for at in range(0, len(hashes), together):
        found = DataBlock.objects.in_bulk(hashes[at : at + together])
        yield from (bytes(found[sha256].body) for sha256 in hashes[at : at + together])


def page(found: DataSet, first: int, size: int = 50) -> Rows:
    """Rows from `first` (0-based); reads only the blocks it needs."""
    rows: Rows = []
    if first >= found.rows:
        return rows
    at, inside = place_of(found, first)
    while len(rows) < size and at < len(found.blocks):
        rows.extend(block(found.blocks[at])[inside : inside + size - len(rows)])
        at, inside = at + 1, 0
    return rows


def all_rows(found: DataSet) -> Iterator[list[str]]:
    for sha256 in found.blocks:
        yield from block(sha256)


def deal_of(found: DataSet) -> Deal:
    """How its rows are dealt. Raises DynamikosError for a deal that can't be read."""
    try:
        return DEAL.of(found.deal)
    except Unfit as problem:
        raise DynamikosError(
            f"How “{found.key}” is dealt can't be read: {problem}. It is kept as it is; its rows "
            "are untouched."
        ) from problem


def shared_piles(piles: Iterable[DataPile]) -> Iterator[tuple[str, int, bool]]:
    """(name, rows, endless) of each pile that the shards of a run must share: whole rows, and
    columns dealt on their own.
    """
    for each in piles:
        if each.deal.shared:
            yield each.key, each.rows, each.deal.endless
        alone = each.deal.alone()
        if alone.shared:
            for column in each.deal.apart:
                yield f"{each.key}.{column}", each.rows, alone.endless


def find(
    found: DataSet,
    text: str,
    after: int = 0,
    limit: int = 100,
    seconds: float = 3.0,
    but: Collection[int] = (),
) -> tuple[list[tuple[int, list[str]]], int]:
    """(rows from number `after` on that hold `text` in any case, the row looked at last): as many
    as are found in the time. Columns number `but` are not looked into.

    A block is taken apart only when its plain bytes hold the text at all.
    """
    matches: list[tuple[int, list[str]]] = []
    wanted, end, at = text.lower(), time.monotonic() + seconds, 0
    sizes = sizes_of(found)
    skipped = 0
    while skipped < len(sizes) and at + sizes[skipped] <= after:
        at, skipped = at + sizes[skipped], skipped + 1
    for size, body in zip(sizes[skipped:], bodies(found.blocks[skipped:]), strict=True):
        plain = zlib.decompress(body)
        if wanted in plain.decode("utf-8", "replace").lower():
            for number, row in enumerate(msgspec.msgpack.decode(plain, type=Rows), at):
                if number >= after and any(
                    wanted in cell.lower()
                    for at_column, cell in enumerate(row)
                    if at_column not in but
                ):
                    matches.append((number, row))
                    if len(matches) >= limit:
                        return matches, number + 1
        at += size
        if time.monotonic() > end:
            return matches, at
    return matches, found.rows


LOOKED_AT = 20_000  # rows of a table in which a recorded value is looked for


def holding(member: Membership, value: str) -> list[tuple[str, int]]:
    """("table.column", row from 1) of each column that holds exactly `value` among its first rows,
    masked ones too.
    """
    made: list[tuple[str, int]] = []
    wanted = value.encode()
    for table in datasets(member):
        at, found = 0, set[int]()
        for body in bodies(table.blocks[: LOOKED_AT // BLOCK_ROWS]):
            plain = zlib.decompress(body)
            rows = msgspec.msgpack.decode(plain, type=Rows) if wanted in plain else []
            for number, cells in enumerate(rows, at + 1):
                for index in (
                    index
                    for index, cell in enumerate(cells)
                    if cell == value and index not in found
                ):
                    found.add(index)
                    made.append((f"{table.key}.{table.columns[index]}", number))
            at += BLOCK_ROWS
    return made


def samples(member: Membership) -> dict[str, str]:
    """Every "table.column" with the value in its first row; none of masked ones."""
    made: dict[str, str] = {}
    for table in datasets(member):
        first = next(iter(page(table, 0, 1)), [""] * len(table.columns))
        made |= {
            f"{table.key}.{name}": "" if name in table.secret else cell
            for name, cell in zip(table.columns, first, strict=True)
        }
    return made


def counted_at(found: DataSet) -> str:
    return f"data-facts-{found.pk}-{found.version}"


def facts(found: DataSet) -> list[Facts] | None:
    """Of each column; None for a large table that nobody has counted since it was changed."""
    if found.rows > LARGE:
        kept: list[Facts] | None = cache.get(counted_at(found))
        return kept
    return count_columns((block(sha256) for sha256 in found.blocks), len(found.columns))


def cell(found: DataSet, row: int, column: int) -> str:
    return page(found, row, 1)[0][column]


def pile(found: DataSet) -> DataPile:
    """The data set as a run freezes it."""
    return DataPile(
        key=found.key,
        columns=tuple(found.columns),
        secret=tuple(found.secret),
        rows=found.rows,
        blocks=tuple(found.blocks),
        deal=deal_of(found),
    )


def columns_known(project: Project) -> set[str]:
    """Every "dataset.column" of a project."""
    return {
        f"{found.key}.{column}"
        for found in DataSet.objects.filter(project=project)
        for column in found.columns
    }
