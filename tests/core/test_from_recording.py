"""What a recording of somebody else's application becomes: names, headers, statuses, uploads,
background calls.
"""

from unittest import TestCase

from msgspec.structs import replace

from dynamikos.core.captures import Capture
from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges import Answer, Exchange, Recording, Sent
from dynamikos.core.exchanges.model import Timings
from dynamikos.core.journeys import Journey, parse_journey, verify, write_journey
from dynamikos.core.journeys.background import background_of, by_time, leave_out
from dynamikos.core.journeys.editing import change_request
from dynamikos.core.journeys.from_recording import journey_from
from dynamikos.core.journeys.kinds import Repeating

HOST = "https://desk.example"
PAGE = (("Content-Type", "text/html; charset=utf-8"),)
BROWSER = (
    ("Host", "desk.example"),
    ("User-Agent", "Chromium"),
    ("Accept-Language", "en"),
    ("Sec-Fetch-Mode", "navigate"),
    ("Accept", "text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8"),
)
CALL = (("Accept", "*/*"), ("Sec-Fetch-Mode", "cors"))


class Film:
    """Exchanges one after the other, `pause` seconds apart."""

    def __init__(self) -> None:
        self.exchanges: list[Exchange] = []
        self.now_us = 1_790_000_000_000_000

    def add(
        self,
        method: str,
        path: str,
        body: bytes = b"",
        *,
        status: int = 200,
        page: str = "",
        pause: float = 2.0,
        headers: tuple[tuple[str, str], ...] = BROWSER,
        back: tuple[tuple[str, str], ...] = PAGE,
        html: str = "",
    ) -> None:
        self.now_us += int(pause * 1_000_000)
        answer = Answer(status=status, headers=back, body=html.encode())
        sent = Sent(method=method, url=HOST + path, headers=headers, body=body)
        timings = Timings(wait_us=50_000)
        self.exchanges.append(
            Exchange(sent=sent, answer=answer, timings=timings, started_us=self.now_us, page=page)
        )

    def journey(self) -> Journey:
        recording = Recording(exchanges=tuple(self.exchanges), pages={})
        return journey_from(recording, "Desk", [HOST], {HOST: "env.desk"})


class Headers(TestCase):
    def test_what_means_something_is_kept_and_what_all_have_is_said_once(self) -> None:
        film = Film()
        app = (("X-App", "7"),)
        film.add("GET", "/", headers=BROWSER + app, html="<title>Desk</title>")
        film.add(
            "GET",
            "/api/me",
            headers=(("Accept", "application/json"), ("X-Requested-With", "fetch"), *app),
        )
        film.add("GET", "/more", headers=BROWSER + app)
        film.add("GET", "/plain", headers=CALL + app)
        journey = film.journey()
        first, call, _, plain = [
            request for _, step in journey.steps() for request in step.requests
        ]
        self.assertEqual(dict(journey.headers), {"X-App": "7", "Accept": BROWSER[-1][1]})
        self.assertEqual(first.headers, ())
        self.assertEqual(
            dict(call.headers), {"Accept": "application/json", "X-Requested-With": "fetch"}
        )
        self.assertEqual(dict(plain.headers), {"Accept": "*/*"})

    def test_what_writes_says_where_it_comes_from(self) -> None:
        film = Film()
        said = (("Origin", HOST), ("Referer", HOST + "/edit?id=8"))
        film.add("GET", "/", headers=(*BROWSER, *said))
        film.add("POST", "/save", b"a=1", headers=(*BROWSER, *said))
        film.add(
            "POST", "/notes/8", b"a=1", headers=(*BROWSER, ("Referer", HOST + "/notes/8/edit"))
        )
        first, save, note = [
            request for _, step in film.journey().steps() for request in step.requests
        ]
        self.assertEqual(first.headers, ())
        self.assertEqual(
            dict(save.headers), {"Origin": "{{ env.desk }}", "Referer": "{{ env.desk }}/edit"}
        )
        self.assertEqual(dict(note.headers), {"Referer": "{{ env.desk }}/"})

    def test_its_own_addresses_follow_the_environment_wherever_they_are_sent(self) -> None:
        film = Film()
        form = (*BROWSER, ("Content-Type", "application/x-www-form-urlencoded"))
        json = (*BROWSER, ("Content-Type", "application/json"), ("X-Return", HOST + "/back"))
        film.add("GET", "/auth?return=https%3A%2F%2Fdesk.example%2Fback%3Fa%3D1&how={{x}}")
        film.add("POST", "/token", b"return=https%3A%2F%2Fdesk.example%2F&a=1", headers=form)
        others = "https://desk.example.org/ https://desk.example:8443/ https://my-desk.example/"
        film.add("POST", "/kept", f'{{"to":"{HOST}/x","not":"{others}"}}'.encode(), headers=json)
        auth, token, kept = [
            request for _, step in film.journey().steps() for request in step.requests
        ]
        self.assertEqual(auth.query, (("return", "{{ env.desk }}/back?a=1"), ("how", "{ {x}}")))
        assert token.body is not None and kept.body is not None
        self.assertEqual(token.body.form, (("return", "{{ env.desk }}/"), ("a", "1")))
        self.assertEqual(kept.body.json, f'{{"to":"{{{{ env.desk }}}}/x","not":"{others}"}}')
        self.assertIn(("X-Return", "{{ env.desk }}/back"), kept.headers)

    def test_a_page_begins_a_step_also_where_the_recording_lacks_what_browsers_say(self) -> None:
        film = Film()
        plain = (("Accept", "text/html,application/xhtml+xml,*/*;q=0.8"),)
        calls = (("Accept", "application/json"),)
        film.add("GET", "/login", headers=plain, page="1")
        film.add("POST", "/api/login", b'{"password":"p"}', headers=calls, page="1")
        film.add("GET", "/api/me", headers=calls, page="1", pause=0.3, back=())
        film.add("GET", "/write", headers=plain, page="1", pause=0.8)
        film.add("GET", "/part", headers=calls, page="1", pause=0.3)
        journey = film.journey()
        begun = [step.requests[0].address for _, step in journey.steps()]
        self.assertEqual(begun[-1], "{{ env.desk }}/write")
        self.assertEqual(len(journey.rounds), 1)


