"""Seconds in which generators themselves made a burst: after a stop they send at once what was
overdue, so that the target really queues (shared design, maths: *Bursts of ours*).
"""

from collections.abc import Collection, Iterable, Mapping, Sequence

import msgspec
import numpy as np

from dynamikos.core.figures import short
from dynamikos.core.frozen import Series
from dynamikos.core.objectives import Judgement
from dynamikos.core.reports import Ledger, ShardSecond

STOP_US = 100_000  # such a stop leaves enough overdue to matter
MANY, FEWEST = 2.0, 10  # times what is usual around it, and so many exchanges more
NEAR_S = 10  # what is usual: the middle of the seconds so near
SHARE = 0.01  # of the exchanges: with more, what is missed is looked at without those seconds


def bursts(
    sent: Mapping[int, int], stopped_us: Mapping[int, int], from_s: float, to_s: float
) -> list[int]:
    """The seconds of a part of a run in which, in or after a second with a long stop, far more was
    sent than around it. Exchanges sent and the longest stops of a generator, in µs, are by second.
    """
    found = []
    for second in range(int(from_s), int(to_s)):
        if max(stopped_us.get(second, 0), stopped_us.get(second - 1, 0)) < STOP_US:
            continue
        around = [
            sent[other]
            for other in range(second - NEAR_S, second + NEAR_S + 1)
            if other != second and other in sent
        ]
        usual = float(np.median(around)) if around else 0.0
        if sent.get(second, 0) > max(MANY * usual, usual + FEWEST):
            found.append(second)
    return found


def share_of(found: Sequence[int], sent: Mapping[int, int], from_s: float, to_s: float) -> float:
    """Of all exchanges of the part those that were sent in these seconds."""
    every = sum(sent.get(second, 0) for second in range(int(from_s), int(to_s)))
    return sum(sent.get(second, 0) for second in found) / every if every else 0.0


def is_over(each: Judgement) -> bool:
    """Whether it is beyond its limit as measured over the whole of the measured part, by chance or
    not.
    """
    return not each.marks and (
        each.word == "missed" or (each.word == "not decided" and each.side == "over")
    )


def not_for_bursts(
    judged: Sequence[Judgement], without: Sequence[Judgement], seconds: int
) -> list[Judgement]:
    """What is missed, or on that side of its limit and not decided, only with the bursts is not
    judged: own doing comes before chance. `without`: the same objectives without those `seconds`.
    """
    made = []
    for each, calm in zip(judged, without, strict=True):
        turns = (
            is_over(each) and calm.word in ("met", "close", "not decided") and calm.side != "over"
        )
        if turns and each.unit in ("ms", "%") and calm.value is not None:
            reason = (
                f"missed only with the {seconds} second{'s' if seconds > 1 else ''} after a stop "
                "of a generator, which"
                f" sent at once what was overdue; without: {short(calm.value, 4)} {each.unit}"
            )
            each = msgspec.structs.replace(each, word="not judged", reason=reason)
        made.append(each)
    return made


def without(
    messages: Iterable[ShardSecond],
    left_out: Collection[int],
    series: Iterable[Series],
    from_s: float,
    to_s: float,
) -> Ledger:
    """What was reported of the measured part, without some of its seconds."""
    made = Ledger(series)
    for message in messages:
        if from_s <= message.second < to_s and message.second not in left_out:
            made.add(message, totals=True)
        made.carry(message)
    return made
