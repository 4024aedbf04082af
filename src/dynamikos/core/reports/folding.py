"""Folds what generators report: added up over shards, and over the rows of a crowd that do the
same.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import msgspec
from msgspec.structs import replace

from dynamikos.core.frozen import Series
from dynamikos.core.reports.chunk_extras import Beside
from dynamikos.core.reports.ledger import OVER_ALL, SeriesTotal
from dynamikos.core.reports.messages import SeriesSecond, ShardSecond
from dynamikos.core.statistics import Histogram

COARSE_BITS = 3  # of a fine bin that a coarse one leaves out: 128 an octave, ≤ 0.4 %
COARSE_S = 10  # seconds that a coarse histogram holds
BY_SHARD = frozenset(("round", "step"))  # what is kept of each shard as well


@dataclass(frozen=True, slots=True)
class Overall:
    """Series that stand for what several rows have alike. `of` gives the number of the one that
    each belongs to.
    """

    series: tuple[Series, ...]
    of: Mapping[int, int]

    @classmethod
    def over(cls, series: Sequence[Series], after: int = -1) -> "Overall":
        """Numbered on from the last of `series`, and from `after`; what only one row has, stands
        for itself.
        """
        alike: dict[tuple[str, str, str, str], list[Series]] = {}
        for each in series:
            alike.setdefault((each.level, each.journey, each.step, each.request), []).append(each)
        made, of, number = (
            list[Series](),
            dict[int, int](),
            max([after, *(each.no for each in series)]),
        )
        for parts in alike.values():
            if len(parts) > 1:
                number += 1
                made.append(replace(parts[0], no=number, row=OVER_ALL))
                of |= {each.no: number for each in parts}
        return cls(tuple(made), of)


def added(parts: Iterable[SeriesSecond], no: int) -> SeriesSecond:
    """Seconds of series as one of series `no`."""
    total = SeriesTotal()
    total.add(*parts)
    return total.part(no)


def folded(messages: Sequence[ShardSecond], of: Mapping[int, int]) -> list[SeriesSecond]:
    """The series of one second added up over shards, and those `of` several rows over these."""
    parts: dict[int, list[SeriesSecond]] = {}
    for message in messages:
        for part in message.series:
            parts.setdefault(part.no, []).append(part)
    over: dict[int, list[SeriesSecond]] = {}
    for no, own in parts.items():
        if no in of:
            over.setdefault(of[no], []).extend(own)
    made = [own[0] if len(own) == 1 else added(own, no) for no, own in parts.items()]
    return made + [added(own, no) for no, own in over.items()]


def with_overall(beside: Beside, of: Mapping[int, int]) -> Beside:
    """What was under way at the end counts for what stands for several rows, too."""
    carried = [replace(part, no=of[part.no]) for part in beside.carried if part.no in of]
    open_ = [(of[no], age) for no, age in beside.open if no in of]
    return replace(beside, carried=[*beside.carried, *carried], open=[*beside.open, *open_])


Coarse = dict[
    int, tuple[int, int, bytes]
]  # by ten seconds: how many passed, how many failed, a coarse histogram


def coarse_of(seconds: Iterable[tuple[int, SeriesSecond]]) -> Coarse:
    """Ten by ten seconds, for drawings."""
    tens: dict[int, list[SeriesSecond]] = {}
    for second, part in seconds:
        tens.setdefault(second // COARSE_S, []).append(part)
    return {
        ten: (
            sum(part.n for part in parts),
            sum(sum(part.failed.values()) for part in parts),
            Histogram.joined(each for part in parts for each in (part.hist, part.cut_hist))
            .coarser(COARSE_BITS)
            .to_bytes(),
        )
        for ten, parts in tens.items()
    }


_coarse = msgspec.msgpack.Decoder(dict[int, tuple[int, int, bytes | dict[int, int]]])


def unpacked_coarse(body: bytes) -> Coarse:
    """Bins by themselves are what was written before histograms were."""
    return {
        ten: (passed, failed, bins if isinstance(bins, bytes) else Histogram(bins).to_bytes())
        for ten, (passed, failed, bins) in _coarse.decode(body).items()
    }


def fine(coarse: Iterable[bytes]) -> Histogram:
    """Coarse histograms added up as one of fine bins, each in the middle of where it was."""
    return Histogram.joined(coarse, COARSE_BITS)
