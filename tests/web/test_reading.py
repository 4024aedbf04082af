"""Windows, slices and lines of a run of three rows on two generators, against its samples one by
one.
"""

import datetime
import html
import math
import random
import re
from collections import Counter
from typing import Any
from urllib.parse import parse_qsl

import numpy as np
from django.utils import timezone
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen import canonical, every_series
from dynamikos.core.personas import Persona
from dynamikos.core.plans import Crowd, CrowdRow
from dynamikos.core.profiles import Stretch
from dynamikos.core.reports import KeptExchange, SeriesSecond, ShardSecond, encode, pack_kept
from dynamikos.core.reports.by_value import ByValue, OfMany, OfValue
from dynamikos.core.statistics import Histogram, bucket_of
from dynamikos.fleet.coordinator.noticing import expire
from dynamikos.fleet.coordinator.watch import RunWatch
from dynamikos.web.casebook.pins.runs import steps, values
from dynamikos.web.casebook.pins.seen import Seen
from dynamikos.web.runs import actions, by_value, queries, reading
from dynamikos.web.runs.models import Kept, Report, Run, Second, Shard
from tests.web.support import Sample, TestCase
from tests.web.test_runs import generator

SECONDS, MEASURED = 665, (0, 664)
LATE_US = 9_000_000  # of what was under way at the end of the measured part
TERMS, FIRST_FAILS_S = ("lyra", "cygnus", "vega"), 25
Samples = dict[tuple[int, int], list[tuple[int, int]]]  # by shard and series: (second, µs)


