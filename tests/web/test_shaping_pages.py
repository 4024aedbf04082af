"""What the panel edits besides plain fields, shared steps, API descriptions, the editor's answers,
the filter, several at once.
"""

import base64
import json
from typing import Any

from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from dynamikos.core.journeys import Journey as Core
from dynamikos.core.journeys import parse_journey, write_journey
from dynamikos.web.journeys import actions
from dynamikos.web.journeys.models import Draft, Journey, SharedStep
from dynamikos.web.journeys.queries import content, stored
from dynamikos.web.projects.revisions import token
from tests.core.test_openapi import DOCUMENT
from tests.web.support import PageCase


class ShapeCase(PageCase):
    def core(self) -> Core:
        return content(self.stored())

    def edit(self, **data: Any) -> Any:
        return self.client.post(
            self.address("journey-edit"), {"parent": token(self.stored().head), **data}
        )

    def body(self) -> Any:
        step = self.core().find_step("hold")
        assert step is not None
        return step.requests[0].body

    def hold(self, **data: Any) -> Any:
        return self.edit(
            at="hold/post-hold",
            what="request",
            method="POST",
            address="{{ env.observatory }}/api/holds",
            **data,
        )


class Shaping(ShapeCase):
    def test_headers_and_authorization_of_all_requests(self) -> None:
        answer = self.edit(
            at="",
            what="journey",
            name="Evening booking",
            **{
                "common-name": ["X-Desk", ""],
                "common-value": ["north", ""],
                "auth-kind": "client",
                "auth-address": "{{ env.observatory }}/token",
                "auth-id": "desk",
                "auth-secret": "{{ env.nothing }}",
            },
        )
        self.assertContains(answer, "{{ env.nothing }} is not set in this environment")
        core = self.core()
        self.assertEqual(core.headers, (("X-Desk", "north"),))
        assert core.authorization is not None and core.authorization.client is not None
        self.assertEqual(core.authorization.client.id, "desk")
        self.assertEqual(parse_journey(write_journey(core)), core)
        self.hold(**{"body-kind": "json", "body-text": "{}", "auth-kind": "none"})
        self.assertTrue(self.core().find_step("hold").requests[0].authorization.none)  # type: ignore[union-attr]
        # a kind that was chosen just now has empty fields: kept, and said
        self.assertContains(
            self.edit(at="", what="journey", name="E", **{"auth-kind": "basic"}),
            "Authorization, user: nothing is given yet",
        )

    def test_a_json_body_by_its_values_and_as_text(self) -> None:
        text = '{"slot": "{{ slot }}",\n "n": [1, true], "who": {"name": "Una"}}'
        self.assertEqual(self.hold(**{"body-kind": "json", "body-text": text}).status_code, 200)
        page = self.client.get(self.address("journey-panel"), {"at": "hold/post-hold"})
        self.assertContains(page, 'value="$.who.name"')
        leaves = {
            "leaf-path": ["$.n[0]", "$.who.name"],
            "leaf-value": ["{{ make.number(1, 9) }}", '"Orla \\"O\\""'],
        }
        self.assertEqual(
            self.hold(**{"body-kind": "json", "body-text": text, **leaves}).status_code, 200
        )
        self.assertEqual(
            self.body().json,
            '{"slot": "{{ slot }}",\n "n": [{{ make.number(1, 9) }}, true], "who": {"name": "Orla '
            '\\"O\\""}}',
        )
        wrong = self.hold(**{"body-kind": "json", "body-text": '{"a": 1,\n "b" 2}'})
        self.assertContains(wrong, "line 2, column 6: a colon is expected", status_code=422)
        self.assertContains(wrong, "&quot;b&quot; 2", status_code=422)  # what was typed is there
        self.assertEqual(self.hold(**{"body-kind": "raw", "body-text": '{"a" 1}'}).status_code, 200)

    def test_a_multipart_body_with_a_file_that_is_kept_while_the_rest_changes(self) -> None:
        picture = base64.b64encode(bytes(range(200))).decode()
        parts = {
            "body-kind": "parts",
            "part-name": ["title", "picture", ""],
            "part-value": ["M 31", "", ""],
            "part-file": ["", "m31.png", ""],
            "part-type": ["", "image/png", ""],
        }
        self.assertEqual(self.hold(**parts, **{"part-content": ["", picture, ""]}).status_code, 200)
        parts["part-value"] = ["{{ slot }}", "", ""]
        self.assertEqual(
            self.hold(**parts, **{"part-content": ["", "keep 1", ""]}).status_code, 200
        )
        title, file = self.body().parts
        self.assertEqual((title.value, file.file, file.base64), ("{{ slot }}", "m31.png", picture))
        self.assertContains(
            self.client.get(self.address("journey-panel"), {"at": "hold/post-hold"}), "200 B"
        )
        large = base64.b64encode(b"x" * 2_000_001).decode()
        self.assertContains(
            self.hold(**parts, **{"part-content": ["", large, ""]}),
            "too large for a journey",
            status_code=422,
        )

    def test_checks_of_every_form_go_through_the_panel_and_back(self) -> None:
        text = write_journey(stored(self.stored()))
        checks = """        checks:
          - {status: [200, 2xx], note: kept}
          - {type: application/json, then: count}
          - {contains: "{{ slot }}", never: true}
          - {regex: "h-[0-9]+", then: step}
          - {json: {path: $.hold.id, matches: "^h-"}}
          - {json: {path: $.hold, type: object}}
          - {json: {path: "$.hold[*]", count: 2}, then: user}
          - {css: {selector: a, attribute: href, equals: /x}}
          - {header: {name: ETag}}
          - {size: {at_least: 10, at_most: 900}}
          - {time: {at_most: 250}}
          - {value: {left: "{{ slot }}", compare: "≠", right: "0"}}
"""
        old = "        checks:\n          - status: 201\n"
        self.assertIn(old, text)
        self.client.post(
            self.address("journey-text"),
            {"text": text.replace(old, checks), "parent": token(self.stored().head)},
        )
        wanted = self.core().find_step("hold").requests[0].checks  # type: ignore[union-attr]
        self.assertEqual(len(wanted), 12)
        rows = self.client.get(self.address("journey-panel"), {"at": "hold/post-hold"}).context[
            "check_rows"
        ]
        sent = {
            f"check-{name}": [row[name] for row in rows]
            for name in ("form", "what", "how", "more", "then", "never")
        }
        self.assertEqual(
            self.hold(**{"body-kind": "json", "body-text": "{}"}, **sent).status_code, 200
        )
        self.assertEqual(self.core().find_step("hold").requests[0].checks, wanted)  # type: ignore[union-attr]
        for row, words in (("6xx", "a status is a number"), ("20", "a status is a number")):
            wrong = self.hold(
                **{
                    "body-kind": "json",
                    "body-text": "{}",
                    "check-form": "status",
                    "check-what": row,
                }
            )
            self.assertContains(wrong, words, status_code=422)
        wrong = self.hold(
            **{
                "body-kind": "json",
                "body-text": "{}",
                "check-form": "time",
                "check-what": "",
                "check-how": "at most",
                "check-more": "soon",
            }
        )
        self.assertContains(wrong, "check time: &#x27;soon&#x27; is not a number", status_code=422)

    def test_several_at_once_in_one_revision(self) -> None:
        before = self.stored().head.number  # type: ignore[union-attr]
        page = self.client.get(
            self.address("journey-panel"), {"at": "hold", "also": ["hold", "sign-in/post-sign-in"]}
        )
        self.assertContains(page, "2 chosen")
        self.edit(what="switch", also=["hold", "sign-in/post-sign-in"])
        core = self.core()
        self.assertTrue(core.find_step("hold").off)  # type: ignore[union-attr]
        self.assertTrue(
            next(r for r in core.find_step("sign-in").requests if r.request == "post-sign-in").off
        )  # type: ignore[union-attr]
        self.assertEqual(self.stored().head.number, before + 1)  # type: ignore[union-attr]
        self.edit(what="gather", also=["find-slot", "confirm/post-booking"], to="hold")
        names = [each.request for each in self.core().find_step("hold").requests]  # type: ignore[union-attr]
        self.assertEqual(names, ["post-hold", "get-account", "get-slots", "post-booking"])
        self.assertIsNone(self.core().find_step("find-slot"))
        self.edit(what="remove", also=["hold/get-slots", "hold/post-booking"])
        self.assertEqual(len(self.core().find_step("hold").requests), 2)  # type: ignore[union-attr]
        self.assertContains(
            self.edit(what="remove", also=["hold", "gone"]),
            "not in this journey any more",
            status_code=422,
        )
        self.assertContains(
            self.edit(what="split", also=["hold"]), "with several at once", status_code=422
        )

    def test_the_ladder_with_only_what_a_text_is_found_in(self) -> None:
        page = self.client.get(self.address("journey-ladder"), {"filter": "hold_TOKEN"})
        self.assertContains(page, "2 requests of")  # where it is captured, and where it is sent
        self.assertNotContains(page, "/sign-out")

    def test_clean_up_is_drawn_apart(self) -> None:
        self.assertContains(self.client.get(self.address("journey")), "CLEAN-UP, AFTER A REHEARSAL")


