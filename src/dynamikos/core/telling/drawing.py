"""Lanes of a report as SVG: few points, one unit each, the measured part shaded."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from dynamikos.core.figures import clock, short
from dynamikos.core.telling.model import POINTS, Lane, Trace

WIDTH, HEIGHT, LEFT, TOP, FOOT = 900.0, 96.0, 56.0, 6.0, 16.0
STEPS_S = (1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 3600, 7200)


@dataclass(frozen=True, slots=True)
class Drawn:
    """Paths by name, marks of both axes as (place, text), the measured part as (x, width), and the
    limit's height.
    """

    title: str
    unit: str
    paths: list[tuple[str, str]]
    rows: list[tuple[float, str]]
    columns: list[tuple[float, str]]
    measured: tuple[float, float]
    limit: tuple[float, str] | None
    says: str


def drawn(lane: Lane, seconds: int, measured: tuple[float, float], begin: int = 0) -> Drawn:
    """From second `begin` to the last before `seconds`, from 0 to the highest value."""
    parts = [(name, values[begin:seconds]) for name, values in lane.lines]
    every = [values[~np.isnan(values)] for _, values in parts]
    most = max([float(each.max()) for each in every if len(each)] + [lane.limit or 0.0])
    top = round_up(most)
    span = max(1, seconds - begin)

    def x(second: float) -> float:
        return round(LEFT + (WIDTH - LEFT) * min(1.0, max(0.0, second / span)), 1)

    def y(value: float) -> float:
        return round(TOP + HEIGHT * (1 - min(1.0, value / top)), 1)

    step = next((each for each in STEPS_S if span / each <= 10), STEPS_S[-1])
    return Drawn(
        title=lane.title,
        unit=lane.unit,
        paths=[(name, _path(values, x, y)) for name, values in parts],
        rows=[(y(top * part), f"{top * part:g}") for part in (0, 0.5, 1)],
        columns=[
            (x(at - begin), clock(at))
            for at in range(-(-begin // step) * step, begin + span + 1, step)
        ],
        measured=(
            x(measured[0] - begin),
            round(x(measured[1] - begin) - x(measured[0] - begin), 1),
        ),
        limit=None if lane.limit is None else (y(lane.limit), f"{lane.limit:g} {lane.unit}"),
        says=f"{lane.title}, highest {short(most)} {lane.unit}".strip(),
    )


def round_up(value: float) -> float:
    """The end of an axis from 0 that holds a value; of one on which nothing is but zeros, 1."""
    if value <= 0:
        return 1.0
    unit = 10.0 ** math.floor(math.log10(value))
    return next(
        step * unit for step in (1, 1.5, 2, 2.5, 3, 5, 7.5, 10) if step * unit >= value * 0.999
    )


def round_marks(most: float, fewest: int = 3) -> list[float]:
    """Round figures above 0, at least so many up to `most`."""
    power = 10.0 ** math.floor(math.log10(most))
    step = next(each * power for each in (1, 0.5, 0.2, 0.1) if most // (each * power) >= fewest)
    return [float(f"{step * at:.6g}") for at in range(1, int(most // step) + 1)]


def path(line: Sequence[tuple[float, float] | None]) -> str:
    """An SVG path that is broken where there is nothing."""
    made, is_down = [], False
    for point in line:
        if point is None:
            is_down = False
            continue
        made.append(f"{'L' if is_down else 'M'}{point[0]:.1f} {point[1]:.1f}")
        is_down = True
    return "".join(made)


def _path(values: Trace, x, y) -> str:  # type: ignore[no-untyped-def]
    """Where there are more than POINTS, the mean of so many seconds; a gap stays one."""
    width = max(1, -(-len(values) // POINTS))
    parts: list[str] = []
    is_on = False
    for begin in range(0, len(values), width):
        inside = values[begin : begin + width]
        inside = inside[~np.isnan(inside)]
        if not len(inside):
            is_on = False
            continue
        parts.append(f"{'L' if is_on else 'M'}{x(begin + width / 2)} {y(float(inside.mean()))}")
        is_on = True
    return "".join(parts)


def ribbon(
    marks: Sequence[object], measured: tuple[float, float]
) -> list[tuple[float, float, str]]:
    """(x, width, word) of an objective's intervals on a line of 300."""
    span = max(1.0, measured[1] - measured[0])
    return [
        (
            round(300 * (each.from_s - measured[0]) / span, 1),  # type: ignore[attr-defined]
            max(0.6, round(300 * (each.to_s - each.from_s) / span - 0.5, 1)),  # type: ignore[attr-defined]
            each.word.replace(" ", "-"),  # type: ignore[attr-defined]
        )
        for each in marks
    ]
