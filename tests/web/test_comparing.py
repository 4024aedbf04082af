"""The list of runs as a log, and runs compared on their page, from a shell, and with what can't be
compared.
"""

import uuid

import numpy as np
from django.urls import reverse
from msgspec import to_builtins
from msgspec.structs import replace

from dynamikos.core.comparison import compare
from dynamikos.core.comparison.side import KeptLine, Key
from dynamikos.core.figures import milliseconds
from dynamikos.core.frozen import canonical, every_series
from dynamikos.core.objectives import Objective
from dynamikos.web.plans import queries as plans
from dynamikos.web.plans.actions import change
from dynamikos.web.projects.revisions import token
from dynamikos.web.runs import baselines, comparing, log
from dynamikos.web.runs.models import Baseline, Chunk, Minute, Report, Run, Second, Shard
from dynamikos.web.streams.models import Message
from tests.web.performed import begun, ended, reported
from tests.web.support import PageCase, Sample
from tests.web.test_runs import generator

SECONDS = 190


class Two(PageCase):
    """Run 1, and run 2 with one of its three steps half as slow again and an objective more."""

    one: Run
    two: Run
    step: str

    @classmethod
    def setUpTestData(cls) -> None:
        cls.sample = sample = Sample()
        generator()
        run, frozen = begun(sample, SECONDS)
        cls.step = [each for each in every_series(frozen) if each.level == "step"][1].step
        draw = np.random.default_rng(3)
        reported(run, frozen, SECONDS, lambda each, at: 1.0, draw)
        cls.one = ended(run)
        plan = type(sample.plan).objects.get(pk=sample.plan.pk)
        more = Objective(objective="more", measure="p99", limit=900)
        change(
            sample.member,
            plan,
            token(plan.head),
            objectives=(*plans.content(plan).objectives, more),
        )
        sample.plan.refresh_from_db()
        run, frozen = begun(sample, SECONDS)
        reported(run, frozen, SECONDS, lambda each, at: 1.5 if each.step == cls.step else 1.0, draw)
        cls.two = ended(run)

    def page(self, **given: object):  # type: ignore[no-untyped-def]
        return self.client.get(reverse("compare-runs", args=[self.sample.project.pk]), given)