class SaysSo(TestCase):
    def test_an_answer_that_says_it_worked_is_checked_for_it(self) -> None:
        film = Film()
        back = (("Content-Type", "application/json"),)
        film.add("GET", "/state", html='{"success": true}', back=back)
        for html in ('{"success": true}', '{"ok": false}', '{"ok": 1}', "{broken", '["ok"]'):
            film.add("POST", "/kept", b"a=1", html=html, back=back)
        checks = [
            [each.json.path for each in request.checks if each.json is not None]
            for _, step in film.journey().steps()
            for request in step.requests
        ]
        self.assertEqual(checks, [[], ["$.success"], [], [], [], []])


class Statuses(TestCase):
    def test_an_error_of_the_application_is_expected_again_and_says_so(self) -> None:
        film = Film()
        film.add("GET", "/", html="<title>Desk</title>")
        film.add("GET", "/api/me", status=401, headers=CALL)
        film.add("GET", "/favicon.ico", status=404, headers=CALL)
        film.add("GET", "/site.css", headers=CALL)
        film.exchanges[-1] = replace(film.exchanges[-1], answer=None, error="aborted")
        requests = [request for _, step in film.journey().steps() for request in step.requests]
        self.assertEqual([request.checks[0].status for request in requests], [200, 401])
        self.assertIn("401", requests[1].note)
        self.assertEqual(
            (requests[0].note, requests[0].embedded, requests[1].embedded), ("", (), ())
        )


class Uploads(TestCase):
    FORM = (
        '<form action="/files/add" method=post enctype="multipart/form-data"><input type=hidden '
        "name=token value=t1>"
        "<input name=title><textarea name=about></textarea><input type=file "
        "name=paper><button>Send</button></form>"
    )
    MULTIPART = (("Content-Type", "multipart/form-data; boundary=----x"), ("Content-Length", "812"))

    def test_a_lost_body_is_made_from_the_form_and_said(self) -> None:
        film = Film()
        film.add("GET", "/files", html=self.FORM)
        film.add("POST", "/files/add", headers=(*BROWSER, *self.MULTIPART))
        film.add(
            "PUT", "/raw", headers=(*CALL, ("Content-Type", "text/csv"), ("Content-Length", "9"))
        )
        journey = film.journey()
        _, upload, raw = [request for _, step in journey.steps() for request in step.requests]
        assert upload.body is not None
        names = [(part.name, bool(part.file)) for part in upload.body.parts]
        self.assertEqual(
            names, [("token", False), ("title", False), ("about", False), ("paper", True)]
        )
        self.assertNotIn("boundary", str(upload.headers))
        self.assertIn("stand-in", upload.note)
        self.assertIsNone(raw.body)
        self.assertIn("doorway", raw.note)
        self.assertIn("2 requests lost the body", journey.note)


