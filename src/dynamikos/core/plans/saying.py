"""A crowd's curve and levels in words."""

from collections.abc import Iterable, Iterator, Sequence

from dynamikos.core.figures import short
from dynamikos.core.plans.crowds import Crowd
from dynamikos.core.profiles import Stretch, segments
from dynamikos.core.profiles.steady import FEWEST_ROUNDS, LEVELS, SETTLES_S, STEADY_S

MOST_SAID = 12  # stretches of a curve, one by one


def curve_says(crowd: Crowd) -> str:
    """Its curve in a sentence; "" for one that has none."""
    stretches = crowd.profile
    if not stretches or not crowd.load.has_curve or crowd.load.makes_profile:
        return ""
    said = list(_stretches(stretches[:MOST_SAID], crowd.load.unit))
    left = len(stretches) - len(said)
    told = f"{', '.join(said)}{f', and {left} more stretches' if left > 0 else ''}."
    return told[0].upper() + told[1:]


def levels_say(crowds: Iterable[Crowd], round_s: float) -> Iterator[str]:
    """Of each crowd with stairs, how many of their levels are long enough for the curve of capacity
    where a round takes `round_s`, and how many it needs.
    """
    needed_s = max(SETTLES_S, 2 * round_s) + STEADY_S
    for crowd in crowds:
        if not any(each.stretch == "stairs" for each in crowd.profile):
            continue
        flat = [part for part in segments(crowd.profile) if part.low == part.high and part.low > 0]
        enough = {part.low for part in flat if part.end - part.begin >= needed_s}
        said = (
            f"{len(enough)} of {len({part.low for part in flat})} levels of load last the "
            f"{needed_s:.0f} s that one"
        )
        said += f" needs (until it is steady, and {STEADY_S:.0f} s with {FEWEST_ROUNDS} rounds)"
        can = (
            "the limit can be told"
            if len(enough) >= LEVELS
            else f"to tell the limit, {LEVELS} are needed"
        )
        yield f"{said}{':' if len(enough) >= LEVELS else ';'} {can}."


def _stretches(stretches: Sequence[Stretch], unit: str) -> Iterator[str]:
    level = 0.0
    for each in stretches:
        to = level if each.to is None else float(each.to)
        time = f"{each.seconds:g} s"
        at = f"{short(to)} {unit}"
        if each.stretch == "hold":
            yield f"{short(level)} {unit} for {time}"
        elif each.stretch == "burst":
            yield f"a jump to {at} for {time}"
            continue  # and then where it was
        elif each.stretch == "stairs":
            yield f"in {each.steps or 2} steps to {at} in {time}"
            level = to
        elif each.stretch == "drawn":
            levels = [high for _, high in each.points]
            low, high = min(levels, default=0.0), max(levels, default=0.0)
            yield f"as it is drawn between {short(low)} and {short(high)} {unit} for {time}"
            level = levels[-1] if levels else level
        elif not each.seconds:
            yield f"a jump to {at}"
            level = to
        else:
            yield f"{'up' if to >= level else 'down'} to {at} in {time}"
            level = to