class Compared(Two):
    def test_the_step_that_was_slowed_is_named_and_no_other(self) -> None:
        page = self.page(run=[self.one.pk, self.two.pk])
        found = page.context["found"]
        self.assertEqual((found.word, found.exit_code), ("worse", 1))
        worse = {each.wanted.key[2] for each in found.differences if each.word == "worse"}
        self.assertEqual(worse, {self.step})
        self.assertContains(page, "objective p99 of all steps ≤ 900 ms: new")
        self.assertContains(page, "One run against one: a worsening of 30 % is tolerated")

    def test_sides_are_chosen_and_turned_round(self) -> None:
        page = self.page(run=[self.one.pk, self.two.pk], a=self.two.pk, b=self.one.pk)
        self.assertIn(page.context["found"].word, ("not worse", "inconclusive"))  # two short runs
        self.assertContains(self.page(run=self.one.pk), "Choose two or more runs")

    def test_what_can_not_be_compared_says_why_and_keeps_what_was_typed(self) -> None:
        Run.objects.filter(pk=self.two.pk).update(state="running")
        page = self.page(run=[self.one.pk, self.two.pk])
        self.assertContains(page, "is not over, or nothing came of it")
        page = self.page(run=[self.one.pk], tolerate="much")
        self.assertContains(page, "much", status_code=422)
        for odd in ("x", "", str(uuid.uuid4()), "\u0661"):
            self.assertEqual(self.page(run=odd, a=odd).status_code, 200)

    def test_kept_figures_say_what_reading_says(self) -> None:
        fine = comparing.read(self.one), comparing.read(self.two)
        for run in (self.one, self.two):
            Run.objects.filter(pk=run.pk).update(figures=to_builtins(comparing.figures(run)))
        kept = [comparing.one_run(Run.objects.get(pk=run.pk)) for run in (self.one, self.two)]
        self.assertIsInstance(next(iter(kept[0].lines.values())), KeptLine)
        by_kept, by_reading = compare(kept[:1], kept[1:]), compare(fine[:1], fine[1:])
        self.assertEqual(by_kept.sentence, by_reading.sentence)
        self.assertEqual(
            [each.name for each in by_kept.differences],
            [each.name for each in by_reading.differences],
        )
        for one, other in zip(
            (*by_kept.differences, *by_kept.others),
            (*by_reading.differences, *by_reading.others),
            strict=True,
        ):
            for name in ("a", "b", "change", "low", "high", "smallest", "p"):
                self.assertAlmostEqual(getattr(one, name) or 0, getattr(other, name) or 0, 9, name)

    def test_what_the_other_sides_objectives_ask_for_is_read_of_both(self) -> None:
        """p90 is not kept, and requests only where a run's own objectives are about them."""
        Run.objects.filter(pk=self.one.pk).update(figures=to_builtins(comparing.figures(self.one)))
        inputs = comparing.queries.frozen(self.two)
        request = next(
            each
            for each in every_series(inputs)
            if each.level == "request" and each.step == self.step
        )
        about = {"step": request.step, "request": request.request}
        for asked in (
            Objective(objective="o", measure="p90", limit=900),
            Objective(objective="o", measure="mean", limit=900, **about),
        ):
            frozen = replace(inputs, plan=replace(inputs.plan, objectives=(asked,)))
            Run.objects.filter(pk=self.two.pk).update(frozen=canonical(frozen))
            figures = to_builtins(comparing.figures(Run.objects.get(pk=self.two.pk)))
            Run.objects.filter(pk=self.two.pk).update(figures=figures)
            page = self.page(run=[self.one.pk, self.two.pk])
            told = [
                each
                for each in page.context["found"].differences
                if each.wanted.measure == asked.measure
                and (asked.request is None or each.wanted.key[3] == asked.request)
            ]
            self.assertTrue(told)
            for each in told:
                self.assertIsNotNone(each.a, each.reason)
                self.assertIsNotNone(each.b, each.reason)

    def test_figures_are_those_of_all_values(self) -> None:
        found = comparing.one_run(self.one)
        line = next(each for key, each in found.lines.items() if key[2] == self.step)
        self.assertEqual(line.n, 6 * (SECONDS - 10))
        mean = line.figure("mean")
        assert mean is not None
        self.assertAlmostEqual(mean.value, float(line.sum_us.sum()) / line.n / 1000)

    def test_longer_runs_are_taken_by_minutes(self) -> None:
        fine = comparing.one_run(self.one)
        before, comparing.FINE_S = comparing.FINE_S, 60
        try:
            coarse = comparing.one_run(self.one)
        finally:
            comparing.FINE_S = before
        key = next(key for key in fine.lines if key[2] == self.step)
        self.assertEqual(coarse.lines[key].unit_s, 60)
        self.assertEqual(coarse.lines[key].n, 6 * 120)  # the whole minutes of the measured part
        self.assertEqual(compare([coarse], [fine]).word, "inconclusive")  # two minutes are no ten

    def test_the_log_says_what_was_different_and_finds(self) -> None:
        address = reverse("runs", args=[self.sample.project.pk])
        self.assertEqual(self.one.differs, None)
        self.assertEqual((self.two.differs or [""])[-1], "objective p99 of all steps ≤ 900 ms: new")
        self.assertContains(self.client.get(address), "p99 of all steps ≤ 900 ms: new")
        Run.objects.filter(pk=self.one.pk).update(tags="night", remark="before the index")
        for words, numbers in (
            ("night", [1]),
            ("index before", [1]),
            ("900", [2]),
            ("20", [2, 1]),
            ("nowhere", []),
        ):
            with self.subTest(words):
                found = self.client.get(address, {"q": words}).context["lines"]
                self.assertEqual([each.run.number for each in found], numbers)
        self.assertEqual(len(self.client.get(address, {"verdict": "met"}).context["lines"]), 2)
        self.assertEqual(len(self.client.get(address, {"verdict": "missed"}).context["lines"]), 0)
        self.assertEqual(len(self.client.get(address, {"starred": "1"}).context["lines"]), 0)

    def test_a_report_has_the_figures_of_the_page_and_is_one_file(self) -> None:
        rows = [
            {"level": "step", "name": "Find a slot", "step": "s", "count": 20_000, "p95_ms": 123.0}
        ]
        outcome = {"ended": "finished", "exit_code": 0, "rows": rows, "from_s": 10.0, "to_s": 190.0}
        Run.objects.filter(pk=self.two.pk).update(outcome=outcome, findings=[])
        for form, kind in (("html", "text/html"), ("md", "text/markdown")):
            answer = self.client.get(
                reverse("run-report", args=[self.sample.project.pk, self.two.pk, form])
            )
            self.assertIn(kind, answer["Content-Type"])
            self.assertIn("attachment", answer["Content-Disposition"])
            for said in (
                "123 ms",
                "the run before it",
                "p99 of all steps ≤ 900 ms: new",
                "Find a slot",
            ):
                self.assertContains(answer, said)
        other = reverse("run-report", args=[self.sample.project.pk, self.two.pk, "exe"])
        self.assertEqual(self.client.get(other).status_code, 404)
        Run.objects.filter(pk=self.one.pk).update(state="running")
        early = self.client.get(
            reverse("run-report", args=[self.sample.project.pk, self.one.pk, "html"])
        )
        self.assertContains(early, "nothing to tell yet", status_code=422)

    def test_key_figures_of_a_line(self) -> None:
        rows = [
            {"level": "request", "count": 80, "failures": 2, "per_s": 8.0},
            {"level": "request", "count": 20, "failures": 0, "per_s": 2.0},
            {"level": "step", "name": "Slow", "p95_ms": 300.0},
            {"level": "step", "name": "Fast", "p95_ms": 20.0},
            {"level": "step", "name": "Few", "p95_ms": None},
        ]
        line = log.lines([Run(number=3, outcome={"rows": rows})])[0]
        self.assertEqual(
            (line.per_s, line.failed, line.slowest, line.p95_ms), (10.0, 2.0, "Slow", 300.0)
        )
        nothing = log.lines([Run(number=4)])[0]
        self.assertEqual(
            (nothing.per_s, nothing.failed, nothing.p95_ms, nothing.lasted_s), (None,) * 4
        )

    def test_a_plan_that_can_not_be_compared_with_stands_in_nobodys_way(self) -> None:
        Run.objects.filter(pk=self.two.pk).update(frozen=b"{}")
        core = plans.content(self.sample.plan)
        frozen = comparing.queries.frozen(self.one)
        self.assertIsNone(log.differs_from_before(self.sample.plan, replace(frozen, plan=core)))


