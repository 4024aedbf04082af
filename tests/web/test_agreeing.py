"""One definition of each count: page, list, shell, JSON, report, CSV and OpenMetrics say the same
of runs whose measured parts are ragged: begun late, stopped early, open at the end.
"""

import csv
import io
import re

import numpy as np
import orjson
from django.urls import reverse
from django.utils import timezone
from msgspec.structs import replace

from dynamikos.cli import summary
from dynamikos.core.figures import milliseconds
from dynamikos.core.frozen import canonical, every_series
from dynamikos.core.reports import Health, SeriesSecond, ShardSecond, encode
from dynamikos.core.statistics import Histogram
from dynamikos.core.telling import as_markdown
from dynamikos.core.verdicts import as_json
from dynamikos.core.verdicts.ending import of_words, plain
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.fleet.coordinator.watch import RunWatch
from dynamikos.web.runs import actions, log, queries, telling
from dynamikos.web.runs.models import Report, Run, Shard
from dynamikos.web.ui.templatetags import figures
from tests.web.support import Sample, TestCase
from tests.web.test_runs import generator

Counts = dict[str, tuple[int, int, float]]  # by step: (count, failures, per second)
RUNS = (
    (7.0, 33.0, 40, "finished"),
    (10.0, 41.0, 29, "stopped gently"),
    (3.0, 24.0, 24, "finished"),
)


