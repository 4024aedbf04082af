"""A casebook's blocks are put between, moved, written in and taken out; what a person writes stays
text.
"""

from typing import get_args
from unittest import TestCase

from dynamikos.core.errors import DynamikosError
from dynamikos.core.telling import PARTS, as_page
from dynamikos.core.telling import casebook as core
from dynamikos.core.telling.casebook import Casebook, OfReport, Pin, Text
from dynamikos.core.telling.evidence import Evidence, Picture, Table
from dynamikos.core.telling.page import evidence_as_html, evidence_as_markdown, text_as_html


def book(*keys: str) -> Casebook:
    return Casebook(title="t", blocks=tuple(Text(key=key) for key in keys))


def keys(of: Casebook) -> str:
    return " ".join(each.key for each in of.blocks)


class Blocks(TestCase):
    def test_put_between_at_the_beginning_and_at_the_end(self) -> None:
        made = core.with_block(book("a", "b"), Text(key="a"), "a")
        self.assertEqual(keys(made), "a a-2 b")
        self.assertEqual(keys(core.with_block(made, Text(key="a"), "")), "a-3 a a-2 b")
        self.assertEqual(keys(core.with_block(made, Pin(key="lane", what="lane"))), "a a-2 b lane")
        self.assertEqual(keys(core.with_block(made, Text(key="c"), "gone")), "a a-2 b c")

    def test_moved_to_any_place_and_beyond_the_ends(self) -> None:
        for to, wanted in ((0, "b a c"), (1, "a b c"), (2, "a c b"), (9, "a c b"), (-4, "b a c")):
            self.assertEqual(keys(core.moved(book("a", "b", "c"), "b", to)), wanted)

    def test_written_in_and_taken_out(self) -> None:
        whole = core.with_block(book("a"), Pin(key="p", what="lane"))
        self.assertEqual(core.written(whole, "a", "word").blocks[0], Text(key="a", text="word"))
        self.assertEqual(core.written(whole, "p", "tells").blocks[1].note, "tells")  # type: ignore[union-attr]
        self.assertEqual(keys(core.without(whole, "a")), "p")

    def test_what_can_not_be_is_said(self) -> None:
        part = Casebook(title="t", blocks=(OfReport(key="verdict", part="verdict", run="r"),))
        full = book(*map(str, range(core.MOST_BLOCKS)))
        for what in (
            lambda: core.moved(book("a"), "b", 0),
            lambda: core.without(book(), "a"),
            lambda: core.written(book("a"), "a", "x" * (core.MOST_SIGNS + 1)),
            lambda: core.written(part, "verdict", "mine"),
            lambda: core.with_block(full, Text(key="more")),
        ):
            with self.assertRaises(DynamikosError):
                what()

    def test_parts_and_kinds_of_pins_are_those_that_are_shown(self) -> None:
        self.assertEqual(get_args(core.Part), PARTS)

    def test_a_draft_has_all_parts_and_room_for_a_word(self) -> None:
        made = core.draft("t", "r", PARTS)
        self.assertEqual(keys(made).split()[:3], ["verdict", "own", "objectives"])
        self.assertEqual(len(made.blocks), len(PARTS) + 1)


class Written(TestCase):
    def test_paragraphs_headings_and_lists(self) -> None:
        found = text_as_html("### Head\n\none\ntwo\r\n\r\n- a\n- b\n\n\n")
        lines = [line for line in found.split("\n") if line]
        self.assertEqual(
            lines,
            ['<div class="texts">', "<h2>Head</h2>", "<p>one<br>", "two</p>", "<ul>",
             "<li>a</li>", "<li>b</li>", "</ul>", "</div>"],
        )  # fmt: skip

    def test_emphasis_and_links_but_no_markup_of_its_own(self) -> None:
        shown = text_as_html(
            "**slow** `p95_ms` of evening_booking <b>x</b>\n\n[log](https://log.example/7) "
            "[bad](javascript:alert(1)) ![dot](https://log.example/dot.png)"
        )
        self.assertIn(
            "<strong>slow</strong> <code>p95_ms</code> of evening_booking &lt;b&gt;", shown
        )
        self.assertIn('<a href="https://log.example/7">log</a>', shown)
        self.assertNotIn("<img", shown)
        self.assertNotIn('href="javascript', shown)

    def test_markup_that_is_typed_or_measured_stays_text(self) -> None:
        odd = '<img src=x onerror="alert(1)">'
        shown = Evidence(
            odd, odd, [odd], pictures=[Picture(odd, 10, 10, texts=[(1, 1, "end", odd)])],
            tables=[Table((odd, "n #"), [(odd, "1")])], texts=[(odd, odd)],
        )  # fmt: skip
        for page in (text_as_html(odd), evidence_as_html(shown), as_page(odd, [text_as_html(odd)])):
            self.assertNotIn("<img", page)
            self.assertIn("&lt;img", page)

    def test_evidence_in_markdown_keeps_its_columns(self) -> None:
        made = evidence_as_markdown(
            Evidence("T", "run 7", ["So."], tables=[Table(("a|b", "n #"), [("x|y", "1")])])
        )
        self.assertEqual(
            made.split("\n\n"),
            ["## T", "*run 7*", "So.", "| a\\|b | n |\n|---|---|\n| x\\|y | 1 |"],
        )
