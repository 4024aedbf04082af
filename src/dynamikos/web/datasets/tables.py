"""How a table's rows are kept: blocks by their hash, what was before as lists of hashes, columns
changed by rewriting every block.
"""

import contextlib
import tempfile
import uuid
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path

import msgspec
from django.conf import settings
from django.core.cache import cache
from django.db import transaction

from dynamikos import workers
from dynamikos.core.dealing import Block, Facts, Form, Rewrite, rewritten, secret_columns
from dynamikos.web.datasets import queries
from dynamikos.web.datasets.models import DataBlock, DataSet, DataState
from dynamikos.web.projects.access import note
from dynamikos.web.projects.models import Membership

Progress = Callable[[float], None]
Kept = tuple[list[str], list[int]]  # hashes of blocks, rows in each
STATES_KEPT = 50
WORK_S, WORK_MB = 300.0, 512


@transaction.atomic
def replace(
    member: Membership,
    key: str,
    name: str,
    columns: Sequence[str],
    blocks: Iterable[Block],
    form: Form,
) -> DataSet:
    """The data set `key` made of these rows; what stood there under it can be gone back to."""
    hashes, sizes = store(blocks)
    found = DataSet.objects.select_for_update().filter(project=member.project, key=key).first()
    if found is None:
        found = DataSet(project=member.project, key=key, version=0)
    else:
        remember(found, "import")
    found.name, found.columns, found.secret = (
        name[:120],
        list(columns),
        list(secret_columns(columns)),
    )
    found.form = msgspec.to_builtins(form)
    put(found, hashes, sizes)
    note(member, "data set imported", key, rows=found.rows)
    return found


def store(blocks: Iterable[Block]) -> Kept:
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


def remember(found: DataSet, label: str) -> None:
    DataState.objects.create(
        dataset=found,
        version=found.version,
        columns=found.columns,
        secret=found.secret,
        rows=found.rows,
        blocks=found.blocks,
        sizes=queries.sizes_of(found),
        label=label[:120],
    )
    for old in found.states.all()[STATES_KEPT:]:
        old.delete()


def put(found: DataSet, hashes: list[str], sizes: list[int]) -> None:
    found.blocks, found.sizes, found.rows, found.version = (
        hashes,
        sizes,
        sum(sizes),
        found.version + 1,
    )
    found.save()


@contextlib.contextmanager
def changing(member: Membership, pk: uuid.UUID, label: str) -> Iterator[DataSet]:
    """The data set to change, alone; what it was is kept under `label`."""
    with transaction.atomic():
        found = DataSet.objects.select_for_update().get(project=member.project, pk=pk)
        remember(found, label)
        yield found


# work on every row --------------------------------------------------------------------------------


def scratch() -> Path:
    """A new file of its own for what a worker reads or writes."""
    folder = Path(settings.UPLOADS)
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    handle, name = tempfile.mkstemp(".blocks", dir=folder)
    open(handle, "wb").close()
    return Path(name)


def worked(job: str, payload: bytes, progress: Progress) -> bytes:
    """A long job in a worker. Raises DynamikosError; what `progress` raises ends it."""
    return workers.call(
        job,
        payload,
        seconds=WORK_S,
        memory_mb=WORK_MB,
        progress=lambda share: progress(0.7 * share),
    )


def bodies(
    out: Path, blocks: Sequence[tuple[str, int, int]], progress: Progress
) -> Iterator[Block]:
    """What a worker wrote, block by block."""
    with out.open("rb") as file:
        for at, (sha256, rows, length) in enumerate(blocks):
            yield Block(sha256=sha256, body=file.read(length), rows=rows)
            progress(0.7 + 0.3 * at / len(blocks))


def rewrite(found: DataSet, change: Rewrite, progress: Progress) -> Kept:
    """All blocks after `change`: of a large table in a worker, so that other pages stay fast.

    Stores them; changes nothing else.
    """
    if found.rows <= queries.LARGE:
        return store(
            rewritten((queries.block(sha256) for sha256 in found.blocks), change, found.rows)
        )
    after = scratch()
    try:
        with as_file(found, progress) as (before, lengths):
            answer = worked(
                "rewrite_table",
                msgspec.msgpack.encode((str(before), lengths, found.rows, change, str(after))),
                progress,
            )
        return store(
            bodies(after, msgspec.msgpack.decode(answer, type=list[tuple[str, int, int]]), progress)
        )
    finally:
        after.unlink(missing_ok=True)


@contextlib.contextmanager
def as_file(found: DataSet, progress: Progress) -> Iterator[tuple[Path, list[int]]]:
    """All blocks one after the other in a file for a worker, and their lengths."""
    path = scratch()
    try:
        lengths = []
        with path.open("wb") as file:
            for body in queries.bodies(found.blocks):
                lengths.append(file.write(body))
                progress(0.0)
        yield path, lengths
    finally:
        path.unlink(missing_ok=True)


def count(found: DataSet, progress: Progress) -> None:
    """Counts what the columns of a large table hold, in a worker; kept until it is changed."""
    with as_file(found, progress) as (path, lengths):
        answer = worked(
            "count_table",
            msgspec.msgpack.encode((str(path), lengths, len(found.columns))),
            progress,
        )
    cache.set(
        queries.counted_at(found), msgspec.msgpack.decode(answer, type=list[Facts]), timeout=None
    )


def change_columns(
    member: Membership,
    pk: uuid.UUID,
    label: str,
    plan: Callable[[DataSet], tuple[Rewrite, str]],
    progress: Progress = lambda share: None,
) -> None:
    """What `plan` (data set → change, new column's name) says, done to every row; what was typed
    into cells meanwhile is in it.

    The rows are rewritten without holding the table; only if it was changed meanwhile are they
    rewritten once more while nobody else can.
    """
    before = DataSet.objects.get(project=member.project, pk=pk)
    change, name = plan(before)
    kept = rewrite(before, change, progress)
    with changing(member, pk, label) as found:
        if found.version != before.version:
            change, name = plan(found)
            kept = rewrite(found, change, progress)
        found.columns = change.row(list(found.columns), name)
        new = secret_columns([name]) if change.what == "insert" else ()
        found.secret = [each for each in (*found.secret, *new) if each in found.columns]
        found.deal = {
            **found.deal,
            "apart": [each for each in found.deal.get("apart", []) if each in found.columns],
        }
        put(found, *kept)
