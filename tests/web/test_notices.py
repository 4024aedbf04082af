"""Who is told: what can be added, what is asked for at a run's end, and that a run never depends on
it.
"""

import datetime
from unittest.mock import patch

from django.urls import reverse
from django.utils import timezone

from dynamikos.core.verdicts.ending import plain, refused
from dynamikos.web.notices import actions
from dynamikos.web.notices.models import Notice, Sending
from dynamikos.web.projects.models import Event
from dynamikos.web.runs.models import Run
from tests.web.support import PageCase

EVERY = ["ended", "stopped", "lost"]


class Notices(PageCase):
    def setUp(self) -> None:
        super().setUp()
        self.page = reverse("notices", args=[self.sample.project.pk])
        target = self.sample.environment.targets.get()
        self.hook = f"{target.scheme}://{target.host}:{target.port}/hook"

    def add(self, **typed: object):  # type: ignore[no-untyped-def]
        return self.client.post(
            self.page, {"kind": "webhook", "to": self.hook, "event": EVERY, **typed}
        )

    def run_of(self, **more: object) -> Run:
        given = {
            "number": 1,
            "name": "Evening",
            "frozen": b"{}",
            "sha256": "",
            "plan": self.sample.plan,
            **more,
        }
        return Run.objects.create(project=self.sample.project, **given)

    def test_a_webhook_among_the_agreed_targets_and_its_key_is_shown_once(self) -> None:
        page = self.add()
        key = page.context["key"]
        self.assertGreater(len(key), 30)
        self.assertContains(page, key)
        self.assertNotContains(self.client.get(self.page), key)
        self.assertNotIn(key.encode(), bytes(Notice.objects.get().sealed))

    def test_what_can_not_be_told_says_why_and_what_was_typed_stays(self) -> None:
        for typed, said in (
            ({"to": "https://elsewhere.example/x"}, "is not an agreed target"),
            ({"to": "ftp://x"}, "no address of a"),
            ({"to": "http://[::"}, "no address of a"),
            ({"to": "http://a:b@127.0.0.1/"}, "no name and password"),
            ({"kind": "e-mail", "to": "nobody"}, "no e-mail address"),
            ({"event": []}, "at least one"),
            ({"kind": "e-mail", "to": "a@b.example\nBcc: c@d.example"}, "no e-mail address"),
            ({"kind": "pigeon"}, "a webhook or an e-mail"),
            ({"plan": "x"}, "is not in the project any more"),
        ):
            with self.subTest(typed):
                page = self.add(**typed)
                self.assertContains(page, said, status_code=422)
        self.assertContains(
            self.add(to="https://elsewhere.example/x"),
            "https://elsewhere.example/x",
            status_code=422,
        )
        self.assertFalse(Notice.objects.exists())

    def test_those_of_the_plan_and_of_any_are_told_with_the_sentence_and_the_link(self) -> None:
        other = actions.add(self.sample.member, {"kind": "e-mail", "to": "a@b.example"}, ["lost"])[
            0
        ]
        self.add(plan=str(self.sample.plan.pk))
        outcome = {"ended": "finished", "exit_code": 0, "judgements": []}
        with self.settings(ADDRESS="http://load.example/"):
            run = self.run_of(state="ended", outcome=outcome)
            self.assertEqual(actions.announce(run, "ended"), 1)
            self.assertEqual(actions.announce(run, "lost", "The generator g was lost."), 2)
            self.assertEqual(actions.announce(self.run_of(number=2, plan=None), "ended"), 0)
        told = [each.told for each in Sending.objects.order_by("pk")]
        self.assertEqual((told[0]["verdict"], told[0]["run"]), ("met", 1))
        self.assertEqual(
            told[0]["link"], f"http://load.example/p/{self.sample.project.pk}/runs/{run.pk}"
        )
        self.assertEqual(Sending.objects.filter(notice=other).count(), 1)
        actions.switch(self.sample.member, other, is_on=False)
        self.assertEqual(actions.announce(run, "lost", "x"), 1)
        self.assertContains(self.client.get(self.page), "run 1")

    def test_a_run_that_did_not_happen_says_so(self) -> None:
        self.add()
        actions.announce(
            self.run_of(state="refused", ending=plain(refused("no generator came"))), "ended"
        )
        self.assertIn("no generator came", Sending.objects.get().told["sentence"])

    def test_of_trials_nobody_is_told(self) -> None:
        self.add()
        self.assertEqual(actions.announce(self.run_of(state="ended", is_trial=True), "ended"), 0)

    def test_a_run_never_depends_on_it(self) -> None:
        self.add()
        broken = self.run_of(state="ended", outcome={"exit_code": "?"})
        with self.assertLogs("dynamikos.web.notices.actions", "ERROR"):
            self.assertEqual(actions.announce(broken, "ended"), 0)
        with (
            patch("dynamikos.web.notices.actions._told", side_effect=ValueError),
            self.assertLogs("dynamikos.web.notices.actions", "ERROR"),
        ):
            self.assertEqual(actions.announce(broken, "lost"), 0)
        self.assertEqual(Notice.objects.count(), 1)  # the transaction around it stands

    def test_a_person_has_three_tests_a_minute(self) -> None:
        self.add()
        change = reverse("notice-change", args=[self.sample.project.pk, Notice.objects.get().pk])
        codes = [self.client.post(change, {"do": "test"}).status_code for _ in range(5)]
        self.assertEqual((codes, Sending.objects.count()), ([302, 302, 302, 422, 422], 3))
        Event.objects.update(at=timezone.now() - datetime.timedelta(seconds=61))
        self.assertEqual(self.client.post(change, {"do": "test"}).status_code, 302)

    def test_a_test_tried_again_switched_and_taken_out(self) -> None:
        self.add()
        found = Notice.objects.get()
        change = reverse("notice-change", args=[self.sample.project.pk, found.pk])
        self.client.post(change, {"do": "test"})
        sending = Sending.objects.get()
        self.assertEqual((sending.event, sending.state), ("test", "waiting"))
        self.assertContains(
            self.client.get(reverse("notices-log", args=[self.sample.project.pk])), "every 1s"
        )
        Sending.objects.update(state="given up", tries=6)
        self.assertContains(self.client.get(self.page), "Try again")
        self.client.post(reverse("notice-again", args=[self.sample.project.pk, sending.pk]))
        sending.refresh_from_db()
        self.assertEqual((sending.state, sending.tries), ("waiting", 0))
        self.client.post(change, {"do": "off"})
        self.assertContains(self.client.get(self.page), "switched off")
        self.client.post(change, {"do": "remove"})
        self.assertFalse(Notice.objects.exists())