class Kept(Two):
    """The log put in order, what goes into the archive, and what is deleted."""

    def away(self, *runs: Run, **typed: object):  # type: ignore[no-untyped-def]
        address = reverse("runs-away", args=[self.sample.project.pk])
        return self.client.post(f"{address}?{'&'.join(f'run={each.pk}' for each in runs)}", typed)

    def numbers(self, **given: object) -> list[int]:
        page = self.client.get(reverse("runs", args=[self.sample.project.pk]), given)
        return [each.run.number for each in page.context["lines"]]

    def test_chosen_runs_become_a_set_and_leave_it(self) -> None:
        def asked(*runs: Run, **typed: object):  # type: ignore[no-untyped-def]
            address = reverse("runs-set", args=[self.sample.project.pk])
            way = self.client.post if typed else self.client.get
            return way(f"{address}?{'&'.join(f'run={each.pk}' for each in runs)}", typed)

        self.assertContains(asked(self.one, self.two), "Make them a set")
        other = Run.objects.create(
            project=self.sample.project, number=3, name="AAA", frozen=b"{}", sha256=""
        )
        for runs, said in (
            ((self.one,), "two runs or more"),
            ((self.one, other), "Run 3 is not over"),
            ((), "No run is chosen"),
        ):
            self.assertContains(asked(*runs), said)
        Run.objects.filter(pk=other.pk).update(state="ended")
        self.assertContains(asked(self.one, other, do="make"), "not of one plan", status_code=422)
        self.assertEqual(asked(self.one, self.two, do="make").status_code, 302)
        page = self.client.get(reverse("runs", args=[self.sample.project.pk]))
        self.assertContains(page, "run 2 of a set of 2</span>")
        one = Run.objects.get(pk=self.one.pk)
        self.assertEqual([each.pk for each in baselines.whole(one)], [self.one.pk, self.two.pk])
        self.assertContains(asked(one, do="make"), "two runs or more", status_code=422)
        self.assertContains(asked(one, self.two, do="make"), "is of a set already", status_code=422)
        self.assertContains(asked(one), "1 run of a set of 2")
        self.assertEqual(asked(one, do="leave").status_code, 302)
        self.assertEqual(set(Run.objects.values_list("of_set", "set_size")), {(None, 1)})
        self.assertContains(asked(one, do="leave"), "not of one set", status_code=422)

    def test_sorted_by_a_key_figure_with_those_without_it_last(self) -> None:
        for run, p95 in ((self.one, 300.0), (self.two, 20.0)):
            rows = [{"level": "step", "name": "S", "p95_ms": p95}]
            Run.objects.filter(pk=run.pk).update(outcome={"exit_code": 0, "rows": rows})
        Run.objects.create(
            project=self.sample.project, number=3, name="AAA", frozen=b"{}", sha256=""
        )
        self.assertEqual(self.numbers(), [3, 2, 1])
        self.assertEqual(self.numbers(down="0"), [1, 2, 3])
        self.assertEqual(self.numbers(sort="slowest"), [1, 2, 3])
        self.assertEqual(self.numbers(sort="slowest", down="0"), [2, 1, 3])
        self.assertEqual(self.numbers(sort="plan", down="0")[0], 3)
        self.assertEqual(self.numbers(sort="nonsense"), [3, 2, 1])

    def test_a_note_is_written_in_its_line_and_the_rest_stays(self) -> None:
        Run.objects.filter(pk=self.one.pk).update(tags="night", is_starred=True)
        address = reverse("run-note", args=[self.sample.project.pk, self.one.pk])
        self.assertEqual(self.client.post(address, {"text": "before the index"}).status_code, 200)
        found = Run.objects.get(pk=self.one.pk)
        self.assertEqual(
            (found.remark, found.tags, found.is_starred), ("before the index", "night", True)
        )
        self.assertContains(
            self.client.get(reverse("runs", args=[self.sample.project.pk])), "before the index"
        )
        long = "x" * 100_000
        self.assertContains(
            self.client.post(address, {"text": long}), "signs at most", status_code=422
        )

    def test_archived_runs_are_whole_and_come_back(self) -> None:
        self.away(self.one, do="archive")
        self.assertEqual((self.numbers(), self.numbers(archived="1")), ([2], [1]))
        self.assertEqual(
            self.client.get(reverse("run", args=[self.sample.project.pk, self.one.pk])).status_code,
            200,
        )
        self.away(self.one, do="back")
        self.assertEqual(self.numbers(), [2, 1])
        Run.objects.filter(pk=self.two.pk).update(state="running")
        self.assertContains(self.away(self.two, do="archive"), "is not over", status_code=422)

    def test_deleted_by_number_with_everything_and_nothing_of_others(self) -> None:
        before = {
            kind: kind.objects.filter(run=self.two).count()
            for kind in (Chunk, Shard, Second, Minute)
        }
        self.assertTrue(Message.objects.filter(subject=self.one.pk).exists())
        baseline = Baseline.objects.create(plan=self.sample.plan)
        baseline.runs.set([self.one, self.two])
        page = self.away(self.one, do="delete", sure="2")
        self.assertContains(page, "write their numbers: 1", status_code=422)
        self.assertContains(page, 'value="2"', status_code=422)
        Run.objects.filter(pk=self.one.pk).update(state="running")
        self.assertContains(
            self.away(self.one, do="delete", sure="1"), "is not over", status_code=422
        )
        Run.objects.filter(pk=self.one.pk).update(state="ended")
        self.assertEqual(self.away(self.one, do="delete", sure=" 1 ").status_code, 302)
        self.assertEqual(self.numbers(), [2])
        self.assertFalse(Report.objects.filter(shard__run=self.one.pk).exists())
        self.assertFalse(Message.objects.filter(subject=self.one.pk).exists())
        self.assertEqual([each.number for each in baseline.runs.all()], [2])
        for kind, count in before.items():
            self.assertFalse(kind.objects.filter(run=self.one.pk).exists())
            self.assertEqual(kind.objects.filter(run=self.two).count(), count)

    def test_a_reader_may_do_neither_and_odd_choices_are_none(self) -> None:
        address = reverse("runs-away", args=[self.sample.project.pk])
        self.assertContains(self.client.get(address, {"run": "x"}), "No run is chosen")
        self.client.force_login(self.sample.accounts["cass"])
        self.assertEqual(self.away(self.one, do="delete", sure="1").status_code, 403)
        self.assertTrue(Run.objects.filter(pk=self.one.pk).exists())


