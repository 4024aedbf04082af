"""Starting, expanding and reading a run; pages, policies and plans."""

import datetime
import re
from pathlib import Path
from unittest import mock

import orjson
from django.db import OperationalError
from django.test import SimpleTestCase
from django.utils import timezone

from dynamikos.core.frozen import series_of
from dynamikos.core.reports import Health, Ledger, SeriesSecond, ShardSecond, encode
from dynamikos.core.reports.frames import Frame
from dynamikos.core.statistics import Histogram
from dynamikos.core.verdicts.ending import FINISHED, NOW, ending_of, plain, stopped
from dynamikos.fleet.coordinator.loop import tick
from dynamikos.fleet.coordinator.starting import over_places
from dynamikos.fleet.coordinator.watch import RunWatch
from dynamikos.web.environments.models import AgreedTarget
from dynamikos.web.places.models import Generator
from dynamikos.web.plans import queries as plans
from dynamikos.web.projects.revisions import token
from dynamikos.web.rehearsals import actions as rehearsals
from dynamikos.web.rehearsals.models import Rehearsal
from dynamikos.web.runs import actions, checked, preflight, queries, reading
from dynamikos.web.runs.models import Block, Chunk, Command, Minute, Report, Run, Shard
from dynamikos.web.streams.models import Message
from tests.web.support import Sample, TestCase


def generator(name: str = "g") -> Generator:
    """One that is there for the whole test, however slow the machine is."""
    from dynamikos.web.ui.ids import new_id

    seen = timezone.now() + datetime.timedelta(hours=1)
    return Generator.objects.create(
        id=new_id(), place="here", name=name, version="1", process=1, lock=42, last_seen=seen
    )


def message(second: int, journey, *, last: bool = False, failing: bool = False) -> ShardSecond:  # type: ignore[no-untyped-def]
    """A second in which every step took (second + 1) ms, and its request failed once if asked."""
    us = (second % 50 + 1) * 1000
    parts = []
    for each in series_of(journey):
        if each.level in ("step", "request"):
            failed = {"status-500": 1} if failing else {}
            parts.append(
                SeriesSecond(
                    no=each.no,
                    n=2,
                    sum_us=2 * us,
                    squares=str(2 * us * us),
                    hist=Histogram.of([us, us]).to_bytes(),
                    failed=failed,
                )
            )
    return ShardSecond(
        shard=0,
        second=second,
        planned_users=20,
        users={"thinking": 20},
        sent=5,
        answered=5,
        series=parts,
        health=Health(cpu_share=0.1),
        last=last,
    )


class Chosen(SimpleTestCase):
    def test_generators_of_several_places_in_turn_the_longest_known_first(self) -> None:
        def one(name: str, place: str) -> Generator:
            return Generator(name=name, place=place)

        free = [
            one("a", "here"),
            one("b", "here"),
            one("c", "far"),
            one("d", "here"),
            one("e", "edge"),
        ]
        self.assertEqual([each.name for each in over_places(free)], ["a", "c", "e", "b", "d"])
        self.assertEqual([each.name for each in over_places(free[:2])], ["a", "b"])
        self.assertEqual(over_places([]), [])


