"""Probes, lanes, remarks, findings, suspects and a closer look: what a run's page tells beside its
figures.
"""

import datetime
import html
import io
import json
import queue
import re
import uuid
from typing import Any
from unittest import mock

import numpy as np
import pyarrow.parquet as pq
from django.db import OperationalError, connection, transaction
from django.urls import reverse
from django.utils import timezone
from django.utils.html import escape
from msgspec import to_builtins
from msgspec.structs import replace
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from dynamikos.core.analysis.capacity import Level, capacity
from dynamikos.core.frozen import FrozenRun, canonical, every_series
from dynamikos.core.objectives import Objective
from dynamikos.core.probes import Host, Probe
from dynamikos.core.verdicts import Watching
from dynamikos.engine.probing import ProbeSecond
from dynamikos.fleet.coordinator.noticing import Noticing
from dynamikos.fleet.coordinator.readings import Readings
from dynamikos.fleet.coordinator.watch import RunWatch
from dynamikos.fleet.probing import Probed, _missed, tick, write
from dynamikos.web.plans import queries as plans
from dynamikos.web.plans.actions import change
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.revisions import token
from dynamikos.web.runs import analysis, measures, queries, reevaluation
from dynamikos.web.runs.models import MeasureMinute, ProbeTry, Reading, Remark, Run
from dynamikos.web.streams.models import Message
from tests.web.performed import begun, ended, reported
from tests.web.support import PageCase, Sample
from tests.web.test_runs import generator

SECONDS, GUST = 150, (100, 106)


class Watched(PageCase):
    """A run in which one step stood still for six seconds, and a measure of the servers with it."""

    inputs: FrozenRun

    @classmethod
    def setUpTestData(cls) -> None:
        cls.sample = Sample()
        generator()
        probes = (Probe(probe="target", name="Servers", openmetrics="http://127.0.0.1:9/metrics"),
                  Probe(probe="machine", host=Host()))  # fmt: skip
        run, frozen = begun(cls.sample, SECONDS, probes)
        cls.inputs = frozen
        draw = np.random.default_rng(5)
        cls.step = [each for each in every_series(frozen) if each.level == "step"][1]
        cls.shard = reported(
            run,
            frozen,
            SECONDS,
            lambda each, at: 40 if each.step == cls.step.step and GUST[0] <= at < GUST[1] else 1,
            draw,
        )
        probed = Probed(run, frozen)
        for second in range(SECONDS):
            stuck = 1.0 if GUST[0] - 2 <= second < GUST[1] - 2 else 0.0
            values = {
                "queue": 30 * stuck + float(draw.normal(0, 0.3)),
                'busy{of="a"}': 50 + float(draw.normal()),
                'busy{of="b"}': 20 + float(draw.normal()),
            }
            units = {'busy{of="a"}': "%", 'busy{of="b"}': "%"}
            if 60 <= second < 65:
                told = ProbeSecond(
                    probe="target", second=second, problem="it answered with status 503"
                )
            else:
                told = ProbeSecond(probe="target", second=second, values=values, units=units)
            probed.told.put(told)
            write(probed)
        ended(run)
        cls.run_pk = run.pk

    def found(self) -> Run:
        return Run.objects.get(pk=self.run_pk)

    def at(self, name: str, **query: Any) -> str:
        return reverse(name, args=[self.sample.project.pk, self.run_pk]) + (
            "?" + "&".join(f"{key}={value}" for key, value in query.items()) if query else ""
        )


