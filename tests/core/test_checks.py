"""Every form of check: what passes, what does not, and expected beside actual."""

from decimal import Decimal
from unittest import TestCase

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from dynamikos.core.captures import View
from dynamikos.core.checks import (
    Bounds,
    Check,
    Comparing,
    CssText,
    HeaderText,
    JsonEquals,
    compile_check,
    suggested,
)
from dynamikos.core.checks.kinds.comparing import calculated
from dynamikos.core.errors import RuleError, TemplateError

HTML = (
    b"<html><title>Sky desk</title><ul><li>one</li><li>two</li></ul><a href='/x' rel=next>n</a> "
    b"left: 45</html>"
)
JSON = b'{"n": 12, "who": {"name": "Una"}, "rows": [1, 2, 3], "ok": true, "none": null}'
VALUES = {"before": "60", "booked": "15", "after": "45", "name": "Una"}


def verdict(
    check: Check,
    body: bytes = JSON,
    status: int = 200,
    kind: bytes = b"application/json; charset=utf-8",
    ms: float = 120.0,
):  # type: ignore[no-untyped-def]
    view = View(status, [(b"Content-Type", kind), (b"ETag", b'"a17"')], body)
    view.duration_ms = ms
    return compile_check(check)(view, VALUES)


class Missing(TestCase):
    def test_a_value_that_is_missing_is_said_whatever_else_is_so(self) -> None:
        """Also where nothing was found, and where the check is turned round: it never passes by
        that.
        """
        checks = [
            Check(contains="{{ gone }}"),
            Check(json=JsonEquals(path="$.n", equals="{{ gone }}")),
            Check(json=JsonEquals(path="$.nowhere", equals="{{ gone }}")),
            Check(css=CssText(selector="title", equals="{{ gone }}")),
            Check(css=CssText(selector="table", equals="{{ gone }}")),
            Check(header=HeaderText(name="ETag", equals="{{ gone }}")),
            Check(header=HeaderText(name="X-No", equals="{{ gone }}")),
            Check(value=Comparing(left="1", right="{{ gone }}")),
        ]
        for check in checks:
            for body in (JSON, HTML):
                for never in (False, True):
                    with self.subTest(check=check, never=never):
                        judge = compile_check(msgspec.structs.replace(check, never=never))
                        view = View(200, [(b"ETag", b'"a17"')], body)
                        for asked in (judge, judge.passes):
                            with self.assertRaises(TemplateError):
                                asked(view, VALUES)

    def test_passes_says_the_same_as_the_verdict(self) -> None:
        checks = [
            Check(status=200),
            Check(status="4xx"),
            Check(type="text/html"),
            Check(contains="{{ name }}"),
            Check(regex="[0-9]+"),
            Check(json=JsonEquals(path="$.n", above=11)),
            Check(json=JsonEquals(path="$.rows[*]", count=3)),
            Check(json=JsonEquals(path="$.ok", type="boolean")),
            Check(css=CssText(selector="li", count=2)),
            Check(header=HeaderText(name="etag", matches="a1")),
            Check(size=Bounds(at_most=100)),
            Check(time=Bounds(at_least=121)),
            Check(value=Comparing(left="{{ before }} - {{ booked }}", right="{{ after }}")),
        ]
        for check in checks:
            for body in (JSON, HTML):
                for never in (False, True):
                    judge = compile_check(msgspec.structs.replace(check, never=never))
                    view = View(200, [(b"Content-Type", b"text/html"), (b"ETag", b'"a17"')], body)
                    view.duration_ms = 120.0
                    self.assertEqual(judge.passes(view, VALUES), judge(view, VALUES) is None, check)