class Reading(TestCase):
    def setUp(self) -> None:
        self.sample = Sample()
        self.client.force_login(self.sample.accounts["bran"])
        self.generator = generator()
        self.run_made = actions.start(self.sample.member, self.sample.plan)
        self.shard = Shard.objects.create(
            run=self.run_made,
            number=0,
            generator=self.generator,
            generator_name="g",
            state="running",
        )
        Run.objects.filter(pk=self.run_made.pk).update(state="running", begins_at=timezone.now())
        self.inputs = queries.frozen(self.run_made)

    def deliver(self, count: int, *, last: bool = True) -> RunWatch:
        Report.objects.bulk_create(
            Report(
                shard=self.shard,
                second=s,
                body=encode(
                    message(s, self.inputs.journey, last=last and s == count - 1, failing=s == 20)
                ),
            )
            for s in range(count)
        )
        watch = RunWatch(Run.objects.get(pk=self.run_made.pk))
        watch.look(may_judge_lost=False)
        return watch

    def test_expanded_once_and_equal_to_adding_everything(self) -> None:
        self.deliver(700)
        run = Run.objects.get(pk=self.run_made.pk)
        self.assertEqual((run.watermark, run.chunked), (699, 10))
        self.assertEqual(Message.objects.filter(subject=run.pk, event="frame").count(), 700)
        series = [
            each for each in series_of(self.inputs.journey) if each.level in ("step", "request")
        ]
        self.assertEqual(Chunk.objects.filter(run=run).count(), 11 * len(series))
        self.assertEqual(Block.objects.filter(run=run).count(), len(series))
        for begin, end in (
            (0, 700),
            (0, 600),
            (30, 615),
            (59, 61),
            (600, 700),
            (650, 700),
            (5, 7),
            (0, 5000),
        ):
            with self.subTest(window=(begin, end)):
                expected = Ledger(series_of(self.inputs.journey))
                for second in range(begin, min(end, 700)):
                    expected.add(message(second, self.inputs.journey, failing=second == 20))
                self.assertEqual(
                    queries.window(run, self.inputs, begin, end).rows(100), expected.rows(100)
                )

    def test_checks_and_dealt_rows_are_read_from_folded_minutes(self) -> None:
        def told(second: int) -> ShardSecond:
            made = message(second, self.inputs.journey, last=second == 129)
            made.judged, made.missed = {0: 3}, {0: 1} if second % 10 == 0 else {}
            made.dealt = [(0, second, 1, second % 50)]
            made.carried = [SeriesSecond(no=1, n=1, sum_us=5)] if second == 80 else []
            return made

        Report.objects.bulk_create(
            Report(shard=self.shard, second=second, body=encode(told(second)))
            for second in range(130)
        )
        RunWatch(Run.objects.get(pk=self.run_made.pk)).look(may_judge_lost=False)
        run = Run.objects.get(pk=self.run_made.pk)
        self.assertEqual(
            list(Minute.objects.filter(run=run).values_list("minute", flat=True)), [0, 1]
        )

        def read(begin: int, end: int) -> tuple[object, ...]:
            line = checked.checks(run, self.inputs, begin, end)[0]
            rows = list(queries.all_dealt(run, self.inputs))
            carried = sum(len(each.carried) for each in reading.besides(run, begin, end))
            return (
                line.passed,
                line.failed,
                queries.dealt(run, self.inputs, begin, end)[0][1:3],
                len(rows),
                carried,
            )

        windows = [(0, 130), (30, 125), (61, 62), (119, 130), (0, 60), (125, 130)]
        expected = []
        for begin, end in windows:
            seconds = range(begin, min(end, 130))
            failed = sum(second % 10 == 0 for second in seconds)
            distinct = len({second % 50 for second in seconds})
            expected.append(
                (
                    3 * len(seconds) - failed,
                    failed,
                    (len(seconds), distinct),
                    130,
                    int(80 in seconds),
                )
            )
        self.assertEqual([read(*window) for window in windows], expected)
        with self.assertNumQueries(2):  # one for the minutes, one for what is not folded yet
            list(reading.besides(run, 0, 130))
        Report.objects.filter(
            shard=self.shard, second__lt=120
        ).delete()  # they expire; what is folded stays
        self.assertEqual([read(*window) for window in windows], expected)
        # a run of an earlier day, of which the reports are there, is folded anew
        Report.objects.filter(shard=self.shard).delete()
        Minute.objects.filter(run=run).delete()
        Report.objects.bulk_create(
            Report(shard=self.shard, second=second, body=encode(told(second)))
            for second in range(130)
        )
        RunWatch(run).fold_anew()
        self.assertEqual([read(*window) for window in windows], expected)

    def test_a_new_coordinator_goes_on_without_doubling(self) -> None:
        self.deliver(100, last=False)
        again = RunWatch(Run.objects.get(pk=self.run_made.pk))
        again.look(may_judge_lost=False)
        self.assertEqual(
            Message.objects.filter(subject=self.run_made.pk, event="frame").count(), 100
        )
        self.assertEqual(again.totals.whole.sent, 500)
        self.assertEqual(Chunk.objects.filter(run=self.run_made, minute=0, series=1).count(), 1)

    def test_a_second_that_the_database_went_away_in_counts_once(self) -> None:
        Report.objects.bulk_create(
            Report(shard=self.shard, second=s, body=encode(message(s, self.inputs.journey)))
            for s in range(10)
        )
        watches: dict[str, RunWatch] = {}
        tick(watches, may_judge_lost=False)
        Report.objects.bulk_create(
            Report(shard=self.shard, second=s, body=encode(message(s, self.inputs.journey)))
            for s in range(10, 20)
        )
        place = "dynamikos.fleet.coordinator.watch.say"
        with (
            mock.patch(place, side_effect=OperationalError("gone")),
            self.assertRaises(OperationalError),
        ):
            tick(watches, may_judge_lost=False)
        tick(watches, may_judge_lost=False)
        watch = watches[str(self.run_made.pk)]
        self.assertEqual(
            (watch.incoming.second, watch.totals.whole.sent, watch.totals.whole.answered),
            (20, 100, 100),
        )
        self.assertEqual(
            Message.objects.filter(subject=self.run_made.pk, event="frame").count(), 20
        )

    def test_without_room_on_the_disk_a_run_is_ended_and_says_so(self) -> None:
        why = "the disk of dome is full: 3 of 64 MB free in /state"
        Report.objects.create(
            shard=self.shard, second=0, body=encode(message(0, self.inputs.journey))
        )
        watch = RunWatch(Run.objects.get(pk=self.run_made.pk))
        for _ in range(2):
            watch.look(may_judge_lost=False, full=why)
        command = Command.objects.get(run=self.run_made)
        self.assertEqual(
            (command.verb, ending_of(command.ending)), ("stop-now", stopped("disk", why, now=True))
        )
        self.assertEqual([each.text for each in self.run_made.remarks.all()], [f"Ended: {why}."])
        last = message(1, self.inputs.journey, last=True)
        Report.objects.create(shard=self.shard, second=1, body=encode(last))
        Shard.objects.filter(pk=self.shard.pk).update(state="ended", ending=command.ending)
        watch.look(may_judge_lost=False)
        outcome = Run.objects.get(pk=self.run_made.pk).outcome
        self.assertEqual((outcome["sent"], outcome["answered"]), (10, 10))
        self.assertIn(
            f"The run was ended because {why}. What it had reported until then holds.",
            outcome["doubts"],
        )
        self.assertNotIn("its own rules", str(outcome["doubts"]))
        asked = actions.start(self.sample.member, self.sample.plan)
        RunWatch(asked).look(may_judge_lost=False, full=why)
        asked.refresh_from_db()
        self.assertEqual((asked.state, asked.ended), ("refused", why))

    def test_a_gap_waits_and_nothing_counts_twice(self) -> None:
        for second in (0, 1, 3):
            Report.objects.create(
                shard=self.shard, second=second, body=encode(message(second, self.inputs.journey))
            )
        watch = RunWatch(Run.objects.get(pk=self.run_made.pk))
        watch.look(may_judge_lost=False)
        self.assertEqual(watch.incoming.second, 2)
        Report.objects.bulk_create(
            [
                Report(shard=self.shard, second=s, body=encode(message(s, self.inputs.journey)))
                for s in (1, 2)
            ],
            ignore_conflicts=True,
        )
        watch.look(may_judge_lost=False)
        self.assertEqual((watch.incoming.second, watch.totals.whole.sent), (4, 20))

    def test_verdict_and_page(self) -> None:
        self.deliver(50)
        self.shard.state, self.shard.ending = "ended", plain(FINISHED)
        self.shard.save()
        watch = RunWatch(Run.objects.get(pk=self.run_made.pk))
        watch.look(may_judge_lost=False)
        run = Run.objects.get(pk=self.run_made.pk)
        self.assertEqual((run.state, run.ended), ("ended", "finished"))
        words = {each["objective"]: each["word"] for each in run.outcome["judgements"]}
        self.assertEqual(
            words, {"all-p95": "met", "slots-p95": "met", "failures": "not decided"}
        )  # 8 of 648
        self.assertEqual(run.outcome["exit_code"], 1)
        page = self.client.get(self.sample.address(f"runs/{run.pk}"))
        self.assertContains(page, "Not decided, and counted as missed: failures of all steps ≤ 1 %")
        self.assertContains(page, "status-500")
        tables = self.client.get(
            self.sample.address(f"runs/{run.pk}/tables?from=10&to=20&sort=p95_ms&down=0")
        )
        self.assertContains(tables, "In the window")
        self.assertNotContains(tables, "status-500")
        self.assertEqual(
            self.client.get(
                self.sample.address(f"runs/{run.pk}/tables?from=x&to=1&sort=__class__")
            ).status_code,
            200,
        )

    def test_what_happens_while_the_page_is_made_is_told_by_the_stream(self) -> None:
        run = self.run_made
        before = queries.newest_message(run.pk)
        read = queries.run

        def meanwhile(*args: object) -> Run:
            found = read(*args)  # type: ignore[arg-type]
            # just after the run was read
            Message.objects.create(
                subject=run.pk, sequence=before + 1, event="state", body="running"
            )
            return found

        self.client.force_login(self.sample.accounts["cass"])
        with mock.patch.object(queries, "run", meanwhile):
            page = self.client.get(self.sample.address(f"runs/{run.pk}"))
        self.assertEqual(page.context["tape"]["last"], before)  # so the stream begins before it

    def test_a_lost_generator_is_said_and_what_it_reported_stays(self) -> None:
        watch = self.deliver(12, last=False)
        Generator.objects.update(last_seen=timezone.now() - datetime.timedelta(seconds=60))
        watch.look(may_judge_lost=False)
        self.assertEqual(Shard.objects.get().state, "running")
        watch.look(may_judge_lost=True)
        # it may still come back
        self.assertEqual((Shard.objects.get().state, Run.objects.get().state), ("lost", "running"))
        with mock.patch("dynamikos.fleet.coordinator.losing.LOST_CLOSE_S", 0):
            watch.look(may_judge_lost=True)
        run = Run.objects.get(pk=self.run_made.pk)
        self.assertEqual((run.state, run.outcome["exit_code"], run.watermark), ("ended", 3, 11))
        self.assertIn("was lost", run.outcome["doubts"][0])
        self.assertContains(self.client.get(self.sample.address(f"runs/{run.pk}")), "was lost")

    def test_the_tape_reads_frames_by_the_names_that_the_server_gives(self) -> None:
        self.deliver(3, last=False)
        page = self.client.get(self.sample.address(f"runs/{self.run_made.pk}"))
        told = page.context["tape"]
        self.assertEqual(list(told["fields"]), list(Frame.__struct_fields__))
        self.assertEqual({len(frame) for frame in told["frames"]}, {len(Frame.__struct_fields__)})
        folder = Path(__file__).parents[2] / "src/dynamikos/web/ui/static/ui/tape"
        script = "".join(file.read_text() for file in folder.glob("*.js"))
        used = set(re.findall(r"\bat\.(\w+)", script)) - {"second"}
        self.assertGreater(len(used), 10)
        self.assertLessEqual(used, set(Frame.__struct_fields__))
        document = (Path(__file__).parents[2] / "docs/stream.md").read_text()
        self.assertEqual(
            [name for name in Frame.__struct_fields__ if f"`{name}`" not in document], []
        )

    def test_two_runs_at_once_are_refused(self) -> None:
        answer = self.client.post(
            self.sample.address(f"load/{self.sample.plan.pk}/start"), {"sure": "1"}
        )
        self.assertContains(answer, "Every generator is busy with run 1", status_code=422)
        self.assertEqual(Run.objects.count(), 1)

    def test_a_run_that_can_not_be_read_keeps_nobody_from_stopping_the_others(self) -> None:
        target = AgreedTarget.objects.filter(environment=self.sample.environment).first()
        assert target is not None
        newer = orjson.dumps({**orjson.loads(bytes(self.run_made.frozen)), "form": 99})
        lost = Run.objects.create(
            project=self.sample.project,
            plan=self.sample.plan,
            number=99,
            name="Newer",
            frozen=newer,
            sha256="0",
            asked_by=self.sample.member.account,
        )
        self.assertEqual(actions.stop_all(self.sample.member, target.pk), 1)
        self.assertEqual([each.run_id for each in Command.objects.all()], [self.run_made.pk])
        self.assertFalse(lost.commands.exists())
        plan = self.sample.plan
        looked = preflight.look(self.sample.member, plan, plans.content(plan))
        self.assertEqual(
            [each.place for each in looked.findings if each.what == "Other runs"],
            [f"run:{self.run_made.number}"],
        )

    def test_the_next_of_a_set_has_a_number_of_its_own(self) -> None:
        Run.objects.filter(pk=self.run_made.pk).update(
            of_set=self.run_made.pk, set_size=3, ending=plain(FINISHED)
        )
        made = actions.next_of_set(Run.objects.get(pk=self.run_made.pk))
        assert made is not None
        self.assertEqual(
            (made.number, made.set_place, made.of_set),
            (self.run_made.number + 1, 2, self.run_made.pk),
        )
        Run.objects.filter(pk=self.run_made.pk).update(ending=plain(NOW))
        self.assertIsNone(actions.next_of_set(Run.objects.get(pk=self.run_made.pk)))
        Run.objects.filter(pk=self.run_made.pk).update(ending=plain(FINISHED))
        Command.objects.create(
            run=self.run_made, verb="stop-gently", asked_by=self.sample.member.account
        )
        self.assertIsNone(
            actions.next_of_set(Run.objects.get(pk=self.run_made.pk)), "stopped in its last second"
        )

    def test_stop_is_a_numbered_command(self) -> None:
        self.client.post(self.sample.address(f"runs/{self.run_made.pk}/stop-gently"))
        self.assertEqual(
            [command.verb for command in self.run_made.commands.all()], ["stop-gently"]
        )


