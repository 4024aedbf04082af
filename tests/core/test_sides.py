"""Two slices side by side: paired by what they are, those that differ most first."""

from unittest import TestCase

from dynamikos.core.frozen import Series
from dynamikos.core.reports import Ledger, SeriesSecond
from dynamikos.core.statistics import Histogram
from dynamikos.core.verdicts.sides import rows_of, side_by_side


def ledger(first_no: int, **steps: tuple[float, int, int]) -> tuple[Ledger, list[Series]]:
    """Steps by (ms of each, how many passed, how many failed), numbered from `first_no` on."""
    series = [
        Series(
            no=first_no + at, level="step", row="", journey="j", step=step, request="", name=step
        )
        for at, step in enumerate(steps)
    ]
    made = Ledger(series)
    for each, (ms, passed, failed) in zip(series, steps.values(), strict=True):
        values = [round(1000 * ms)] * passed
        squares = str(sum(value * value for value in values))
        hist, failures = Histogram.of(values).to_bytes(), {"status-500": failed} if failed else {}
        made.totals[each.no].add(
            SeriesSecond(
                no=each.no,
                n=passed,
                sum_us=sum(values),
                squares=squares,
                hist=hist,
                failed=failures,
            )
        )
    return made, series


class Sides(TestCase):
    def test_ranked_by_difference_whatever_their_numbers(self) -> None:
        a = rows_of(
            *ledger(
                0, same=(100, 900, 0), slow=(100, 900, 0), broken=(50, 900, 0), gone=(5, 10, 0)
            ),
            60,
        )
        b = rows_of(
            *ledger(
                7, broken=(50, 600, 300), same=(101, 900, 0), slow=(230, 900, 9), new=(5, 10, 0)
            ),
            60,
        )
        pairs = side_by_side(a, b)
        self.assertEqual({pair.either.step for pair in pairs[:2]}, {"gone", "new"})
        self.assertEqual([pair.either.step for pair in pairs[2:]], ["broken", "slow", "same"])
        broken, slow, same = pairs[2:]
        self.assertAlmostEqual(broken.more_failed, 100 / 3)
        self.assertAlmostEqual(slow.times_as_long or 0, 2.3, places=2)
        self.assertAlmostEqual(same.times_as_long or 0, 1.01, places=2)
        back = side_by_side(b, a)
        self.assertAlmostEqual(back[3].times_as_long or 0, 1 / 2.3, places=2)

    def test_too_few_have_no_ratio(self) -> None:
        (pair,) = side_by_side(
            rows_of(*ledger(0, s=(10, 5, 0)), 1), rows_of(*ledger(0, s=(90, 900, 0)), 1)
        )
        self.assertIsNone(pair.times_as_long)
        self.assertEqual(side_by_side({}, {}), [])
