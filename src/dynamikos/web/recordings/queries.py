"""Reading recordings."""

import uuid
import zlib
from functools import lru_cache

import msgspec
from django.db.models import QuerySet
from django.shortcuts import get_object_or_404

from dynamikos.core.exchanges import Exchange
from dynamikos.core.exchanges import Recording as CoreRecording
from dynamikos.web.projects.models import Membership
from dynamikos.web.recordings.models import Recording

_decoder = msgspec.msgpack.Decoder(Exchange)


def recordings(member: Membership) -> QuerySet[Recording]:
    return Recording.objects.filter(project=member.project)


def recording(member: Membership, pk: uuid.UUID) -> Recording:
    return get_object_or_404(Recording, project=member.project, pk=pk)


def unpack(body: bytes) -> Exchange:
    return _decoder.decode(zlib.decompress(body))


@lru_cache(maxsize=256)
def exchange(recording_id: uuid.UUID, number: int) -> Exchange | None:
    """One recorded exchange; recordings never change, so it may be kept in memory."""
    row = Recording.objects.get(pk=recording_id).exchanges.filter(number=number).first()
    return None if row is None else unpack(bytes(row.body))


def as_core(found: Recording) -> CoreRecording:
    """The whole recording as a core value."""
    exchanges = tuple(unpack(bytes(body)) for body in found.exchanges.values_list("body", flat=True))
    return CoreRecording(exchanges=exchanges, pages=found.pages, creator=found.creator)