class Forms(TestCase):
    def both(self, passes: Check, fails: Check, expected: str, actual: str, **more: object) -> None:
        """One passes, the other says expected and actual; turned round, the first fails and the
        second passes.
        """
        self.assertIsNone(verdict(passes, **more), passes)
        found = verdict(fails, **more)
        self.assertIsNotNone(found, fails)
        self.assertEqual((found.expected, found.actual), (expected, actual))
        self.assertEqual(
            verdict(msgspec.structs.replace(passes, never=True), **more).expected[:5], "not: "
        )
        self.assertIsNone(verdict(msgspec.structs.replace(fails, never=True), **more))

    def test_status_by_code_class_and_list(self) -> None:
        self.both(Check(status=200), Check(status=201), "status 201", "status 200")
        self.both(Check(status="2xx"), Check(status="3xx"), "status 3xx", "status 200")
        self.both(
            Check(status=(301, "2xx")), Check(status=(301, 302)), "status 301 or 302", "status 200"
        )

    def test_type_text_and_pattern(self) -> None:
        self.both(
            Check(type="application/json"),
            Check(type="text/html"),
            "content type text/html",
            "application/json",
        )
        self.both(
            Check(contains="{{ name }}"),
            Check(contains="Orla"),
            "contains “Orla”",
            f"{len(JSON):,} bytes without it: {JSON[:120].decode()}",
        )
        self.both(
            Check(regex=r"left: \d+"),
            Check(regex=r"right: \d+"),
            r"matches right: \d+",
            f"no match in {len(HTML)} bytes",
            body=HTML,
            kind=b"text/html",
        )

    def test_json(self) -> None:
        def at(path: str, **more: object) -> Check:
            return Check(json=JsonEquals(path=path, **more))  # type: ignore[arg-type]

        self.both(at("$.who"), at("$.whom"), "$.whom is there", "nothing at this path")
        self.both(
            at("$.who.name", equals="{{ name }}"),
            at("$.who.name", equals="O"),
            "$.who.name = O",
            "Una",
        )
        self.both(at("$.n", above=11), at("$.n", above=12), "$.n > 12", "12")
        self.both(at("$.n", below=12.5), at("$.n", below=3), "$.n < 3", "12")
        self.both(
            at("$.who.name", matches="^U"),
            at("$.who.name", matches="^O"),
            "$.who.name matches ^O",
            "Una",
        )
        self.both(at("$.rows[*]", count=3), at("$.rows[*]", count=4), "4 × $.rows[*]", "3")
        self.both(at("$.rows", type="list"), at("$.n", type="text"), "$.n is text", "number: 12")
        self.both(
            at("$.ok", type="boolean"),
            at("$.who", type="list"),
            "$.who is list",
            'object: {"name":"Una"}',
        )
        self.assertEqual(verdict(at("$.who.name", above=1)).actual, "Una, which is no number")
        self.assertEqual(verdict(at("$.n"), body=b"<html>").actual, "the body is not JSON")

    def test_css_and_header(self) -> None:
        html = {"body": HTML, "kind": b"text/html"}
        self.both(
            Check(css=CssText(selector="title", equals="Sky desk")),
            Check(css=CssText(selector="title", equals="Sea")),
            "title = Sea",
            "Sky desk",
            **html,
        )
        self.both(
            Check(css=CssText(selector="li", count=2)),
            Check(css=CssText(selector="li", count=1)),
            "1 × li",
            "2",
            **html,
        )
        self.both(
            Check(css=CssText(selector="a[rel=next]", attribute="href", matches="^/")),
            Check(css=CssText(selector="form")),
            "form is there",
            "no such element",
            **html,
        )
        self.both(
            Check(header=HeaderText(name="etag", equals='"a17"')),
            Check(header=HeaderText(name="Link")),
            "header Link is there",
            "no such header",
        )

    def test_size_and_time(self) -> None:
        self.both(
            Check(size=Bounds(at_least=10, at_most=1000)),
            Check(size=Bounds(at_most=10)),
            "size at most 10 bytes",
            f"{len(JSON)} bytes",
        )
        self.both(
            Check(time=Bounds(at_most=200)),
            Check(time=Bounds(at_least=200)),
            "response time at least 200 ms",
            "120 ms",
        )

    def test_values_compared(self) -> None:
        same = Check(value=Comparing(left="{{ before }} - {{ booked }}", right="{{ after }}"))
        other = Check(value=Comparing(left="{{ before }} - {{ booked }}", right="{{ after }} + 1"))
        self.both(same, other, "60 - 15 = 45 + 1", "45 and 46")
        self.both(
            Check(value=Comparing(left="{{ name }}", right="Una")),
            Check(value=Comparing(left="{{ name }}", right="O")),
            "“Una” = “O”",
            "they are not",
        )
        # as numbers, not as texts
        self.assertIsNone(verdict(Check(value=Comparing(left="9", right="10", compare="<"))))

    def test_what_is_no_check_is_said(self) -> None:
        for check, words in (
            (Check(), "exactly one of"),
            (Check(status=200, contains="x"), "exactly one of"),
            (Check(status=99), "not an HTTP status"),
            (Check(type="json"), "not a content type"),
            (Check(regex="(open"), "not a regular expression"),
            (Check(size=Bounds()), "at_least, at_most or both"),
            (Check(json=JsonEquals(path="$.a", equals="1", above=2)), "equals and above"),
            (Check(css=CssText(selector="a", matches="[")), "not a regular expression"),
            (Check(contains=""), "needs a text"),
        ):
            with self.assertRaises(RuleError) as caught:
                compile_check(check)
            self.assertIn(words, str(caught.exception))


