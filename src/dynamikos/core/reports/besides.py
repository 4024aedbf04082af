"""What seconds tell besides their series, folded over shards: checks, what was under way at the end, rows dealt."""

import zlib
from collections.abc import Iterable, Sequence

import msgspec

from dynamikos.core.reports.messages import SeriesSecond, ShardSecond

Dealt = tuple[int, int, int, int, int, int]  # second, shard, number of the pile, user, round, row from 0


class Beside(msgspec.Struct, array_like=True, kw_only=True):
    """One second of the whole run. `judged`, `missed`, `carried`, `open` and `older` as in ShardSecond, added up over
    shards.
    """

    second: int
    judged: dict[int, int] = {}
    missed: dict[int, int] = {}
    carried: list[SeriesSecond] = []
    open: list[tuple[int, int]] = []
    older: dict[int, int] = {}


class Folded(msgspec.Struct, array_like=True, kw_only=True):
    """One second of the whole run: its series added up over shards and rows, and what it tells besides."""

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
        if not (message.judged or message.missed or message.carried or message.open or message.older):
            continue
        fresh = Beside(second=message.second, judged={}, missed={}, carried=[], open=[], older={})
        one = made.setdefault(message.second, fresh)
        told = ((one.judged, message.judged), (one.missed, message.missed), (one.older, message.older))
        for counts, more in told:
            for no, number in more.items():
                counts[no] = counts.get(no, 0) + number
        one.carried.extend(message.carried)
        one.open.extend(message.open)
    return [made[second] for second in sorted(made)]


def dealt_of(messages: Iterable[ShardSecond]) -> list[Dealt]:
    """Every row that was dealt, in order of second and shard."""
    ordered = sorted(messages, key=lambda message: (message.second, message.shard))
    return [(message.second, message.shard, *row) for message in ordered for row in message.dealt]


def packed(rows: list[Beside] | list[Dealt]) -> bytes:
    return zlib.compress(msgspec.msgpack.encode(rows), 1)


def packed_second(series: list[SeriesSecond], messages: Sequence[ShardSecond]) -> bytes:
    """A second whose series are folded, and what its messages tell besides."""
    beside = next(iter(besides_of(messages)), None)
    return zlib.compress(msgspec.msgpack.encode(Folded(series=series, beside=beside, dealt=dealt_of(messages))), 1)


def unpacked_second(body: bytes) -> Folded:
    return _folded.decode(zlib.decompress(body))


def unpacked_besides(body: bytes) -> list[Beside]:
    return _besides.decode(zlib.decompress(body))


def unpacked_dealt(body: bytes) -> list[Dealt]:
    return _dealt.decode(zlib.decompress(body))
