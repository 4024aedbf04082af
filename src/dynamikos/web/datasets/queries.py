"""Reading data sets."""

import uuid
import zlib
from collections.abc import Iterator

import msgspec
from django.db.models import QuerySet
from django.shortcuts import get_object_or_404

from dynamikos.core.frozen import DataPile
from dynamikos.web.datasets.models import DataBlock, DataSet
from dynamikos.web.projects.models import Membership, Project

BLOCK_ROWS = 1000
Rows = list[list[str]]


def datasets(member: Membership) -> QuerySet[DataSet]:
    return DataSet.objects.filter(project=member.project)


def dataset(member: Membership, pk: uuid.UUID) -> DataSet:
    return get_object_or_404(DataSet, project=member.project, pk=pk)


def block(sha256: str) -> Rows:
    body = DataBlock.objects.get(pk=sha256).body
    return msgspec.msgpack.decode(zlib.decompress(bytes(body)), type=Rows)


def page(found: DataSet, first: int, size: int = 50) -> Rows:
    """Rows from `first` (0-based); reads only the blocks it needs."""
    rows: Rows = []
    at = first
    while len(rows) < size and at < found.rows:
        inside = at % BLOCK_ROWS
        part = block(found.blocks[at // BLOCK_ROWS])[inside : inside + size - len(rows)]
        rows.extend(part)
        at += len(part)
    return rows


def all_rows(found: DataSet) -> Iterator[list[str]]:
    for sha256 in found.blocks:
        yield from block(sha256)


def pile(found: DataSet) -> DataPile:
    """The data set as a run freezes it."""
    return DataPile(key=found.key, columns=tuple(found.columns), secret=tuple(found.secret), rows=found.rows, blocks=tuple(found.blocks))


def columns_known(project: Project) -> set[str]:
    """Every "dataset.column" of a project."""
    return {f"{found.key}.{column}" for found in DataSet.objects.filter(project=project) for column in found.columns}