class Probes(Watched):
    def test_whole_minutes_are_arrays_and_the_rest_is_read_all_the_same(self) -> None:
        found = self.found()
        self.assertEqual(MeasureMinute.objects.filter(run=found, no=0).count(), 2)
        self.assertFalse(Reading.objects.filter(run=found, second__lt=120).exists())
        trace = measures.traces(found, [0], 0, SECONDS)[0]
        self.assertEqual(int(np.isnan(trace).sum()), 5)
        self.assertTrue(np.isnan(trace[60:65]).all())
        self.assertGreater(trace[100], 25)
        part = measures.traces(found, [0], 58, 130)[0]
        np.testing.assert_array_equal(part, trace[58:130])

    def test_a_gap_is_remarked_once_when_it_begins_and_once_when_it_ends(self) -> None:
        told = list(Remark.objects.filter(run=self.run_pk).values_list("second", "text"))
        self.assertEqual([second for second, _ in told], [60, 65])
        self.assertIn("tells nothing: it answered with status 503", told[0][1])

    def test_what_goes_to_whoever_watches_and_a_prober_that_goes_on(self) -> None:
        again = Probed(self.found(), self.inputs, queue.Queue())
        again.numbers = {
            (each.probe, each.name, each.unit): each.no for each in self.found().measures.all()
        }
        again.told.put(ProbeSecond(probe="target", second=149, values={"queue": 7.0, "new": 1.0}))
        write(again, is_over=True)
        self.assertEqual(self.found().measures.count(), 4)
        watch = RunWatch(self.found())
        readings = Readings(self.found())
        readings._reading = readings._remark = 0
        readings.tell(watch.totals.watching)
        events = Message.objects.filter(subject=self.run_pk, event="remark").values_list(
            "body", flat=True
        )
        said = [60, "The probe Servers tells nothing: it answered with status 503"]
        self.assertIn(said, [json.loads(each) for each in events])

    def test_lanes_hold_what_is_alike_and_more_can_be_asked_for(self) -> None:
        lanes = measures.lanes(self.found(), self.inputs)
        self.assertEqual([(each.title, [label for _, label in each.lines]) for each in lanes],
                         [("Servers: queue", [""]), ("Servers: busy", ["a", "b"])])  # fmt: skip
        answer = self.client.get(self.at("run-lines", no=1)).json()
        self.assertEqual((len(answer["at"]), list(answer["values"])), (SECONDS, ["1"]))
        page = self.client.get(self.at("run"))
        self.assertContains(page, "Servers: queue")

    def test_fields_of_probes_are_kept_and_what_can_not_be_is_said(self) -> None:
        plan = self.sample.plan
        address = reverse("plan", args=[self.sample.project.pk, plan.pk])
        page = self.client.get(address)
        form = {
            "parent": page.context["token"],
            "name": "P",
            "environment": plans.content(plan).environment,
            "crowd": "users",
            "c0-journey": plans.content(plan).journey,
            "c0-row": "",
            "c0-row-name": "",
            "c0-share": "100",
            "c0-stretch": "hold",
            "c0-to": "",
            "c0-seconds": "9",
            "c0-steps": "",
            "c0-points": "",
        }

        def rows(*rows: tuple[str, ...]) -> dict[str, Any]:
            names = ("key", "kind", "address", "every", "measures", "name", "headers")
            return {f"probe-{name}": [row[at] for row in rows] for at, name in enumerate(names)}

        wrong = self.client.post(
            address, {**form, **rows(("", "openmetrics", "", "1", "", "Mine", ""))}
        )
        self.assertContains(wrong, "needs the address", status_code=422)
        self.assertContains(wrong, "Mine", status_code=422)
        place = "{{ env.observatory }}/metrics"
        odd = self.client.post(
            address, {**form, **rows(("", "openmetrics", place, "2", "", "S", "no header"))}
        )
        self.assertContains(odd, "“no header” is no header", status_code=422)
        said = "Authorization: Bearer {{ secrets.word }}\n\n X-Of:  a:b "
        self.client.post(
            address,
            {
                **form,
                **rows(
                    ("", "openmetrics", place, "2", "a*, b", "S", said),
                    ("", "host", "", "", "", "", ""),
                    ("",) * 7,
                ),
            },
        )
        probes = plans.content(LoadPlan.objects.get(pk=plan.pk)).probes
        self.assertEqual([(each.probe, each.every_s, each.measures) for each in probes],
                         [("s", 2.0, ("a*", "b")), ("machine", 1.0, ())])  # fmt: skip
        self.assertEqual(
            probes[0].headers, (("Authorization", "Bearer {{ secrets.word }}"), ("X-Of", "a:b"))
        )
        tried = self.client.post(
            reverse("try-probe", args=[self.sample.project.pk, plan.pk]), {"probe": "s"}
        )
        self.assertContains(tried, "nobody read it in time", status_code=422)
        self.assertFalse(ProbeTry.objects.exists())


