"""What is drawn of figures, against figures that were computed apart."""

from itertools import pairwise
from unittest import TestCase

import numpy as np

from dynamikos.core.reports import KeptExchange, SeriesSecond
from dynamikos.core.statistics import Histogram
from dynamikos.web.runs import drawings
from dynamikos.web.runs.reading import Strip


def total(
    took_us: list[int],
    first_us: list[int],
    *,
    connects: int = 0,
    connect_us: int = 0,
    tls_us: int = 0,
    failed: dict[str, int] | None = None,
) -> Strip:
    """Of requests that took so long, their first bytes after so long since they were sent."""
    made = Strip()
    made.add(
        [
            SeriesSecond(
                no=0,
                n=len(took_us),
                sum_us=sum(took_us),
                squares=str(sum(each * each for each in took_us)),
                hist=Histogram.of(took_us).to_bytes(),
                ttfb_hist=Histogram.of(first_us).to_bytes(),
                connects=connects,
                connect_us=connect_us,
                handshakes=connects,
                tls_us=tls_us,
                failed=failed or {},
            )
        ]
    )
    return made


class Stacked(TestCase):
    def test_parts_are_the_mean_of_the_samples_and_their_sum_is_its_mean_time(self) -> None:
        draw = np.random.default_rng(3)
        first = draw.lognormal(10, 0.3, 400).astype(int)
        connect, tls, rest = 8_000, 12_000, draw.integers(1_000, 3_000, 400)
        took = first + rest
        took[:100] += connect + tls  # a quarter of them opened a connection
        found = drawings.stacked(
            [
                (
                    0,
                    60,
                    [
                        total(
                            took.tolist(),
                            first.tolist(),
                            connects=100,
                            connect_us=100 * connect,
                            tls_us=100 * tls,
                        )
                    ],
                )
            ]
        )
        assert found is not None
        scale = 1.1 * float(took.mean()) / drawings.STACK_HEIGHT
        high = {name: height * scale for name, _, _, _, height in found.bars}
        means = {
            "connect": connect / 4,
            "ssl": tls / 4,
            "wait": float(first.mean()),
            "receive": float(rest.mean()),
        }
        for name, mean in means.items():
            self.assertAlmostEqual(high[name], mean, delta=0.002 * float(took.mean()), msg=name)
        self.assertAlmostEqual(
            sum(high.values()), float(took.mean()), delta=0.003 * float(took.mean())
        )
        tops = [(y, y + height) for _, _, y, _, height in found.bars]
        self.assertAlmostEqual(tops[0][1], drawings.STACK_HEIGHT, delta=0.11)
        for (above, _), (_, below) in pairwise(tops):
            self.assertAlmostEqual(above, below, delta=0.11)

    def test_requests_of_a_step_stand_on_each_other_and_nothing_is_no_drawing(self) -> None:
        one, other = total([10_000] * 9, [4_000] * 9), total([30_000] * 3, [25_000] * 3)
        found = drawings.stacked([(0, 10, [one, other]), (10, 20, [total([], []), total([], [])])])
        assert found is not None
        scale = 1.1 * 40_000 / drawings.STACK_HEIGHT
        self.assertEqual(
            {name: round(h * scale / 1000) for name, *_, h in found.bars},
            {"wait": 29, "receive": 11},
        )
        self.assertTrue(all(x < drawings.STACK_WIDTH / 2 for _, x, *_ in found.bars))
        self.assertIsNone(drawings.stacked([(0, 10, [total([], [])])]))


class Kinds(TestCase):
    def test_on_one_scale_the_most_frequent_first(self) -> None:
        columns = [
            {"status-500": 4},
            {},
            {"status-500": 8, "timeout-whole": 2},
            {"timeout-whole": 1},
        ]
        often, seldom = drawings.kinds_over_time(columns)
        self.assertEqual((often.kind, often.count), ("status-500", 12))
        self.assertEqual((seldom.kind, seldom.count), ("timeout-whole", 3))
        self.assertEqual([(x, h) for x, _, _, h in often.bars], [(0.0, 8.0), (150.0, 16.0)])
        self.assertEqual([(x, h) for x, _, _, h in seldom.bars], [(150.0, 4.0), (225.0, 2.0)])
        self.assertEqual(drawings.kinds_over_time([{}, {}]), [])
        many = drawings.kinds_over_time([{f"kind {n}": n + 1 for n in range(30)}])
        self.assertEqual((len(many), many[0].kind), (drawings.MOST_KINDS, "kind 29"))


class Falls(TestCase):
    def exchange(
        self, request: str, begin_ms: int, end_ms: int, wait_ms: int, **more: object
    ) -> KeptExchange:
        return KeptExchange(
            second=0,
            series=0,
            step="s",
            request=request,
            reason="followed",
            user=1,
            round=1,
            method="GET",
            url=f"http://127.0.0.1:9/{request}",
            duration_us=1000 * (end_ms - begin_ms),
            ended_us=1000 * end_ms,
            parts_us={"connect": -1, "wait": 1000 * wait_ms, "receive": 5000},
            **more,  # type: ignore[arg-type]
        )

    def test_each_from_when_it_was_due_to_its_last_byte(self) -> None:
        made = drawings.waterfall([
            (7, self.exchange("last", 1400, 2000, 500, status=500, error="it broke")),
            (3, self.exchange("first", 1000, 1100, 95)),
        ])  # fmt: skip
        assert made is not None
        first, last = made.bars
        self.assertEqual((first.number, first.is_bad, first.took_us), (3, False, 100_000))
        self.assertEqual((last.number, last.is_bad, last.took_us), (7, True, 600_000))
        per_ms = drawings.FALL_WIDTH / 1000
        self.assertEqual(
            first.parts,
            [("wait", 0.0, round(95 * per_ms, 1)), ("receive", round(95 * per_ms, 1), 2.1)],
        )
        self.assertEqual(last.parts[0], ("blocked", round(400 * per_ms, 1), round(95 * per_ms, 1)))
        end = last.parts[-1]
        self.assertAlmostEqual(end[1] + end[2], drawings.FALL_WIDTH, delta=0.2)
        self.assertEqual(made.marks[0], (0.0, "0 ms"))
        self.assertIsNone(drawings.waterfall([]))