class Starting(TestCase):
    def setUp(self) -> None:
        self.sample = Sample()
        self.client.force_login(self.sample.accounts["bran"])

    def start(self):  # type: ignore[no-untyped-def]
        return self.client.post(
            self.sample.address(f"load/{self.sample.plan.pk}/start"), {"sure": "1"}
        )

    def test_two_rounds_are_asked_for_before_a_run(self) -> None:
        generator()
        place = self.sample.address(f"load/{self.sample.plan.pk}/start")

        def why() -> str:
            answer = self.client.post(place)
            self.assertEqual((answer.status_code, Run.objects.count()), (200, 0))
            self.assertContains(answer, "Start all the same")
            found = [
                each.said
                for each, _ in answer.context["findings"]
                if each.what.startswith("Rehearsed")
            ]
            return " ".join(found)

        self.assertIn("not rehearsed since", why())
        rehearsals.ask(self.sample.member, self.sample.journey, rounds=2, until="sign-out")
        Rehearsal.objects.update(state="passed")
        self.assertIn("Only a part of it passed (rehearsal 1)", why())
        Rehearsal.objects.update(rounds=1)
        self.assertIn("passed in one round (rehearsal 1)", why())
        rehearsals.ask(self.sample.member, self.sample.journey, rounds=2)
        Rehearsal.objects.filter(state="asked").update(state="failed")
        self.assertIn("(2) did not pass", why())
        Rehearsal.objects.filter(number=2).update(state="passed")
        self.assertIn("Every journey has passed", why())
        self.assertEqual(self.client.post(place, {"sure": "1"}).status_code, 302)
        self.assertEqual(Run.objects.count(), 1)

    def test_what_stands_in_the_way_is_said(self) -> None:
        self.assertContains(self.start(), "No generator is there", status_code=422)
        generator()
        self.sample.environment.targets.all().delete()
        self.assertContains(self.start(), "No target is agreed", status_code=422)
        self.sample.data.delete()
        self.assertContains(self.start(), "no data set &#x27;observers&#x27;", status_code=422)
        self.assertEqual(Run.objects.count(), 0)

    def test_frozen_inputs_hold_values_and_hashes(self) -> None:
        generator()
        self.assertEqual(self.start().status_code, 302)
        frozen = queries.frozen(Run.objects.get())
        self.assertEqual(frozen.data[0].rows, 2000)
        self.assertEqual(len(frozen.data[0].blocks), 2)
        self.assertEqual(str(frozen.agreed[0]), "http://127.0.0.1:9")
        self.assertNotIn(b"fell-", bytes(Run.objects.get().frozen))  # no password of a row

    def test_plan_page_follows_its_fields(self) -> None:
        address = self.sample.address(f"load/{self.sample.plan.pk}")
        fields = {
            "parent": token(self.sample.plan.head),
            "name": "Evening",
            "crowd": ["users"],
            "c0-row": ["users", ""],
            "c0-journey": [self.sample.journey.key, ""],
            "c0-row-name": ["", ""],
            "c0-share": ["100", ""],
            "environment": "practice-target",
            "c0-stretch": ["climb", "hold"],
            "c0-to": ["40", ""],
            "c0-seconds": ["10", "50"],
            "c0-steps": ["", ""],
            "c0-points": ["", ""],
            "objective": ["x"],
            "measure": ["p95"],
            "step": [""],
            "limit": ["300"],
        }
        answer = self.client.post(address, fields, headers={"HX-Request": "true"})
        self.assertContains(answer, "40 users at most, 01:00, 1 objective")
        core = plans.content(plans.plan(self.sample.member, self.sample.plan.pk))
        self.assertEqual((core.profile[0].to, core.objectives[0].limit), (40, 300))
        self.client.force_login(self.sample.accounts["ada"])
        stale = self.client.post(
            address, {**fields, "name": "Other"}, headers={"HX-Request": "true"}
        )
        self.assertContains(stale, "changed meanwhile", status_code=409)
        wrong = self.client.post(
            address, {**fields, "limit": ["much"]}, headers={"HX-Request": "true"}
        )
        self.assertContains(wrong, "is not a number", status_code=422)
        self.assertContains(wrong, "much", status_code=422)

    def test_every_page_has_the_strict_policy(self) -> None:
        policy = self.client.get(self.sample.address("journeys")).headers["Content-Security-Policy"]
        self.assertNotIn("unsafe", policy)
        self.assertIn("default-src 'none'", policy)

    def test_report_key_ignores_a_repeated_message(self) -> None:
        generator()
        self.start()
        shard = Shard.objects.create(run=Run.objects.get(), number=0)
        Report.objects.bulk_create(
            [Report(shard=shard, second=0, body=b"a")] * 2, ignore_conflicts=True
        )
        self.assertEqual(Report.objects.count(), 1)
