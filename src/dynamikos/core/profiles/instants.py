"""Planned instants of arrivals and of rounds: those of a rate that changes over time."""

import itertools
import math
import random
from collections.abc import Iterable, Iterator, Sequence

from dynamikos.core.profiles.profile import Segment


def evenly() -> Iterator[float]:
    """Where the counted arrivals stand: the n-th at n − ½."""
    return (number - 0.5 for number in itertools.count(1))


def poisson(stream: random.Random) -> Iterator[float]:
    """As evenly, but of a Poisson process: sums of unit exponentials."""
    return itertools.accumulate(stream.expovariate(1.0) for _ in itertools.repeat(None))


def instants_s(
    curve: Sequence[Segment], unit_s: float, counted: Iterable[float]
) -> Iterator[float]:
    """Seconds at which Λ(t), the integral of the curve, is as far as each of `counted`, to the end
    of the curve.

    The curve is arrivals in `unit_s` seconds. Inverse of a piecewise quadratic; each is taken as it
    is needed.
    """
    numbers = iter(counted)
    wanted, done = next(numbers, math.inf), 0.0
    for begin, end, low, high in curve:
        length, slope = end - begin, 0.0
        if length <= 0:
            continue
        a, b = low / unit_s, high / unit_s
        slope = (b - a) / length
        area = (a + b) / 2 * length
        while wanted - done <= area and not math.isinf(wanted):
            yield begin + min(length, _crossing(wanted - done, a, slope))
            wanted = next(numbers, math.inf)
        done += area


def _crossing(area: float, rate: float, slope: float) -> float:
    """t with rate·t + slope·t²/2 = area, without cancellation: 2·area / (rate + √(rate² +
    2·slope·area)).
    """
    root = math.sqrt(max(0.0, rate * rate + 2 * slope * area))
    return 2 * area / (rate + root) if rate + root > 0 else 0.0


def expected(curve: Sequence[Segment], unit_s: float) -> float:
    """How many there are in all: Λ at the end."""
    return sum((each.low + each.high) / 2 * (each.end - each.begin) for each in curve) / unit_s