class Reading(TestCase):
    samples: Samples
    wrong: Samples  # of those that failed
    dealt: list[tuple[int, int, str]]  # shard, second, value
    failures: list[tuple[int, int, int, str]]  # shard, second, series, value

    @classmethod
    def setUpTestData(cls) -> None:
        generator()
        cls.sample = Sample()
        run = actions.start(cls.sample.member, cls.sample.plan)
        inputs = queries.frozen(run)
        key = inputs.journey.journey
        short = replace(inputs.journey, opening=(), rounds=inputs.journey.rounds[:3], closing=())
        persona = {"left": "calm", "right": "calm"}
        rows = tuple(
            CrowdRow(row=name, journey=key, persona=persona.get(name, ""))
            for name in ("left", "middle", "right")
        )
        profile = (Stretch(stretch="burst", to=6, seconds=SECONDS),)
        inputs = replace(
            inputs,
            journeys={key: short},
            personas={"calm": Persona(form=1, persona="calm", name="Calm ones")},
            crowds=(Crowd(crowd="c", profile=profile, rows=rows),),
            measured=MEASURED,
        )
        run.frozen = canonical(inputs)
        run.state, run.begins_at = "running", timezone.now()
        run.save()
        cls.inputs, cls.series = inputs, every_series(inputs)
        draw = random.Random(11)
        cls.samples, cls.wrong, cls.dealt, cls.failures = {}, {}, [], []
        reports = []
        for number in range(2):
            shard = Shard.objects.create(
                run=run, number=number, generator_name=f"g{number}", state="running"
            )
            for second in range(SECONDS):
                parts = [cls.part(number, each.no, second, draw) for each in cls.series]
                message = ShardSecond(
                    shard=number, second=second, series=parts, judged={0: 1}, missed={0: second % 2}
                )
                cls.one_fails(number, second)
                if second > FIRST_FAILS_S and second % 10 == 9:
                    message.by_value = cls.told(number)
                if second == SECONDS - 1:  # after the measured part
                    of_step = next(each for each in cls.series if each.level == "step").no
                    message.carried = [cls.of_values(of_step, [LATE_US] * (1 + number))]
                    message.open = [(of_step, 7_000_000)] * (2 + number)
                reports.append(Report(shard=shard, second=second, body=encode(message)))
        Report.objects.bulk_create(reports)
        RunWatch(Run.objects.get(pk=run.pk)).look(may_judge_lost=False)
        cls.run_pk = run.pk
        for at, row in enumerate(("left", "middle", "right")):
            of_row = next(
                each for each in cls.series if each.row == row and each.level == "request"
            )
            kept = KeptExchange(
                second=100,
                series=of_row.no,
                step=of_row.step,
                request=of_row.request,
                reason="failed: status",
                user=1,
                round=1,
                method="GET",
                url="http://127.0.0.1/",
                status=500,
            )
            Kept.objects.create(
                run=run,
                shard=0,
                sequence=at,
                second=100,
                series=of_row.no,
                reason=kept.reason,
                user=1,
                round=1,
                body=pack_kept(kept),
            )

    @classmethod
    def one_fails(cls, shard: int, second: int) -> None:
        """A row is dealt and, now and then, fails."""
        draw = random.Random(f"{shard}.{second}")
        cls.dealt += [(shard, second, term) for term in draw.choices(TERMS, k=3)]
        asked = [each.no for each in cls.series if each.level == "request"]
        if second >= FIRST_FAILS_S and draw.random() < 0.5:
            cls.failures.append((shard, second, draw.choice(asked), draw.choice(TERMS)))

    @classmethod
    def told(cls, shard: int) -> ByValue:
        """All of a shard so far, by a column of few values and one of many."""
        dealt = Counter(term for number, _, term in cls.dealt if number == shard)
        failed = Counter((term, no) for number, _, no, term in cls.failures if number == shard)
        by_term = {
            term: {no: count for (each, no), count in failed.items() if each == term}
            for term in TERMS
        }
        many = Counter(no for number, _, no, _ in cls.failures if number == shard)
        return ByValue(
            values=[
                OfValue(name="t.term", value=each, dealt=dealt[each], failed=by_term[each])
                for each in TERMS
            ],
            many=[
                OfMany(name="t.id", series=no, failed=count, values=9, most=2)
                for no, count in many.items()
            ],
        )

    @classmethod
    def part(cls, shard: int, no: int, second: int, draw: random.Random) -> SeriesSecond:
        values = [int(draw.lognormvariate(10.5, 0.8)) for _ in range(draw.randrange(3))]
        cls.samples.setdefault((shard, no), []).extend((second, value) for value in values)
        failed = {"status 500": 1} if draw.random() < 0.1 else {}
        wrong = [int(draw.lognormvariate(8, 0.5)) for _ in failed]
        cls.wrong.setdefault((shard, no), []).extend((second, value) for value in wrong)
        return replace(
            cls.of_values(no, values), failed=failed, failed_hist=Histogram.of(wrong).to_bytes()
        )

    @staticmethod
    def of_values(no: int, values: list[int]) -> SeriesSecond:
        squares = str(sum(value * value for value in values))
        hist = Histogram.of(values).to_bytes()
        return SeriesSecond(no=no, n=len(values), sum_us=sum(values), squares=squares, hist=hist)

    def found(self) -> Run:
        return Run.objects.get(pk=self.run_pk)

    def test_failures_by_value_follow_the_window_the_rows_and_the_generators(self) -> None:
        """Against counting what failed one by one."""
        of = {each.no: each for each in self.series}
        for begin, end, rows, shards, counted in (
            (0, SECONDS, None, None, (0, SECONDS)),
            (37, 112, None, None, (30, 120)),
            (0, 20, None, None, (0, 20)),
            (40, 90, {"left"}, None, (40, 90)),
            (5, 58, None, [1], (0, 60)),
            (600, 640, None, None, (600, 660)),
            (615, 700, {"middle", "right"}, [0], (600, SECONDS)),
            (10, 50, None, None, (10, 50)),
        ):
            found = by_value.failures(self.found(), self.inputs, begin, end, rows, shards)
            self.assertEqual((found.from_s, found.to_s), counted)
            until = (
                SECONDS - SECONDS % 10 if counted[1] == SECONDS else counted[1]
            )  # the newest that was told
            expected = Counter(
                (of[no].step, of[no].request, term)
                for shard, second, no, term in self.failures
                if counted[0] <= second < until and (rows is None or of[no].row in rows)
                and (shards is None or shard in shards)
            )  # fmt: skip
            told = {
                (*each.asked[1:], each.value): each.failed
                for each in found.values
                if not each.is_many
            }
            self.assertEqual(told, dict(expected))
            many = {each.asked[1:]: each.of for each in found.values if each.is_many}
            self.assertEqual(sum(many.values()), sum(expected.values()))
            has_values = {bool(each.values) for each in found.values if each.is_many}
            self.assertEqual(has_values, {counted[0] == 0} if expected else set())
            dealt = Counter(
                term for shard, second, term in self.dealt
                if counted[0] <= second < until and (shards is None or shard in shards)
            )  # fmt: skip
            is_known = counted[0] == 0 or counted[0] > FIRST_FAILS_S
            self.assertEqual(
                {(each.value, each.dealt) for each in found.values if not each.is_many},
                {(term, dealt[term] if is_known else 0) for _, _, term in expected},
            )

    def test_pinned_failures_by_value_are_those_of_the_window_and_the_slice(self) -> None:
        of = {"run": str(self.run_pk), "from": "605", "to": "650", "row": "left", "generator": "1"}
        told = values(Seen(self.sample.member.project, of))
        left = {each.no for each in self.series if each.row == "left"}
        failed = sum(
            1
            for shard, second, no, _ in self.failures
            if shard == 1 and 600 <= second < 660 and no in left
        )
        self.assertEqual(sum(int(row[3]) for row in told.tables[0].rows if row[2] in TERMS), failed)
        self.assertIn("counted from second 600 to 660", told.where)
        self.assertIn("g1 only", told.where)

    def values(
        self, numbers: set[int], begin: int, end: int, shards: tuple[int, ...] = (0, 1)
    ) -> Any:
        return np.array(
            [v for (shard, no), rows in self.samples.items() if no in numbers and shard in shards
             for second, v in rows if begin <= second < end]
        )  # fmt: skip

    def same(self, row: Any, values: Any) -> None:
        """Counts exact, percentiles within 0.1 % of the nearest rank."""
        self.assertEqual(row.count - row.failures, len(values))
        if not len(values):
            self.assertIsNone(row.mean_ms)
            return
        self.assertAlmostEqual(row.mean_ms, values.mean() / 1000, 9)
        self.assertAlmostEqual(row.sd_ms, values.std() / 1000, 6)
        for percent, found in (
            (50, row.p50_ms),
            (90, row.p90_ms),
            (95, row.p95_ms),
            (99, row.p99_ms),
        ):
            exact = np.sort(values)[math.ceil(percent / 100 * len(values)) - 1] / 1000
            if found is not None:
                self.assertLess(abs(found - exact), 0.001 * exact + 1e-9)

    def test_of_everybody_and_of_each_row_in_any_window(self) -> None:
        found = self.found()
        alike = {
            each.no: {
                other.no
                for other in self.series
                if (other.level, other.step, other.request) == (each.level, each.step, each.request)
            }
            for each in self.series
        }
        first = {(each.level, each.step, each.request): each.no for each in reversed(self.series)}
        for begin, end in ((0, SECONDS), (33, 571), (119, 121), (600, 665), (630, 664), (0, 5000)):
            for row in (None, "middle"):
                ledger = queries.window(found, self.inputs, begin, end, row)
                shown = reading.shown_series(self.inputs, row)
                self.assertEqual(len(shown), len(self.series) / 3)
                with self.subTest(begin=begin, end=end, row=row):
                    for step, below in queries.table(ledger, shown, end - begin, "", True):
                        for each in (step, *below):
                            every = alike[first[(each.level, each.step, each.request)]]
                            numbers = every if row is None else {each.no}
                            self.same(each, self.values(numbers, begin, end))
                    rounds = self.values({each.no for each in self.series if each.level == "round"
                                          and row in (None, each.row)}, begin, end)  # fmt: skip
                    self.assertEqual(queries.rounds(ledger, row)[0], len(rounds))

    def test_of_all_rows_of_a_persona(self) -> None:
        found = self.found()
        self.assertEqual(
            [key for key, _ in reading.slices_of(self.inputs)], ["left", "middle", "right", "@calm"]
        )
        for begin, end in ((0, SECONDS), (33, 571), (630, 664)):
            ledger = queries.window(found, self.inputs, begin, end, "@calm")
            shown = reading.shown_series(self.inputs, "@calm")
            self.assertEqual(len(shown), len(self.series) / 3)
            for step, below in queries.table(ledger, shown, end - begin, "", True):
                for each in (step, *below):
                    numbers = {
                        other.no
                        for other in self.series
                        if other.row in ("left", "right")
                        and (other.level, other.step, other.request)
                        == (each.level, each.step, each.request)
                    }
                    self.same(each, self.values(numbers, begin, end))
            rounds = {
                each.no for each in self.series if each.level == "round" and each.row != "middle"
            }
            told = queries.rounds(ledger, "@calm", {"left", "right"})[0]
            self.assertEqual(told, len(self.values(rounds, begin, end)))
        step = next(
            each for each in reading.shown_series(self.inputs, "@calm") if each.level == "step"
        )
        one = queries.of_generators(found, self.inputs, (1,), 60, 660, "@calm")
        numbers = {each.no for each in self.series if (each.level, each.step) == ("step", step.step)
                   and each.row != "middle"}  # fmt: skip
        self.assertEqual(one.totals[step.no].passed.n, len(self.values(numbers, 60, 660, (1,))))

    def test_of_all_rows_of_a_journey(self) -> None:
        Run.objects.update(state="ended")
        run = actions.start(self.sample.member, self.sample.plan)
        key = self.inputs.journey.journey
        short = self.inputs.journeys[key]
        other = replace(short, journey="other", name="Other ones")
        rows = tuple(
            CrowdRow(row=name, journey=journey)
            for name, journey in zip("abc", (key, "other", key), strict=True)
        )
        crowd = Crowd(crowd="c", profile=(Stretch(stretch="burst", to=6, seconds=130),), rows=rows)
        inputs = replace(
            self.inputs,
            journeys={key: short, "other": other},
            crowds=(crowd,),
            measured=(0.0, 130.0),
        )
        Run.objects.filter(pk=run.pk).update(
            frozen=canonical(inputs), state="running", begins_at=timezone.now()
        )
        for number in range(2):
            shard = Shard.objects.create(
                run=run, number=number, generator_name=f"g{number}", state="running"
            )
            for second in range(130):
                parts = [
                    self.of_values(each.no, [1000 * (1 + each.no)]) for each in every_series(inputs)
                ]
                body = encode(ShardSecond(shard=number, second=second, series=parts))
                Report.objects.create(shard=shard, second=second, body=body)
        RunWatch(Run.objects.get(pk=run.pk)).look(may_judge_lost=False)
        found = Run.objects.get(pk=run.pk)
        self.assertEqual(
            [named for named, _ in reading.slices_of(inputs)], ["a", "b", "c", f"~{key}"]
        )
        shown = reading.shown_series(inputs, f"~{key}")
        self.assertEqual({each.journey for each in shown}, {key})
        for ledger, each_s in (
            (queries.window(found, inputs, 10, 120, f"~{key}"), 4),  # two rows on two generators
            (queries.of_generators(found, inputs, (1,), 10, 120, f"~{key}"), 2),
        ):
            step = next(each for each in shown if each.level == "step")
            self.assertEqual(ledger.totals[step.no].passed.n, 110 * each_s)
            self.assertEqual(queries.rounds(ledger, f"~{key}", {"a", "c"})[0], 110 * each_s)
        self.client.force_login(self.sample.accounts["bran"])
        page = self.client.get(
            self.sample.address(f"runs/{run.pk}/tables?from=10&to=120&row=~{key}")
        )
        self.assertContains(page, f"all of {short.name}")
        self.assertEqual({step.count for step, _ in page.context["rows"]}, {440})
        self.assertNotContains(page, "Other ones:")

    def test_times_of_what_failed(self) -> None:
        ledger = queries.window(self.found(), self.inputs, 0, SECONDS, "middle")
        shown = reading.shown_series(self.inputs, "middle")
        for step, _ in queries.table(ledger, shown, SECONDS, "", True, of_failed=True):
            values = np.array(
                [v for (_, no), rows in self.wrong.items() if no == step.no for _, v in rows]
            )
            self.assertEqual(step.failures, len(values))
            exact = np.sort(values)[math.ceil(0.5 * len(values)) - 1] / 1000
            self.assertLess(abs((step.p50_ms or 0) - exact), 0.001 * exact + 1e-9)
            self.assertEqual((step.mean_ms, step.sd_ms), (None, None))

    def test_slices_by_persona_and_outcome_on_the_pages(self) -> None:
        found = self.found()
        self.client.force_login(self.sample.accounts["bran"])
        page = self.client.get(
            self.sample.address(f"runs/{found.pk}/tables?from=0&to=600&row=@calm&outcome=failed")
        )
        self.assertContains(page, "all Calm ones")
        self.assertContains(page, "Times are those of failed ones")
        self.assertContains(page, "Times of what passed")
        address = self.sample.address(f"runs/{found.pk}/sides")
        sides = self.client.get(
            address, {"a-row": "@calm", "b-row": "middle", "b-outcome": "failed"}
        )
        self.assertContains(sides, "all Calm ones")
        failed = {
            each.either.step: each.b
            for each in sides.context["pairs"]
            if each.either.level == "step"
        }
        self.assertTrue(all(each.mean_ms is None and each.count for each in failed.values()))
        self.assertEqual(self.client.get(address, {"a-row": "@nobody"}).status_code, 200)

    def test_of_one_generator(self) -> None:
        step = next(each for each in self.series if each.level == "step")
        ledger = reading.window(self.found(), [step], 60, 660, (1,))
        self.assertEqual(
            ledger.totals[step.no].passed.n, len(self.values({step.no}, 60, 660, (1,)))
        )

    def test_the_table_of_one_generator(self) -> None:
        found = self.found()
        ledger = queries.of_generators(found, self.inputs, (1,), 60, 660)
        shown = [each for each in reading.shown_series(self.inputs) if each.level == "step"]
        for each in shown:
            numbers = {
                other.no
                for other in self.series
                if (other.level, other.step) == ("step", each.step)
            }
            self.assertEqual(
                ledger.totals[each.no].passed.n, len(self.values(numbers, 60, 660, (1,)))
            )
        rounds = {each.no for each in self.series if each.level == "round"}
        self.assertEqual(queries.rounds(ledger)[0], len(self.values(rounds, 60, 660, (1,))))
        # what was under way at the end counts where it was: all generators come to the whole
        every = [
            queries.of_generators(found, self.inputs, shards, *MEASURED)
            for shards in ((0,), (1,), (0, 1))
        ]
        whole = queries.window(found, self.inputs, *MEASURED)
        late = [sum(count for index, count in ledger.totals[shown[0].no].later.counts.items()
                    if index == bucket_of(LATE_US)) for ledger in (*every, whole)]  # fmt: skip
        self.assertEqual(late, [1, 2, 3, 3])
        left = [len(ledger.totals[shown[0].no].open_us) for ledger in (*every, whole)]
        self.assertEqual(left, [2, 3, 5, 5])
        self.client.force_login(self.sample.accounts["bran"])
        page = self.client.get(
            self.sample.address(f"runs/{found.pk}/tables?from=60&to=660&generator=1")
        )
        self.assertContains(page, "Of which generator")
        self.assertContains(page, "rounds and steps are kept")
        self.assertContains(page, "Its last minute comes when it is whole")
        wrong = [each for each in self.series if each.level == "step"]
        failed = {
            each.no: sum(60 <= second < 660 for second, _ in self.wrong[(1, each.no)])
            for each in wrong
        }
        self.assertEqual(sum(n for *_, n in page.context["kinds"]), sum(failed.values()))
        self.assertEqual(page.context["judgements"], [])  # the verdict is about everybody
        self.assertContains(page, "Objectives are about everybody")

    def test_what_is_pinned_of_one_generator_stays_of_it(self) -> None:
        found = self.found()
        self.client.force_login(self.sample.accounts["ada"])
        page = self.client.get(
            self.sample.address(f"runs/{found.pk}/tables?from=60&to=660&generator=1")
        ).content.decode()
        pinned = [
            dict(parse_qsl(html.unescape(each))) for each in re.findall(r'data-pin="([^"]*)"', page)
        ]
        pinned = [each for each in pinned if each.get("generator") == "1"]
        self.assertTrue(pinned)
        self.assertNotIn('data-opens="s', page)  # a closer look would be of all of them
        of = {"run": str(found.pk), "from": "60", "to": "660"}
        for wrong in ({"generator": "7"}, {"generator": "@nowhere"}, {"row": "nobody"}):
            with (
                self.subTest(wrong),
                self.assertRaises(DynamikosError),
            ):  # never everybody's figures under its name
                steps(Seen(self.sample.project, {**of, **wrong}))
        told = steps(Seen(self.sample.project, {**of, "generator": "1"}))
        self.assertIn(", g1 only", told.where)
        shown = [each for each in reading.shown_series(self.inputs) if each.level == "step"]
        for each, row in zip(shown, told.tables[0].rows, strict=True):
            numbers = {
                other.no
                for other in self.series
                if (other.level, other.step) == ("step", each.step)
            }
            passed = len(self.values(numbers, 60, 660, (1,)))
            failed = sum(60 <= second < 660 for no in numbers for second, _ in self.wrong[(1, no)])
            self.assertEqual(row[1], f"{passed + failed:,}")

    def test_a_slice_of_a_row_has_its_own_kept_exchanges_and_checks(self) -> None:
        found = self.found()
        self.client.force_login(self.sample.accounts["bran"])
        address = self.sample.address(f"runs/{found.pk}/tables?from=60&to=660")
        for row, one, count in (("", "", 3), ("left", "", 1), ("@calm", "", 2), ("middle", "0", 1)):
            page = self.client.get(f"{address}&row={row}&generator={one}")
            rows = {"": {"left", "middle", "right"}, "@calm": {"left", "right"}}.get(row, {row})
            of = {each.no: each.row for each in self.series}
            with self.subTest(row=row, generator=one):
                self.assertEqual(len(page.context["kept"]), count)
                self.assertLessEqual({of[kept.series] for _, kept in page.context["kept"]}, rows)
                self.assertLessEqual({check.place.row for check in page.context["checks"]}, rows)
                came = {each.row: each.rounds for each in page.context["crowd"]}
                self.assertEqual(set(came), rows if one else {"left", "middle", "right"})
                shards = (int(one),) if one else (0, 1)
                for name, rounds in came.items():
                    numbers = {
                        each.no for each in self.series if (each.level, each.row) == ("round", name)
                    }
                    failed = sum(60 <= second < 660 for shard in shards for no in numbers
                                 for second, _ in self.wrong[(shard, no)])  # fmt: skip
                    self.assertEqual(rounds, len(self.values(numbers, 60, 660, shards)) + failed)

    def test_lines_by_the_second_and_by_tens(self) -> None:
        steps = {each.no for each in self.series if each.level == "step"}
        found = self.found()
        by_second = reading.line(found, steps, 10, SECONDS)
        self.assertEqual([point.at for point in by_second], list(range(10, SECONDS)))
        for point in by_second[::97]:
            self.assertEqual(point.passed, len(self.values(steps, point.at, point.at + 1)))
        whole = reading.POINTS
        reading.POINTS = 40
        try:
            by_tens = reading.line(found, steps, 0, SECONDS)
        finally:
            reading.POINTS = whole
        self.assertLessEqual(len(by_tens), 40)
        self.assertEqual(
            sum(point.passed for point in by_tens), len(self.values(steps, 0, SECONDS))
        )
        for point in by_tens:
            values = np.sort(self.values(steps, point.at, point.at + point.seconds))
            exact = values[math.ceil(0.95 * len(values)) - 1] / 1000
            self.assertLess(abs((point.ms(95) or 0) - exact), 0.005 * exact)

    def test_reports_expire_and_what_is_folded_stays(self) -> None:
        found = self.found()
        before = queries.window(found, self.inputs, 0, SECONDS).rows(1)
        Run.objects.filter(pk=found.pk).update(
            state="ended", ended_at=timezone.now() - datetime.timedelta(days=29)
        )
        self.assertEqual(expire(), 0)
        Run.objects.filter(pk=found.pk).update(
            ended_at=timezone.now() - datetime.timedelta(days=31)
        )
        with self.settings(REPORTS_DAYS=0):
            self.assertEqual(expire(), 0)
        self.assertEqual(expire(), 2 * SECONDS)
        self.assertEqual(queries.window(self.found(), self.inputs, 0, SECONDS).rows(1), before)

    def test_nothing_is_read_of_reports(self) -> None:
        found = self.found()
        before = queries.window(found, self.inputs, 0, SECONDS).rows(1)
        self.assertTrue(Second.objects.filter(run=found, second__gte=660).exists())
        Report.objects.all().delete()
        self.assertEqual(queries.window(found, self.inputs, 0, SECONDS).rows(1), before)
        judged = list(reading.besides(found, 0, SECONDS))
        self.assertEqual(
            (len(judged), judged[-1].judged, judged[-2].missed), (SECONDS, {0: 2}, {0: 2})
        )