class Laid(Two):
    """What is drawn of two sides, and of runs that follow each other."""

    def test_both_sides_on_one_clock_with_their_times_and_failures(self) -> None:
        rows = [{"level": "request", "name": "get-slots", "count": 90, "kinds": {"status 500": 3}}]
        Run.objects.filter(pk=self.two.pk).update(outcome={"exit_code": 0, "rows": rows})
        key = f"{self.one_key[1]}/{self.one_key[2]}"
        given = {"run": [self.one.pk, self.two.pk], "key": key}
        page = self.client.get(reverse("compare-over", args=[self.sample.project.pk]), given)
        lanes = page.context["tapes"]
        self.assertEqual([lane.title for lane, _ in lanes][:2], ["Users", "Exchanges"])
        self.assertTrue(all(whose == ["a", "b"] and len(lane.paths) == 2 for lane, whose in lanes))
        told = {(side, name): text for side, _, name, text in page.context["times"].percentiles}
        for side, run in (("a", self.one), ("b", self.two)):
            whole = comparing.read(run).lines[self.one_key].whole
            self.assertEqual(told[side, "p95"], milliseconds((whole.percentile_us(95) or 0) / 1000))
        self.assertContains(page, "status 500")
        nothing = self.client.get(
            reverse("compare-over", args=[self.sample.project.pk]), {"run": "x"}
        )
        self.assertEqual((nothing.status_code, nothing.context["times"]), (200, None))

    @property
    def one_key(self) -> Key:
        return next(key for key in comparing.one_run(self.one).lines if key[2] == self.step)

    def test_a_trend_has_a_point_for_each_run_and_says_where_its_level_changed(self) -> None:
        address = reverse("runs-trend", args=[self.sample.project.pk])
        self.assertContains(self.client.get(address), "Nothing to draw yet")
        figures = to_builtins(comparing.figures(self.one))
        for number in range(3, 11):
            times = 1.5 if number > 6 else 1.0 + 0.001 * number
            more = [{**each, "value": each["value"] * times} for each in figures]
            Run.objects.create(
                project=self.sample.project,
                plan=self.sample.plan,
                number=number,
                name="r",
                frozen=b"{}",
                sha256="",
                state="ended",
                figures=more,
                differs=["engine 1 → 2"],
                outcome={"doubts": ["late"]} if number == 4 else {},
            )
        page = self.client.get(address, {"measure": "p95"})
        line = next(each for each in page.context["lines"] if each.name == self.name_of(figures))
        self.assertEqual([each.run.number for each in line.points], list(range(3, 11)))
        self.assertEqual([each.run.number for each in line.points if not each.is_counted], [4])
        self.assertEqual([each.since.number for each in line.changes], [7])
        self.assertContains(page, "engine 1 → 2")
        chosen = Run.objects.filter(number__in=[3, 5]).values_list("pk", flat=True)
        self.assertEqual(len(self.client.get(address, {"run": list(chosen)}).context["runs"]), 2)
        Run.objects.filter(number=3).update(figures=[{"odd": 1}])
        self.assertEqual(self.client.get(address).status_code, 200)

    def name_of(self, figures: list[dict[str, object]]) -> object:
        return next(each["name"] for each in figures if each["step"] == self.step)


