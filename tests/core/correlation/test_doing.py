"""A rehearsal whose checks passed may still have done the wrong thing; one that did the right thing
is left alone.
"""

from collections.abc import Callable
from unittest import TestCase

from msgspec.structs import replace

from dynamikos.core.correlation.doing import Doubt, Replay, doubts_on
from tests.core.correlation.recordings import Tape

FORM = (
    '<form action="/{0}" method=post><input type=hidden name=key value="{1}"><input '
    "name=title></form>"
)


def tracker(t: Tape, number: int, *, stale: int = 0, key: str = "") -> None:
    """An issue is made and edited; with `stale` the edit goes to another one."""
    own = key or f"k{number}x{t.seed}0f7"
    t.call("GET", "/new", page=FORM.format("new", own))
    t.call(
        "POST",
        "/new",
        form={"key": own, "title": "a"},
        status=302,
        headers={"Location": f"/issue{number}?@ok=made"},
    )
    t.call("GET", f"/issue{number}", page=f"<h1>issue{number}</h1>")
    t.call("POST", f"/issue{stale or number}", form={"title": "b"}, page="saved")


def judged(
    recorded: Callable[[Tape], None], *rounds: Callable[[Tape], None], captured: bool = True
) -> list[Doubt]:
    first = Tape("http://desk.example", 1)
    recorded(first)
    replays = []
    for turn, play in enumerate(rounds, 1):
        tape = Tape("http://desk.example", turn + 1)
        play(tape)
        for place, exchange in enumerate(tape.exchanges):
            key = (
                exchange.answer.body.partition(b'value="')[2].partition(b'"')[0].decode()
                if exchange.answer
                else ""
            )
            replays.append(
                Replay(
                    at=f"step/r{place}",
                    round=turn,
                    recorded=place,
                    exchange=exchange,
                    captured={"key": key} if key and captured else {},
                )
            )
    return doubts_on(replays, first.exchanges)


