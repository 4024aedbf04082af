"""What became of checks over time."""

from collections.abc import Collection
from dataclasses import dataclass

from dynamikos.core.checks import described
from dynamikos.core.frozen import CheckPlace, FrozenRun, every_check
from dynamikos.web.runs import reading
from dynamikos.web.runs.models import Run


@dataclass(frozen=True, slots=True)
class CheckLine:
    """A check over time: counts, and bars of (x, width, y of passed, height of failed) in a 300×22
    picture.
    """

    place: CheckPlace
    words: str
    passed: int
    failed: int
    bars: list[tuple[float, float, float, float]]
    heights: list[float]


BARS = 60


def checks(
    found: Run, inputs: FrozenRun, from_s: int, to_s: int, rows: Collection[str] | None = None
) -> list[CheckLine]:
    """Passed and failed per check over the window, of some rows or of all; those that failed most
    first.
    """
    places = [each for each in every_check(inputs) if rows is None or each.row in rows]
    if not places or to_s <= from_s:
        return []
    width = max(1, -(-(to_s - from_s) // BARS))
    asked: dict[int, list[int]] = {}
    missed: dict[int, list[int]] = {}
    count = -(-(to_s - from_s) // width)
    for each in reading.besides(found, from_s, to_s):
        slot = (each.second - from_s) // width
        for counts, found_now in ((asked, each.judged), (missed, each.missed)):
            for no, number in found_now.items():
                counts.setdefault(no, [0] * count)[slot] += number
    made = []
    for place in places:
        total = asked.get(place.first, [0] * count)
        failed = missed.get(place.no, [0] * count)
        if not sum(total):
            continue
        top = max(total)
        bars, heights = [], []
        for at, (n, bad) in enumerate(zip(total, failed, strict=True)):
            if n:
                high, low = 22 * (n - bad) / top, 22 * bad / top
                bars.append(
                    (
                        round(300 * at / count, 1),
                        round(300 / count - 0.5, 1),
                        round(22 - high, 1),
                        round(low, 1),
                    )
                )
                heights.append(round(high, 1))
        made.append(
            CheckLine(
                place, described(place.check), sum(total) - sum(failed), sum(failed), bars, heights
            )
        )
    return sorted(made, key=lambda line: -line.failed)