class Shared(ShapeCase):
    def setUp(self) -> None:
        super().setUp()
        self.other = actions.create(
            self.sample.member, parse_journey("form: 1\njourney: short\nname: Short\nrounds: []\n")
        )

    def share(self) -> SharedStep:
        self.client.post(
            self.address("journey-share"), {"parent": token(self.stored().head), "step": "sign-in"}
        )
        return SharedStep.objects.get(key="sign-in")

    def test_changed_in_one_journey_changed_in_all(self) -> None:
        before = self.core()
        self.share()
        kept = stored(self.stored()).find_step("sign-in")
        assert kept is not None
        self.assertEqual((kept.use, kept.requests), ("sign-in", ()))
        expanded = self.core().find_step("sign-in")
        self.assertEqual(expanded.requests, before.find_step("sign-in").requests)  # type: ignore[union-attr]  # with the recorded exchanges
        use = reverse("journey-edit", args=[self.sample.project.pk, self.other.pk])
        self.client.post(
            use,
            {
                "parent": token(Journey.objects.get(pk=self.other.pk).head),
                "at": "",
                "what": "add-shared",
                "shared": "sign-in",
            },
        )
        answer = self.edit(
            at="sign-in/get-sign-in",
            what="request",
            method="GET",
            address="{{ env.observatory }}/new-sign-in",
        )
        self.assertEqual(answer.status_code, 200)
        there = content(Journey.objects.get(pk=self.other.pk)).rounds[0]
        self.assertEqual(
            (there.name, there.requests[0].address),
            ("Sign in", "{{ env.observatory }}/new-sign-in"),
        )
        self.assertIsNone(there.requests[0].recorded)  # its recording is another one
        page = self.client.get(reverse("shared-steps", args=[self.sample.project.pk]))
        self.assertContains(page, "Short")
        self.assertContains(page, "new-sign-in")

        self.assertContains(
            self.edit(at="sign-in/post-sign-in", what="split"),
            "requests of its own",
            status_code=422,
        )
        self.edit(at="sign-in", what="own")
        self.edit(
            at="sign-in/get-sign-in",
            what="request",
            method="GET",
            address="{{ env.observatory }}/mine",
        )
        self.assertEqual(
            content(Journey.objects.get(pk=self.other.pk)).rounds[0].requests[0].address,
            "{{ env.observatory }}/new-sign-in",
        )

    def test_its_text_form_revisions_and_deletion(self) -> None:
        made = self.share()
        page = reverse("shared-steps", args=[self.sample.project.pk]) + "?at=sign-in"
        text = self.client.get(page).context["text"]
        answer = self.client.post(
            page, {"parent": token(made.head), "text": text.replace("/sign-in", "/enter")}
        )
        self.assertEqual(answer.status_code, 302)
        self.assertIn("/enter", self.core().find_step("sign-in").requests[0].address)  # type: ignore[union-attr]
        self.assertContains(
            self.client.post(page, {"parent": token(made.head), "text": text}),
            "changed meanwhile",
            status_code=409,
        )
        made.refresh_from_db()
        wrong = self.client.post(
            page, {"parent": token(made.head), "text": "form: 1\nshared: other\nname: X\n"}
        )
        self.assertContains(wrong, "stays &#x27;sign-in&#x27;", status_code=422)
        self.client.post(page, {"what": "restore", "revision": "1"})
        self.assertIn("/sign-in", self.core().find_step("sign-in").requests[0].address)  # type: ignore[union-attr]
        self.assertContains(
            self.client.post(page, {"what": "delete"}),
            "is used by “Evening booking”",
            status_code=422,
        )
        self.edit(at="sign-in", what="own")
        self.client.post(page, {"what": "delete"})
        self.assertFalse(SharedStep.objects.exists())

    def test_text_with_requests_under_use_is_refused(self) -> None:
        self.share()
        text = write_journey(stored(self.stored()))
        self.assertIn("use: sign-in", text)
        self.assertEqual(
            self.client.post(
                self.address("journey-text"), {"text": text, "parent": token(self.stored().head)}
            ).status_code,
            302,
        )
        bad = text.replace(
            "use: sign-in", 'use: sign-in\n    requests: [{request: a, address: "http://a"}]'
        )
        answer = self.client.post(
            self.address("journey-text"), {"text": bad, "parent": token(self.stored().head)}
        )
        self.assertContains(answer, "uses the shared step", status_code=422)


