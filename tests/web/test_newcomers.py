"""What somebody new stumbled over: nothing typed is lost in a wrong box, nothing gone turns into
something else, nothing is a dead end.
"""

from msgspec.structs import replace

from dynamikos.core.dealing import Deal
from dynamikos.core.objectives import Objective
from dynamikos.core.plans.follows import Took
from dynamikos.core.plans.follows import follows as what_follows
from dynamikos.web.datasets.actions import set_deal
from dynamikos.web.environments.models import AgreedTarget
from dynamikos.web.journeys.models import Journey
from dynamikos.web.journeys.queries import content
from dynamikos.web.plans import actions as plan_actions
from dynamikos.web.plans import queries as plans
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.revisions import token
from dynamikos.web.runs import actions as runs
from dynamikos.web.runs.models import Run
from dynamikos.web.ui.templatetags.figures import marked
from tests.web.support import PageCase
from tests.web.test_runs import generator


class Rows(PageCase):
    """A check, a capture or a pair typed into the wrong box of its row is taken from there, or it
    is said.
    """

    def typed(self, **fields: object):  # type: ignore[no-untyped-def]
        step = next(each for each in content(self.stored()).rounds if each.requests)
        request = step.requests[0]
        data = {
            "what": "request",
            "at": f"{step.step}/{request.request}",
            "method": request.method,
            "address": request.address,
            "parent": token(self.stored().head),
            "body-kind": "none",
            **fields,
        }
        answer = self.client.post(self.address("journey-edit"), data)
        found = content(self.stored()).find_step(step.step)
        assert found is not None
        return answer, next(each for each in found.requests if each.request == request.request)

    def test_a_check_in_the_wrong_box(self) -> None:
        for form, box, expected in (
            ("contains", "more", "booked"),
            ("status", "more", "201"),
            ("regex", "more", "a+"),
            ("size", "what", "7"),
            ("time", "what", "900"),
        ):
            row = {
                "check-form": [form],
                "check-what": [""],
                "check-how": [""],
                "check-more": [""],
                "check-then": ["round"],
                "check-never": [""],
            }
            row[f"check-{box}"] = [expected]
            with self.subTest(form):
                answer, request = self.typed(**row)
                self.assertEqual(answer.status_code, 200)
                self.assertIn(expected, str(getattr(request.checks[0], form)))
        for form, what, more, words in (
            ("json", "", "x", "needs a path"),
            ("contains", "a", "b", "has one box"),
            ("header", "", "x", "a header&#x27;s name"),
        ):
            with self.subTest(form):
                answer, _ = self.typed(
                    **{
                        "check-form": [form],
                        "check-what": [what],
                        "check-how": [""],
                        "check-more": [more],
                        "check-then": ["round"],
                        "check-never": [""],
                    }
                )
                self.assertContains(answer, words, status_code=422)

    def test_a_value_or_a_capture_without_a_name_is_said(self) -> None:
        answer, _ = self.typed(**{"query-name": [""], "query-value": ["7"]})
        self.assertContains(answer, "has no name yet", status_code=422)
        names = ("name", "form", "what", "more", "pick", "decode", "otherwise")
        answer, _ = self.typed(
            **{
                f"capture-{name}": [value]
                for name, value in zip(names, ("", "json", "$.a", "", "first", "", ""), strict=True)
            }
        )
        self.assertContains(answer, "has no name yet", status_code=422)


class Gone(PageCase):
    """A select that can't show its value shows it as gone, and keeps it."""

    def test_an_objective_of_a_deleted_step_stays_about_it(self) -> None:
        core = plans.content(self.sample.plan)
        core = replace(
            core,
            objectives=(Objective(objective="p95", measure="p95", limit=100, step="nowhere"),),
            journey="no-journey",
        )
        made = plan_actions.add(self.sample.member, replace(core, plan="gone"))
        page = self.client.get(self.sample.address(f"load/{made.pk}"))
        self.assertContains(
            page,
            '<option value="no-journey" selected>no-journey (not there any more)</option>',
            html=True,
        )
        made = plan_actions.add(
            self.sample.member, replace(core, plan="gone", journey=self.sample.journey.key)
        )
        page = self.client.get(self.sample.address(f"load/{made.pk}"))
        self.assertContains(
            page,
            '<option value="nowhere" selected>nowhere (not there any more)</option>',
            html=True,
        )

    def test_the_data_set_that_is_followed(self) -> None:
        self.sample.data.deal = {"follow": "elsewhere"}
        self.sample.data.save(update_fields=["deal"])
        page = self.client.get(self.sample.address(f"data/{self.sample.data.pk}"))
        self.assertContains(
            page,
            '<option value="elsewhere" selected>elsewhere (not there any more)</option>',
            html=True,
        )


