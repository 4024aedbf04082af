"""Taking recordings in."""

import zlib
from collections.abc import Callable, Iterator

import msgspec
from django.db import transaction

from dynamikos.core.exchanges import hosts_of, read_har
from dynamikos.web.projects.access import note
from dynamikos.web.projects.bulk import copy_rows
from dynamikos.web.projects.models import Membership
from dynamikos.web.recordings.models import Recording

_encoder = msgspec.msgpack.Encoder()


def import_har(member: Membership, data: bytes, file_name: str, progress: Callable[[float], None] = lambda share: None) -> Recording:
    """A HAR file's exchanges as an untouched recording. Raises ImportRefused; then nothing is stored."""
    core = read_har(data, lambda share: progress(0.5 * share))
    total = len(core.exchanges)
    with transaction.atomic():
        made = Recording.objects.create(
            project=member.project, name=file_name[:160], creator=core.creator[:160], pages=core.pages, remarks=list(core.remarks), count=total,
            hosts=[msgspec.to_builtins(row) for row in hosts_of(core.exchanges)], imported_by=member.account,
        )  # fmt: skip

        def rows() -> Iterator[tuple[object, ...]]:
            for number, exchange in enumerate(core.exchanges):
                if number % 50 == 0:
                    progress(0.5 + 0.5 * number / total)
                yield made.pk, number, zlib.compress(_encoder.encode(exchange), 1)

        copy_rows("recordings_recordedexchange", ["recording_id", "number", "body"], ["uuid", "int4", "bytea"], rows())
        note(member, "recording imported", file_name, exchanges=total)
    return made
