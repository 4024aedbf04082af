"""A profile that is changed while it runs: held, gone on with, raised or lowered from a second
on.
"""

from collections.abc import Sequence
from typing import Annotated, Literal

import msgspec

from dynamikos.core.profiles.profile import Segment, Stretch, segments

HELD_S = 604_800.0  # as long as a hold is when nobody has said yet that it goes on
Verb = Literal["hold", "go on", "change"]


class Change(msgspec.Struct, frozen=True, kw_only=True):
    """From second `at_s` of the run on the load is held, goes on, or is what is left times
    `factor`.
    """

    at_s: Annotated[int, msgspec.Meta(ge=0)]
    verb: Verb
    factor: Annotated[float, msgspec.Meta(ge=0, le=100)] = 1.0


def changed(
    stretches: Sequence[Stretch], changes: Sequence[Change], starts_s: float = 0.0
) -> tuple[Stretch, ...]:
    """The profile that `changes`, in order, make of one that begins at second `starts_s` of the
    run. Until the first of them it is what it was, so that what was planned by then stays as it
    was.
    """
    rest = [each for each in segments(stretches) if each.end > each.begin]
    rest = [
        Segment(each.begin + starts_s, each.end + starts_s, each.low, each.high) for each in rest
    ]
    made: list[Segment] = []
    now, holding = 0.0, False
    for each in changes:
        until = float(each.at_s)
        if until > now:
            _play(made, rest, now, until, holding=holding)
            now = until
        if each.verb == "hold":
            holding = True
        elif each.verb == "go on":
            holding = False
        else:
            rest = [
                Segment(one.begin, one.end, one.low * each.factor, one.high * each.factor)
                for one in rest
            ]
            if holding and made and rest:
                made.append(Segment(now, now, made[-1].high, made[-1].high * each.factor))
    if holding and rest:
        _play(made, rest, now, now + HELD_S, holding=True)
    made.extend(rest)
    return _stretches(made, starts_s)


def _play(
    made: list[Segment], rest: list[Segment], now: float, until: float, *, holding: bool
) -> None:
    """Moves what is played from `now` to `until` from `rest` to `made`. What is held is put
    between, and delays the rest; before the profile begins nothing is held, only delayed, and after
    its end nothing at all.
    """
    if holding:
        length = until - now
        if made and rest:
            made.append(Segment(now, until, made[-1].high, made[-1].high))
        rest[:] = [Segment(one.begin + length, one.end + length, one.low, one.high) for one in rest]
        return
    while rest and rest[0].begin < until:
        one = rest.pop(0)
        if one.end <= until:
            made.append(one)
            continue
        level = one.low + (one.high - one.low) * (until - one.begin) / (one.end - one.begin)
        made.append(Segment(one.begin, until, one.low, level))
        rest.insert(0, Segment(until, one.end, level, one.high))


def _stretches(curve: Sequence[Segment], starts_s: float) -> tuple[Stretch, ...]:
    """Climbs through the corners of a curve; those of no length are jumps."""
    made: list[Stretch] = []
    level, now = 0.0, starts_s
    for each in curve:
        if each.begin > now:  # it begins later than it was planned to
            made.append(Stretch(stretch="hold", seconds=each.begin - now))
        if each.low != level:
            made.append(Stretch(stretch="climb", to=each.low, seconds=0))
        if each.end > each.begin or each.high != each.low:
            made.append(Stretch(stretch="climb", to=each.high, seconds=each.end - each.begin))
        level, now = each.high, each.end
    return tuple(made)


def delayed(second: float, changes: Sequence[Change]) -> float:
    """When what was planned for `second` of the run is, after holds that delay it."""
    begun: int | None = None
    for each in changes:
        if each.verb == "hold" and begun is None:
            begun = each.at_s
        elif each.verb == "go on" and begun is not None:
            if second > begun:
                second += each.at_s - begun
            begun = None
    return second + HELD_S if begun is not None and second > begun else second
