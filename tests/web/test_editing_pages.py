"""Pages around the ladder: think times, revisions, find, pasted requests, HAR files, switches."""

import json

from django.urls import reverse

from dynamikos.core.exchanges import read_har
from dynamikos.web.journeys.queries import content
from dynamikos.web.projects.revisions import token
from dynamikos.web.recordings.models import Recording
from tests.web.support import PageCase


class Pages(PageCase):
    def edit(self, **data: str) -> int:
        return self.client.post(
            self.address("journey-edit"), {"parent": token(self.stored().head), **data}
        ).status_code

    def test_think_times_on_one_screen(self) -> None:
        self.assertContains(
            self.client.get(self.address("journey-thinking")), "s of thinking on average"
        )
        answer = self.client.post(
            self.address("journey-thinking"),
            {"kind": "log-normal", "value": "2", "to": "6", "parent": token(self.stored().head)},
        )
        self.assertEqual(answer.status_code, 302)
        core = content(self.stored())
        self.assertTrue(
            all(
                step.think == "log-normal" and step.think_to_s == 6
                for _, step in core.steps()
                if step.think_s
            )
        )
        wrong = self.client.post(
            self.address("journey-thinking"),
            {"kind": "even", "value": "5", "to": "2", "parent": token(self.stored().head)},
        )
        self.assertContains(wrong, "the longest must be more than 5 s; it is 2 s", status_code=422)
        self.assertEqual(
            self.client.post(
                self.address("journey-thinking"), {"kind": "fixed", "value": "1", "parent": "0:old"}
            ).status_code,
            409,
        )

    def test_revisions_show_the_difference_and_are_restored(self) -> None:
        before = content(self.stored())
        self.assertEqual(self.edit(at="browse-sky", what="switch"), 200)
        self.assertTrue(
            next(s for _, s in content(self.stored()).steps() if s.step == "browse-sky").off
        )
        page = self.client.get(self.address("journey-revisions"))
        self.assertContains(page, "<ins>+     off: true</ins>", html=False)
        self.client.post(
            self.address("journey-revisions"),
            {"revision": "1", "parent": token(self.stored().head)},
        )
        self.assertEqual(content(self.stored()), before)
        self.assertEqual(self.stored().head.number, 3)  # type: ignore[union-attr]
        missing = self.client.post(
            self.address("journey-revisions"),
            {"revision": "99", "parent": token(self.stored().head)},
        )
        self.assertContains(missing, "There is no revision 99", status_code=422)

    def test_split_merge_duplicate_from_the_panel(self) -> None:
        steps = len(list(content(self.stored()).steps()))
        self.assertEqual(self.edit(at="sign-in/post-sign-in", what="split"), 200)
        self.assertEqual(len(list(content(self.stored()).steps())), steps + 1)
        self.assertEqual(self.edit(at="sign-in", what="merge"), 200)
        self.assertEqual(self.edit(at="sign-in", what="duplicate"), 200)
        self.assertEqual(len(list(content(self.stored()).steps())), steps + 1)
        self.assertEqual(self.edit(at="front-page/get-front", what="split"), 422)

    def test_find_a_text_in_everything_recorded(self) -> None:
        page = self.client.get(self.address("journey-find"), {"q": "SKYtoken"})
        self.assertContains(page, "<mark>skyToken</mark>")
        self.assertContains(page, "answer&#x27;s body")
        self.assertContains(
            self.client.get(self.address("journey-find"), {"q": "zzz-none"}), "Nothing holds it"
        )

    def test_pasted_requests_become_a_journey(self) -> None:
        paste = reverse("paste", args=[self.sample.project.pk])
        answer = self.client.post(
            paste,
            {"text": "curl http://127.0.0.1:9/a\ncurl http://127.0.0.1:9/b -d x=1", "name": "Two"},
        )
        made = Recording.objects.get(name="Two")
        self.assertRedirects(
            answer, f"{reverse('journeys', args=[self.sample.project.pk])}/from/{made.pk}"
        )
        self.assertEqual(made.count, 2)
        wrong = self.client.post(paste, {"text": "curl 'oops", "name": "Kept"})
        self.assertContains(wrong, "quotation mark", status_code=422)
        self.assertContains(
            wrong, "curl &#x27;oops", status_code=422
        )  # what was typed is still there
        self.assertContains(
            self.client.post(paste, {"text": ""}), "Nothing was pasted", status_code=422
        )

    def test_a_recording_as_a_har_file(self) -> None:
        answer = self.client.get(
            reverse("recording-file", args=[self.sample.project.pk, self.sample.recording.pk])
        )
        self.assertIn("evening-session.har", answer["Content-Disposition"])
        again = read_har(answer.content)
        self.assertEqual(len(again.exchanges), self.sample.recording.count)
        self.assertEqual(json.loads(answer.content)["log"]["version"], "1.2")
