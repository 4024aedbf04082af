"""A complete minute into chunks (fine, by second), and every tenth into blocks (fine total, coarse
by ten seconds).
"""

import zlib
from collections.abc import Iterable, Mapping, Sequence

import msgspec

from dynamikos.core.frozen import Series
from dynamikos.core.reports import SeriesSecond, ShardSecond
from dynamikos.core.reports.chunk_extras import besides_of, dealt_of, packed, packed_second
from dynamikos.core.reports.folding import (
    BY_SHARD,
    Coarse,
    Overall,
    added,
    coarse_of,
    folded,
    unpacked_coarse,
)
from dynamikos.web.runs.models import Block, Chunk, Minute, Run, Second

_encoder = msgspec.msgpack.Encoder()
_totals = msgspec.msgpack.Decoder(SeriesSecond)
Seconds = list[tuple[int, SeriesSecond]]


class Folding:
    """The seconds of one run, folded as they come and kept until their minute is whole."""

    def __init__(self, run: Run, series: Mapping[int, Series]) -> None:
        self._run, self._series = run, series
        self._over = Overall.over(tuple(series.values()))
        self._minutes: dict[int, list[ShardSecond]] = {}
        self._parts: dict[int, dict[int, Seconds]] = {}  # by minute and series

    def add(self, second: int, messages: Sequence[ShardSecond], *, write: bool = True) -> None:
        """One second of all shards; `write` it so that pages can read it at once, inside the
        caller's transaction.
        """
        series = folded(messages, self._over.of)
        self._minutes.setdefault(second // 60, []).extend(messages)
        parts = self._parts.setdefault(second // 60, {})
        for part in series:
            parts.setdefault(part.no, []).append((second, part))
        if write:
            body = packed_second(series, messages)
            Second.objects.bulk_create(
                [Second(run=self._run, second=second, body=body)], ignore_conflicts=True
            )

    @property
    def minutes(self) -> list[int]:
        """Those that are not written yet."""
        return sorted(self._minutes)

    def forget(self, minute: int) -> None:
        self._minutes.pop(minute, None)
        self._parts.pop(minute, None)

    def write(self, minute: int) -> None:
        """The chunks of `minute` and what it tells besides; with the tenth minute of a ten, its
        blocks too. Inside the caller's transaction.
        """
        messages = self._minutes.pop(minute, [])
        chunks = [
            self._chunk(no, Chunk.ALL, minute, rows)
            for no, rows in self._parts.pop(minute, {}).items()
        ]
        if len({message.shard for message in messages}) > 1:
            chunks.extend(self._of_shards(minute, messages))
        Chunk.objects.bulk_create(chunks)
        besides, dealt = packed(besides_of(messages)), packed(dealt_of(messages))
        Minute.objects.create(run=self._run, minute=minute, besides=besides, dealt=dealt)
        Second.objects.filter(run=self._run, second__lt=(minute + 1) * 60).delete()
        if minute % 10 == 9:
            write_block(self._run, minute // 10)

    def _of_shards(self, minute: int, messages: Iterable[ShardSecond]) -> Iterable[Chunk]:
        parts: dict[tuple[int, int], Seconds] = {}
        for message in messages:
            for part in message.series:
                if part.no in self._series and self._series[part.no].level in BY_SHARD:
                    parts.setdefault((part.no, message.shard), []).append((message.second, part))
        for (no, shard), rows in parts.items():
            rows.sort(key=lambda row: row[0])
            yield self._chunk(no, shard, minute, rows)

    def _chunk(self, no: int, shard: int, minute: int, rows: Seconds) -> Chunk:
        total = added([part for _, part in rows], no)
        return Chunk(
            run=self._run,
            series=no,
            shard=shard,
            minute=minute,
            seconds=zlib.compress(_encoder.encode(rows), 1),
            total=_encoder.encode(total),
            coarse=_encoder.encode(coarse_of(rows)),
        )


def write_block(run: Run, ten: int) -> None:
    """The blocks of ten minutes, from their chunks."""
    parts: dict[int, list[SeriesSecond]] = {}
    coarse: dict[int, Coarse] = {}
    chunks = Chunk.objects.filter(
        run=run, shard=Chunk.ALL, minute__gte=ten * 10, minute__lt=ten * 10 + 10
    )
    for no, total, bins in chunks.values_list("series", "total", "coarse"):
        parts.setdefault(no, []).append(_totals.decode(bytes(total)))
        coarse.setdefault(no, {}).update(unpacked_coarse(bytes(bins)))
    Block.objects.bulk_create(
        Block(
            run=run,
            series=no,
            ten_minutes=ten,
            total=_encoder.encode(added(own, no)),
            coarse=_encoder.encode(coarse[no]),
        )
        for no, own in parts.items()
    )
