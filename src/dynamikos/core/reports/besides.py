"""What seconds tell besides their series, folded over shards: checks, what was under way at the end, rows dealt."""

import zlib
from collections.abc import Iterable

import msgspec

from dynamikos.core.reports.messages import SeriesSecond, ShardSecond

Dealt = tuple[int, int, int, int, int, int]  # second, shard, number of the pile, user, round, row from 0


class Beside(msgspec.Struct, array_like=True, kw_only=True):
    """One second of the whole run. `judged`, `missed`, `carried` and `open` as in ShardSecond, added up over shards."""

    second: int
    judged: dict[int, int] = {}
    missed: dict[int, int] = {}
    carried: list[SeriesSecond] = []
    open: list[tuple[int, int]] = []


_besides = msgspec.msgpack.Decoder(list[Beside])
_dealt = msgspec.msgpack.Decoder(list[Dealt])


def besides_of(messages: Iterable[ShardSecond]) -> list[Beside]:
    """One for each second that has something to tell, in order."""
    made: dict[int, Beside] = {}
    for message in messages:
        if not (message.judged or message.missed or message.carried or message.open):
            continue
        one = made.setdefault(message.second, Beside(second=message.second, judged={}, missed={}, carried=[], open=[]))
        for counts, more in ((one.judged, message.judged), (one.missed, message.missed)):
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


def unpacked_besides(body: bytes) -> list[Beside]:
    return _besides.decode(zlib.decompress(body))


def unpacked_dealt(body: bytes) -> list[Dealt]:
    return _dealt.decode(zlib.decompress(body))