class Editor(ShapeCase):
    def told(self, text: str, parent: str) -> dict[str, Any]:
        answer = self.client.post(
            self.address("journey-text"),
            {"text": text, "parent": parent},
            headers={"accept": "application/json"},
        )
        return json.loads(answer.content)  # type: ignore[no-any-return]

    def test_what_became_of_the_text(self) -> None:
        text = write_journey(stored(self.stored()))
        good = self.told(text.replace("Sign in", "Come in", 1), token(self.stored().head))
        self.assertEqual((good["kind"], good["problems"]), ("saved", []))
        self.assertEqual(good["token"], token(self.stored().head))
        warned = self.told(text.replace("{{ hold }}", "{{ nobody }}"), good["token"])
        self.assertEqual(warned["kind"], "saved")
        line = text.splitlines()[warned["problems"][0]["line"] - 1]
        self.assertIn("request: post-booking", line)
        bad = self.told("form: 1\njourney: evening-booking\nnaem: X\n", warned["token"])
        self.assertEqual((bad["kind"], bad["problems"][0]["line"]), ("error", 3))
        self.assertIn("naem", self.draft())
        self.assertEqual(self.core().name, "Evening booking")
        stale = self.told(text, "0:old")
        self.assertIn("changed meanwhile", stale["says"])
        self.assertEqual(self.draft(), text)
        self.assertEqual(
            stale["newest"], write_journey(stored(self.stored()))
        )  # both versions are there
        page = self.client.get(self.address("journey-text"))
        self.assertContains(page, "changed meanwhile")
        self.assertContains(page, "{{ nobody }}")  # of the newest
        # also when the newest is the same revision with another content: another tab typed on in it
        head = self.stored().head
        assert head is not None
        Draft.objects.update(parent=f"{head.pk}:0123456789abcdef")
        self.assertContains(self.client.get(self.address("journey-text")), "changed meanwhile")
        self.client.force_login(self.sample.accounts["cass"])
        # a draft is its author's
        self.assertNotContains(self.client.get(self.address("journey-text")), "changed meanwhile")

    def draft(self) -> str:
        return Draft.objects.get(journey=self.stored(), account=self.sample.accounts["bran"]).text

    def test_two_tabs_of_one_account_do_not_overwrite_each_other(self) -> None:
        parent = token(self.stored().head)
        edit = reverse("journey-edit", args=[self.sample.project.pk, self.stored().pk])

        def typed(tab: str, name: str, on: str) -> int:
            return self.client.post(
                edit,
                {"what": "journey", "at": "", "name": name, "note": "", "parent": on},
                headers={"x-tab": tab},
            ).status_code

        # typing runs ahead of the answers
        self.assertEqual(
            [typed("one", each, parent) for each in ("E", "Ev", "Eve")], [200, 200, 200]
        )
        self.assertEqual(typed("two", "Other", parent), 409)
        self.assertEqual(self.core().name, "Eve")
        now = token(self.stored().head)
        self.assertEqual(typed("two", "Other", now), 200)
        self.assertEqual(typed("one", "Eve 2", now), 409)
        self.assertEqual(self.core().name, "Other")