class OfProbes(Watched):
    """Objectives about what probes tell."""

    def asked(self, **more: Any) -> Objective:
        given = {"measure": "max", "limit": 25.0, "probe": "target", "reading": "queue", **more}
        return Objective(objective="queue", **given)

    def test_a_run_is_judged_anew_by_what_was_told_and_gaps_are_none(self) -> None:
        told = measures.traces(self.found(), [0], 10, SECONDS)[0]
        each, parts = self.asked(), self.asked(every_s=5, missed_allowed=50)
        whole, by_parts = reevaluation.judged(
            self.found(), (each, replace(parts, objective="parts"))
        )
        self.assertEqual((whole.word, whole.samples), ("missed", SECONDS - 10 - 5))
        self.assertAlmostEqual(whole.value or 0, float(np.nanmax(told)))
        marks = {mark.from_s: mark.word for mark in by_parts.marks}
        self.assertEqual([at for at, word in marks.items() if word == "missed"], [95, 100])
        self.assertEqual(marks[60], "not judged")
        self.assertEqual((by_parts.word, by_parts.seconds_over), ("met", 10))

    def test_what_the_coordinator_hears_marks_an_interval_and_stops_the_run(self) -> None:
        found = self.found()
        stops = self.asked(every_s=5, then="stop now")
        frozen = replace(self.inputs, plan=replace(self.inputs.plan, objectives=(stops,)))
        found.frozen = canonical(frozen)
        found.save()
        watch = RunWatch(found)
        watch.totals.watching = Watching(frozen)
        for second in range(100, 106):
            values = {"0": 30.0 if second > 101 else 1.0}
            reading = Reading(run=found, second=second, values=values)
            watch._readings._judge(reading, watch.totals.watching)
        self.assertIsNone(watch.totals.watching.add(104, [], whole=True))
        stop = watch.totals.watching.add(105, [], whole=True)
        assert stop is not None
        self.assertTrue(stop.now)
        self.assertIn("max of queue (target) ≤ 25", stop.why)

    def test_a_coordinator_that_starts_anew_knows_what_was_told_before(self) -> None:
        found = self.found()
        frozen = replace(
            self.inputs, plan=replace(self.inputs.plan, objectives=(self.asked(every_s=5),))
        )
        found.frozen = canonical(frozen)
        found.save()
        watch = RunWatch(found)
        told = measures.traces(found, [0], 95, 100)[0]
        watch.totals.watching.add(100, [], whole=True)
        marks = {mark.from_s: mark for mark in watch.totals.watching.marks[0]}
        self.assertEqual((marks[95].word, marks[95].value), ("missed", float(np.nanmax(told))))
        self.assertEqual(marks[60].word, "not judged")

    def test_a_measure_of_a_try_becomes_an_objective_and_a_scope_of_the_plans_page(self) -> None:
        plan = self.sample.plan
        core = plans.content(plan)
        change(self.sample.member, plan, token(plan.head), probes=self.inputs.plan.probes)
        before = len(core.objectives)
        address = reverse("probe-objective", args=[self.sample.project.pk, plan.pk])
        typed = {
            "probe": "target",
            "reading": 'busy{of="a"}',
            "measure": "mean",
            "side": "at most",
            "limit": "40",
        }
        self.client.post(address, typed)
        made = plans.content(LoadPlan.objects.get(pk=plan.pk)).objectives
        self.assertEqual((len(made), made[-1].probe, made[-1].reading, made[-1].limit),
                         (before + 1, "target", 'busy{of="a"}', 40))  # fmt: skip
        page = self.client.get(reverse("plan", args=[self.sample.project.pk, plan.pk]))
        self.assertContains(page, "Servers: busy{of=&quot;a&quot;}")
        self.assertContains(page, "machine: memory used")
        for wrong, said in (
            (typed | {"limit": "many"}, "many"),
            (typed | {"probe": "none"}, "does not have"),
            (typed | {"measure": "left"}, "is no measure"),
        ):
            self.assertContains(self.client.post(address, wrong), said, status_code=422)


