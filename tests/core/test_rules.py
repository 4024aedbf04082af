"""Templates, captures, checks and what verify finds: tables of (input, expected)."""

from unittest import TestCase

from dynamikos.core.captures import BetweenForm, Capture, CssForm, RegexForm, View, compile_capture
from dynamikos.core.checks import Check, JsonEquals, compile_check
from dynamikos.core.errors import RuleError, TemplateError
from dynamikos.core.journeys import parse_journey, verify
from dynamikos.core.journeys.editing import (
    EditError,
    add_step,
    change_request,
    move_request,
    move_step,
    place_step,
    remove_step,
)
from dynamikos.core.values import compile_text

PAGE = b"""<html><form><input type=hidden name="form_key" value="k&amp;1"><p id=minutes> 45 </p></form>
<script>var token = "t-9";</script></html>"""  # noqa: E501
JSON = (
    b'{"slots": [{"id": 7, "ok": true}, {"id": 8}], "hold_token": "t-1", "none": null, "a.b": '
    b'"dot", "deep": {"x": [1,'
    b" [2]]}}"
)


def view(body: bytes, kind: str = "text/html", status: int = 200) -> View:
    return View(
        status,
        [(b"Content-Type", kind.encode()), (b"X-Token", b"abc")],
        body,
        lambda: {"desk": "d1"},
    )


class Templates(TestCase):
    def test_fill(self) -> None:
        self.assertEqual(
            compile_text("/a/{{ x }}/{{observers.email}}?").fill(
                {"x": "1", "observers.email": "e"}
            ),
            "/a/1/e?",
        )
        self.assertEqual(compile_text("plain } {").fixed, "plain } {")

    def test_errors_say_what_to_do(self) -> None:
        for source, words in (
            ("{{ a", "never closed"),
            ("{{ a + }}", "be read"),
            ("{{ }}", "not a name"),
            ("{{ a.b.c }}", "not a name"),
        ):
            with self.subTest(source), self.assertRaisesRegex(TemplateError, words):
                compile_text(source)
        with self.assertRaisesRegex(TemplateError, "token has no value here"):
            compile_text("{{ token }}").fill({})


class Captures(TestCase):
    CASES = (
        (Capture(name="x", json="$.slots[0].id"), JSON, "7"),
        (Capture(name="x", json="$.slots[?@.id > 7].id"), JSON, "8"),
        (Capture(name="x", json="$['a.b']"), JSON, "dot"),
        (Capture(name="x", json="$.none"), JSON, None),
        (Capture(name="x", json="$.slots[0].ok"), JSON, "true"),
        (Capture(name="x", json="$.deep"), JSON, '{"x":[1,[2]]}'),
        (Capture(name="x", json="$..x[1][0]"), JSON, "2"),
        (Capture(name="x", json="$.a"), PAGE, None),
        (
            Capture(name="x", css=CssForm(selector="input[name=form_key]", attribute="value")),
            PAGE,
            "k&1",
        ),
        (Capture(name="x", css=CssForm(selector="#minutes")), PAGE, "45"),
        (Capture(name="x", css=CssForm(selector="b")), PAGE, None),
        (Capture(name="x", between=BetweenForm(before='token = "', after='"')), PAGE, "t-9"),
        (Capture(name="x", between=BetweenForm(before="token", after="§")), PAGE, None),
        (Capture(name="x", regex=RegexForm(pattern=r'var (\w+) = "(.*?)"', group=2)), PAGE, "t-9"),
        (Capture(name="x", regex=RegexForm(pattern="t-[0-9]", group=0)), PAGE, "t-9"),
        (Capture(name="x", regex=RegexForm(pattern="(no)")), PAGE, None),
        (Capture(name="x", header="x-token"), PAGE, "abc"),
        (Capture(name="x", header="x-other"), PAGE, None),
        (Capture(name="x", cookie="desk"), PAGE, "d1"),
    )

    def test_each_form(self) -> None:
        for capture, body, expected in self.CASES:
            with self.subTest(capture):
                self.assertEqual(compile_capture(capture)(view(body)), expected)

    def test_wrong_expressions_are_named(self) -> None:
        wrong = (
            Capture(name="x"),
            Capture(name="x", json="$.a", header="b"),
            Capture(name="x", json="$["),
            Capture(name="x", regex=RegexForm(pattern="(")),
            Capture(name="x", regex=RegexForm(pattern="a", group=1)),
            Capture(name="x", css=CssForm(selector="[[")),
            Capture(name="x", header="a b"),
            Capture(name="x", between=BetweenForm(before="", after="b")),
        )
        for capture in wrong:
            with self.subTest(capture), self.assertRaises(RuleError):
                compile_capture(capture)

    def test_simple_paths_agree_with_the_library(self) -> None:
        import jsonpath_rfc9535
        import orjson

        from dynamikos.core.captures.paths import MISSING, compile_path

        document = orjson.loads(JSON)
        for path in (
            "$",
            "$.slots",
            "$.slots[1]",
            "$.slots[9]",
            "$.slots.id",
            "$['a.b']",
            "$.hold_token[0]",
            "$.deep.x[1][0]",
        ):
            node = jsonpath_rfc9535.find_one(path, document)
            found = compile_path(path)(document)
            self.assertEqual(found, MISSING if node is None else node.value, path)