class Described(ShapeCase):
    def test_from_a_description_to_a_journey(self) -> None:
        page = reverse("journey-described", args=[self.sample.project.pk])
        file = SimpleUploadedFile("sky.json", json.dumps(DOCUMENT).encode())
        first = self.client.post(page, {"file": file})
        self.assertContains(first, "4 operations")
        self.assertContains(first, "changes something")
        self.assertContains(first, 'value="https://sky.example/v1"')
        again = {
            "document": json.dumps(DOCUMENT),
            "name": "Sky desk",
            "base": "http://127.0.0.1:9/v1",
        }
        nothing = self.client.post(page, again)
        self.assertContains(nothing, "No operation is chosen", status_code=422)
        self.assertContains(nothing, "GET /skies/{id}", status_code=422)  # still there to be ticked
        self.assertContains(
            self.client.post(page, {**again, "base": "nowhere", "operation": "GET /open"}),
            "begins with http",
            status_code=422,
        )
        made = self.client.post(page, {**again, "operation": ["GET /open", "POST /holds"]})
        found = Journey.objects.get(name="Sky desk")
        self.assertRedirects(made, reverse("journey", args=[self.sample.project.pk, found.pk]))
        self.assertEqual(
            [step.requests[0].address for step in content(found).rounds],
            ["{{ env.observatory }}/v1/holds", "{{ env.observatory }}/v1/open"],
        )
        broken = self.client.post(page, {"file": SimpleUploadedFile("x.yaml", b"a: [")})
        self.assertContains(broken, "x.yaml is not YAML: line", status_code=422)
