"""The list of runs as a log, and runs compared on their page, from a shell, and with what can't be compared."""

import uuid

import numpy as np
from django.urls import reverse
from msgspec.structs import replace

from dynamikos.core.comparison import compare
from dynamikos.core.frozen import every_series
from dynamikos.core.objectives import Objective
from dynamikos.web.plans import queries as plans
from dynamikos.web.plans.actions import change
from dynamikos.web.projects.revisions import token
from dynamikos.web.runs import comparing, log
from dynamikos.web.runs.models import Run
from tests.web.performed import begun, ended, reported
from tests.web.support import PageCase, Sample
from tests.web.test_runs import generator

SECONDS = 190


class Compared(PageCase):
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
        change(sample.member, plan, token(plan.head), objectives=(*plans.content(plan).objectives, more))
        sample.plan.refresh_from_db()
        run, frozen = begun(sample, SECONDS)
        reported(run, frozen, SECONDS, lambda each, at: 1.5 if each.step == cls.step else 1.0, draw)
        cls.two = ended(run)

    def page(self, **given: object):  # type: ignore[no-untyped-def]
        return self.client.get(reverse("compare-runs", args=[self.sample.project.pk]), given)

    def test_the_step_that_was_slowed_is_named_and_no_other(self) -> None:
        page = self.page(run=[self.one.pk, self.two.pk])
        found = page.context["found"]
        self.assertEqual((found.word, found.exit_code), ("worse", 1))
        worse = {each.wanted.key[2] for each in found.differences if each.word == "worse"}
        self.assertEqual(worse, {self.step})
        self.assertContains(page, "objective p99 of all steps ≤ 900 ms: new")
        self.assertContains(page, "worse here")

    def test_sides_are_chosen_and_turned_round(self) -> None:
        page = self.page(run=[self.one.pk, self.two.pk], a=self.two.pk, b=self.one.pk)
        self.assertEqual(page.context["found"].word, "not worse")
        self.assertContains(self.page(run=self.one.pk), "Choose two or more runs")

    def test_what_can_not_be_compared_says_why_and_keeps_what_was_typed(self) -> None:
        Run.objects.filter(pk=self.two.pk).update(state="running")
        page = self.page(run=[self.one.pk, self.two.pk])
        self.assertContains(page, "is not over, or nothing came of it")
        page = self.page(run=[self.one.pk], tolerate="much")
        self.assertContains(page, "much", status_code=422)
        for odd in ("x", "", str(uuid.uuid4()), "\u0661"):
            self.assertEqual(self.page(run=odd, a=odd).status_code, 200)

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
        self.assertEqual(compare([coarse], [fine]).word, "can't be said")  # two minutes are no ten

    def test_the_log_says_what_was_different_and_finds(self) -> None:
        address = reverse("runs", args=[self.sample.project.pk])
        self.assertEqual(self.one.differs, None)
        self.assertEqual((self.two.differs or [""])[-1], "objective p99 of all steps ≤ 900 ms: new")
        self.assertContains(self.client.get(address), "p99 of all steps ≤ 900 ms: new")
        Run.objects.filter(pk=self.one.pk).update(tags="night", remark="before the index")
        for words, numbers in (("night", [1]), ("index before", [1]), ("900", [2]), ("20", [2, 1]), ("nowhere", [])):
            with self.subTest(words):
                found = self.client.get(address, {"q": words}).context["lines"]
                self.assertEqual([each.run.number for each in found], numbers)
        self.assertEqual(len(self.client.get(address, {"verdict": "met"}).context["lines"]), 2)
        self.assertEqual(len(self.client.get(address, {"verdict": "missed"}).context["lines"]), 0)
        self.assertEqual(len(self.client.get(address, {"starred": "1"}).context["lines"]), 0)

    def test_key_figures_of_a_line(self) -> None:
        rows = [
            {"level": "request", "count": 80, "failures": 2, "per_s": 8.0},
            {"level": "request", "count": 20, "failures": 0, "per_s": 2.0},
            {"level": "step", "name": "Slow", "p95_ms": 300.0},
            {"level": "step", "name": "Fast", "p95_ms": 20.0},
            {"level": "step", "name": "Few", "p95_ms": None},
        ]
        line = log.lines([Run(number=3, outcome={"rows": rows})])[0]
        self.assertEqual((line.per_s, line.failed, line.slowest, line.p95_ms), (10.0, 2.0, "Slow", 300.0))
        nothing = log.lines([Run(number=4)])[0]
        self.assertEqual((nothing.per_s, nothing.failed, nothing.p95_ms, nothing.lasted_s), (None,) * 4)

    def test_a_plan_that_can_not_be_compared_with_stands_in_nobodys_way(self) -> None:
        Run.objects.filter(pk=self.two.pk).update(frozen=b"{}")
        core = plans.content(self.sample.plan)
        frozen = comparing.queries.frozen(self.one)
        self.assertIsNone(log.differs_from_before(self.sample.plan, replace(frozen, plan=core)))