class Baselines(Two):
    """Accepting one: who, when and why, bounds of it, and what can be none."""

    def accept(self, run: Run, **typed: object):  # type: ignore[no-untyped-def]
        return self.client.post(
            reverse("run-baseline", args=[self.sample.project.pk, run.pk]), typed
        )

    def valid(self, run: Run) -> None:
        rows = [
            {
                "level": "step",
                "journey": "evening-booking",
                "step": self.step,
                "name": "S",
                "p95_ms": 100.0,
            },
            {
                "level": "step",
                "journey": "evening-booking",
                "step": "other",
                "name": "O",
                "p95_ms": None,
            },
        ]
        outcome = {"ended": "finished", "exit_code": 0, "rows": rows}
        Run.objects.filter(pk=run.pk).update(outcome=outcome)

    def test_bounds_become_objectives_that_name_it_and_a_later_one_replaces_them(self) -> None:
        self.valid(self.one)
        self.accept(self.one, why="as it was in production", warn="1.1", fail="1.5")
        found = {
            each.objective: each
            for each in plans.content(type(self.sample.plan).objects.get()).objectives
        }
        warn, fail = found[f"baseline-1-warn-{self.step}"], found[f"baseline-1-fail-{self.step}"]
        self.assertEqual((warn.limit, warn.then, fail.limit, fail.then), (110, "warn", 150, "fail"))
        self.assertIn("more", found)
        page = self.client.get(reverse("run", args=[self.sample.project.pk, self.two.pk]))
        self.assertContains(page, "as it was in production")
        self.assertContains(page, "Compare with it")
        self.valid(self.two)
        self.accept(self.two, fail="2")
        keys = [
            each.objective
            for each in plans.content(type(self.sample.plan).objects.get()).objectives
        ]
        self.assertEqual(
            [key for key in keys if key.startswith("baseline")], [f"baseline-2-fail-{self.step}"]
        )

    def test_what_can_be_none_says_why_and_what_was_typed_stays(self) -> None:
        Run.objects.filter(pk=self.one.pk).update(outcome={"exit_code": 3})
        self.assertContains(self.accept(self.one, why="Mine"), "is not judged", status_code=422)
        self.assertContains(self.accept(self.one, why="Mine"), "Mine", status_code=422)
        self.valid(self.one)
        self.assertContains(
            self.accept(self.one, warn="2", fail="1.5"), "turn them round", status_code=422
        )
        self.assertContains(self.accept(self.one, warn="a lot"), "a lot", status_code=422)
        Run.objects.filter(pk=self.one.pk).update(is_trial=True)
        self.assertContains(self.accept(self.one), "is a trial", status_code=422)
        self.assertFalse(Baseline.objects.exists())

    def test_a_baseline_whose_run_was_deleted_counts_no_more(self) -> None:
        for run in (self.one, self.two):
            self.valid(run)
            self.accept(run)
        plan = self.sample.plan.pk
        self.assertEqual([each.number for each in baselines.current(plan).runs.all()], [2])  # type: ignore[union-attr]
        self.two.delete()
        self.assertEqual([each.number for each in baselines.current(plan).runs.all()], [1])  # type: ignore[union-attr]
        self.one.delete()
        self.assertIsNone(baselines.current(plan))