class Arithmetic(TestCase):
    def test_known_results(self) -> None:
        for text, wanted in (
            ("1 + 2 * 3", 7),
            ("(1 + 2) * 3", 9),
            ("-4 - -2", -2),
            ("10 ÷ 4", Decimal("2.5")),
            ("0.1 + 0.2", Decimal("0.3")),
            ("7", 7),
            ("60 − 15", 45),
        ):
            self.assertEqual(calculated(text), wanted, text)
        for text in (
            "",
            "a",
            "1 +",
            "(1",
            "1 / 0",
            "1 2",
            "2 ** 3",
            "1e5",
            "(" * 300 + "1" + ")" * 300,
        ):
            self.assertIsNone(calculated(text), text)

    @given(
        st.lists(st.tuples(st.sampled_from("+-*"), st.integers(0, 999)), min_size=1, max_size=12)
    )
    def test_agrees_with_python(self, parts: list[tuple[str, int]]) -> None:
        text = "1 " + " ".join(f"{sign} {number}" for sign, number in parts)
        self.assertEqual(calculated(text), eval(text))


class Suggested(TestCase):
    def view(self, body: bytes, kind: bytes = b"text/html", status: int = 200) -> View:
        return View(status, [(b"content-type", kind)], body)

    def test_only_what_both_have_and_no_other_page(self) -> None:
        now = self.view(
            b"<title>Sky desk</title><h1>Welcome, Una</h1><p>Borrow a telescope "
            b"tonight.</p><p>Choose a quarter"
            b" hour.</p>"
        )
        then = self.view(
            b"<title>Sky desk</title><h1>Welcome, Orla</h1><p>Borrow a telescope "
            b"tonight.</p><p>Choose a quarter"
            b" hour.</p>"
        )
        found = dict(suggested(now, then, ["<p>Borrow a telescope tonight.</p>"]))
        self.assertEqual(
            found["the title is “Sky desk”"],
            Check(css=CssText(selector="title", equals="Sky desk")),
        )
        self.assertFalse(any("Welcome" in words for words in found))
        self.assertIn("it says “Choose a quarter hour.”, as no other page does", found)
        for check in found.values():
            self.assertIsNone(compile_check(check)(now, {}))
            self.assertIsNone(compile_check(check)(then, {}))

    def test_data_of_the_row_becomes_its_name(self) -> None:
        page = (
            "<title>Wren revised – Talks</title><h1>Welcome, {}</h1><p>The talk {} was kept for "
            "you.</p>"
        )
        now = self.view(page.replace("Wren", "Heron of 7").format("Una", "Heron of 7").encode())
        then = self.view(page.format("Orla", "Wren").encode())
        values = {"talks.title": "Heron of 7", "people.name": "Una", "short": "7"}
        found = dict(suggested(now, then, [], values))
        title = found["the title is “{{ talks.title }} revised – Talks”"]
        self.assertEqual(
            title.css, CssText(selector="title", equals="{{ talks.title }} revised – Talks")
        )
        self.assertIn("the heading is “Welcome, {{ people.name }}”", found)
        for check in found.values():
            self.assertIsNone(compile_check(check)(now, values))
            self.assertNotIn("Heron", str(check))
            self.assertNotIn("Una", str(check))
        self.assertIsNone(compile_check(title)(then, {**values, "talks.title": "Wren"}))

    def test_the_shape_of_json(self) -> None:
        now, then = (
            self.view(b'{"slots": [{"id": 1}], "night": "a", "more": 1}', b"application/json"),
            self.view(b'{"slots": [{"id": 7}], "night": "b"}', b"application/json"),
        )
        found = dict(suggested(now, then, []))
        self.assertEqual(
            list(found)[:3],
            ["$.slots is a list", "$.slots has at least one entry", "$.night is a text"],
        )
        self.assertFalse(any("more" in words for words in found))
        for check in found.values():
            self.assertIsNone(compile_check(check)(now, {}))
        self.assertEqual(
            dict(suggested(self.view(b"oops", b"application/json", 500), None, []))[
                "the status is 500"
            ],
            Check(status=500),
        )