class Kept(Watched):
    """A prober that can't write, or whose run is gone."""

    def probed(self) -> Probed:
        made = Probed(self.found(), self.inputs)
        made.numbers = {
            (each.probe, each.name, each.unit): each.no for each in self.found().measures.all()
        }
        return made

    def test_what_could_not_be_written_is_written_later(self) -> None:
        probed = self.probed()
        probed.told.put(ProbeSecond(probe="target", second=700, values={"never seen before": 4.0}))
        probed.told.put(ProbeSecond(probe="target", second=701, problem="it is away"))
        away = mock.patch(
            "django.db.models.query.QuerySet.bulk_create", side_effect=OperationalError("away")
        )
        with away, self.assertRaises(OperationalError):
            write(probed)
        probed.told.put(ProbeSecond(probe="target", second=702, values={"never seen before": 5.0}))
        write(probed, is_over=True)
        made = self.found().measures.get(name="never seen before")
        minute = MeasureMinute.objects.get(run=self.run_pk, no=made.no, minute=11)
        values = np.frombuffer(bytes(minute.values), "<f8")
        self.assertEqual((values[40], values[42], int(np.isnan(values).sum())), (4.0, 5.0, 58))
        self.assertTrue(
            Remark.objects.filter(run=self.run_pk, second=701, text__contains="it is away").exists()
        )
        self.assertFalse(Reading.objects.filter(run=self.run_pk, second__gte=700).exists())

    def test_what_nobody_read_while_the_prober_was_away_is_remarked(self) -> None:
        run = self.found()
        last = max(Reading.objects.filter(run=run).values_list("second", flat=True), default=-1)
        last = max(last, *(60 * each.minute + 59 for each in MeasureMinute.objects.filter(run=run)))
        for after_s, words in ((2, None), (21, f"from second {last + 1} to {last + 21}")):
            run.begins_at = timezone.now() - datetime.timedelta(seconds=last + after_s + 0.5)
            found = _missed(Probed(run, self.inputs))
            self.assertEqual([each.second for each in found], [last + 1] if words else [])
            if words:
                self.assertIn(words, found[0].text)
        Reading.objects.filter(run=run).delete()
        MeasureMinute.objects.filter(run=run).delete()
        self.assertIn("until second", _missed(Probed(run, self.inputs))[0].text)

    def test_a_run_that_was_deleted_keeps_nobody_from_the_others(self) -> None:
        gone, there = self.probed(), self.probed()
        gone.run = Run(pk=uuid.uuid4())
        probed = {gone.run.pk: gone, there.run.pk: there}
        for each in probed.values():
            each.told.put(ProbeSecond(probe="target", second=800, values={"queue": 1.0}))
        with connection.cursor() as cursor:
            cursor.execute("SET CONSTRAINTS ALL IMMEDIATE")
        with self.assertLogs("dynamikos.fleet.probing", "ERROR"):
            tick(probed, mock.Mock(), frozenset())
        self.assertEqual(probed, {}, "both are over")
        self.assertEqual(MeasureMinute.objects.filter(run=self.run_pk, minute=13).count(), 1)

    def test_signs_and_numbers_that_no_database_keeps(self) -> None:
        probed = self.probed()
        probed.told.put(ProbeSecond(probe="target", second=900, values={"a\0\ud800": 1.0}))
        probed.told.put(ProbeSecond(probe="target", second=901, problem="it said \0"))
        write(probed)
        self.assertTrue(self.found().measures.filter(name="a\ufffd\ufffd").exists())
        self.assertTrue(
            Remark.objects.filter(run=self.run_pk, text__endswith="it said \ufffd").exists()
        )

    def test_one_that_can_not_be_looked_at_says_so(self) -> None:
        Run.objects.filter(pk=self.run_pk).update(is_folded=True)
        noticing = Noticing()
        with mock.patch("subprocess.Popen", return_value=mock.Mock(poll=lambda: 1, returncode=1)):
            noticing.tick()
            with self.assertLogs("dynamikos.fleet.coordinator.noticing", "ERROR"):
                noticing.tick()
        self.assertEqual([each["rule"] for each in self.found().findings or []], ["not-looked-at"])
        self.assertContains(self.client.get(self.at("run")), "The run could not be looked at.")


