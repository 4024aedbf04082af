"""Importing, editing, revisions, text form: through the addresses a browser uses."""

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import AsyncClient, TransactionTestCase

from dynamikos.web.environments.models import Environment
from dynamikos.web.journeys import queries
from dynamikos.web.journeys.models import Journey
from dynamikos.web.projects.models import Event, Revision
from dynamikos.web.projects.revisions import token
from dynamikos.web.recordings.models import RecordedExchange
from tests.web.support import SESSION, Sample, TestCase


class Importing(TransactionTestCase):
    async def upload(self, data: bytes, name: str, where: str) -> list[str]:
        from asgiref.sync import sync_to_async

        self.sample = await sync_to_async(Sample)()
        client = AsyncClient()
        await client.aforce_login(self.sample.accounts["bran"])
        answer = await client.post(
            self.sample.address(where), {"file": SimpleUploadedFile(name, data)}
        )
        if not answer.streaming:
            return [f"{answer.status_code} {answer.content.decode()}"]
        return [part.decode() async for part in answer.streaming_content]

    async def test_har_progress_and_recording(self) -> None:
        lines = "".join(await self.upload(SESSION, "again.har", "recordings"))
        self.assertIn("progress ", lines)
        address = lines.strip().split("\n")[-1].removeprefix("done ")
        client = AsyncClient()
        await client.aforce_login(self.sample.accounts["bran"])
        page = (await client.get(address)).content.decode()
        self.assertIn('value="http://127.0.0.1:8470" checked', page)
        self.assertIn('value="https://counter.visitors.example">', page)
        made = await client.post(address, {"name": "Again", "origin": ["http://127.0.0.1:8470"]})
        self.assertEqual(made.status_code, 302)
        journey = await Journey.objects.aget(name="Again")
        self.assertIn(str(journey.pk), made.headers["Location"])
        self.assertEqual(
            await RecordedExchange.objects.filter(recording__name="again.har").acount(), 39
        )
        nothing = await client.post(address, {"name": "None"})
        self.assertEqual(nothing.status_code, 422)
        self.assertIn("No host is ticked", nothing.content.decode())

    async def test_bad_files_say_why_and_store_nothing(self) -> None:
        cases = (
            (b"nonsense", "x.har", "recordings", "not JSON"),
            (b"", "x.csv", "data/import", "is empty"),
        )
        for data, name, where, words in cases:
            with self.subTest(words):
                self.assertIn(words, (await self.upload(data, name, where))[-1])
                self.assertEqual(
                    await RecordedExchange.objects.exclude(
                        recording__name="evening-session.har"
                    ).acount(),
                    0,
                )
            await self._flush()

    async def _flush(self) -> None:
        from asgiref.sync import sync_to_async

        await sync_to_async(self._fixture_teardown)()


