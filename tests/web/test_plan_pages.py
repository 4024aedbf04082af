"""What is around a plan: personas, its text, copies, a pasted sheet, mended shares, suggested
objectives.
"""

import re
from typing import Any

from django.http import QueryDict
from django.urls import reverse
from msgspec.structs import replace

from dynamikos.core.journeys import Journey
from dynamikos.core.journeys.editing import change_request
from dynamikos.core.objectives import Judgement, Objective
from dynamikos.core.personas import Patience
from dynamikos.core.plans import CrowdRow, Plan, write_plan
from dynamikos.core.profiles import peak
from dynamikos.core.reports import Row
from dynamikos.core.verdicts.outcome import OUTCOME, Outcome
from dynamikos.web.journeys import queries as journeys
from dynamikos.web.journeys.actions import change as change_journey
from dynamikos.web.journeys.actions import create as create_journey
from dynamikos.web.places.models import Generator
from dynamikos.web.plans import actions, forms, objective_fields, personas, queries
from dynamikos.web.plans.models import LoadPlan, Persona
from dynamikos.web.projects.actions import create_project
from dynamikos.web.projects.models import Revision
from dynamikos.web.projects.revisions import token
from dynamikos.web.runs import queries as run_queries
from dynamikos.web.runs.models import Run
from tests.web.support import PageCase
from tests.web.test_crowds import posted
from tests.web.test_runs import generator


class PlanCase(PageCase):
    def plan(self) -> Plan:
        return queries.content(LoadPlan.objects.get(pk=self.sample.plan.pk))

    def plan_head(self) -> Revision | None:
        return LoadPlan.objects.get(pk=self.sample.plan.pk).head

    def at(self, name: str, pk: object = None) -> str:
        return reverse(name, args=[self.sample.project.pk, pk or self.sample.plan.pk])

    def rows(self) -> list[CrowdRow]:
        return [row for crowd in self.plan().everybody() for row in crowd.rows]


class Personas(PlanCase):
    def fields(self, **more: str) -> dict[str, str]:
        return {
            "name": "Phone",
            "factor": "1.5",
            "patience": "8",
            "then": "reload",
            "reloads": "2",
            **more,
        }

    def test_made_changed_used_beside_another_copied_and_deleted(self) -> None:
        self.client.post(reverse("personas", args=[self.sample.project.pk]), {"name": "Phone"})
        found = Persona.objects.get()
        self.client.post(
            self.at("persona", found.pk),
            self.fields(line="town radio", visit="return", cookies="a=b"),
        )
        core = personas.content(Persona.objects.get())
        self.assertEqual(
            (core.pace.factor, core.patience), (1.5, Patience(seconds=8, then="reload", reloads=2))
        )
        self.assertEqual(core.visit.cookies if core.visit else (), (("a", "b"),))
        self.client.post(self.at("persona-copy", found.pk), {"name": "Tablet"})
        both = [str(each.pk) for each in Persona.objects.all()]
        page = self.client.get(reverse("personas", args=[self.sample.project.pk]), {"beside": both})
        self.assertContains(page, "Side by side")
        self.assertContains(page, "town radio")
        row = replace(self.rows()[0], persona="phone")
        crowd = replace(self.plan().everybody()[0], rows=(row,))
        changed = self.plan().with_crowds((crowd,))
        parts = {"journey": changed.journey, "profile": changed.profile, "crowds": changed.crowds}
        actions.change(self.sample.member, self.sample.plan, token(self.sample.plan.head), **parts)
        refused = self.client.post(self.at("persona-delete", found.pk), {"sure": "Phone"})
        self.assertContains(refused, "is used in", status_code=422)
        Persona.objects.all().delete()
        self.assertContains(
            self.client.get(self.at("plan")), "persona &#x27;phone&#x27; is not in this project"
        )

    def test_what_can_not_be_taken_stays_as_it_was_typed(self) -> None:
        found = personas.create(self.sample.member, "Phone")
        for given, words in (
            ({"patience": "soon"}, "Waits for a step"),
            ({"patience": "0"}, "more than 0"),
            ({"headers": "no pair"}, "is no pair"),
            ({"line": "own"}, "needs figures"),
            ({"connections": "900"}, "Connections to each origin"),
        ):
            with self.subTest(words):
                answer = self.client.post(
                    self.at("persona", found.pk), self.fields(note="keep me", **given)
                )
                self.assertContains(answer, words, status_code=422)
                self.assertContains(answer, "keep me", status_code=422)
        answer = self.client.post(
            self.at("persona", found.pk), {"text": "form: 1\npersona: phone\npase: 3\n"}
        )
        self.assertContains(answer, "pase", status_code=422)
        self.client.post(
            self.at("persona", found.pk),
            {"text": "form: 1\npersona: phone\nname: Slow\nclient: phone\n"},
        )
        self.assertEqual(Persona.objects.get().name, "Slow")
        other = self.client.post(
            self.at("persona", found.pk), {"text": "form: 1\npersona: other\n"}
        )
        self.assertContains(other, "The key of a persona stays", status_code=422)


