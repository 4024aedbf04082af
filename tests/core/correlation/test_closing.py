"""What the closing sends comes from a page that it opens itself."""

from unittest import TestCase

from dynamikos.core.correlation import accept, find_strands
from dynamikos.core.correlation.accept import Accepted
from dynamikos.core.exchanges import Mark, Recording
from dynamikos.core.journeys.from_recording import journey_from
from tests.core.correlation.recordings import Tape

BASE = "http://desk.example"


def taken(*, on_front: bool) -> Accepted:
    """A session whose sign-out needs a key of the page before; `on_front`: the front page has one
    as well.
    """
    tapes = [Tape(BASE, seed) for seed in (1, 2)]
    for t in tapes:
        number = str(70 + t.seed)

        def key(t: Tape = t) -> str:
            return (
                '<form action="/sign-out"><input type="hidden" name="key" '
                f'value="{t.hex()}"></form>'
            )

        t.call("POST", "/sign-in", form={"who": "ada", "password": "x"}, page="<p>in</p>")
        t.call("GET", "/", page="<h1>Front</h1>" + (key() if on_front else ""))
        t.call(
            "POST",
            "/notes",
            form={"text": "x"},
            status=302,
            headers={"Location": f"/notes/{number}"},
        )
        last = key()
        t.call("GET", f"/notes/{number}", page=last)
        t.call(
            "POST",
            "/sign-out",
            form={"key": last.split('value="')[1].split('"')[0]},
            page="<p>bye</p>",
        )
    at = [each.started_us for each in tapes[0].exchanges]
    marks = (
        Mark(at_us=at[0], name="In", part="opening"),
        Mark(at_us=at[1], name="Note", part="rounds"),
        Mark(at_us=at[4], name="Out", part="closing"),
    )
    first = Recording(exchanges=tuple(tapes[0].exchanges), pages={}, marks=marks)
    journey = journey_from(first, "Notes", [BASE], {BASE: "env.desk"})
    found = [
        each
        for each in find_strands([t.exchanges for t in tapes])
        if each.kind == "issued" and each.proven
    ]
    made = accept(journey, found, tapes[0].exchanges)
    assert (
        accept(made.journey, found, tapes[0].exchanges).journey == made.journey
    )  # a second time changes nothing
    return made


class Closing(TestCase):
    def test_a_page_that_can_be_opened_at_any_time_is_opened_in_the_closing(self) -> None:
        made = taken(on_front=True)
        page, leaving = made.journey.closing[0].requests
        self.assertEqual((page.method, page.address), ("GET", "{{ env.desk }}/"))
        name = page.captures[0].name
        assert leaving.body is not None and leaving.body.form is not None
        self.assertEqual(dict(leaving.body.form)["key"], f"{{{{ {name} }}}}")
        rounds = [
            capture.name
            for step in made.journey.rounds
            for r in step.requests
            for capture in r.captures
        ]
        self.assertNotIn(name, rounds)
        self.assertEqual([line for line in made.left if "leaves before" in line], [])

    def test_without_such_a_page_it_is_said(self) -> None:
        made = taken(on_front=False)
        self.assertEqual([each.method for each in made.journey.closing[0].requests], ["POST"])
        self.assertTrue(
            [line for line in made.left if "leaves before a round is done" in line], made.left
        )
