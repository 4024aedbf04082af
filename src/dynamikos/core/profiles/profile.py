"""A profile as a list of stretches: how much load there is at which second, linear between
corners.
"""

from collections.abc import Iterator, Sequence
from itertools import pairwise
from typing import Annotated, Literal, NamedTuple

import msgspec

Seconds = Annotated[float, msgspec.Meta(ge=0, le=604_800)]
Level = Annotated[float, msgspec.Meta(ge=0, le=1_000_000)]
Whole = Annotated[int, msgspec.Meta(ge=0, le=1_000_000)]
MOST_POINTS, MOST_STEPS = 10_000, 1_000


class Stretch(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True
):
    """`climb` goes linearly to `to`, up or down; `hold` stays where the load is; `stairs` goes to
    `to` in `steps` equal steps, each held; `burst` is at `to` at once, and then where it was;
    `drawn` goes through `points` of (second of the stretch, level). `seconds` is how long it takes.
    Levels are users, or arrivals or rounds in the workload's time.
    """

    stretch: Literal["climb", "hold", "stairs", "burst", "drawn"]
    seconds: Seconds
    to: Whole | Level | None = None
    steps: Annotated[int, msgspec.Meta(ge=2, le=MOST_STEPS)] | None = None
    points: Annotated[tuple[tuple[Seconds, Level], ...], msgspec.Meta(max_length=MOST_POINTS)] = ()
    name: str = ""


class Segment(NamedTuple):
    """From `low` at `begin` to `high` at `end`, in seconds, linearly; a jump where both instants
    are the same.
    """

    begin: float
    end: float
    low: float
    high: float


def segments(stretches: Sequence[Stretch]) -> list[Segment]:
    """The curve, without gaps, in order; each stretch gives one segment or more, those of no length
    too.
    """
    made: list[Segment] = []
    level = 0.0
    for stretch, (begin, end) in zip(stretches, spans(stretches), strict=True):
        corners = [(begin, level), *_corners(stretch, begin, end, level)]
        for (at, low), (then, high) in pairwise(corners):
            made.append(Segment(at, then, low, high))
        level = corners[-1][1]
    return made


def spans(stretches: Sequence[Stretch]) -> list[tuple[float, float]]:
    """(begin, end) of each stretch in seconds."""
    made, time = [], 0.0
    for stretch in stretches:
        made.append((time, time + stretch.seconds))
        time += stretch.seconds
    return made


def _corners(
    stretch: Stretch, begin: float, end: float, level: float
) -> Iterator[tuple[float, float]]:
    """(instant, level) of each corner of a stretch that begins at `level`."""
    to = level if stretch.to is None else float(stretch.to)
    if stretch.stretch == "climb":
        yield end, to
    elif stretch.stretch == "stairs":
        steps = stretch.steps or 2
        for step in range(1, steps + 1):
            high = level + (to - level) * step / steps
            yield begin + stretch.seconds * (step - 1) / steps, high
            yield begin + stretch.seconds * step / steps, high
    elif stretch.stretch == "burst":
        yield begin, to
        yield end, to
        yield end, level
    elif stretch.stretch == "drawn" and stretch.points:
        for at, height in stretch.points:
            yield begin + min(at, stretch.seconds), height
        yield end, stretch.points[-1][1]
    else:
        yield end, level


def profile_problems(stretches: Sequence[Stretch], *, only_lasts: bool = False) -> list[str]:
    """What is wrong with a profile, a sentence each; empty when nothing is. `only_lasts`: it only
    says how long.
    """
    found = []
    if not stretches:
        return ["The profile has no stretches; add one that climbs."]
    for number, stretch in enumerate(stretches, 1):
        where, kind = f"Stretch {number}", stretch.stretch
        if kind in ("climb", "stairs", "burst") and stretch.to is None:
            goes = {"climb": "climbs", "stairs": "climbs stairs", "burst": "bursts"}[kind]
            found.append(f"{where} {goes}, but says no 'to' (where it goes).")
        if kind == "stairs" and stretch.steps is None:
            found.append(f"{where} climbs stairs, but says no 'steps' (how many).")
        if kind != "stairs" and stretch.steps is not None:
            found.append(f"{where} has 'steps', which only stairs have.")
        if kind != "drawn" and stretch.points:
            found.append(f"{where} has 'points', which only a drawn one has.")
        if kind == "drawn":
            found.extend(f"{where}: {words}" for words in _point_problems(stretch))
        if kind in ("stairs", "burst", "drawn") and stretch.seconds == 0:
            found.append(f"{where} takes no time; give it seconds.")
    if duration_s(stretches) < 1:
        found.append("The profile takes less than a second: give its stretches seconds.")
    elif highest(stretches) <= 0 and not only_lasts:
        found.append("The profile never goes above zero: add a stretch that climbs.")
    return found