class Text(PlanCase):
    def test_taken_refused_and_what_changed(self) -> None:
        page = self.client.get(self.at("plan-text"))
        parent = page.context["token"]
        text = write_plan(replace(self.plan(), name="By hand"))
        self.assertEqual(
            self.client.post(self.at("plan-text"), {"text": text, "parent": parent}).status_code,
            302,
        )
        self.assertEqual(self.plan().name, "By hand")
        page = self.client.get(self.at("plan-text"))
        self.assertContains(page, "+ name: By hand")
        wrong = text.replace("seconds", "secconds")
        refused = self.client.post(
            self.at("plan-text"), {"text": wrong, "parent": page.context["token"]}
        )
        self.assertContains(refused, "secconds", status_code=422)
        stale = self.client.post(
            self.at("plan-text"), {"text": text.replace("By hand", "Late"), "parent": parent}
        )
        self.assertContains(stale, "Late", status_code=409)
        self.assertEqual(self.plan().name, "By hand")

    def test_copied_here_and_into_another_project(self) -> None:
        self.client.post(self.at("plan-copy"), {"name": "Twin"})
        self.assertEqual(LoadPlan.objects.get(name="Twin").project, self.sample.project)
        other = create_project(self.sample.accounts["bran"], "Other Fell")
        answer = self.client.post(
            self.at("plan-copy"), {"name": "Away", "into": str(other.project_id)}
        )
        self.assertEqual(LoadPlan.objects.get(name="Away").project, other.project)
        self.assertContains(self.client.get(answer["Location"]), "is not in this project any more")
        foreign = self.client.post(
            self.at("plan-copy"), {"into": str(self.sample.foreign.project_id)}
        )
        self.assertContains(foreign, "You can change no such project", status_code=422)


class Sheet(PlanCase):
    def test_two_mistakes_are_said_mended_and_the_shares_made_a_hundred(self) -> None:
        create_journey(
            self.sample.member, replace(journeys.content(self.sample.journey), name="Sky"), None
        )
        name = self.sample.journey.name
        sheet = "Who\tJourney\tCount\nBrowsers\tSki\t4,000\n"
        sheet += f"Observers\t{name}\tmany\nStaff\t{name}\t12\n"
        columns = {"name": "0", "journey": "1", "persona": "", "share": "2"}
        page = self.client.post(self.at("plan-sheet"), {"sheet": sheet})
        self.assertContains(page, "Which column is what?")
        page = self.client.post(self.at("plan-sheet"), {"sheet": sheet, "take": "1", **columns})
        self.assertContains(page, "2 lines to look at")
        self.assertContains(page, "no journey “Ski”")
        self.assertContains(page, "“many” is no share")
        self.assertEqual(len(self.rows()), 1)
        better = sheet.replace("Ski", "Sky").replace("many", "350")
        self.client.post(self.at("plan-sheet"), {"sheet": better, "take": "1", **columns})
        self.assertEqual([row.share for row in self.rows()], [4000, 350, 12])
        self.assertContains(self.client.get(self.at("plan")), "the shares come to 4362, not 100")
        self.client.post(self.at("plan-mend"), {"what": "sum", "lock": []})
        self.assertAlmostEqual(sum(row.share for row in self.rows()), 100)
        self.client.post(self.at("plan-mend"), {"what": "twice"})
        self.assertEqual(len(self.rows()), 2)
        another = {
            "crowd": "late",
            "rows": (CrowdRow(row="staff", journey=self.rows()[0].journey),),
        }
        both = self.plan().with_crowds(
            (*self.plan().everybody(), replace(self.plan().everybody()[0], **another))
        )
        actions.change(
            self.sample.member, self.sample.plan, token(self.plan_head()), crowds=both.crowds
        )
        self.client.post(self.at("plan-sheet"), {"sheet": better, "take": "1", **columns})
        self.assertEqual(
            [row.row for row in self.rows()], ["browsers", "observers", "staff-2", "staff"]
        )
        refused = self.client.post(self.at("plan-mend"), {"what": "everything"})
        self.assertContains(refused, "nothing that can be mended", status_code=422)
        self.assertContains(
            self.client.post(self.at("plan-sheet"), {"sheet": " "}), "is empty", status_code=422
        )