class Names(TestCase):
    def test_as_a_person_would_call_them(self) -> None:
        film = Film()
        page = '<title>{0} – Desk</title><a href="/notes/add">Write a note</a>'
        film.add("GET", "/", page="1", html=page.format("Notes"))
        film.add(
            "GET",
            "/notes/add",
            page="2",
            html='<form action="/notes/add" method=post><button>Keep it</button>',
        )
        film.add("POST", "/notes/add", b"a=1", page="3", html=page.format("A note"))
        film.add("GET", "/notes/8", page="4", html=page.format("A note"))
        film.add("GET", "/x/y", page="5", html="<h1>Where <b>it</b> is</h1>")
        graph = b'{"operationName":"bookNight","query":"mutation bookNight { book }"}'
        film.add(
            "POST", "/graphql", graph, headers=CALL, back=(("Content-Type", "application/json"),)
        )
        names = [step.name for _, step in film.journey().steps()]
        self.assertEqual(
            names, ["Notes", "Write a note", "Keep it", "A note", "Where it is", "Book night"]
        )

    def test_repetitions_are_told_apart(self) -> None:
        film = Film()
        for number in (1, 2, 3):
            film.add(
                "GET",
                f"/edit/{number}",
                page=str(number),
                html=f"<title>Edit {'' if number < 3 else 'all'}</title>",
            )
        self.assertEqual(
            [step.name for _, step in film.journey().steps()], ["Edit", "Edit (2)", "Edit all"]
        )


class Background(TestCase):
    def test_polls_and_saves_by_time_stay_in_the_step_in_which_they_happen(self) -> None:
        film = Film()
        film.add("GET", "/", page="1", html="<title>Desk</title>")
        for _ in range(4):
            film.add(
                "GET",
                "/api/news?since=3",
                headers=CALL,
                pause=5.0,
                back=(("Content-Type", "application/json"),),
            )
        film.add("GET", "/next", page="2", html="<title>Next</title>")
        steps = [step for _, step in film.journey().steps()]
        self.assertEqual([len(step.requests) for step in steps], [5, 1])
        self.assertTrue(
            all("by itself, about every 5" in request.note for request in steps[0].requests[1:])
        )
        self.assertGreater(steps[0].think_s, 1)

    def polled(self) -> Journey:
        film = Film()
        film.add("GET", "/", page="1", html="<title>Desk</title>")
        for _ in range(4):
            film.add(
                "GET",
                "/api/news?since=3",
                headers=CALL,
                pause=5.0,
                back=(("Content-Type", "application/json"),),
            )
        film.add("GET", "/next", page="2", html="<title>Next</title>", pause=3.0)
        return film.journey()

    def test_they_are_left_out_by_one_change_and_the_time_they_took_stays(self) -> None:
        journey = self.polled()
        self.assertEqual(len(background_of(journey)), 4)
        made = leave_out(journey)
        steps = [step for _, step in made.active().steps()]
        self.assertEqual([len(step.requests) for step in steps], [1, 1])
        self.assertAlmostEqual(steps[0].think_s, 23, delta=0.5)  # 4 × 5 s, and 3 s after the last
        self.assertEqual(background_of(made), [])
        with self.assertRaises(DynamikosError):
            leave_out(made)

    def test_or_repeated_by_time(self) -> None:
        journey = self.polled()
        made = by_time(journey)
        self.assertEqual(verify(made, {"env.desk"}), [])
        page, repeat, inner, after = [step for _, step in made.steps()]
        assert isinstance(repeat, Repeating)
        self.assertEqual(
            (len(page.requests), repeat.repeat.times, len(inner.requests)), (1, "4", 1)
        )
        self.assertAlmostEqual(inner.think_s, 5, delta=0.1)
        self.assertEqual(after.name, "Next")
        self.assertEqual(parse_journey(write_journey(made)), made)

    def test_two_operations_of_one_address_are_two_repeats(self) -> None:
        film = Film()
        film.add("GET", "/", page="1", html="<title>Desk</title>")
        for _ in range(4):
            for name, pause in (("News", 4.0), ("Clock", 1.0)):
                asked = b'{"operationName": "%s", "query": "query %s { at }"}' % (
                    name.encode(),
                    name.encode(),
                )
                film.add(
                    "POST",
                    "/graphql",
                    asked,
                    pause=pause,
                    headers=(*CALL, ("Content-Type", "application/json")),
                )
        film.add("GET", "/next", page="2", html="<title>Next</title>", pause=3.0)
        journey = film.journey()
        self.assertEqual(len(background_of(journey)), 8)
        inside = [step for _, step in by_time(journey).steps() if step.name.endswith("by itself")]
        self.assertEqual([step.name for step in inside], ["News by itself", "Clock by itself"])
        self.assertEqual(
            len([step for _, step in by_time(journey).steps() if isinstance(step, Repeating)]), 2
        )
        self.assertAlmostEqual(
            next(step.think_s for _, step in leave_out(journey).steps()), 23, delta=0.5
        )

    def test_one_whose_answer_is_needed_stays(self) -> None:
        journey = self.polled()
        step = next(step for _, step in journey.steps())
        step_key, last = step.step, step.requests[-1].request
        journey = change_request(
            journey, step_key, last, captures=(Capture(name="turn", json="$.turn"),)
        )
        journey = change_request(journey, "next", "get-next", query=(("turn", "{{ turn }}"),))
        self.assertEqual(
            [each.needed for each in background_of(journey)], [False, False, False, True]
        )
        for made in (leave_out(journey), by_time(journey)):
            self.assertEqual(verify(made, {"env.desk"}), [])

    def test_what_cannot_be_replayed_is_left_out_and_said(self) -> None:
        film = Film()
        film.add("GET", "/", html="<title>Desk</title>")
        film.add("GET", "/live", headers=(("Upgrade", "websocket"),), status=101)
        film.add("GET", "/events", headers=CALL, back=(("Content-Type", "text/event-stream"),))
        journey = film.journey()
        self.assertEqual(
            len([request for _, step in journey.steps() for request in step.requests]), 1
        )
        self.assertIn("WebSocket", journey.note)
        self.assertIn("server-sent", journey.note)

    def test_a_channel_that_stays_open_takes_no_time_from_the_person(self) -> None:
        film = Film()
        film.add("GET", "/", html="<title>Desk</title>")
        film.add("GET", "/live", headers=(("Upgrade", "websocket"),), status=101, pause=0.2)
        film.exchanges[-1] = replace(film.exchanges[-1], timings=Timings(wait_us=60_000_000))
        film.add("GET", "/next", html="<title>Next</title>", pause=4)
        steps = [step for _, step in film.journey().steps()]
        self.assertEqual([step.name for step in steps], ["Desk", "Next"])
        self.assertAlmostEqual(steps[0].think_s, 4, delta=0.3)


