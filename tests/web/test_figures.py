"""Figures with their units, the ladder's geometry, differences between recorded and replayed."""

import itertools
import uuid
from random import Random
from unittest import mock

from django.test import SimpleTestCase

from dynamikos.core.exchanges import Answer, Exchange, Sent
from dynamikos.core.journeys import parse_journey
from dynamikos.core.reports import KeptExchange
from dynamikos.web.journeys.ladder import SIGNS, cut, draw, path_of, told_apart
from dynamikos.web.rehearsals.queries import differences
from dynamikos.web.ui.templatetags.figures import (
    balance,
    ms,
    percent,
    plural,
    rate,
    runclock,
    size,
    us,
)
from tests.web.support import EXAMPLES


class Figures(SimpleTestCase):
    def test_three_digits_with_units(self) -> None:
        cases = (
            (ms, 182.4, "182 ms"),
            (ms, 1.5, "1.5 ms"),
            (ms, 1941, "1.94 s"),
            (ms, 999.4, "999 ms"),
            (ms, 999.6, "1 s"),
            (ms, None, "–"),
            (ms, "", "–"),
            (us, 25_800, "25.8 ms"),
            (size, 640, "640 B"),
            (size, 38_400, "38.4 kB"),
            (size, 50_000_000, "50 MB"),
            (size, -1, "–"),
            (rate, 412.3, "412 /s"),
            (percent, 0.0, "0 %"),
            (runclock, 275, "04:35"),
            (runclock, 3725, "1:02:05"),
        )
        for figure, value, expected in cases:
            with self.subTest(figure=figure.__name__, value=value):
                self.assertEqual(figure(value), expected)
        self.assertEqual(
            [plural(n, "step") for n in (0, 1, 2000)], ["0 steps", "1 step", "2,000 steps"]
        )

    def test_the_mark_never_stands_without_its_word(self) -> None:
        for word in ("met", "close", "not decided", "missed", "not judged"):
            self.assertTrue(str(balance(word)).endswith(f"{word}</span>"))


class Geometry(SimpleTestCase):
    def setUp(self) -> None:
        self.journey = parse_journey((EXAMPLES / "journeys/evening-booking.yaml").read_text())
        self.ladder = draw(self.journey)

    def test_every_exchange_is_a_rung_in_order(self) -> None:
        self.assertEqual(len(self.ladder.rungs), 15)
        ys = [rung.y for rung in self.ladder.rungs]
        self.assertEqual(ys, sorted(ys))
        self.assertGreaterEqual(min(b - a for a, b in itertools.pairwise(ys)), 40)
        self.assertEqual(
            [name for name, _ in self.ladder.parts],
            ["OPENING", "ROUNDS", "CLOSING", "CLEAN-UP, AFTER A REHEARSAL"],
        )

    def test_strands_lead_from_issue_to_every_use(self) -> None:
        strands = {strand.name: strand for strand in self.ladder.strands}
        self.assertEqual(
            set(strands),
            {
                "form_key",
                "mailed_for",
                "sky_token",
                "desk_key",
                "object",
                "sight",
                "slot",
                "hold_token",
                "hold",
                "reference",
                "sky_page",
                "day",
                "month",
                "night",
                "minutes_before",
                "minutes_after",
                "code",
            },
        )
        self.assertEqual(
            [len(strands[name].uses) for name in ("form_key", "desk_key", "sky_token")], [2, 1, 1]
        )
        hold = next(rung for rung in self.ladder.rungs if rung.request == "post-hold")
        self.assertEqual(strands["slot"].uses, [hold.y + 8])
        self.assertLess(strands["slot"].y, hold.y)
        labels = [(strand.label_x, strand.label_y) for strand in self.ladder.strands]
        self.assertEqual(len(set(labels)), len(labels))

    def test_what_holds_others_is_a_frame_around_them(self) -> None:
        steps = {step.step: step for step in self.ladder.steps}
        inner, outer = steps["look-into-postbox"], steps["mailed-code"]
        self.assertTrue(outer.y < inner.y and inner.y + inner.height <= outer.y + outer.frame)
        self.assertEqual(
            (outer.says, inner.x - outer.x),
            ("until {{ code and mailed_for == reference }}, every 0.5 s, …", 12),
        )
        self.assertEqual(
            [words for _, _, words in self.ladder.branches],
            ["70 %: straight to the booking", "30 %: over the sky pages"],
        )
        self.assertEqual(steps["night"].says[:30], "day = {{ make.number(1, 28) }}")

    def test_results_mark_what_failed_and_what_was_not_reached(self) -> None:
        drawn = draw(self.journey, {("hold", "post-hold"): ("409 · 18 ms", True)})
        by_key = {rung.request: rung for rung in drawn.rungs}
        self.assertTrue(by_key["post-hold"].is_bad)
        self.assertTrue(by_key["post-booking"].is_idle)

    def test_long_names_take_two_lines(self) -> None:
        cases = (
            ("Sign in", ["Sign in"]),
            (
                "Find a slot of a quarter-hour tonight",
                ["Find a slot of a quarter-", "hour tonight"],
            ),
            (
                "A name that is so long that even two lines can't hold all of it",
                ["A name that is so long", "that even two lines can't…"],
            ),
            ("x" * 40, ["x" * 26, "x" * 14]),
        )
        for name, lines in cases:
            text = (
                f'form: 1\njourney: j\nname: J\nrounds:\n  - {{step: s, name: "{name}", think_s: '
                f"1}}\n"
            )
            with self.subTest(name):
                row = draw(parse_journey(text)).steps[0]
                self.assertEqual([line for _, line in row.lines], lines)
                self.assertEqual(row.name, name)
                self.assertGreater(row.think_y, row.lines[-1][0] + 12)
                self.assertLess(row.think_y, row.y + 44)

    def test_short_names(self) -> None:
        self.assertEqual(path_of("{{ env.x }}/a?b=1"), "/a?b=1")
        self.assertEqual(path_of("https://a.example:8443/b/c"), "/b/c")
        self.assertEqual(cut("abcdef", 4), "abc…")