class Caches(PlanCase):
    def test_what_is_chosen_is_taken_and_shown(self) -> None:
        before = self.plan()
        for chosen, becomes in (("round", "round"), ("user", "user"), ("all", "none")):
            sent = posted(before)
            sent["name"], sent["environment"] = before.name, before.environment
            sent["cache"] = chosen
            self.assertEqual(forms.changes(sent, before)["cache"], becomes)
        self.assertContains(self.client.get(self.at("plan")), '<option value="none" selected>')
        actions.change(self.sample.member, self.sample.plan, token(self.plan_head()), cache="round")
        self.assertContains(self.client.get(self.at("plan")), '<option value="round" selected>')


class Folding(PlanCase):
    def test_of_many_objectives_some_are_open_and_saving_keeps_all(self) -> None:
        core = queries.content(self.sample.plan)
        many = tuple(
            Objective(
                objective=f"o{at}",
                measure="p95",
                limit=100 + at / 3,
                step="confirm" if at % 2 else None,
                every_s=10 if at % 5 == 0 else None,
                missed_allowed=2.5 if at % 5 == 0 else 0.0,
                grace_s=at % 3,
                then="warn" if at % 7 == 0 else "fail",
                from_start=at % 5 == 0,
            )
            for at in range(200)
        )
        plan = actions.add(
            self.sample.member, replace(core, plan="many", name="Many", objectives=many)
        )
        address = reverse("plan", args=[self.sample.project.pk, plan.pk])
        page, whole = (self.client.get(address + query) for query in ("", "?open=objectives"))
        self.assertContains(page, "160 more objectives")
        self.assertNotContains(whole, "more objectives")
        self.assertLess(len(page.content), len(whole.content) / 2)
        sent = QueryDict(mutable=True)
        shown = objective_fields.shown(queries.content(plan), {})
        for each in shown:
            for name, value in each.typed:
                sent.appendlist(name, value)
        read = objective_fields.objectives_from(sent)
        self.assertEqual([replace(each, limit=round(each.limit, 6)) for each in read],
                         [replace(each, limit=round(each.limit, 6)) for each in many])  # fmt: skip
        hidden = re.findall(
            r'<input type="hidden" name="limit" value="([^"]*)">', page.content.decode()
        )
        self.assertEqual(hidden, [dict(each.typed)["limit"] for each in shown[40:]])