class Parts(TestCase):
    """What becomes the opening: signing in, and signing up, as long as nothing else was written
    before.
    """

    def parts(self, *calls: tuple[str, str, bytes]) -> tuple[list[str], list[str], str]:
        film = Film()
        for method, path, body in calls:
            film.add(method, path, body, html=f"<title>{path.strip('/') or 'Front'}</title>")
        made = film.journey()
        return [each.name for each in made.opening], [each.name for each in made.rounds], made.note

    def test_signing_up_and_in_is_the_opening(self) -> None:
        opening, rounds, note = self.parts(
            ("GET", "/", b""),
            ("POST", "/register", b"user=ada&password=x"),
            ("POST", "/sign-in", b"user=ada&password=x"),
            ("POST", "/notes", b"text=a"),
            ("POST", "/password", b"old_password=x&new_password=y"),
        )
        self.assertEqual(
            (opening, rounds), (["Front", "register", "sign-in"], ["notes", "password"])
        )
        self.assertNotIn("password is sent after", note)

    def test_a_password_after_a_basket_was_filled_stays_in_the_rounds_and_is_said(self) -> None:
        opening, rounds, note = self.parts(
            ("GET", "/", b""),
            ("POST", "/basket", b"thing=7"),
            ("POST", "/checkout", b"mail=a@b.example&password=x"),
            ("POST", "/order", b"sure=1"),
        )
        self.assertEqual((opening, rounds), ([], ["Front", "basket", "checkout", "order"]))
        self.assertIn("A password is sent after something else was written", note)


