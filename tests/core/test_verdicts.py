"""The verdict of a whole run: sentence, doubts, exit code, exports."""

import json
from unittest import TestCase
from xml.etree import ElementTree

from dynamikos.core.frozen import FrozenRun, series_of
from dynamikos.core.journeys import parse_journey
from dynamikos.core.objectives import Objective
from dynamikos.core.plans import Plan
from dynamikos.core.profiles import Stretch
from dynamikos.core.reports import Health, Ledger, SeriesSecond, ShardSecond, decode, encode
from dynamikos.core.statistics import Histogram
from dynamikos.core.verdicts import Outcome, Watching, as_json, as_junit, conclude
from dynamikos.core.verdicts.bursts import without
from dynamikos.core.verdicts.document import run_schema
from dynamikos.core.verdicts.ending import FINISHED, GENTLY, NOW, Ending
from dynamikos.engine.testing import frozen_of_one

JOURNEY = parse_journey(
    "form: 1\njourney: j\nname: J\nrounds:\n  - step: s\n    name: Step & <so>\n    requests:\n    "
    "  - {request: r,"
    ' address: "/x"}\n'
)


def outcome(
    *,
    passed_ms: int = 100,
    failed: int = 0,
    count: int = 50,
    late: int = 0,
    peak: int = 4,
    there: int = 4,
    ending: Ending = FINISHED,
    limit: float = 500,
    lost: tuple[str, ...] = (),
) -> tuple[FrozenRun, Outcome]:
    plan = Plan(
        form=2,
        plan="p",
        name="P",
        journey="j",
        environment="e",
        profile=(Stretch(stretch="climb", to=4, seconds=0), Stretch(stretch="hold", seconds=10)),
        objectives=(Objective(objective="o", measure="p95", limit=limit),),
    )
    frozen = frozen_of_one(plan, JOURNEY)
    window, whole = Ledger(series_of(JOURNEY)), Ledger(series_of(JOURNEY))
    us = passed_ms * 1000
    for second in range(10):
        parts = []
        for each in series_of(JOURNEY):
            hist = Histogram.of([us] * count).to_bytes() if count else b""
            parts.append(
                SeriesSecond(
                    no=each.no,
                    n=count,
                    sum_us=us * count,
                    squares=str(us * us * count),
                    hist=hist,
                    failed={"dns": failed} if failed else {},
                )
            )
        health = Health(late_p99_us=20_000 if second < late else 0)
        message = ShardSecond(
            shard=0,
            second=second,
            sent=count + failed,
            answered=count,
            failed=failed,
            series=parts,
            health=health,
            by_row={0: there},
        )
        for ledger in (window, whole):
            ledger.add(decode(encode(message)))
    return frozen, conclude(
        frozen, window, whole, ending=ending, in_flight=0, peak_users=peak, lost=lost
    )


class Bursts(TestCase):
    """A second after a stop in which a generator sends at once what was overdue makes the target
    really queue.
    """

    def judged(self, slow: dict[int, int], stops: dict[int, int], limit: float = 200) -> Outcome:
        """A minute of 20 exchanges of 50 ms a second, in some seconds so many more of 600 ms; stops
        in ms.
        """
        plan = Plan(
            form=2,
            plan="p",
            name="P",
            journey="j",
            environment="e",
            profile=(
                Stretch(stretch="climb", to=4, seconds=0),
                Stretch(stretch="hold", seconds=60),
            ),
            objectives=(Objective(objective="o", measure="p95", limit=limit),),
        )
        frozen, series = frozen_of_one(plan, JOURNEY), series_of(JOURNEY)
        ledger, watching, messages = Ledger(series), Watching(frozen), []
        for second in range(60):
            times = [50_000] * 20 + [600_000] * slow.get(second, 0)
            parts = [
                SeriesSecond(
                    no=each.no,
                    n=len(times),
                    sum_us=sum(times),
                    squares=str(sum(us * us for us in times)),
                    hist=Histogram.of(times).to_bytes(),
                )
                for each in series
            ]
            health = Health(stopped_max_us=1000 * stops.get(second, 0))
            message = ShardSecond(
                shard=0,
                second=second,
                sent=len(times),
                answered=len(times),
                series=parts,
                health=health,
                by_row={0: 4},
            )
            messages.append(decode(encode(message)))
            ledger.add(messages[-1])
            watching.add(second, messages[-1:])
        return conclude(
            frozen,
            ledger,
            ledger,
            ending=FINISHED,
            in_flight=0,
            peak_users=4,
            bursts=watching.bursts(60),
            calm=lambda left_out: without(messages, left_out, series, 0, 60),
        )

    def test_what_is_missed_only_with_them_is_not_judged_and_says_what_it_is_without(self) -> None:
        found = self.judged({30: 100}, {29: 800})
        self.assertEqual(found.bursts, [30])
        (judged,) = found.judgements
        self.assertEqual((judged.word, found.exit_code), ("not judged", 3))
        self.assertIn("missed only with the 1 second after a stop of a generator", judged.reason)
        self.assertIn("without: 5", judged.reason)

    def test_the_same_without_a_stop_or_what_is_missed_without_them_too_stays_missed(self) -> None:
        for slow, stops in (
            ({30: 100}, {}),
            ({30: 100}, {10: 800}),
            ({at: 5 + 95 * (at == 30) for at in range(60)}, {29: 800}),
        ):
            with self.subTest(stops=stops):
                self.assertEqual(self.judged(slow, stops).judgements[0].word, "missed")

    def test_a_limit_that_is_met_and_a_burst_of_few_change_nothing(self) -> None:
        self.assertEqual(self.judged({30: 100}, {29: 800}, limit=700).judgements[0].word, "met")
        self.assertEqual(self.judged({30: 11}, {29: 800}).bursts, [])  # not even twice as many