class Differences(SimpleTestCase):
    def said(self, recorded: Answer | None, **now: object) -> list[str]:
        exchange = Exchange(sent=Sent(method="GET", url="http://a.example/"), answer=recorded)
        found = mock.Mock(pk=uuid.uuid4())
        kept = KeptExchange(
            second=0,
            series=0,
            step="s",
            request="r",
            reason="kept",
            user=1,
            round=1,
            method="GET",
            url="u",
            **now,
        )  # type: ignore[arg-type]
        return differences(found, [(0, kept, exchange)])[0]

    def test_what_a_person_wants_to_know(self) -> None:
        html = (("Content-Type", "text/html; charset=utf-8"),)
        page = Answer(status=200, headers=html, body=b"x" * 1000, size_bytes=1000)
        same = [("content-type", "text/html; charset=utf-8")]
        self.assertEqual(self.said(page, status=200, headers=same, size_bytes=1100), [])
        self.assertEqual(
            self.said(page, status=500, headers=same, size_bytes=1000),
            ["answered 500; the recording got 200"],
        )
        self.assertIn(
            "size 10 B; recorded 1,000 B", self.said(page, status=200, headers=same, size_bytes=10)
        )
        self.assertTrue(
            any(
                "kind of content" in each
                for each in self.said(
                    page,
                    status=200,
                    headers=[("content-type", "application/json")],
                    size_bytes=1000,
                )
            )
        )
        moved = Answer(status=303, headers=(("Location", "/sky?welcome=1"),))
        self.assertEqual(self.said(moved, status=303, headers=[("location", "/sky?welcome=2")]), [])
        self.assertTrue(
            any(
                "redirect" in each
                for each in self.said(moved, status=303, headers=[("location", "/sign-in")])
            )
        )
        self.assertEqual(self.said(None, status=200), [])


class ToldApart(SimpleTestCase):
    """Requests that are cut to the same signs are told apart on their rungs."""

    def test_long_addresses_show_where_they_differ(self) -> None:
        way = "GET /library/collections/of-the-north/{}/pages/of-this-volume/index.html"
        names = told_apart([way.format("aurora"), way.format("meteors"), "GET /short"], SIGNS)
        self.assertIn("aurora", names[0])
        self.assertIn("meteors", names[1])
        self.assertEqual(names[2], "GET /short")
        self.assertTrue(all(len(name) <= SIGNS for name in names))

    def test_the_same_address_is_numbered(self) -> None:
        names = told_apart(
            ["POST /api/query", "GET /", "POST /api/query", "POST /api/query"], SIGNS
        )
        self.assertEqual(
            names,
            [
                "POST /api/query · 1 of 3",
                "GET /",
                "POST /api/query · 2 of 3",
                "POST /api/query · 3 of 3",
            ],
        )
        long = "POST /api/" + "very-long-" * 5 + "end"
        self.assertEqual(len(set(told_apart([long, long], SIGNS))), 2)
        self.assertTrue(all(len(name) <= SIGNS for name in told_apart([long, long], SIGNS)))

    def test_no_two_of_any_set_look_alike(self) -> None:
        random = Random(5)
        for _ in range(200):
            fulls = [
                "GET /" + "".join(random.choice("ab/") for _ in range(random.randint(20, 60)))
                for _ in range(12)
            ]
            names = told_apart(fulls, SIGNS)
            self.assertTrue(all(len(name) <= SIGNS for name in names), names)
            self.assertEqual(len(set(names)), len(names), names)