class Told(Watched):
    def test_findings_are_kept_with_the_run_and_shown(self) -> None:
        self.assertContains(self.client.get(self.at("run")), "is being looked at")
        made, said = analysis.look(self.found())
        self.assertIsNone(said, "a held load says nothing of capacity")
        rules = {each.rule: each for each in made}
        self.assertEqual(rules["gust"].step, self.step.step)
        self.assertEqual(rules["probe-silent"].about, "measurement")
        Run.objects.filter(pk=self.run_pk).update(findings=[to_builtins(each) for each in made])
        page = self.client.get(self.at("run"))
        self.assertContains(page, "times as long as usual from second 100 to 106")
        self.assertContains(page, 'data-window-from="100"')

    def test_the_suspect_of_the_gust_and_its_lag(self) -> None:
        at = {"from": GUST[0], "to": GUST[1], "journey": self.step.journey, "step": self.step.step}
        closer = self.client.get(self.at("run-closer", **at))
        self.assertContains(closer, "tolerating")
        self.assertContains(closer, "What the mean time is made of")
        self.assertEqual(closer.context["suggested"], [])  # of so short a window
        asked = re.search(r'hx-get="([^"]*/suspects[?][^"]*)"', closer.content.decode())
        page = self.client.get(html.unescape(asked[1]) if asked else "")
        self.assertContains(page, "Servers: queue")
        self.assertContains(page, "2 s before")
        self.assertContains(page, "laid over one another")
        lane = next(
            each
            for each in measures.lanes(self.found(), self.inputs)
            if each.title == "Servers: queue"
        )
        self.assertContains(page, f'data-shows-lane="{lane.key}"')
        whole = self.client.get(self.at("run-closer", **{**at, "from": 10, "to": SECONDS}))
        self.assertEqual(whole.context["suggested"], [GUST])
        self.assertContains(whole, "Worth a look:")
        slow = self.client.get(self.at("run-closer", **at, apdex=1))
        self.assertContains(slow, "36 frustrated")  # of six seconds
        other = self.client.get(self.at("run-suspects", **at, z=90))
        self.assertNotContains(other, "laid over one another")
        self.assertContains(page, "Too short to tell a cause from coincidence")
        self.assertContains(page, "(unproven)")
        calm = self.client.get(self.at("run-suspects", **{**at, "from": 40, "to": 46}))
        self.assertContains(calm, "This step was not slower here")
        wrong = self.client.get(self.at("run-closer", **{**at, "step": "nowhere"}))
        self.assertContains(wrong, "no such step", status_code=422)

    def test_a_remark_at_a_second_and_at_this_moment(self) -> None:
        self.client.post(self.at("run-remark"), {"text": "deployed", "second": "40"})
        self.client.post(self.at("run-remark"), {"text": "now"})
        told = Remark.objects.filter(run=self.run_pk, by=self.sample.accounts["bran"]).order_by(
            "second"
        )
        self.assertEqual(
            list(told.values_list("second", "text")), [(40, "deployed"), (SECONDS - 1, "now")]
        )
        for data, words in (
            ({"text": " "}, "Write what"),
            ({"text": "x", "second": "900"}, "one of those before"),
        ):
            self.assertContains(
                self.client.post(self.at("run-remark"), data), words, status_code=422
            )
        self.assertContains(self.client.get(self.at("run")), "deployed")