class Carried(TestCase):
    def test_one_that_is_not_busy_does_not_tell_its_capacity_but_how_many_users_it_carries_at_least(
        self,
    ) -> None:
        for share, capacity in ((0.01, None), (0.1, None), (0.5, 140)):
            ledger = Ledger(series_of(JOURNEY))
            for second in range(10):
                health = Health(cpu_share=share)
                ledger.add(
                    ShardSecond(
                        shard=0, second=second, users={"thinking": 20}, answered=100, health=health
                    )
                )
            self.assertAlmostEqual(ledger.processor_share, share)
            self.assertEqual(ledger.capacity_per_s, capacity)  # at 70 %
            self.assertEqual(ledger.carries, None if share < 0.02 else int(0.7 * 20 / share + 1e-9))


class Verdicts(TestCase):
    def test_exit_codes(self) -> None:
        cases = (
            ({}, 0, "The objective is met."),
            ({"limit": 50}, 1, "1 of 1 objectives missed: p95 of all steps ≤ 50 ms"),
            ({"late": 10}, 0, "The objective is met."),  # lateness by itself doubts nothing
            ({"failed": 100}, 1, "p95 of all steps ≤ 500 ms (66.7 % failed)"),
            ({"there": 3}, 3, "Not judged: met at a lower load than planned. The load was 75 %"),
            ({"there": 3, "limit": 50}, 1, "At a lower load than planned."),
            ({"lost": ("here",)}, 3, "Not judged. The generator here was lost"),
            ({"lost": ("here",), "limit": 50}, 1, "Doubted: The generator here was lost"),
            ({"count": 1, "limit": 1000}, 3, "10 samples are too few"),
            ({"ending": GENTLY}, 4, "stopped gently by hand"),
            ({"ending": NOW, "limit": 1}, 4, "stopped now by hand"),
        )
        for given, code, words in cases:
            with self.subTest(given):
                found = outcome(**given)[1]  # type: ignore[arg-type]
                self.assertEqual(found.exit_code, code, found.doubts)
                self.assertIn(words, found.sentence)

    def test_nothing_passed_is_said_to_be_the_script(self) -> None:
        found = outcome(count=0, failed=3)[1]
        self.assertIn("every failure is “dns”. This is the script", found.doubts[0])
        self.assertFalse(any("This is the script" in each for each in outcome(failed=3)[1].doubts))

    def test_counts_and_rows(self) -> None:
        found = outcome(failed=2)[1]
        self.assertEqual((found.sent, found.answered, found.failed), (520, 500, 20))
        step = next(row for row in found.rows if row.level == "step")
        self.assertEqual((step.count, step.failures, step.per_s), (520, 20, 52.0))
        self.assertAlmostEqual(step.failure_percent, 100 * 20 / 520)
        self.assertAlmostEqual(step.p95_ms, 100, delta=0.05)
        self.assertEqual(step.sd_ms, 0)

    def test_the_json_is_as_its_schema_says(self) -> None:
        import jsonschema

        schema = run_schema()
        for given in (
            {},
            {"limit": 50},
            {"failed": 100},
            {"ending": NOW},
            {"lost": ("here",)},
            {"count": 0},
        ):
            with self.subTest(given):
                frozen, found = outcome(**given)  # type: ignore[arg-type]
                value = json.loads(as_json(frozen, found))
                jsonschema.validate(value, schema)
                self.assertEqual(set(value), set(schema["$defs"]["RunDocument"]["properties"]))
        with self.assertRaises(jsonschema.ValidationError):
            jsonschema.validate({**value, "exit_code": "none"}, schema)

    def test_exports_hold_the_same(self) -> None:
        frozen, found = outcome(limit=50)
        value = json.loads(as_json(frozen, found))
        self.assertEqual(
            (value["exit_code"], value["objectives"][0]["word"], value["rows"][1]["p50_ms"] > 99),
            (1, "missed", True),
        )
        suite = ElementTree.fromstring(as_junit(frozen, found))
        self.assertEqual((suite.get("failures"), suite.get("errors")), ("1", "0"))
        self.assertEqual(suite[0].get("name"), "p95 of all steps ≤ 50 ms")
