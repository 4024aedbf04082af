"""What came of a run that was not so in the one before."""

from unittest import TestCase

from dynamikos.core.reports import Row
from dynamikos.core.verdicts.changes import changes_in


def row(name: str, count: int, failures: int = 0, p95_ms: float | None = 100.0) -> Row:
    share = 100 * failures / count if count else None
    return Row(
        level="step",
        step=name,
        name=name,
        count=count,
        failures=failures,
        failure_percent=share,
        timed=count - failures,
        p95_ms=p95_ms,
    )


class Changes(TestCase):
    def test_a_step_that_fails_now_and_one_that_does_no_more(self) -> None:
        before, now = (
            [row("Hold", 900), row("Find", 900, 90)],
            [row("Hold", 900, 90), row("Find", 900)],
        )
        self.assertEqual(
            list(changes_in(before, now)),
            [
                "“Hold” fails now: 10 % (0 % before)",
                "“Find” does not fail any more: 0 % (10 % before)",
            ],
        )

    def test_figures_that_doubled_and_those_that_did_not(self) -> None:
        self.assertEqual(
            list(changes_in([row("A", 500)], [row("A", 500, p95_ms=250)])),
            ["p95 of “A”: 100 → 250 ms"],
        )
        self.assertEqual(list(changes_in([row("A", 500)], [row("A", 500, p95_ms=150)])), [])
        self.assertEqual(
            list(changes_in([row("A", 30)], [row("A", 30, p95_ms=900)])), []
        )  # too few to tell

    def test_little_more_of_a_few_is_chance_and_steps_of_one_run_alone_are_none(self) -> None:
        self.assertEqual(list(changes_in([row("A", 900, 9)], [row("A", 900, 11)])), [])
        self.assertEqual(list(changes_in([row("A", 900)], [row("B", 900, 90)])), [])
        self.assertEqual(list(changes_in([row("A", 0)], [row("A", 900, 90)])), [])