class Beginning(PlanCase):
    def test_a_plan_begins_from_a_purpose(self) -> None:
        given = {
            "journey": self.sample.journey.key,
            "name": "Limit",
            "start": "stairs",
            "stairs-users": "80",
        }
        self.client.post(reverse("plans", args=[self.sample.project.pk]), given)
        core = queries.content(LoadPlan.objects.get(name="Limit"))
        self.assertEqual((core.cache, self.plan().cache), ("user", "none"))  # stored as it was
        self.assertEqual((core.everybody()[0].seats, core.objectives[1].then), (80, "stop gently"))
        page = self.client.get(
            reverse("plan", args=[self.sample.project.pk, LoadPlan.objects.get(name="Limit").pk])
        )
        self.assertContains(page, "8 of 8 levels of load last the ")
        self.assertContains(page, "the limit can be told.")
        none = self.client.post(
            reverse("plans", args=[self.sample.project.pk]), {**given, "stairs-users": "0"}
        )
        self.assertContains(none, "needs users", status_code=422)

    def test_objectives_from_a_run_times_a_factor(self) -> None:
        rows = [
            Row(level="step", journey="evening-booking", step="front-page", p95_ms=101.0),
            Row(level="step", journey="evening-booking", step="confirm", max_ms=37.0),
            Row(level="request", step="front-page", request="x", p95_ms=1.0),
        ]
        outcome: Any = OUTCOME.plain(Outcome(rows=rows, judgements=[Judgement()]))
        run = Run.objects.create(
            project=self.sample.project,
            plan=self.sample.plan,
            number=1,
            name="r",
            frozen=b"{}",
            sha256="",
            state="ended",
            outcome=outcome,
        )
        before = len(self.plan().objectives)
        self.assertContains(self.client.get(self.at("plan")), "run 1")
        self.client.post(self.at("plan-suggest"), {"source": f"run:{run.pk}", "factor": "1.5"})
        made = {each.step: each.limit for each in self.plan().objectives[before:]}
        self.assertEqual(
            made, {"front-page": 160.0, "confirm": 56.0}
        )  # 151.5 and 55.5, on two digits upwards
        again = self.client.post(
            self.at("plan-suggest"), {"source": f"run:{run.pk}", "factor": "1.5"}
        )
        self.assertContains(again, "Nothing to suggest", status_code=422)
        self.assertTrue(
            all(re.fullmatch(r"[a-z0-9-]+", each.objective) for each in self.plan().objectives)
        )

    def test_how_many_a_generator_carries_is_told_by_the_run_that_kept_it_busiest(self) -> None:
        def ended(number: int, share: float, carries: int) -> None:
            outcome: Any = OUTCOME.plain(Outcome(carries=carries, processor_share=share))
            Run.objects.create(
                project=self.sample.project,
                plan=self.sample.plan,
                number=number,
                name="r",
                frozen=b"{}",
                sha256="",
                state="ended",
                outcome=outcome,
            )

        plan = LoadPlan.objects.get(pk=self.sample.plan.pk)
        after = queries.follows_of(plan, self.plan())
        assert after is not None
        self.assertIsNone(queries.carries(plan, after))
        generator()
        Generator.objects.update(capacity=int(50 * after.exchanges_per_s / after.users) + 1)
        told = queries.carries(plan, after)
        assert told is not None
        self.assertEqual((told.may_be_more, told.by), (False, "by what it did when it was busy"))
        for number, share, carries in ((1, 0.12, 9), (2, 0.05, 3)):
            ended(number, share, carries)
        told = queries.carries(plan, after)
        assert told is not None
        self.assertEqual(
            (told.users, told.may_be_more, told.needed), (9, True, -(-after.to_carry // 9))
        )
        self.assertContains(
            self.client.get(self.at("plan")), "by run 1, which took 12 % of a processor core"
        )
        ended(3, 0.45, 31)
        ended(4, 0.1, 5)
        told = queries.carries(plan, after)
        assert told is not None
        self.assertEqual((told.users, told.may_be_more), (31, False))
        for number in range(5, 10):
            ended(number, 0.04, 2)
        told = queries.carries(plan, after)
        assert told is not None
        self.assertEqual(told.users, 2, "of the last five")
        for number in range(10, 15):
            ended(number, 0.0, 7)  # of an earlier day
        told = queries.carries(plan, after)
        assert told is not None
        self.assertEqual((told.by, told.may_be_more), ("by run 14", True))


class Crowds(PlanCase):
    def test_one_is_copied_here_and_into_a_plan_of_another_project(self) -> None:
        key = self.plan().everybody()[0].crowd
        self.client.post(self.at("plan-crowd-copy"), {"crowd": key})
        self.assertEqual(len(self.plan().everybody()), 2)
        other = create_project(self.sample.accounts["bran"], "Other Fell")
        there = actions.copy(self.sample.member, self.sample.plan, "There", other)
        self.assertContains(self.client.get(self.at("plan")), "Other Fell:")
        answer = self.client.post(self.at("plan-crowd-copy"), {"crowd": key, "into": str(there.pk)})
        self.assertIn(str(other.project_id), answer["Location"])
        self.assertEqual(len(queries.content(LoadPlan.objects.get(pk=there.pk)).everybody()), 2)
        foreign = actions.copy(self.sample.member, self.sample.plan, "Foreign", self.sample.foreign)
        refused = self.client.post(
            self.at("plan-crowd-copy"), {"crowd": key, "into": str(foreign.pk)}
        )
        self.assertContains(refused, "You can change no such plan", status_code=422)
        refused = self.client.post(self.at("plan-crowd-copy"), {"crowd": "gone"})
        self.assertContains(refused, "not in the plan any more", status_code=422)

    def test_what_is_not_proven_or_not_checked_is_said_and_mended(self) -> None:
        journey = self.sample.journey

        def bare(core: Journey) -> Journey:
            core = change_request(
                core, "find-slot", core.find_step("find-slot").requests[-1].request, captures=()
            )
            for request in core.find_step("find-slot").requests:
                core = change_request(core, "find-slot", request.request, checks=(), captures=())
            return core

        change_journey(self.sample.member, journey, token(journey.head), bare, label="")
        name = (
            queries.scripts_of(self.sample.plan, self.plan())[journey.key]
            .find_step("find-slot")
            .name
        )
        page = self.client.get(self.at("plan"))
        self.assertContains(page, "It was not rehearsed since it was last changed.")
        self.assertContains(page, f"nothing is checked in {name}")
        self.client.post(self.at("plan-mend"), {"what": f"unchecked:{journey.key}"})
        self.assertNotContains(self.client.get(self.at("plan")), "nothing is checked")
        checks = journeys.content(self.stored()).find_step("find-slot").requests[-1].checks
        self.assertEqual([each.status for each in checks], [200])
        refused = self.client.post(self.at("plan-mend"), {"what": "unchecked:gone"})
        self.assertContains(refused, "not in this project any more", status_code=422)
        refused = self.client.post(self.at("plan-mend"), {"what": f"unrehearsed:{journey.key}"})
        self.assertContains(refused, "can&#x27;t be rehearsed yet", status_code=422)


class OneStart(PlanCase):
    def test_load_think_times_and_text_for_one_start(self) -> None:
        generator()
        before = self.plan()
        fields = {
            "sure": "1",
            "once_load": "50",
            "once_think": "0.5",
            "name": "Half",
            "remark": "a try",
        }
        self.assertEqual(self.client.post(self.at("start-run"), fields).status_code, 302)
        run = Run.objects.get()
        frozen = run_queries.frozen(run)
        self.assertEqual(frozen.plan.think_factor, 0.5)
        self.assertEqual(frozen.planned_peak, round(peak(before.everybody()[0].profile) / 2))
        self.assertEqual(
            (run.name, run.remark),
            ("Half", "This start only: load × 0.5, think times × 0.5.\na try"),
        )
        self.assertEqual(self.plan(), before)
        Run.objects.all().delete()
        text = write_plan(replace(before, think_factor=3.0))
        asked = self.client.post(self.at("plan-text"), {"text": text, "once": "1"})
        self.assertEqual((asked.status_code, asked["Location"]), (307, self.at("preflight")))
        page = self.client.post(self.at("preflight"), {"text": text})
        self.assertContains(page, "from a text of the plan that was changed")
        self.client.post(self.at("start-run"), {"sure": "1", "text": text})
        self.assertEqual(
            (run_queries.frozen(Run.objects.get()).plan.think_factor, self.plan()), (3.0, before)
        )

    def test_what_can_not_be_read_stays_where_it_was_typed(self) -> None:
        generator()
        for name in ("preflight", "start-run"):
            page = self.client.post(
                self.at(name), {"once_load": "half", "remark": "keep me", "sure": "1"}
            )
            self.assertContains(page, "Load, %: &#x27;half&#x27; is not a number", status_code=422)
            self.assertContains(page, "keep me", status_code=422)
        wrong = write_plan(self.plan()).replace("seconds", "secconds")
        page = self.client.post(self.at("plan-text"), {"text": wrong, "once": "1"})
        self.assertContains(page, "secconds", status_code=422)
        self.assertEqual(Run.objects.count(), 0)