class Agree(TestCase):
    @classmethod
    def setUpTestData(cls) -> None:
        cls.sample = Sample()
        generator()

    def performed(
        self, from_s: float, to_s: float, seconds: int, ended: str, seed: int
    ) -> tuple[Run, Counts]:
        """A run as it was reported, with what its steps must be said to have: (count, failures,
        rate) of what ended in the measured part, failed or not.
        """
        run = actions.start(self.sample.member, self.sample.plan)
        frozen = queries.frozen(run)
        short = replace(frozen.journey, opening=(), rounds=frozen.journey.rounds[:3], closing=())
        frozen = replace(frozen, journeys={short.journey: short}, measured=(from_s, to_s))
        run.frozen, run.state, run.begins_at = canonical(frozen), "running", timezone.now()
        run.save()
        shard = Shard.objects.create(
            run=run, number=0, generator_name="g", state="ended", ending=plain(of_words(ended))
        )
        draw, series = np.random.default_rng(seed), list(every_series(frozen))
        lasted = min(to_s, float(seconds)) - from_s
        found: dict[str, list[int]] = {}
        for second in range(seconds):
            parts = []
            for each in series:
                values = [int(v) for v in draw.lognormal(10, 0.3, int(draw.integers(0, 9)))]
                failed = {"status-500": int(draw.integers(1, 4))} if draw.random() < 0.2 else {}
                parts.append(
                    SeriesSecond(
                        no=each.no,
                        n=len(values),
                        sum_us=sum(values),
                        squares=str(sum(v * v for v in values)),
                        hist=Histogram.of(values).to_bytes(),
                        failed=failed,
                    )
                )
                if each.level in ("step", "round") and from_s <= second < to_s:
                    sums = found.setdefault(each.step or "round", [0, 0])
                    sums[0] += len(values)
                    sums[1] += sum(failed.values())
            last = second == seconds - 1
            requests = [
                each for each, part in zip(series, parts, strict=True) if each.level == "request"
            ]
            sent = sum(
                part.n + sum(part.failed.values())
                for part in parts
                if part.no in {r.no for r in requests}
            )
            Report.objects.create(
                shard=shard,
                second=second,
                body=encode(
                    ShardSecond(
                        shard=0,
                        second=second,
                        users={"thinking": 20},
                        sent=sent,
                        answered=sent,
                        series=parts,
                        health=Health(),
                        last=last,
                        open=[(parts[0].no, 900_000)] if last else [],
                    )
                ),
            )
        RunWatch(run).look(may_judge_lost=False)
        return Run.objects.get(pk=run.pk), {
            step: (passed + failed, failed, (passed + failed) / lasted)
            for step, (passed, failed) in found.items()
        }

    def agree(self, told: Counts, expected: Counts, *, digits: int = 9) -> None:
        steps = {step: each for step, each in expected.items() if step != "round"}
        self.assertEqual({k: v[:2] for k, v in told.items()}, {k: v[:2] for k, v in steps.items()})
        for step, (_, _, rate) in steps.items():
            self.assertAlmostEqual(
                told[step][2] / rate, 1, delta=0.6 * 10 ** (1 - digits), msg=step
            )

    def test_rounded_alike(self) -> None:
        for ms in (
            0.0004,
            0.1234,
            1.275,
            9.996,
            12.345,
            99.95,
            138.5,
            139.5,
            999.4,
            999.6,
            1274.9,
            12345.6,
            1e6,
        ):
            self.assertEqual({summary.duration(ms), milliseconds(ms)}, {figures.ms(ms)})

    def test_everywhere(self) -> None:
        self.client.force_login(self.sample.accounts["bran"])
        for seed, (from_s, to_s, seconds, ended) in enumerate(RUNS):
            with self.subTest(ended=ended, measured=(from_s, to_s), seconds=seconds):
                run, expected = self.performed(from_s, to_s, seconds, ended, seed)
                self.assertEqual((run.state, run.ended), ("ended", ended))
                self.one(run, expected)

    def one(self, run: Run, expected: Counts) -> None:
        frozen, outcome = queries.frozen(run), OUTCOME.of(run.outcome)
        names = {row.name: row.step for row in outcome.rows if row.level == "step"}
        rounds = expected["round"][0] - expected["round"][1], expected["round"][1]

        with self.subTest("verdict"):
            self.agree(
                {
                    row.step: (row.count, row.failures, row.per_s)
                    for row in outcome.rows
                    if row.level == "step"
                },
                expected,
            )
            self.assertEqual((outcome.rounds_passed, outcome.rounds_failed), rounds)
        with self.subTest("JSON"):
            told = orjson.loads(as_json(frozen, outcome))
            rows = [each for each in told["rows"] if each["level"] == "step"]
            self.agree(
                {each["step"]: (each["count"], each["failures"], each["per_s"]) for each in rows},
                expected,
            )
            self.assertEqual((told["rounds"]["passed"], told["rounds"]["failed"]), rounds)
        with self.subTest("shell"):
            text = summary.table(frozen, outcome)
            lines = {
                names[name]: (
                    int(count.replace(",", "")),
                    int(failed.replace(",", "")),
                    float(rate),
                )
                for name, count, failed, rate in re.findall(
                    r"^(\S.{0,33}?) +([\d,]+) +([\d,]+) +([\d.e+-]+) ", text, re.M
                )
                if name in names
            }
            self.agree(lines, expected, digits=3)
            self.assertIn(
                f"rounds: {rounds[0]:,} passed, {rounds[1]:,} failed in the measured part", text
            )
        with self.subTest("page"):
            page = self.client.get(reverse("run", args=[self.sample.project.pk, run.pk]))
            shown = {
                step.step: (step.count, step.failures, step.per_s)
                for step, _ in page.context["rows"]
                if step.level == "step"
            }
            self.agree(shown, expected)
            self.assertEqual(tuple(page.context["rounds"]), rounds)
            self.assertContains(page, f'Rounds: <b class="figure">{rounds[0]:,}</b> passed')
        with self.subTest("list"):
            requests = [row for row in outcome.rows if row.level == "request"]
            line = log.lines([run])[0]
            self.assertAlmostEqual(line.per_s or 0, sum(row.per_s for row in requests))
            ended = sum(row.count for row in requests)
            share = 100 * sum(row.failures for row in requests) / ended
            self.assertAlmostEqual(line.failed or 0, share)
        with self.subTest("CSV"):
            files = reverse("run-figures", args=[self.sample.project.pk, run.pk, "csv"])
            rows = list(
                csv.DictReader(
                    io.StringIO(b"".join(self.client.get(files).streaming_content).decode())
                )
            )
            self.agree(
                {
                    each["step"]: (int(each["count"]), int(each["failures"]), float(each["per_s"]))
                    for each in rows if each["level"] == "step"
                }, expected,
            )  # fmt: skip
            files = reverse("run-seconds", args=[self.sample.project.pk, run.pk, "csv"])
            query = f"?from={outcome.from_s:.0f}&to={min(outcome.to_s, run.watermark + 1):.0f}"
            rows = list(
                csv.DictReader(
                    io.StringIO(b"".join(self.client.get(files + query).streaming_content).decode())
                )
            )
            for step, (count, failed, _) in expected.items():
                level = "round" if step == "round" else "step"
                of = [
                    each
                    for each in rows
                    if each["level"] == level and (each["step"] or "round") == step
                ]
                self.assertEqual(
                    (
                        sum(int(each["passed"]) for each in of),
                        sum(int(each["failed"]) for each in of),
                    ),
                    (count - failed, failed),
                )
        with self.subTest("OpenMetrics"):
            text = self.client.get(
                reverse("run-metrics", args=[self.sample.project.pk, run.pk])
            ).content.decode()
            for step, (ended, failed, _) in expected.items():
                if step != "round":
                    where = rf'level="step"[^}}]*step="{step}"[^}}]*}}'
                    for family, count in (("samples", ended), ("failures", failed)):
                        self.assertRegex(text, rf"dynamikos_{family}{{[^}}]*{where} {count}\n")
        with self.subTest("report"):
            report = telling.report(run)
            self.agree(
                {row.step: (row.count, row.failures, row.per_s) for row in report.rows}, expected
            )
            text = as_markdown(report)
            self.assertIn(f"{rounds[0]:,} rounds passed and {rounds[1]:,} failed", text)
            for row in report.rows:
                ended, failed, _ = expected[row.step]
                self.assertRegex(
                    text, rf"\| [^|]*{re.escape(row.name)}[^|]* \| {ended:,} \| {failed:,} \|"
                )
