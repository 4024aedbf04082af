"""Importing data sets."""

import hashlib
import zlib
from collections.abc import Callable
from pathlib import PurePath

import msgspec
from django.db import transaction

from dynamikos.core.dealing import read_csv
from dynamikos.core.journeys import key_from
from dynamikos.web.datasets.models import DataBlock, DataSet
from dynamikos.web.datasets.queries import BLOCK_ROWS
from dynamikos.web.projects.access import note
from dynamikos.web.projects.models import Membership

_encoder = msgspec.msgpack.Encoder()


def import_csv(member: Membership, data: bytes, file_name: str, progress: Callable[[float], None] = lambda share: None) -> DataSet:
    """A CSV file as a data set; one with the same key is replaced (its old blocks stay for runs that froze them).

    Raises ImportRefused; then nothing is changed.
    """
    table = read_csv(data, file_name, lambda share: progress(0.5 * share))
    key = key_from(PurePath(file_name).stem).replace("-", "_")
    hashes = []
    with transaction.atomic():
        waiting: list[DataBlock] = []
        for first in range(0, len(table.rows), BLOCK_ROWS):
            plain = _encoder.encode(table.rows[first : first + BLOCK_ROWS])
            sha256 = hashlib.sha256(plain).hexdigest()
            hashes.append(sha256)
            waiting.append(DataBlock(sha256=sha256, body=zlib.compress(plain, 1)))
            if len(waiting) == 200 or first + BLOCK_ROWS >= len(table.rows):
                DataBlock.objects.bulk_create(waiting, ignore_conflicts=True)
                waiting = []
                progress(0.5 + 0.5 * first / len(table.rows))
        made, _ = DataSet.objects.update_or_create(
            project=member.project, key=key,
            defaults={"name": file_name[:120], "columns": list(table.columns), "secret": list(table.secret), "rows": len(table.rows), "blocks": hashes},
        )  # fmt: skip
        note(member, "data set imported", key, rows=len(table.rows))
    return made


def set_secret(member: Membership, found: DataSet, columns: list[str]) -> None:
    """Which columns are masked wherever an exchange is shown."""
    found.secret = [column for column in found.columns if column in columns]
    found.save(update_fields=["secret", "changed_at"])
    note(member, "masked columns changed", found.key, columns=found.secret)