class Clicks(TestCase):
    """A recording in which all belongs to one page: what a person clicked is told by what it is and
    when.
    """

    LOADED = (*BROWSER, ("Sec-Fetch-Dest", "document"))
    JSON = (("Content-Type", "application/json"),)

    def test_pages_and_writes_begin_steps_and_what_a_page_asks_at_once_does_not(self) -> None:
        film = Film()
        film.add("GET", "/", page="1", headers=self.LOADED, html="<title>Desk</title>")
        film.add("POST", "/api/session", b"{}", page="1", headers=CALL, pause=0.1, back=self.JSON)
        film.add(
            "GET", "/board", page="1", headers=self.LOADED, pause=0.4, html="<title>Board</title>"
        )
        film.add("GET", "/api/rows", page="1", headers=CALL, pause=0.1, back=self.JSON)
        film.add("POST", "/api/rows", b"{}", page="1", headers=CALL, pause=0.7, back=self.JSON)
        film.add("GET", "/api/rows", page="1", headers=CALL, pause=0.1, back=self.JSON)
        steps = [step for _, step in film.journey().steps()]
        self.assertEqual([len(step.requests) for step in steps], [2, 2, 2])
        self.assertEqual([step.name for step in steps], ["Desk", "Board", "Post api rows"])

    def test_a_beacon_parts_no_redirect_from_where_it_leads(self) -> None:
        for beacons, count in ((0, 2), (1, 3), (3, 5)):
            film = Film()
            film.add("GET", "/form", page="1", headers=self.LOADED)
            there = (("Location", HOST + "/kept"), *PAGE)
            film.add("POST", "/form", b"a=1", page="2", status=303, back=there)
            for _ in range(beacons):
                film.add("POST", "/beacon", b"{}", page="2", pause=0.01, headers=CALL, status=204)
            film.add("GET", "/kept", page="3", pause=0.02, headers=self.LOADED)
            requests = [request for _, step in film.journey().steps() for request in step.requests]
            with self.subTest(beacons=beacons):
                self.assertEqual(len(requests), count)
                self.assertNotIn("{{ env.desk }}/kept", [each.address for each in requests])

    def test_a_page_that_is_visited_later_is_one_of_its_own(self) -> None:
        film = Film()
        there = (("Location", HOST + "/kept"), *PAGE)
        film.add("POST", "/form", b"a=1", page="1", status=303, back=there)
        for number in range(6):
            film.add("GET", f"/page/{number}", page=f"{number + 2}", headers=self.LOADED)
        film.add("GET", "/kept", page="9", headers=self.LOADED)
        requests = [request for _, step in film.journey().steps() for request in step.requests]
        self.assertIn("{{ env.desk }}/kept", [each.address for each in requests])

    def test_what_comes_with_a_click_each_time_is_no_poll(self) -> None:
        film = Film()
        for number in range(4):
            film.add(
                "GET", f"/page/{number}", page="1", headers=self.LOADED, html="<title>Page</title>"
            )
            film.add("GET", "/api/menu", page="1", headers=CALL, pause=0.1, back=self.JSON)
        notes = [request.note for _, step in film.journey().steps() for request in step.requests]
        self.assertEqual(set(notes), {""})

    def test_graphql_is_named_by_its_operations_and_its_errors_are_checked(self) -> None:
        film = Film()
        film.add("GET", "/", page="1", headers=self.LOADED, html="<title>Desk</title>")
        for name, kind, back in (
            ("OpenNotes", "query", '{"data": {"notes": []}}'),
            ("AddNote", "mutation", '{"data": {"add": {"id": "7"}}}'),
            ("AddNote", "mutation", '{"data": null, "errors": [{"message": "no such board"}]}'),
        ):
            body = (
                f'{{"query": "{kind} {name}($id: ID!) {{ x }}", "variables": {{"id": "1"}}}}'
            ).encode()
            film.add("POST", "/graphql", body, headers=CALL, back=self.JSON, html=back)
        steps = [step for _, step in film.journey().steps()]
        self.assertEqual(
            [r.request for step in steps for r in step.requests][1:],
            ["open-notes", "add-note", "add-note"],
        )
        self.assertEqual(
            [step.name for step in steps][1:], ["Open notes", "Add note", "Add note (2)"]
        )
        errors = [
            [check.json.path for check in r.checks if check.json is not None and check.never]
            for step in steps
            for r in step.requests
        ]
        self.assertEqual(errors, [[], ["$.errors[0]"], ["$.errors[0]"], []])

    def test_ids_are_no_names(self) -> None:
        film = Film()
        film.add("GET", "/", headers=self.LOADED, html="<title>Desk</title>")
        film.add(
            "PATCH",
            "/api/rows/65799de1-f3cd-45a3-af46-e2746ae67eea",
            b"{}",
            headers=CALL,
            back=self.JSON,
        )
        step = [step for _, step in film.journey().steps()][1]
        self.assertEqual(
            (step.name, step.requests[0].request), ("Patch api rows", "patch-api-rows")
        )
