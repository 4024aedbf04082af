"""Looks different from the recording: speaks where the page is another, is silent where values
merely changed.
"""

import json
from unittest import TestCase

from dynamikos.core.exchanges import Answer
from dynamikos.core.exchanges.likeness import differences


def told(
    old: str,
    new: str,
    *,
    kind: str = "text/html",
    status: int = 200,
    then: int = 200,
    **headers: str,
) -> list[str]:
    before = tuple((name, value) for name, value in headers.items() if name.startswith("old_"))
    recorded = Answer(
        status=then,
        headers=(("Content-Type", kind), *((name[4:], value) for name, value in before)),
        body=old.encode(),
    )
    now = {
        "content-type": kind,
        **{name: value for name, value in headers.items() if not name.startswith("old_")},
    }
    return differences(recorded, status, now, new, len(new.encode()))


PAGE = (
    "<html><title>Booking BF-000{n} confirmed</title><main><h1>Confirmed</h1><p>{n} minutes "
    "left</p><form"
    " action='/bookings/{n}'><input name=key value=k{n}><select "
    "name=slot></select></form><table><tr><th>Night"
    " {n}<th>Slot</tr></table></main></html>"
)


class Silent(TestCase):
    def test_values_that_merely_changed(self) -> None:
        self.assertEqual(told(PAGE.format(n=17), PAGE.format(n=4211)), [])
        old = {
            "slots": [{"id": "a1", "free": True}],
            "token": "t-1",
            "page": 3,
            "next": None,
            "by_id": {"8812": {"n": 1}},
        }
        new = {
            "slots": [{"id": "b2", "free": False}] * 9,
            "token": "t-22222",
            "page": 7,
            "next": "x",
            "by_id": {"9901": {"n": 5}},
        }
        self.assertEqual(told(json.dumps(old), json.dumps(new), kind="application/json"), [])
        self.assertEqual(
            told('{"slots": []}', '{"slots": [{"id": 1}]}', kind="application/json"), []
        )
        self.assertEqual(
            told(
                "<title>BF 1 Cluster</title><main><h1>x</h1></main>",
                "<title>Ring Nebula</title><main><h1>y</h1></main>",
            ),
            [],
        )
        self.assertEqual(
            told(
                "",
                "",
                old_location="/orders/17?key=abc",
                location="/orders/9?key=zzz",
                status=302,
                then=302,
            ),
            [],
        )
        self.assertEqual(told("x" * 5000, "x" * 5600, kind="text/plain"), [])


class Speaks(TestCase):
    def test_status_redirect_and_kind(self) -> None:
        self.assertIn(
            "answered 409; the recording got 201",
            told("{}", "{}", kind="application/json", status=409, then=201),
        )
        self.assertIn(
            "redirect: /sign-in; recorded /home",
            told("", "", old_location="/home", location="/sign-in", status=302, then=302),
        )
        recorded = Answer(status=200, headers=(("Content-Type", "application/json"),), body=b"{}")
        self.assertEqual(
            differences(recorded, 200, {"content-type": "text/html; charset=x"}, "<p>", 3),
            ["kind of content: text/html; recorded application/json"],
        )

    def test_shape_of_json(self) -> None:
        self.assertEqual(
            told('{"a": {"b": 1}, "c": [{"d": 1}]}', '{"error": "x"}', kind="application/json"),
            ["missing in the JSON: $.a, $.c", "new in the JSON: $.error"],
        )
        self.assertEqual(
            told('{"c": [{"d": 1}]}', '{"c": [{"e": 1}]}', kind="application/json"),
            ["missing in the JSON: $.c[*].d", "new in the JSON: $.c[*].e"],
        )
        self.assertEqual(
            told('{"n": 1}', '{"n": "one"}', kind="application/json"),
            ["$.n is text; recorded number"],
        )
        self.assertEqual(
            told('{"n": 1}', "oops", kind="application/json"), ["the answer is not JSON any more"]
        )

    def test_forms_tables_and_title_of_a_page(self) -> None:
        sign_in = (
            "<title>Please sign in</title><form action='/sign-in'><input name=user><input "
            "name=word></form>"
        )
        found = told(PAGE.format(n=1), sign_in)
        self.assertIn("title “Please sign in”; recorded “Booking BF-0001 confirmed”", found)
        self.assertIn("the form to /bookings/* is missing", found)
        self.assertIn("a form to /sign-in is new", found)
        self.assertIn("the table Night * | Slot is missing", found)
        self.assertEqual(
            told(PAGE.format(n=1), PAGE.format(n=1).replace("name=slot", "name=captcha")),
            ["the form to /bookings/* has other fields: no slot, new captcha"],
        )

    def test_size_where_nothing_else_tells(self) -> None:
        self.assertEqual(
            told("x" * 9000, "x" * 100, kind="text/plain"), ["size 100 B; recorded 9,000 B"]
        )
        self.assertEqual(len(told("<p>" + "x" * 9000, "<p>x")), 1)