class Afterwards(Watched):
    def test_figures_and_seconds_as_files(self) -> None:
        base = [self.sample.project.pk, self.run_pk]
        csv_text = b"".join(
            self.client.get(reverse("run-figures", args=[*base, "csv"])).streaming_content
        ).decode()
        head, *lines = csv_text.splitlines()
        self.assertIn("p95_ms", head)
        self.assertEqual(
            len(lines),
            sum(
                each.level in ("step", "request", "embedded", "item")
                for each in every_series(self.inputs)
            ),
        )
        answer = self.client.get(reverse("run-seconds", args=[*base, "parquet"]) + "?from=10&to=20")
        table = pq.read_table(io.BytesIO(answer.content)).to_pydict()
        self.assertEqual((min(table["second"]), max(table["second"])), (10, 19))
        self.assertEqual(sum(table["passed"]), 10 * 6 * len(every_series(self.inputs)))
        self.assertEqual(
            self.client.get(reverse("run-figures", args=[*base, "xlsx"])).status_code, 404
        )
        told = self.client.get(reverse("run-metrics", args=base)).content.decode()
        families = {each.name: each for each in text_string_to_metric_families(told)}
        self.assertEqual(
            {sample.labels["run"] for sample in families["dynamikos_samples"].samples}, {"1"}
        )
        self.assertIn("dynamikos_response_p95_seconds", families)

    def test_judged_anew_with_both_kept(self) -> None:
        found = self.found()
        key = self.step.step
        objectives = (
            Objective(objective="a", measure="p95", limit=100, step=key),
            Objective(
                objective="b", measure="p95", limit=100, step=key, every_s=10, missed_allowed=30
            ),
        )
        change(
            self.sample.member,
            self.sample.plan,
            token(self.sample.plan.head),
            objectives=objectives,
        )
        self.client.post(self.at("run-anew"))
        made = queries.rejudged(self.found())
        self.assertEqual([each.word for each in made], ["not decided", "met"])
        self.assertIn("within the limit, not decided", made[0].reason)
        self.assertEqual([mark.word for mark in made[1].marks].count("missed"), 1)
        self.assertEqual(self.found().outcome, found.outcome)
        self.assertContains(self.client.get(self.at("run")), "Judged anew")
        plan = LoadPlan.objects.get(pk=self.sample.plan.pk)
        gone = (Objective(objective="c", measure="p95", limit=1, step="nowhere"),)
        change(self.sample.member, plan, token(plan.head), objectives=gone)
        self.assertContains(self.client.post(self.at("run-anew")), "nowhere", status_code=422)
        self.assertEqual(queries.rejudged(self.found()), made)

    def test_what_was_typed_stands_there_with_what_is_wrong(self) -> None:
        for name, form, sent, words in (
            ("run-remark", "remark", {"text": "deployed <b>", "second": "soon"}, "is not a number"),
            ("run-remark", "remark", {"text": "y" * 501, "second": "7"}, "500"),
            (
                "run-measures",
                "measures",
                {"cells": "t,a\nsoon,1", "name": "Replica &", "shift": "2"},
                "not a time",
            ),
            (
                "run-measures",
                "measures",
                {"cells": "t,a\n1,1", "name": "R", "shift": "late"},
                "is not a number",
            ),
            (
                "run-about",
                "about",
                {
                    "tags": "".join(f"{n}, " for n in range(60)),
                    "remark": "of <i>tonight</i>",
                    "star": "1",
                },
                "200",
            ),
            ("run-about", "about", {"tags": "x", "remark": "z" * 4001}, "4,000"),
        ):
            with self.subTest(name, words=words):
                before = Remark.objects.count(), self.found().tags, self.found().measures.count()
                page = self.client.post(self.at(name), sent)
                self.assertContains(page, words, status_code=422)
                self.assertContains(page, f'href="#form-{form}"', status_code=422)
                for text in sent.values():
                    self.assertContains(page, escape(text), status_code=422)
                self.assertEqual(
                    (Remark.objects.count(), self.found().tags, self.found().measures.count()),
                    before,
                )

    def test_signs_that_no_database_keeps_are_said(self) -> None:
        for name, sent in (
            ("run-remark", {"text": "a\0b"}),
            ("run-about", {"tags": "a\0b", "remark": ""}),
            ("run-about", {"tags": "", "remark": "a\0b"}),
            ("run-about", {"tags\0": "", "remark": "b"}),
            ("run-measures", {"cells": "second,a\0b\n1,2\n", "name": "x"}),
            ("run-measures", {"cells": "second,a\n1,2\n", "name": "x\0y"}),
        ):
            with self.subTest(name, sent=sent):
                self.assertContains(
                    self.client.post(self.at(name), sent), "holds a sign that", status_code=422
                )

    def test_numbers_in_addresses_that_are_none(self) -> None:
        pages = (
            "run",
            "run-tables",
            "run-closer",
            "run-suspects",
            "run-lines",
            "run-inputs",
            "run-users",
            "run-log",
        )
        for name in (*pages, "run-sides"):
            for text in ("²", "9" * 5000, "-1", "1e9", "1" + 17 * "0", "x\0"):
                at = {
                    "journey": self.step.journey,
                    "step": self.step.step,
                    "z": text,
                    "apdex": text,
                    "row": text,
                }
                at |= {
                    "from": text,
                    "to": text,
                    "generator": text,
                    "no": text,
                    "sort": text,
                    "down": text,
                }
                at |= {"user": text, "after": text, "number": text, "why": text, "value": text}
                at |= {
                    f"{side}-{what}": text
                    for side in "ab"
                    for what in ("from", "to", "row", "generator")
                }
                with self.subTest(name, text=text[:20]):
                    answer = self.client.get(
                        reverse(name, args=[self.sample.project.pk, self.run_pk]), at
                    )
                    self.assertIn(answer.status_code, (200, 302, 422))
        for number in (0, 2**31, 10**18, 10**30):
            address = reverse("run-user", args=[self.sample.project.pk, self.run_pk, number])
            with self.subTest(number=number):
                self.assertIn(self.client.get(address).status_code, (200, 422))
                with transaction.atomic():
                    self.assertIn(self.client.post(address).status_code, (200, 422))

    def test_two_slices_side_by_side_and_the_worst_first(self) -> None:
        at = {"a-from": 20, "a-to": 90, "b-from": GUST[0], "b-to": GUST[1]}
        page = self.client.get(self.at("run-sides", **at))
        body = page.content.decode().partition("<tbody")[2]
        self.assertLess(
            body.index(escape(self.step.name)),
            min(body.index(escape(each)) for each in self.others()),
        )
        self.assertContains(page, 'value="20"')
        wrong = self.client.get(
            self.at("run-sides", **{"a-from": 90, "a-to": 20, "b-from": "soon"})
        )
        self.assertContains(
            wrong, "A ends at second 20, which is not after second 90.", status_code=422
        )
        worst = self.client.get(
            self.at("run-tables", sort="worst", **{"from": GUST[0], "to": GUST[1]})
        )
        rows = worst.content.decode().partition('id="rows"')[2]
        self.assertLess(
            rows.index(escape(self.step.name)),
            min(rows.index(escape(each)) for each in self.others()),
        )
        self.assertContains(worst, "In the journey's order")

    def others(self) -> list[str]:
        """Names of the other steps."""
        return [
            each.name
            for each in every_series(self.inputs)
            if each.level == "step" and each != self.step
        ]

    def test_stretches_that_are_worth_a_look_are_seconds_whatever_a_point_stands_for(self) -> None:
        self.assertEqual(self.client.get(self.at("run")).context["suggested"], [GUST])
        told = [(10 * at, 900.0 if at in (20, 21, 59) else 50.0 + at % 7) for at in range(60)]
        self.assertEqual(analysis.suggested(told, 597), [(200, 220), (590, 597)])
        gaps = [(at, None if at % 9 else 50.0) for at in range(400)]
        self.assertEqual(analysis.suggested(gaps, 400), [])
        self.assertEqual(analysis.suggested([], 0), [])
        many = [(at, 900.0 if at % 50 < 3 + at // 100 else 50.0 + at % 7) for at in range(1000)]
        self.assertEqual(len(analysis.suggested(many, 1000)), analysis.MOST_SUGGESTED)

    def test_capacity_is_kept_with_the_run_and_drawn(self) -> None:
        loads = (5, 10, 20, 40, 80, 160, 200)
        levels = [
            Level(n, min(n / 1.25, 90) * (1 + 0.01 * (n % 3)), max(0.25, n / 90 - 1)) for n in loads
        ]
        made = capacity(levels, {"pool": 0.011})
        Run.objects.filter(pk=self.run_pk).update(capacity=to_builtins(made))
        self.assertEqual(queries.capacity(self.found()), made)
        page = self.client.get(self.at("run"))
        self.assertContains(page, "First to run full: <b>pool</b>")
        assert made.full_at is not None
        self.assertAlmostEqual(made.full_at, 1.24 / 0.011, delta=1)
        self.assertContains(page, '<section class="capacity"')

    def test_inputs_are_readable_and_make_a_new_plan(self) -> None:
        page = self.client.get(self.at("run-inputs"))
        for words in ("probes:", "Journey:", "agreed targets", "http://127.0.0.1:9"):
            self.assertContains(page, words)
        answer = self.client.post(self.at("run-inputs"))
        made = LoadPlan.objects.order_by("-changed_at").first()
        self.assertIn(str(made.pk), answer["Location"])
        self.assertIn("as in run 1", made.name)

    def test_a_star_tags_and_a_note(self) -> None:
        self.client.post(
            self.at("run-about"),
            {"star": "1", "tags": "release 4, , nightly,release 4", "remark": "ok"},
        )
        found = self.found()
        self.assertEqual(
            (found.is_starred, found.tags, found.remark), (True, "release 4, nightly", "ok")
        )
        listed = self.client.get(reverse("runs", args=[self.sample.project.pk]))
        self.assertContains(listed, "★")
        self.assertContains(listed, "nightly")

    def test_measures_that_come_afterwards(self) -> None:
        cells = "second,lag\n" + "\n".join(f"{second},{second % 7}" for second in range(SECONDS))
        self.client.post(self.at("run-measures"), {"cells": cells, "name": "Replica", "shift": "2"})
        found = self.found()
        lane = next(each for each in measures.lanes(found, self.inputs) if "lag" in each.title)
        trace = measures.traces(found, [lane.lines[0][0]], 0, SECONDS)[lane.lines[0][0]]
        self.assertTrue(np.isnan(trace[:2]).all())
        self.assertEqual(trace[2:16].tolist(), [0, 1, 2, 3, 4, 5, 6] * 2)
        self.client.post(self.at("run-measures"), {"cells": cells, "name": "Replica"})
        self.assertEqual(self.found().measures.filter(probe="replica").count(), 1)
        wrong = self.client.post(self.at("run-measures"), {"cells": "t,a\nsoon,1\n"})
        self.assertContains(wrong, "Line 2: “soon” is not a time", status_code=422)
