"""Strands in a project: searching, accepting, dismissing, rules, further recordings."""

from pathlib import Path

from django.urls import reverse

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import write_journey
from dynamikos.web.datasets.models import DataSet
from dynamikos.web.datasets.queries import page as page_of
from dynamikos.web.journeys.actions import create_from_recording
from dynamikos.web.journeys.models import Journey
from dynamikos.web.journeys.queries import content
from dynamikos.web.projects.models import Event
from dynamikos.web.projects.revisions import Stale, token
from dynamikos.web.recordings.actions import import_har, import_several
from dynamikos.web.recordings.models import Recording
from dynamikos.web.rehearsals.history import changed_since_passed
from dynamikos.web.rehearsals.models import Rehearsal
from dynamikos.web.strands import actions, queries
from dynamikos.web.strands.models import Rule
from tests.web.support import Sample, TestCase

EXAMPLES = Path(__file__).resolve().parents[2] / "examples"
TARGET = "http://127.0.0.1:8470"


class Strands(TestCase):
    @classmethod
    def setUpTestData(cls) -> None:
        cls.sample = Sample()
        cls.member = cls.sample.project.memberships.get(account__username="bran")
        cls.first = (EXAMPLES / "evening-session.har").read_bytes()
        cls.second = (EXAMPLES / "second-evening.har").read_bytes()

    def setUp(self) -> None:
        recording = import_har(self.member, self.first, "evening-session.har")
        self.journey = create_from_recording(self.member, recording, "Evening", [TARGET])
        self.client.force_login(self.member.account)

    def address(self, name: str) -> str:
        return reverse(name, args=[self.sample.project.pk, self.journey.pk])

    def stored(self) -> Journey:
        return Journey.objects.get(pk=self.journey.pk)

    def test_two_recordings_prove_and_all_is_taken(self) -> None:
        actions.add_recording(
            self.member, self.journey, self.second, "second-evening.har", lambda share: None
        )
        told: list[float] = []
        found = actions.search(self.member, self.journey, told.append)
        self.assertEqual(found.evidence, ["evening-session.har", "second-evening.har"])
        self.assertGreater(len(told), 5)
        page = self.client.get(self.address("strands"))
        self.assertContains(page, "values that the server issues are still hard-wired")
        self.assertContains(
            page, "issued in the answer of “Sign in”, different each time, sent in 2 requests"
        )
        before = Recording.objects.get(pk=self.journey.recording_id).exchanges.count()
        answer = self.client.post(
            self.address("strands-accept"), {"all": "1", "parent": token(self.stored().head)}
        )
        self.assertEqual(answer.status_code, 302)
        text = write_journey(content(self.stored()))
        for part in (
            "{{ form_key }}",
            "{{ sight }}",
            "decode: base64",
            "{{ make.uuid }}",
            "pick: random",
        ):
            self.assertIn(part, text)
        self.assertNotIn("{{ welcome }}", text)
        self.assertContains(self.client.get(self.address("strands")), "Taken into the journey")
        self.assertEqual(
            Recording.objects.get(pk=self.journey.recording_id).exchanges.count(), before
        )
        self.assertTrue(Event.objects.filter(what="strands accepted").exists())
        rows = queries.rows(self.stored(), content(self.stored()), found, set())
        self.assertTrue(
            all(row.taken for row in rows if row.strand.proven and not row.strand.followed)
        )

    def taken(self, **asked: str) -> str:
        """The journey as text after an acceptance."""
        parent = token(self.stored().head)
        answer = self.client.post(self.address("strands-accept"), {**asked, "parent": parent})
        self.assertEqual(answer.status_code, 302)
        return write_journey(content(self.stored()))

    def test_one_recording_shows_nothing_of_what_scripts_make(self) -> None:
        actions.search(self.member, self.journey)
        before = write_journey(content(self.stored()))
        text = self.taken(all="1")
        self.assertNotIn("make.", text)
        page = self.client.get(self.address("strands"))
        self.assertContains(page, "stay as recorded, because nothing shows yet")
        self.assertIn("make.uuid", self.taken(fresh="1"))
        self.assertContains(self.client.get(self.address("strands")), "Undo the acceptance")
        self.assertEqual(self.client.post(self.address("strands-undo")).status_code, 302)
        self.assertEqual(write_journey(content(self.stored())), text)
        again = self.client.post(self.address("strands-undo"))  # only the last one
        self.assertContains(again, "was changed since the values were accepted", status_code=422)
        self.assertNotEqual(text, before)

    def rehearsed(self, state: str) -> Rehearsal:
        journey = self.stored()
        return Rehearsal.objects.create(
            journey=journey,
            number=journey.rehearsals.count() + 1,
            revision=journey.head,
            state=state,
            frozen=b"",
            rows=b"",
        )

    def test_a_rehearsal_that_got_worse_says_what_was_accepted(self) -> None:
        actions.search(self.member, self.journey)
        self.rehearsed("passed")
        self.taken(all="1")
        worse = self.rehearsed("failed")
        found = changed_since_passed(worse)
        assert found is not None
        self.assertEqual(found[0].number, 1)
        self.assertIn("accepted ", found[1][0])
        self.assertIn("form_key", found[1][0])
        page = self.client.get(self.address("strands"))
        self.assertContains(page, "Rehearsal 2 failed. Rehearsal 1 passed, before: accepted")
        # silent: it failed before already, nothing was changed, or it passes
        self.assertIsNone(changed_since_passed(self.rehearsed("failed")))
        self.rehearsed("passed")
        self.assertIsNone(changed_since_passed(self.rehearsed("failed")))
        self.assertIsNone(changed_since_passed(self.rehearsed("passed")))

    def test_places_that_stay_as_recorded_are_counted(self) -> None:
        actions.add_recording(
            self.member, self.journey, self.second, "second-evening.har", lambda share: None
        )
        found = actions.search(self.member, self.journey)
        strand = next(
            each
            for each in queries.strands_of(found)
            if each.kind == "issued" and each.proven and len(each.uses) > 1 and not each.followed
        )
        parent = token(self.stored().head)
        data = {"name": strand.name, "use": ["0"], "parent": parent}
        self.assertEqual(self.client.post(self.address("strands-accept"), data).status_code, 302)
        rows = queries.rows(self.stored(), content(self.stored()), found, set())
        row = next(row for row in rows if row.strand.name == strand.name)
        self.assertTrue(row.taken)
        self.assertEqual(row.left, len(strand.uses) - 1)
        page = self.client.get(self.address("strands"))
        self.assertContains(page, f"still as recorded in {row.left} of {len(strand.uses)} places")

    def test_one_strand_with_another_form_and_one_ticked_place(self) -> None:
        actions.search(self.member, self.journey)
        answer = self.client.post(
            self.address("strands-accept"),
            {"name": "form_key", "form": "1", "use": ["0"], "parent": token(self.stored().head)},
        )
        self.assertEqual(answer.status_code, 302)
        text = write_journey(content(self.stored()))
        self.assertEqual(text.count("{{ form_key }}"), 1)
        self.assertNotIn(
            'selector: "input[name=\\"form_key\\"]"', text
        )  # the second form was chosen

    def test_wrong_turns_say_what_to_do_and_change_nothing(self) -> None:
        parent = token(self.stored().head)
        for data, what in (
            ({"all": "1"}, "Search first"),
            ({"name": "form_key", "use": ["0"]}, "Search first"),
        ):
            self.assertContains(
                self.client.post(self.address("strands-accept"), {**data, "parent": parent}),
                what,
                status_code=422,
            )
        actions.search(self.member, self.journey)
        self.assertContains(
            self.client.post(
                self.address("strands-accept"), {"name": "form_key", "parent": parent}
            ),
            "No place is ticked",
            status_code=422,
        )
        self.assertContains(
            self.client.post(self.address("strands-accept"), {"name": "gone", "parent": parent}),
            "search again",
            status_code=422,
        )
        self.assertEqual(
            self.client.post(
                self.address("strands-accept"), {"all": "1", "parent": "0:stale"}
            ).status_code,
            409,
        )
        self.assertEqual(token(self.stored().head), parent)
        with self.assertRaises(Stale):
            actions.take(self.member, self.journey, "0:stale", [])
        with self.assertRaises(DynamikosError):
            actions.set_rule(self.member, "", "issued", ignore=False)

    def test_dismissed_is_remembered_by_the_next_search(self) -> None:
        found = actions.search(self.member, self.journey)
        name = next(each.name for each in queries.strands_of(found) if each.kind == "issued")
        self.client.post(self.address("strands-dismiss"), {"name": name})
        again = actions.search(self.member, self.journey)
        self.assertNotIn(
            name,
            [
                row.strand.name
                for row in queries.rows(self.journey, content(self.journey), again, set())
            ],
        )
        self.client.post(self.address("strands-dismiss"), {"restore": "1"})
        self.assertIn(
            name,
            [
                row.strand.name
                for row in queries.rows(self.journey, content(self.journey), again, set())
            ],
        )

    def test_rules_hold_for_the_next_search_of_the_project(self) -> None:
        self.client.post(self.address("strands-rule"), {"name": "hold_token", "kind": "ignore"})
        self.client.post(self.address("strands-rule"), {"name": "night", "kind": "typed"})
        self.assertContains(
            self.client.post(self.address("strands-rule"), {"name": "x", "kind": "sold"}),
            "is not a kind",
            status_code=422,
        )
        found = {
            each.name: each
            for each in queries.strands_of(actions.search(self.member, self.journey))
        }
        self.assertNotIn("hold_token", found)
        self.client.post(self.address("strands-rule"), {"drop": "hold_token"})
        self.assertEqual([rule.name for rule in Rule.objects.all()], ["night"])
        self.assertIn(
            "hold_token",
            {each.name for each in queries.strands_of(actions.search(self.member, self.journey))},
        )

    def test_each_form_is_tried_on_every_recording(self) -> None:
        actions.add_recording(
            self.member, self.journey, self.second, "second-evening.har", lambda share: None
        )
        found = actions.search(self.member, self.journey)
        strand = next(each for each in queries.strands_of(found) if each.name == "form_key")
        made = queries.alternatives(strand, found.evidence)
        self.assertGreaterEqual(len(made), 2)
        for alternative in made:
            self.assertEqual([right for _, _, right in alternative.matches], [True, True])
        values = [value for _, value, _ in made[0].matches]
        self.assertNotEqual(values[0], values[1])

    def test_the_panel_keeps_what_it_does_not_show(self) -> None:
        """Editing a request beside the ladder must not lose a capture's pick or decoding."""
        actions.add_recording(
            self.member, self.journey, self.second, "second-evening.har", lambda share: None
        )
        found = actions.search(self.member, self.journey)
        actions.take(self.member, self.journey, token(self.stored().head), actions.proven(found))
        core = content(self.stored())
        step, request = next(
            (s, r)
            for _, s in core.steps()
            for r in s.requests
            if any(c.pick == "random" for c in r.captures)
        )
        from dynamikos.web.journeys.forms import capture_rows, captures_from

        data = {
            f"capture-{key}": [row[key] for row in capture_rows(request)]
            for key in ("name", "form", "what", "more", "pick", "decode")
        }
        from django.http import QueryDict

        form = QueryDict(mutable=True)
        for key, values in data.items():
            form.setlist(key, values)
        self.assertEqual(captures_from(form), request.captures)
        self.assertTrue(step.step)

    def attempt(self, name: str, form: str, what: str, more: str = "", pick: str = "") -> str:
        data = {
            "name": name,
            "form": "own",
            "capture-name": name,
            "capture-form": form,
            "capture-what": what,
            "capture-more": more,
            "capture-pick": pick,
            "capture-decode": "",
        }
        return self.client.post(self.address("strands-attempt"), data).content.decode()

    def test_a_capture_of_ones_own_is_tried_as_it_is_written_and_taken(self) -> None:
        actions.add_recording(
            self.member, self.journey, self.second, "second-evening.har", lambda share: None
        )
        actions.search(self.member, self.journey)
        right = self.attempt("form_key", "regex", 'name="(form_key)" value="([^"]+)"', "2")
        self.assertEqual(right.count("the right one"), 2)  # in both recordings
        self.assertIn('data-group="2"', right)
        self.assertEqual(
            self.attempt("form_key", "regex", 'name="(form_key)" value="([^"]+)"', "1").count(
                "another value"
            ),
            2,
        )
        self.assertIn("not a regular expression", self.attempt("form_key", "regex", "(open"))
        self.assertIn("nothing found", self.attempt("form_key", "css", "input[name=none]", "value"))
        self.assertIn("Write where the value stands", self.attempt("form_key", "css", " "))
        own = {
            "name": "form_key",
            "form": "own",
            "use": "0",
            "parent": token(self.stored().head),
            "capture-name": "form_key",
            "capture-form": "between",
            "capture-more": '"',
            "capture-pick": "",
            "capture-decode": "",
        }
        self.assertEqual(
            self.client.post(
                self.address("strands-accept"), {**own, "capture-what": 'name="form_key" value="'}
            ).status_code,
            302,
        )
        self.assertIn("between:", write_journey(content(self.stored())))
        self.assertContains(
            self.client.post(self.address("strands-accept"), {**own, "capture-what": ""}),
            "Write where",
            status_code=422,
        )

    def test_typed_values_go_into_data(self) -> None:
        actions.add_recording(
            self.member, self.journey, self.second, "second-evening.har", lambda share: None
        )
        actions.search(self.member, self.journey)
        typed = [
            each
            for each in queries.strands_of(queries.search_of(self.journey))
            if each.kind == "typed"
        ]  # type: ignore[arg-type]
        email = next(each for each in typed if "@" in each.value)
        self.assertEqual(queries.fitting_columns(self.journey, email)[0], ("observers.email", True))
        page = self.client.get(self.address("strands"), {"kind": "typed", "at": email.name})
        self.assertContains(page, "observers.email · holds this value")
        # a value that no column holds has none proposed
        other = next(
            each
            for each in typed
            if not any(fits for _, fits in queries.fitting_columns(self.journey, each))
        )
        page = self.client.get(self.address("strands"), {"kind": "typed", "at": other.name})
        self.assertContains(
            page, '<option value="" selected>choose one: none holds this value</option>', html=True
        )
        nothing = {
            "name": other.name,
            "parent": token(self.stored().head),
            "use": ["0"],
            "column": "",
        }
        self.assertContains(
            self.client.post(self.address("strands-typed"), nothing),
            "Choose the column",
            status_code=422,
        )
        one = {
            "name": email.name,
            "parent": token(self.stored().head),
            "use": ["0"],
            "column": "observers.email",
        }
        self.assertContains(
            self.client.post(self.address("strands-typed"), {**one, "column": "no.such"}),
            "no column",
            status_code=422,
        )
        self.assertEqual(self.client.post(self.address("strands-typed"), one).status_code, 302)
        self.assertIn("{{ observers.email }}", write_journey(content(self.stored())))
        self.client.post(
            self.address("strands-typed"), {"all": "1", "parent": token(self.stored().head)}
        )
        made = DataSet.objects.exclude(pk=self.sample.data.pk).get()
        self.assertEqual(made.columns, [each.name for each in typed])
        rows = page_of(made, 0)
        self.assertEqual(len(rows), 2)  # what was typed in each recording
        self.assertEqual(rows[0], [each.value for each in typed])
        password = next(each for each in typed if "passw" in each.name)
        self.assertIn(
            f"{{{{ {made.key}.{password.name} }}}}", write_journey(content(self.stored()))
        )

    def test_a_value_marked_in_a_recorded_answer_is_followed(self) -> None:
        core = content(self.stored())
        page = next(
            r
            for _, s in core.steps()
            for r in s.requests
            if r.address.endswith("/sign-in") and r.method == "GET"
        )
        form = next(
            r
            for _, s in core.steps()
            for r in s.requests
            if r.address.endswith("/sign-in") and r.method == "POST"
        )
        assert form.body is not None and form.body.form is not None
        key = dict(form.body.form)["form_key"]
        answer = self.client.post(
            self.address("strands-by-hand"), {"entry": str(page.recorded), "text": f" {key}\n"}
        )
        self.assertRedirects(answer, self.address("strands") + "?at=form_key")
        shown = self.client.get(self.address("strands") + "?at=form_key")
        self.assertContains(shown, "Was marked by hand")
        self.client.post(
            self.address("strands-accept"),
            {
                "name": "form_key",
                "form": "0",
                "use": ["0", "1"],
                "parent": token(self.stored().head),
            },
        )
        self.assertIn("{{ form_key }}", write_journey(content(self.stored())))
        for entry, text, words in (
            (str(page.recorded), "never sent", "is not sent in any later request"),
            ("", "x", "no recorded answer"),
        ):
            wrong = self.client.post(
                self.address("strands-by-hand"), {"entry": entry, "text": text}
            )
            self.assertContains(wrong, words, status_code=422)

    def test_a_search_that_nobody_waits_for_ends(self) -> None:
        begun: list[float] = []

        def progress(share: float) -> None:
            begun.append(share)
            raise DynamikosError("Stopped")

        with self.assertRaisesRegex(DynamikosError, "Stopped"):
            actions.search(self.member, self.journey, progress)
        self.assertEqual(len(begun), 1)
        self.assertIsNone(queries.search_of(self.journey))

    def test_several_files_at_once_are_recordings_of_one_journey(self) -> None:
        before = Recording.objects.count()
        with self.assertRaisesRegex(
            DynamikosError, "broken.har: .* Nothing of the 2 files was taken in"
        ):
            import_several(
                self.member, [(self.first, "a.har"), (b"{", "broken.har")], lambda share: None
            )
        self.assertEqual(Recording.objects.count(), before)
        told: list[float] = []
        first, second = import_several(
            self.member, [(self.first, "a.har"), (self.second, "b.har")], told.append
        )
        self.assertEqual(told, sorted(told))
        journeys = reverse("journeys", args=[self.sample.project.pk])
        address = f"{journeys}/from/{first.pk}?other={second.pk}&other=nonsense"
        self.assertContains(
            self.client.get(address), "Further recordings of the same journey: b.har"
        )
        self.client.post(address, {"name": "Both", "origin": TARGET})
        made = Journey.objects.get(name="Both")
        self.assertEqual([each.name for each in made.others.all()], ["b.har"])
        self.assertEqual(actions.search(self.member, made).evidence, ["a.har", "b.har"])