class Doing(TestCase):
    def test_nothing_is_said_of_what_was_done_anew(self) -> None:
        self.assertEqual(
            judged(lambda t: tracker(t, 3), lambda t: tracker(t, 4), lambda t: tracker(t, 5)), []
        )

    def test_the_recorded_record_was_edited_again(self) -> None:
        found = judged(lambda t: tracker(t, 3), lambda t: tracker(t, 4, stale=3))
        self.assertEqual(
            [(each.kind, each.value, each.at) for each in found],
            [("hard-wired", "issue3", "step/r3")],
        )
        self.assertIn("issued another one", found[0].words)

    def test_nothing_new_was_made(self) -> None:
        found = judged(lambda t: tracker(t, 3), lambda t: tracker(t, 3))
        self.assertEqual([(each.kind, each.value) for each in found], [("same-record", "issue3")])

    def test_the_same_one_in_both_rounds(self) -> None:
        found = judged(lambda t: tracker(t, 3), lambda t: tracker(t, 4), lambda t: tracker(t, 4))
        self.assertEqual([(each.kind, each.value) for each in found], [("made-twice", "issue4")])

    def test_two_that_were_made_with_one_number_are_told_by_their_names(self) -> None:
        def kept(image: int, revision: int, sends: int) -> Callable[[Tape], None]:
            def play(t: Tape) -> None:
                t.call("POST", "/images", body={"file": "x"}, gives={"image_id": image})
                t.call("POST", "/drafts", body={"title": "a"}, gives={"revision_id": revision})
                t.call("POST", "/ping", form={"revision_id": str(sends)}, page="ok")

            return play

        self.assertEqual(judged(kept(1, 1, 1), kept(4, 7, 7), kept(5, 9, 9)), [])
        found = judged(kept(1, 1, 1), kept(4, 7, 4))  # the picture's number, where both were 1
        self.assertEqual([(e.kind, e.value) for e in found], [("other-record", "4")])

    def test_where_a_write_leads_back_to_was_not_made(self) -> None:
        def published(page: int) -> Callable[[Tape], None]:
            def play(t: Tape) -> None:
                t.call("GET", "/pages/add/3/", page="<form>")
                led = {"Location": "/pages/3/"}
                t.call("POST", f"/pages/{page}/edit/", form={"t": "a"}, status=302, headers=led)

            return play

        self.assertEqual(judged(published(4), published(5), published(6)), [])

    def test_a_form_that_is_shown_again(self) -> None:
        def sent(status: int, *, page: str = "", to: str = "/pages") -> Callable[[Tape], None]:
            def play(t: Tape) -> None:
                led = {"Location": to} if status in (302, 303) else {}
                t.call("GET", "/new", page="<form method=post></form>")
                t.call("POST", "/new", form={"title": "a"}, status=status, headers=led, page=page)

            return play

        found = judged(sent(302), sent(200, page="<form>this address is taken</form>"))
        self.assertEqual([(e.kind, e.value) for e in found], [("not-redirected", "/pages")])
        self.assertIn("redirected to /pages; this answer is 200", found[0].words)
        self.assertTrue(found[0].is_grave)
        led = judged(sent(302), sent(302, to="/accounts/login/?next=/new"))
        self.assertEqual([(e.kind, e.value) for e in led], [("not-redirected", "/pages")])
        self.assertIn("leads to /accounts/login/, as where nobody is signed in", led[0].words)
        for fine in (
            judged(sent(302), sent(302)),
            judged(sent(302), sent(302, to="/pages/loginov")),
            judged(sent(302, to="/login/second"), sent(302, to="/login")),
            judged(sent(302), sent(303)),
            judged(sent(200), sent(200)),
            judged(sent(302), sent(500)),  # that one failed by its status
        ):
            self.assertEqual(fine, [])

    def test_who_signs_in_again_is_the_same_one_but_who_signs_up_is_not(self) -> None:
        def entered(path: str, number: int, token: str) -> Callable[[Tape], None]:
            def play(t: Tape) -> None:
                gives = {"user": {"id": f"person{number}"}, "token": token}
                t.call("POST", path, body={"mail": "a", "password": "p"}, gives=gives)
                t.call("GET", "/home", page="welcome")

            return play

        for path, kinds in (("/login", []), ("/register", ["made-twice"])):
            with self.subTest(path=path):
                rounds = [entered(path, 2, "t5e8v1q"), entered(path, 2, "t6e9v2q")]
                found = judged(entered(path, 1, "t4e7v0q"), *rounds)
                self.assertEqual([each.kind for each in found], kinds)

    def test_a_token_of_the_round_before(self) -> None:
        def stale(t: Tape) -> None:
            tracker(t, 5)
            sent = t.exchanges[1].sent
            old = sent.body.replace(b"k5x30f7", b"k4x20f7")
            self.assertNotEqual(old, sent.body)
            t.exchanges[1] = replace(t.exchanges[1], sent=replace(sent, body=old))

        found = judged(lambda t: tracker(t, 3), lambda t: tracker(t, 4), stale)
        self.assertEqual([(each.kind, each.value) for each in found], [("sent-again", "k4x20f7")])

    def test_a_key_that_a_page_issues_again_within_the_second_is_no_doubt(self) -> None:
        def played(*keys: str) -> list[Replay]:
            made = []
            for turn, (first, second) in enumerate((keys[:2], keys[2:]), 1):
                tape = Tape("http://desk.example", turn)
                tape.call("GET", "/new", page=FORM.format("new", first))
                tape.call("POST", "/new", form={"key": first}, page="saved")
                tape.call("GET", "/more", page=FORM.format("more", second))
                for place, (exchange, name) in enumerate(
                    zip(tape.exchanges, ("key", "", "key_2"), strict=True)
                ):
                    captured = {name: first if name == "key" else second} if name else {}
                    made.append(
                        Replay(
                            at=f"s/r{place}",
                            round=turn,
                            recorded=None,
                            exchange=exchange,
                            captured=captured,
                        )
                    )
            return made

        self.assertEqual(doubts_on(played("k1-0aa7", "k2-0bb7", "k2-0bb7", "k3-0cc7"), []), [])
        found = doubts_on(
            [
                each
                for each in played("k1-0aa7", "k2-0bb7", "k2-0bb7", "k3-0cc7")
                if each.at != "s/r0"
            ],
            [],
        )
        self.assertEqual([(each.kind, each.value) for each in found], [("sent-again", "k2-0bb7")])

    def test_what_stays_the_same_everywhere_is_no_doubt(self) -> None:
        def shelf(t: Tape) -> None:
            t.call("GET", "/shelves", page="<a href='/shelves/7'>seven</a>")
            t.call("GET", "/shelves/7", page="<b>7</b>")
            t.call(
                "POST",
                "/shelves/7",
                form={"note": "x"},
                status=302,
                headers={"Location": "/shelves/7"},
            )

        self.assertEqual(judged(shelf, shelf, shelf), [])

    def test_json_says_it_too(self) -> None:
        def call(number: int) -> Callable[[Tape], None]:
            def scene(t: Tape) -> None:
                t.call(
                    "POST",
                    "/api/notes",
                    body={"text": "a"},
                    gives={"note": {"id": number, "likes": 3}},
                )

            return scene

        self.assertEqual(judged(call(8), call(9), call(10)), [])
        self.assertEqual([each.kind for each in judged(call(8), call(8))], ["same-record"])
        self.assertEqual([each.kind for each in judged(call(8), call(9), call(9))], ["made-twice"])

    def test_a_list_that_grew_in_the_recording(self) -> None:
        def board(t: Tape, before: int, after: int) -> None:
            def page(count: int) -> str:
                return "<ul>" + "<li>a notice</li>" * count + "</ul>"

            t.call("GET", "/notices", page=page(before))
            t.call(
                "GET",
                "/api/notices",
                gives={"notices": [{"n": n} for n in range(before)], "total": before},
            )
            t.call("POST", "/notices", form={"text": "x"}, page="kept")
            t.call("GET", "/notices", page=page(after))
            t.call(
                "GET",
                "/api/notices",
                gives={"notices": [{"n": n} for n in range(after)], "total": after},
            )

        fine = judged(lambda t: board(t, 3, 4), lambda t: board(t, 7, 8), lambda t: board(t, 8, 9))
        self.assertEqual(fine, [])
        found = judged(lambda t: board(t, 3, 4), lambda t: board(t, 7, 8), lambda t: board(t, 8, 8))
        self.assertEqual([each.kind for each in found], ["no-growth", "no-growth"])
        self.assertIn("items of lists became 1 more", found[0].words)
        self.assertIn("in round 2 it is 8 after 8", found[0].words)
        self.assertFalse(found[0].is_grave)

    def test_what_is_only_asked_for_is_not_made(self) -> None:
        def graphql(t: Tape) -> None:
            body = {"operationName": "Job", "query": "query Job { job { id } }", "variables": {}}
            t.call("POST", "/graphql", body=body, gives={"data": {"job": {"id": "1974c16771f9"}}})

        def search(t: Tape) -> None:
            t.call("POST", "/find", body={"words": "lens"}, gives={"found": {"id": "c771f9e31974"}})

        self.assertEqual(judged(graphql, graphql, graphql), [])
        self.assertEqual([each for each in judged(search, search, search) if each.is_grave], [])

    def test_another_one_than_the_one_that_was_made(self) -> None:
        def scene(own: int, used: int) -> Callable[[Tape], None]:
            def play(t: Tape) -> None:
                t.call("POST", "/api/rows", body={"name": "a"}, gives=[{"pk": f"7f{own}0c1"}])
                t.call(
                    "GET", "/api/rows", gives={"rows": [{"pk": "7f10c1"}, {"pk": f"7f{own}0c1"}]}
                )
                t.call("PATCH", f"/api/rows/7f{used}0c1", body={"name": "b"}, gives={})

            return play

        self.assertEqual(judged(scene(3, 3), scene(4, 4), scene(5, 5)), [])
        found = judged(scene(3, 3), scene(4, 1))
        self.assertEqual([(each.kind, each.value) for each in found], [("other-record", "7f10c1")])

    def test_nothing_and_one_exchange(self) -> None:
        self.assertEqual(doubts_on([], []), [])
        tape = Tape("http://desk.example", 1)
        tracker(tape, 3)
        lone = Replay(at="a/b", round=1, recorded=99, exchange=tape.exchanges[1])
        self.assertEqual(doubts_on([lone], tape.exchanges), [])


class Renewed(TestCase):
    """A key that the answer to its own request issues anew, after a redirect."""

    def doubts(self, *, by_itself: bool) -> list[Doubt]:
        replays = []
        key = "key0aa11"
        for turn in (1, 2):
            t = Tape("http://desk.example", turn)
            t.call("POST", "/new", form={"key": key}, status=302, headers={"Location": "/there"})
            key = f"key{turn}bb22"
            t.call("GET", "/there", page=FORM.format("new", key))
            for place, exchange in enumerate(t.exchanges):
                # the value is captured from the last answer, of the request or of another one
                at = "step/post" if by_itself or place == 0 else "step/page"
                captured = {"key": key} if place == 1 else {}
                replays.append(
                    Replay(at=at, round=turn, recorded=None, exchange=exchange, captured=captured)
                )
        return doubts_on(replays, [])

    def test_it_is_silent_only_where_the_request_itself_renews(self) -> None:
        self.assertEqual([each.kind for each in self.doubts(by_itself=True)], [])
        self.assertEqual([each.kind for each in self.doubts(by_itself=False)], ["sent-again"])
