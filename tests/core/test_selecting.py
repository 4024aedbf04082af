"""Selectors find what the library's own do, and are bounded where those are not."""

from unittest import TestCase

from selectolax.lexbor import LexborHTMLParser

from dynamikos import workers
from dynamikos.core.captures.selecting import compile_selector
from dynamikos.core.errors import RuleError

PAGE = """<html><body><ul id="a" class="x y"><li>1</li><li class="y">2</li><li data-k="q,1">3</li></ul>
<p class="x">4<b>5</b></p>
<form><input name="hold"><input name="token" value="t"></form><div><div><p>6</p></div></div><p>7</p></body></html>"""  # noqa: E501
SELECTORS = (
    "li",
    "#a > li",
    ".x li.y",
    "ul + p",
    "li ~ li",
    "p b, form input[name=token]",
    "[data-k='q,1']",
    "div div p",
    "body > p",
    "*",
    "li:nth-child(2)",
    "form input",
    "ul li:first-child",
    "p:has(b)",
    "li:not(.y)",
    "nothing",
    "div > p + p",
    "input[name^=to]",
)


class Selecting(TestCase):
    def test_the_same_nodes_as_the_library_finds(self) -> None:
        page = LexborHTMLParser(PAGE)
        for selector in SELECTORS:
            with self.subTest(selector):
                found = [node.html for node in compile_selector(selector)(page)]
                self.assertEqual(
                    sorted(map(str, found)), sorted(str(node.html) for node in page.css(selector))
                )

    def test_deep_pages_and_long_selectors_are_bounded(self) -> None:
        page = LexborHTMLParser("<div>" * 400 + "<p>deep</p>" + "</div>" * 400)
        selector = "div " * 20 + "i"  # by trying every way, 400 over 20 of them
        self.assertEqual(list(compile_selector(selector)(page)), [])
        for text in ("div " * 40 + "p", "p:has(div div div)"):
            with self.subTest(text), self.assertRaises(RuleError):
                compile_selector(text)


class Hostile(TestCase):
    def test_a_pattern_of_the_web_pages_is_cut_off_in_a_worker(self) -> None:
        import msgspec

        from dynamikos.core.captures import Capture, RegexForm

        body = ("a" * 4000 + "!").encode()
        asked = msgspec.msgpack.encode(
            (
                Capture(name="x", regex=RegexForm(pattern="(a+)+(a+)+(a+)+$")),
                [(200, [(b"content-type", b"text/plain")], body, {}, ())],
            )
        )
        with self.assertRaisesRegex(workers.WorkerError, "longer than"):
            workers.call("trial", asked, seconds=0.5, memory_mb=500)
