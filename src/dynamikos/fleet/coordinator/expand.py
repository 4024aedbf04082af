"""A complete minute into chunks (fine, per second) and every tenth into blocks (fine total, coarse each 10 s)."""

import zlib
from collections.abc import Iterable

import msgspec

from dynamikos.core.reports import SeriesSecond, SeriesTotal, ShardSecond
from dynamikos.core.reports.besides import besides_of, dealt_of, packed
from dynamikos.web.runs.models import Block, Chunk, Minute, Run

_encoder = msgspec.msgpack.Encoder()
_seconds = msgspec.msgpack.Decoder(list[tuple[int, SeriesSecond]])


def write_minute(run: Run, minute: int, messages: Iterable[ShardSecond]) -> None:
    """Chunks of `minute` and what it tells besides; with the tenth minute of a ten, its blocks too. Inside the caller's
    transaction.
    """
    messages = list(messages)
    parts: dict[tuple[int, int], list[tuple[int, SeriesSecond]]] = {}
    for message in messages:
        for part in message.series:
            parts.setdefault((part.no, message.shard), []).append((message.second, part))
    chunks = []
    for (no, shard), rows in parts.items():
        rows.sort(key=lambda row: row[0])
        total = SeriesTotal()
        for _, part in rows:
            total.add(part)
        chunks.append(
            Chunk(
                run=run,
                series=no,
                shard=shard,
                minute=minute,
                seconds=zlib.compress(_encoder.encode(rows), 1),
                total=_encoder.encode(total.part(no)),
            )
        )
    Chunk.objects.bulk_create(chunks)
    Minute.objects.create(
        run=run, minute=minute, besides=packed(besides_of(messages)), dealt=packed(dealt_of(messages))
    )
    if minute % 10 == 9:
        write_block(run, minute // 10)


def write_block(run: Run, ten: int) -> None:
    """The blocks of ten minutes, from their chunks."""
    totals: dict[int, SeriesTotal] = {}
    coarse: dict[int, dict[int, dict[int, int]]] = {}
    for chunk in Chunk.objects.filter(run=run, minute__gte=ten * 10, minute__lt=ten * 10 + 10):
        for second, part in _seconds.decode(zlib.decompress(bytes(chunk.seconds))):
            single = SeriesTotal()
            single.add(part)
            totals.setdefault(chunk.series, SeriesTotal()).merge(single)
            bins = coarse.setdefault(chunk.series, {}).setdefault(second // 10, {})
            for index, count in single.passed.counts.items():
                bins[index >> 3] = bins.get(index >> 3, 0) + count
    Block.objects.bulk_create(
        Block(
            run=run,
            series=no,
            ten_minutes=ten,
            total=_encoder.encode(total.part(no)),
            coarse=zlib.compress(_encoder.encode(coarse[no]), 1),
        )
        for no, total in totals.items()
    )