class Editing(TestCase):
    def setUp(self) -> None:
        self.sample = Sample()
        self.client.force_login(self.sample.accounts["bran"])
        self.journey = self.sample.journey
        self.edit_address = self.sample.address(f"journeys/{self.journey.pk}/edit")

    def head(self) -> str:
        return token(queries.journeys(self.sample.member).get(pk=self.journey.pk).head)

    def core(self):  # type: ignore[no-untyped-def]
        return queries.content(queries.journeys(self.sample.member).get(pk=self.journey.pk))

    def send(self, **data: object):  # type: ignore[no-untyped-def]
        return self.client.post(
            self.edit_address, {"parent": self.head(), **data}, headers={"HX-Request": "true"}
        )

    def test_step_and_order(self) -> None:
        answer = self.send(
            at="find-slot", what="step", name="Find a free slot", think_s="2,5", part="rounds"
        )
        self.assertEqual(answer.status_code, 200)
        self.assertContains(answer, "Find a free slot")
        self.assertContains(answer, "hx-swap-oob")
        self.assertEqual(self.core().find_step("find-slot").think_s, 2.5)
        self.send(at="find-slot", what="down")
        self.assertEqual(
            [step.step for step in self.core().rounds],
            [
                "detour",
                "night",
                "browse-sky",
                "look-at-object",
                "hold",
                "find-slot",
                "confirm",
                "mailed-code",
                "enter-code",
                "write-down",
            ],
        )
        # a name is now used before it is captured, and the page says so
        self.assertContains(
            self.client.get(self.sample.address(f"journeys/{self.journey.pk}")),
            "slot }} is not captured before this request",
        )

    def test_request_fields_captures_checks(self) -> None:
        answer = self.send(
            **{
                "at": "find-slot/get-slots",
                "what": "request",
                "method": "get",
                "address": "{{ env.observatory }}/api/slots",
                "query-name": ["night", ""],
                "query-value": ["01.02.2027", ""],
                "capture-name": ["slot", "hold_token", ""],
                "capture-form": ["json", "regex", "json"],
                "capture-what": ["$.slots[1].id", '"hold_token": "(.+?)"', ""],
                "capture-more": ["", "1", ""],
                "check-form": ["status", "contains", "status"],
                "check-what": ["200", "night", ""],
                "check-more": ["", "", ""],
                "body-kind": "none",
            }
        )
        self.assertEqual(answer.status_code, 200)
        request = self.core().find_step("find-slot").requests[1]
        self.assertEqual(
            (
                request.query,
                request.captures[0].json,
                request.captures[1].regex.group,
                request.checks[0].status,
            ),
            ((("night", "01.02.2027"),), "$.slots[1].id", 1, 200),
        )

    def test_wrong_input_is_said_kept_and_changes_nothing(self) -> None:
        before = self.core()
        for data, words in (
            ({"think_s": "soon", "name": "X"}, "is not a number"),
            ({"think_s": "1", "name": " "}, "needs a name"),
        ):
            answer = self.send(at="find-slot", what="step", **data)
            self.assertEqual(answer.status_code, 422)
            self.assertContains(answer, words, status_code=422)
        self.assertContains(
            self.send(at="find-slot", what="step", name="typed by me", think_s="soon"),
            "typed by me",
            status_code=422,
        )
        self.assertEqual(self.core(), before)

    def test_stale_change_is_409_with_what_was_typed(self) -> None:
        old = self.head()
        self.send(at="find-slot", what="step", name="First", think_s="1")
        self.client.force_login(self.sample.accounts["ada"])
        answer = self.client.post(
            self.edit_address,
            {"parent": old, "at": "find-slot", "what": "step", "name": "Second", "think_s": "1"},
            headers={"HX-Request": "true"},
        )
        self.assertEqual(answer.status_code, 409)
        self.assertContains(
            answer, "is newer than the one your change was made on", status_code=409
        )
        self.assertContains(answer, "Second", status_code=409)
        self.assertContains(answer, "First", status_code=409)
        self.assertEqual(self.core().find_step("find-slot").name, "First")

    def test_two_saves_of_one_form_that_overtake_each_other_are_no_conflict(self) -> None:
        old = self.head()
        for name in ("Fi", "First"):
            answer = self.client.post(
                self.edit_address,
                {"parent": old, "at": "find-slot", "what": "step", "name": name, "think_s": "1"},
                headers={"HX-Request": "true"},
            )
            self.assertEqual(answer.status_code, 200)
        self.assertEqual(self.core().find_step("find-slot").name, "First")
        other = self.client.post(
            self.edit_address,
            {"parent": old, "at": "hold", "what": "step", "name": "Other", "think_s": "1"},
            headers={"HX-Request": "true"},
        )
        self.assertEqual(other.status_code, 409)

    def test_autosaves_fold_undo_and_redo_walk(self) -> None:
        for name in ("A", "AB", "ABC"):
            self.send(at="find-slot", what="step", name=name, think_s="1")
        self.send(at="", what="journey", name="Renamed")
        self.assertEqual(Revision.objects.filter(subject=self.journey.pk).count(), 3)
        for way, name in (
            ("undo", "ABC"),
            ("undo", "Find a slot"),
            ("redo", "ABC"),
            ("redo", "ABC"),
        ):
            self.assertEqual(
                self.client.post(
                    self.sample.address(f"journeys/{self.journey.pk}/{way}")
                ).status_code,
                302,
            )
            self.assertEqual(self.core().find_step("find-slot").name, name)
        self.assertEqual(self.core().name, "Renamed")
        answer = self.client.post(self.sample.address(f"journeys/{self.journey.pk}/redo"))
        self.assertContains(answer, "nothing to redo", status_code=422)

    def test_text_form_is_the_same_thing(self) -> None:
        address = self.sample.address(f"journeys/{self.journey.pk}/text")
        text = self.client.get(address).context["text"]
        answer = self.client.post(
            address,
            {
                "parent": self.head(),
                "text": text.replace("name: Find a slot", "name: Look for a slot"),
            },
        )
        self.assertEqual(answer.status_code, 302)
        self.assertEqual(self.core().find_step("find-slot").name, "Look for a slot")
        self.assertContains(
            self.client.get(self.sample.address(f"journeys/{self.journey.pk}")), "Look for a slot"
        )

    def test_text_that_does_not_parse_stays_a_draft(self) -> None:
        address, before = self.sample.address(f"journeys/{self.journey.pk}/text"), self.core()
        answer = self.client.post(
            address, {"parent": self.head(), "text": "form: 1\njourney: evening-booking\nnaem: X\n"}
        )
        self.assertContains(answer, "line 3, column 1", status_code=422)
        self.assertEqual(self.core(), before)
        self.assertContains(self.client.get(address), "naem: X")
        self.client.post(address + "/discard")
        self.assertNotContains(self.client.get(address), "naem: X")

    def test_agreed_targets_are_the_owners_and_noted(self) -> None:
        address = self.sample.address(f"environments/{self.sample.environment.pk}/targets")
        self.assertEqual(
            self.client.post(address, {"target": "http://new.example"}).status_code, 403
        )
        self.client.force_login(self.sample.accounts["ada"])
        self.assertContains(
            self.client.post(address, {"target": "new.example"}),
            "write scheme, host and port",
            status_code=422,
        )
        self.client.post(address, {"target": "http://new.example"})
        self.assertTrue(Environment.objects.get().targets.filter(host="new.example").exists())
        self.assertTrue(
            Event.objects.filter(
                what="target agreed", subject="http://new.example:80", account__username="ada"
            ).exists()
        )