class Follows(PageCase):
    def test_a_data_set_says_in_its_own_words_what_becomes_of_its_rows(self) -> None:
        self.sample.data.rows = 5
        self.sample.data.save(update_fields=["rows"])
        for deal, words, early in (
            (Deal(when="user", then="leave"), "users begin to leave", True),
            (Deal(when="user", then="stop"), "the run stops", True),
            (Deal(when="user"), "dealt again from the first", False),
            (Deal(order="at random"), "never run out", False),
        ):
            set_deal(self.sample.member, self.sample.data, deal)
            core = plans.content(self.sample.plan)
            after = plans.follows_of(self.sample.plan, core)
            assert after is not None
            scripts = plans.scripts_of(self.sample.plan, core)
            found = plans.data_follows(
                self.sample.plan, core, scripts, {core.journey: after.round_s}
            )[0]
            with self.subTest(words):
                self.assertIn(words, found.said)
                self.assertEqual(found.early, early)
                self.assertContains(
                    self.client.get(self.sample.address(f"load/{self.sample.plan.pk}")), words
                )

    def test_switched_off_steps_are_not_counted(self) -> None:
        core = plans.content(self.sample.plan)
        (script,) = plans.scripts_of(self.sample.plan, core).values()
        before = what_follows(core, {core.journey: script}, lambda key, number: Took(1000))
        off = script.mapped(
            lambda step: (
                replace(step, off=True)
                if step.requests and step.step != script.rounds[-1].step
                else step
            )
        )
        after = what_follows(core, {core.journey: off}, lambda key, number: Took(1000))
        self.assertLess(after.exchanges_per_s, before.exchanges_per_s)

    def test_undo_takes_back_one_field_at_a_time(self) -> None:
        for changes in (
            {"name": "First"},
            {"name": "Second"},
            {"grace_s": 7.0},
            {"think_factor": 3.0},
        ):
            plan_actions.change(
                self.sample.member,
                self.sample.plan,
                token(LoadPlan.objects.get(pk=self.sample.plan.pk).head),
                **changes,
            )
        seen = []
        for _ in range(3):
            found = plan_actions.undo(LoadPlan.objects.get(pk=self.sample.plan.pk))
            core = plans.content(found)
            seen.append((core.name, core.grace_s, core.think_factor))
        first = (plans.content(self.sample.plan).name, 30.0, 1.0)
        self.assertEqual(seen, [("Second", 7.0, 1.0), ("Second", 30.0, 1.0), first])


class WaysOn(PageCase):
    def test_the_first_rehearsal_offers_the_target_to_an_owner(self) -> None:
        AgreedTarget.objects.all().delete()
        address = self.address("rehearse")
        self.assertContains(self.client.post(address), "Ask an owner (ada)", status_code=422)
        self.client.force_login(self.sample.accounts["ada"])
        self.assertContains(self.client.post(address), "We have agreed to load", status_code=422)
        agree = self.sample.address(f"environments/{self.sample.environment.pk}/targets")
        back = self.client.post(
            agree, {"target": "http://127.0.0.1:9", "journey": str(self.sample.journey.pk)}
        )
        self.assertRedirects(back, self.address("journey"), fetch_redirect_response=False)
        self.assertEqual(AgreedTarget.objects.count(), 1)

    def test_journeys_and_plans_are_deleted_by_name_and_runs_stay(self) -> None:
        generator()
        run = runs.start(self.sample.member, self.sample.plan)
        plan, journey = (
            self.sample.address(f"load/{self.sample.plan.pk}/delete"),
            self.sample.address(f"journeys/{self.sample.journey.pk}/delete"),
        )
        self.assertContains(
            self.client.post(plan, {"sure": "x"}), "write its name", status_code=422
        )
        name = plans.content(self.sample.plan).name
        self.assertContains(self.client.post(plan, {"sure": name}), "is being run", status_code=422)
        Run.objects.filter(pk=run.pk).update(state="ended")
        self.assertContains(
            self.client.post(journey, {"sure": "x"}), "write its name", status_code=422
        )
        self.assertEqual(
            self.client.post(journey, {"sure": self.sample.journey.name}).status_code, 302
        )
        self.assertContains(
            self.client.get(self.sample.address(f"load/{self.sample.plan.pk}")),
            "not there any more",
        )
        self.assertEqual(self.client.post(plan, {"sure": name}).status_code, 302)
        self.assertFalse(Journey.objects.exists() or LoadPlan.objects.exists())
        self.assertEqual(self.client.get(self.sample.address(f"runs/{run.pk}")).status_code, 200)

    def test_one_think_time_is_changed_where_all_are_listed(self) -> None:
        step = content(self.stored()).rounds[-1].step
        data = {
            "step": step,
            "think_s": "4",
            "think": "even",
            "think_to_s": "9",
            "parent": token(self.stored().head),
        }
        self.assertContains(self.client.post(self.address("journey-thinking"), data), "Kept.")
        found = content(self.stored()).find_step(step)
        assert found is not None
        self.assertEqual((found.think_s, found.think, found.think_to_s), (4.0, "even", 9.0))
        self.assertEqual(
            self.client.post(
                self.address("journey-thinking"), {**data, "think_to_s": "1"}
            ).status_code,
            422,
        )

    def test_a_new_step_comes_after_what_is_selected(self) -> None:
        first = content(self.stored()).rounds[0].step
        self.client.post(
            self.address("journey-edit"),
            {
                "what": "add-step",
                "at": first,
                "name": "In between",
                "parent": token(self.stored().head),
            },
        )
        self.assertEqual([each.name for each in content(self.stored()).rounds][1], "In between")

    def test_the_nearest_place_of_a_text_is_marked(self) -> None:
        from dynamikos.core.checks.kinds.contains import nearest

        near = nearest("<p>Your slot is booked for 21:15, welcome</p>", "slot is booked for 22:30")
        self.assertEqual(
            near, "<p>Your »slot is booked for 21:15« , welcome</p>".replace("« ", "«")
        )
        self.assertEqual(nearest("abc", "xyz"), "")
        told = marked(
            f"40 bytes without it; nearest: {near}", "contains “slot is booked for 22:30”"
        )
        self.assertIn("slot is booked for 2", told)
        self.assertIn("<ins>", told)
        self.assertIn("&lt;p&gt;", told)
