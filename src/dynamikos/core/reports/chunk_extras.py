"""What seconds tell besides their series, folded over shards: checks, what was under way at the
end, rows dealt.
"""

import zlib
from collections.abc import Collection, Iterable, Sequence

import msgspec

from dynamikos.core.reports.messages import SeriesSecond, ShardSecond

Dealt = tuple[
    int, int, int, int, int, int
]  # second, shard, number of the pile, user, round, row from 0


class Beside(msgspec.Struct, array_like=True, kw_only=True):
    """One second of the whole run. `judged`, `missed`, `carried`, `open` and `older` as in
    ShardSecond, added up over shards; `whose` and `whose_open` are the shards that each of
    `carried` and `open` came from (nothing where that was not kept yet).
    """

    second: int
    judged: dict[int, int] = {}
    missed: dict[int, int] = {}
    carried: list[SeriesSecond] = []
    open: list[tuple[int, int]] = []
    older: dict[int, int] = {}
    whose: list[int] = []
    whose_open: list[int] = []


class Folded(msgspec.Struct, array_like=True, kw_only=True):
    """One second of the whole run: its series added up over shards and rows, and what it tells
    besides.
    """

    series: list[SeriesSecond] = []
    beside: Beside | None = None
    dealt: list[Dealt] = []


_folded = msgspec.msgpack.Decoder(Folded)
_besides = msgspec.msgpack.Decoder(list[Beside])
_dealt = msgspec.msgpack.Decoder(list[Dealt])


def besides_of(messages: Iterable[ShardSecond]) -> list[Beside]:
    """One for each second that has something to tell, in order."""
    made: dict[int, Beside] = {}
    for message in messages:
        if not (
            message.judged or message.missed or message.carried or message.open or message.older
        ):
            continue
        fresh = Beside(
            second=message.second,
            judged={},
            missed={},
            carried=[],
            open=[],
            older={},
            whose=[],
            whose_open=[],
        )
        one = made.setdefault(message.second, fresh)
        told = (
            (one.judged, message.judged),
            (one.missed, message.missed),
            (one.older, message.older),
        )
        for counts, more in told:
            for no, number in more.items():
                counts[no] = counts.get(no, 0) + number
        one.carried.extend(message.carried)
        one.whose.extend(message.shard for _ in message.carried)
        one.open.extend(message.open)
        one.whose_open.extend(message.shard for _ in message.open)
    return [made[second] for second in sorted(made)]


def carried_by(beside: Beside, shards: Collection[int]) -> Beside:
    """What of it was under way at the end on some shards; nothing where it was not kept whose it
    was.
    """
    of_shard = Beside(second=beside.second, carried=[], open=[])
    if len(beside.whose) == len(beside.carried) and len(beside.whose_open) == len(beside.open):
        of_shard.carried = [
            part for part, own in zip(beside.carried, beside.whose, strict=True) if own in shards
        ]
        of_shard.open = [
            each for each, own in zip(beside.open, beside.whose_open, strict=True) if own in shards
        ]
    return of_shard


def dealt_of(messages: Iterable[ShardSecond]) -> list[Dealt]:
    """Every row that was dealt, in order of second and shard."""
    ordered = sorted(messages, key=lambda message: (message.second, message.shard))
    return [(message.second, message.shard, *row) for message in ordered for row in message.dealt]


def packed(rows: list[Beside] | list[Dealt]) -> bytes:
    return zlib.compress(msgspec.msgpack.encode(rows), 1)


def packed_second(series: list[SeriesSecond], messages: Sequence[ShardSecond]) -> bytes:
    """A second whose series are folded, and what its messages tell besides."""
    beside = next(iter(besides_of(messages)), None)
    return zlib.compress(
        msgspec.msgpack.encode(Folded(series=series, beside=beside, dealt=dealt_of(messages))), 1
    )


def unpacked_second(body: bytes) -> Folded:
    return _folded.decode(zlib.decompress(body))


def unpacked_besides(body: bytes) -> list[Beside]:
    return _besides.decode(zlib.decompress(body))


def unpacked_dealt(body: bytes) -> list[Dealt]:
    return _dealt.decode(zlib.decompress(body))
