"""A profile as a list of stretches: climb (linear, up or down) and hold."""

from collections.abc import Sequence
from typing import Annotated, Literal

import msgspec


class Stretch(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """`climb` goes linearly to `to` users; `hold` stays where the load is. `seconds` is how long it takes."""

    stretch: Literal["climb", "hold"]
    seconds: Annotated[float, msgspec.Meta(ge=0, le=604_800)]
    to: Annotated[int, msgspec.Meta(ge=0, le=1_000_000)] | None = None


def _edges(stretches: Sequence[Stretch]) -> list[tuple[float, float, float, float]]:
    """(begin s, end s, users at begin, users at end) of each stretch."""
    edges = []
    time, level = 0.0, 0.0
    for stretch in stretches:
        target = float(stretch.to) if stretch.stretch == "climb" and stretch.to is not None else level
        edges.append((time, time + stretch.seconds, level, target))
        time, level = time + stretch.seconds, target
    return edges


def duration_s(stretches: Sequence[Stretch]) -> float:
    """Planned length of the run in seconds."""
    return sum(stretch.seconds for stretch in stretches)


def peak(stretches: Sequence[Stretch]) -> int:
    """The most users planned at once."""
    return max((int(max(a, b) + 0.5) for _, _, a, b in _edges(stretches)), default=0)


def users_at(stretches: Sequence[Stretch], time_s: float) -> int:
    """⌊L(t)+½⌋; 0 before and after the profile."""
    if time_s < 0:
        return 0
    for begin, end, low, high in _edges(stretches):
        if time_s < end:
            return int(low + (high - low) * (time_s - begin) / (end - begin) + 0.5)
    return 0


def share_of(total: int, shard: int, shards: int) -> int:
    """How many of `total` users shard number `shard` has: the k-th, from 1, is on shard (k−1) mod shards."""
    return (total - shard + shards - 1) // shards if total > shard else 0


def start_instants_s(stretches: Sequence[Stretch]) -> list[tuple[float, float]]:
    """(start, end) in seconds for each planned user, in order of start: the k-th is active while ⌊L(t)+½⌋ ≥ k.

    A user whose load falls and rises again appears twice.
    """
    total = duration_s(stretches)
    spans: list[tuple[float, float]] = []
    open_at: dict[int, float] = {}
    for begin, end, low, high in _edges(stretches):
        first, last = int(low + 0.5), int(high + 0.5)
        if high > low:
            for k in range(first + 1, last + 1):
                at = begin + (k - 0.5 - low) / (high - low) * (end - begin)
                open_at[k] = max(begin, at)
        else:
            for k in range(first, last, -1):
                at = begin + (low - (k - 0.5)) / (low - high) * (end - begin)
                spans.append((open_at.pop(k), max(begin, at)))
    spans.extend((at, total) for at in open_at.values())
    return sorted(spans)


def measured_part_s(stretches: Sequence[Stretch]) -> tuple[float, float]:
    """(from, to) in seconds: from the end of the first climb to the beginning of a last fall; everything if that is
    empty.
    """
    edges = [edge for edge in _edges(stretches) if edge[1] > edge[0]]
    if not edges:
        return 0.0, 0.0
    begin, end = 0.0, edges[-1][1]
    if len(edges) > 1 and edges[0][3] > edges[0][2]:
        begin = edges[0][1]
    if len(edges) > 1 and edges[-1][3] < edges[-1][2]:
        end = edges[-1][0]
    return (begin, end) if end > begin else (0.0, edges[-1][1])