class Checks(TestCase):
    def test_expected_beside_actual(self) -> None:
        cases = (
            (Check(status=200), None),
            (Check(status=201), ("status 201", "status 200")),
            (Check(contains="t-{{ n }}"), None),
            (Check(contains="absent"), ("contains “absent”", None)),
            (
                Check(json=JsonEquals(path="$.hold_token", equals="t-1")),
                ("$.hold_token = t-1", "the body is not JSON"),
            ),
        )
        for check, expected in cases:
            with self.subTest(check):
                verdict = compile_check(check)(view(PAGE), {"n": "9"})
                if expected is None:
                    self.assertIsNone(verdict)
                else:
                    self.assertEqual(verdict.expected, expected[0])
                    self.assertIn(expected[1] or "without it", verdict.actual)
        passed = compile_check(Check(json=JsonEquals(path="$.slots[0].id", equals="{{ n }}")))
        self.assertIsNone(passed(view(JSON, "application/json"), {"n": "7"}))
        self.assertEqual(passed(view(JSON, "application/json"), {"n": "8"}).actual, "7")
        self.assertEqual(
            compile_check(Check(json=JsonEquals(path="$.zz", equals="1")))(view(JSON), {}).actual,
            "nothing at this path",
        )


JOURNEY = parse_journey("""form: 1
journey: j
name: J
opening:
  - step: a
    name: A
    requests:
      - {request: one, address: "{{ env.target }}/", captures: [{name: key, json: $.key}]}
      - {request: two, address: "/{{ key }}/{{ late }}/{{ observers.emial }}/{{ env.nope }}"}
rounds:
  - step: b
    name: B
    requests:
      - {request: one, address: "/x", captures: [{name: late, regex: {pattern: "("}}], checks: [
          {contains: "{{ key }}"}]}
""")


class Verify(TestCase):
    def test_names_before_their_value(self) -> None:
        found = [
            (each.step, each.request, each.message)
            for each in verify(JOURNEY, {"env.target", "observers.email"})
        ]
        self.assertEqual([each[:2] for each in found], [("a", "two")] * 3 + [("b", "one")])
        self.assertIn("not captured before this request", found[0][2])
        self.assertIn("'observers' has email", found[1][2])
        self.assertIn("add 'nope' in Settings", found[2][2])
        self.assertIn("not a regular expression", found[3][2])


class Editing(TestCase):
    def keys(self, journey: object) -> str:
        return " ".join(
            f"{part}:{step.step}({','.join(r.request for r in step.requests)})"
            for part, step in journey.steps()
        )  # type: ignore[attr-defined]

    def test_moves(self) -> None:
        self.assertEqual(
            self.keys(move_request(JOURNEY, "a", "two", -1)), "opening:a(two,one) rounds:b(one)"
        )
        self.assertEqual(
            self.keys(move_request(JOURNEY, "a", "two", 1)), "opening:a(one) rounds:b(two,one)"
        )
        self.assertEqual(
            self.keys(move_request(JOURNEY, "b", "one", -1)), "opening:a(one,two,one-2) rounds:b()"
        )
        self.assertEqual(self.keys(move_step(JOURNEY, "a", 1)), "rounds:a(one,two) rounds:b(one)")
        self.assertEqual(self.keys(move_step(JOURNEY, "b", 1)), "opening:a(one,two) closing:b(one)")
        self.assertEqual(
            self.keys(place_step(JOURNEY, "b", "opening", 0)), "opening:b(one) opening:a(one,two)"
        )
        self.assertEqual(
            self.keys(remove_step(add_step(JOURNEY, "rounds", "New thing"), "b")),
            "opening:a(one,two) rounds:new-thing()",
        )
        self.assertEqual(
            change_request(JOURNEY, "a", "one", method="PUT").opening[0].requests[0].method, "PUT"
        )

    def test_what_is_gone_is_said(self) -> None:
        with self.assertRaisesRegex(EditError, "no step 'zz'"):
            move_step(JOURNEY, "zz", 1)
        with self.assertRaisesRegex(EditError, "no request 'zz'"):
            change_request(JOURNEY, "a", "zz", method="PUT")