def _point_problems(stretch: Stretch) -> Iterator[str]:
    points = stretch.points
    if not points:
        yield "it is drawn, but has no 'points' of [second, level]."
    for number, ((before, _), (after, _)) in enumerate(pairwise(points), 2):
        if after < before:
            yield (
                f"point {number} is at second {after:g}, before the one before it ({before:g}); "
                "sort them by time."
            )
            return
    if points and points[-1][0] > stretch.seconds:
        yield (
            f"its last point is at second {points[-1][0]:g}, but it takes {stretch.seconds:g} s; "
            "make it longer."
        )


def duration_s(stretches: Sequence[Stretch]) -> float:
    """Planned length in seconds."""
    return sum(stretch.seconds for stretch in stretches)


def highest(stretches: Sequence[Stretch]) -> float:
    """The highest level."""
    return max((max(each.low, each.high) for each in segments(stretches)), default=0.0)


def peak(stretches: Sequence[Stretch]) -> int:
    """The most users planned at once."""
    return int(highest(stretches) + 0.5)


def level_at(stretches: Sequence[Stretch], time_s: float) -> float:
    """L(t); 0 before and after the profile."""
    if time_s >= 0:
        for begin, end, low, high in segments(stretches):
            if time_s < end:
                return low + (high - low) * (time_s - begin) / (end - begin)
    return 0.0


def users_at(stretches: Sequence[Stretch], time_s: float) -> int:
    """⌊L(t)+½⌋; 0 before and after the profile."""
    return int(level_at(stretches, time_s) + 0.5)


def levels_at(stretches: Sequence[Stretch], times_s: Sequence[float]) -> list[float]:
    """As `level_at`, for many instants in order, in one walk along the curve."""
    curve, at, made = segments(stretches), 0, list[float]()
    for time_s in times_s:
        while at < len(curve) and curve[at].end <= time_s:
            at += 1
        if time_s < 0 or at == len(curve):
            made.append(0.0)
            continue
        begin, end, low, high = curve[at]
        made.append(low + (high - low) * (time_s - begin) / (end - begin))
    return made


def users_by_second(stretches: Sequence[Stretch], times_s: Sequence[float]) -> list[int]:
    """As `users_at`, for many instants in order."""
    return [int(level + 0.5) for level in levels_at(stretches, times_s)]


def share_of(total: int, shard: int, shards: int) -> int:
    """How many of `total` users shard number `shard` has: the k-th, from 1, is on shard (k−1) mod
    shards.
    """
    return (total - shard + shards - 1) // shards if total > shard else 0


def user_spans_s(stretches: Sequence[Stretch]) -> list[tuple[int, float, float]]:
    """(k, start, end) in seconds for each planned user, in order of start: the k-th is there while
    ⌊L(t)+½⌋ ≥ k.

    A user whose load falls and rises again appears twice.
    """
    total = duration_s(stretches)
    made: list[tuple[int, float, float]] = []
    open_at: dict[int, float] = {}
    for begin, end, low, high in segments(stretches):
        first, last = int(low + 0.5), int(high + 0.5)
        if high > low:
            for k in range(first + 1, last + 1):
                open_at[k] = max(begin, begin + (k - 0.5 - low) / (high - low) * (end - begin))
        else:
            for k in range(first, last, -1):
                at = begin + (low - (k - 0.5)) / (low - high) * (end - begin)
                made.append((k, open_at.pop(k), max(begin, at)))
    made.extend((k, at, total) for k, at in open_at.items())
    return sorted(made, key=lambda each: (each[1], each[2], each[0]))


def start_instants_s(stretches: Sequence[Stretch]) -> list[tuple[float, float]]:
    """(start, end) in seconds for each planned user, in order of start."""
    return [(start, end) for _, start, end in user_spans_s(stretches)]


def stretched(stretches: Sequence[Stretch], levels: float, seconds: float) -> tuple[Stretch, ...]:
    """The same shape with levels and times multiplied; users stay whole."""

    return tuple(
        msgspec.structs.replace(
            each,
            to=each.to if each.to is None or levels == 1 else round(each.to * levels),
            seconds=each.seconds * seconds,
            points=tuple((at * seconds, height * levels) for at, height in each.points),
        )
        for each in stretches
    )


def measured_part_s(stretches: Sequence[Stretch]) -> tuple[float, float]:
    """(from, to) in seconds that are suggested: from the end of the first climb to the beginning of
    a last fall; everything if that is empty.
    """
    edges = [each for each in zip(stretches, spans(stretches), strict=True) if each[0].seconds > 0]
    if not edges:
        return 0.0, 0.0
    begin, end = 0.0, edges[-1][1][1]
    if len(edges) > 1 and edges[0][0].stretch == "climb" and (edges[0][0].to or 0) > 0:
        begin = edges[0][1][1]
    last, (last_begin, _) = edges[-1]
    if (
        len(edges) > 1
        and last.stretch == "climb"
        and (last.to or 0) < level_at(stretches, last_begin)
    ):
        end = last_begin
    return (begin, end) if end > begin else (0.0, edges[-1][1][1])
