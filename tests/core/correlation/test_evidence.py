"""Rules that real applications taught the search, each on the smallest scene that needs it."""

from collections.abc import Callable
from unittest import TestCase

from dynamikos.core.correlation import Strand, find_strands
from tests.core.correlation.recordings import Tape

SCRIPT = "var t = {" + ",".join(f'"{n}":{n}' for n in range(400)) + ",s:8,t:6};"


def search(scene: Callable[[Tape], None], *seeds: int) -> tuple[list[Strand], Tape]:
    tapes = [Tape("http://desk.example", seed) for seed in seeds or (1, 2)]
    for tape in tapes:
        scene(tape)
    return find_strands([tape.exchanges for tape in tapes]), tapes[0]


def proven(found: list[Strand]) -> dict[str, Strand]:
    return {
        each.value: each
        for each in found
        if each.kind == "issued" and each.proven and not each.followed
    }


class Evidence(TestCase):
    def test_a_short_id_of_a_redirect_behind_scripts_full_of_digits(self) -> None:
        def scene(t: Tape) -> None:
            page = str(5 + t.seed)
            t.call(
                "GET", "/static/app.js", page=SCRIPT, headers={"Content-Type": "text/javascript"}
            )
            t.call("GET", "/pages/", page="<a href='/pages/1/edit/'>one</a> 6 8 <b>7</b>")
            t.call(
                "POST",
                "/pages/add/",
                form={"title": "x"},
                status=302,
                headers={"Location": f"/pages/{page}/edit/"},
            )
            t.call(
                "GET",
                f"/pages/{page}/edit/",
                page=f'<form action="/pages/{page}/edit/"><input name=title></form>',
            )
            t.call("POST", f"/pages/{page}/edit/", form={"title": "y"}, page="saved")

        found, _ = search(scene, 1, 3)
        self.assertIn("6", proven(found))
        capture = proven(found)["6"].capture
        assert capture is not None
        self.assertTrue(capture.address or capture.regex, capture)

    def test_one_short_number_of_two_things_is_two_strands(self) -> None:
        def scene(t: Tape) -> None:
            page, session = str(5 + t.seed), str(5 + t.seed)
            t.call("GET", "/start", page=f'<input type=hidden name="session" value="{session}">')
            t.call("POST", "/pages", form={"session": session}, gives={"page": {"id": int(page)}})
            t.call("GET", f"/pages/{page}/edit", page="<p>edit</p>")

        found, _ = search(scene)
        names = sorted(each.name for each in found if each.kind == "issued" and each.proven)
        self.assertEqual(len(names), 2, names)

    def test_typed_words_are_never_issued_however_often_they_are_echoed(self) -> None:
        def scene(t: Tape) -> None:
            word = ("Copper", "Willow", "Lantern")[t.seed % 3]
            t.call("GET", "/add", page='<form><input name="title"></form>')
            t.call(
                "POST",
                "/add",
                form={"title": word},
                page=f"<h1>{word}</h1><a href='/find?q={word}'>{word}</a>",
            )
            t.call("GET", f"/find?q={word}", page=f"<li>{word}</li>")
            t.call("POST", "/tag", body={"name": word, "kind": "tag"}, gives={"ok": True})

        found, _ = search(scene)
        self.assertEqual(proven(found), {})
        self.assertTrue(
            all(each.kind == "typed" for each in found if each.value.casefold() == "willow")
        )

    def test_what_is_filled_in_again_is_an_echo(self) -> None:
        def scene(t: Tape) -> None:
            amount = ("", "33", "47", "21")[t.seed]
            t.call("GET", "/bill", page='<form><input name="amount"></form>')
            t.call("POST", "/bill", form={"amount": amount}, page="ok")
            t.call(
                "GET", "/bill/edit", page=f'<form><input name="amount" value="{amount}.0"></form>'
            )
            t.call("POST", "/bill/edit", form={"amount": f"{amount}.0"}, page="ok")

        found, _ = search(scene)
        self.assertEqual(proven(found), {})

    def test_an_answer_that_is_the_same_everywhere_issues_no_difference(self) -> None:
        def scene(t: Tape) -> None:
            kind = ("", "4", "7")[t.seed]
            t.call(
                "GET", "/list", page="".join(f'<a href="/kinds/{n}">{n}</a>' for n in range(1, 9))
            )
            t.call("GET", f"/kinds/{kind}", page="a kind")

        found, _ = search(scene)
        self.assertEqual(proven(found), {})

    def test_an_anchor_that_moves_holds_nothing(self) -> None:
        def scene(t: Tape) -> None:
            one, two = t.hex(), t.hex()
            t.call("GET", "/", page=f"<script>boot('{one}','{t.must(two)}')</script>")
            t.call("GET", f"/x?k={two}&o={one}", page="ok")

        found, tape = search(scene)
        for strand in found:
            if strand.capture is not None and strand.capture.between is not None:
                self.assertNotIn(
                    tape.exchanges[0].answer.body.decode().split("'")[1],
                    strand.capture.between.before,
                )

    def test_hidden_inputs_of_a_page_are_no_list_to_pick_from(self) -> None:
        def scene(t: Tape) -> None:
            rows = [t.hex(8) for _ in range(4)]
            t.call(
                "GET",
                "/",
                page="".join(
                    f'<input type="hidden" name="n{i}" value="{v}">' for i, v in enumerate(rows)
                ),
            )
            t.call("POST", "/take", form={"choice": rows[t.seed]}, page="ok")

        found, _ = search(scene)
        self.assertFalse(
            [
                each
                for each in proven(found).values()
                if each.capture and each.capture.pick == "random"
            ]
        )

    def test_the_last_of_several_polls_says_that_it_is_done(self) -> None:
        def scene(t: Tape) -> None:
            done = t.hex(12)
            t.call("POST", "/jobs", body={"kind": "report"}, gives={"state": "queued"})
            for _ in range(t.seed):
                t.call("GET", "/jobs/mine", gives={"state": "running", "result": None})
            t.call("GET", "/jobs/mine", gives={"state": "done", "result": t.must(done)})
            t.call("GET", f"/results/{done}", page="there")

        found, tape = search(scene, 1, 4)
        self.assertEqual(set(proven(found)), set(tape.issued))

    def test_half_of_a_pair_of_signs_ends_no_search(self) -> None:
        def scene(t: Tape) -> None:
            t.call("GET", "/", page=f'<script>var a = "\\ud800 {t.must(t.hex())}"</script>')
            t.call("GET", f"/x?key={t.issued[-1]}", page="ok")

        found, tape = search(scene)
        self.assertEqual(set(proven(found)), set(tape.issued))

    def test_a_password_sent_with_each_request_is_the_clients(self) -> None:
        def scene(t: Tape) -> None:
            t.call("GET", "/", page="x", sent={"Authorization": f"Basic {t.hex(12)}"})
            t.call("GET", "/more", page="x", sent={"Authorization": f"Digest nonce={t.hex(12)}"})

        found, _ = search(scene)
        self.assertEqual([each for each in found if "Authorization" in str(each.uses)], [])

    def test_requests_are_told_apart_by_what_they_are_known_to_call_differently(self) -> None:
        def scene(t: Tape) -> None:
            name, other = (("lantern", "copper"), ("ladder", "willow"))[t.seed - 1]
            for each in (name, other):
                t.call("GET", f"/new?title={each}", page="ok")
                token = t.must(t.hex())
                t.call("GET", f"/{each}/", page=f'<input type=hidden name=token value="{token}">')
                t.call("POST", f"/{each}/save", form={"token": token}, page="ok")

        found, tape = search(scene)
        self.assertEqual(set(proven(found)), set(tape.issued))

    def test_what_was_made_says_its_number_not_the_list_that_holds_it_later(self) -> None:
        def scene(t: Tape) -> None:
            key, other = t.must(t.uuid()), t.uuid()
            t.call("POST", "/api/rows", body={"name": "a"}, gives=[{"pk": key}])
            t.call(
                "GET",
                "/api/rows",
                gives={"rows": [{"pk": other, "name": "x"}, {"pk": key, "name": "a"}]},
            )
            t.call("PATCH", f"/api/rows/{key}", body={"name": "b"}, gives={})

        found, tape = search(scene)
        strand = proven(found)[tape.issued[0]]
        assert strand.origin is not None and strand.capture is not None
        self.assertEqual((strand.origin.entry, strand.capture.json), (0, "$[0].pk"))

    def test_moved_numbers_prove_nothing(self) -> None:
        """Short numbers moved by k in one recording: no answer issues them any more."""

        def scene(t: Tape) -> None:
            page = 5 + t.seed
            t.call(
                "GET",
                "/pages/",
                page=f"<a href='/pages/{page}/edit/'>one</a> <b>{page + 1}</b> <i>{page + 2}</i>",
            )
            moved = page + (3 if t.seed == 2 else 0)
            t.call("GET", f"/pages/{moved}/edit/", page="edit")
            t.call("POST", f"/pages/{moved}/edit/", form={"title": "y"}, page="saved")

        found, _ = search(scene)
        self.assertEqual(proven(found), {})
