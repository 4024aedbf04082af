"""Typed values that are computed from others are found, said in words, and computed again when they
are accepted.
"""

from datetime import date, timedelta
from unittest import TestCase

from dynamikos.core.correlation import Strand, accept, find_strands
from dynamikos.core.exchanges import Recording
from dynamikos.core.journeys import Journey
from dynamikos.core.journeys.from_recording import journey_from
from dynamikos.core.values import compile_text
from tests.core.correlation.recordings import Tape

BASE = "http://desk.example"
TITLES = ("Café on the hill, no. 5", "Copper lamp", "Second-hand telescope mount")


def recorded(seeds: tuple[int, ...] = (0, 1, 2)) -> list[Tape]:
    """A person writes an advertisement: its address, its end and its price with postage come from
    what is typed.
    """
    tapes = [Tape(BASE, seed) for seed in seeds]
    slugs = ("cafe-on-the-hill-no-5", "copper-lamp", "second-hand-telescope-mount")
    for t in tapes:
        title, begin = TITLES[t.seed], date(2026, 3, 5) + timedelta(days=t.seed * 11)
        price, postage = 120 + t.seed * 17, 14 + t.seed * 3
        t.call(
            "GET",
            "/new",
            page="<form><input name=title><input name=begin><input name=price></form>",
        )
        form = {
            "title": title,
            "slug": slugs[t.seed],
            "begin": begin.isoformat(),
            "end": (begin + timedelta(days=14)).strftime("%d.%m.%Y"),
            "price": str(price),
            "postage": str(postage),
            "total": str(price + postage),
        }
        t.call("POST", "/new", form=form, page="<p>kept</p>")
    return tapes


class Computed(TestCase):
    def found(self, tapes: list[Tape]) -> dict[str, Strand]:
        return {each.name: each for each in find_strands([t.exchanges for t in tapes])}

    def test_each_is_said_in_words(self) -> None:
        found = self.found(recorded())
        self.assertEqual(found["slug"].pattern, "the slug of title")
        self.assertEqual(found["end"].pattern, "begin plus 14 days")
        self.assertEqual(found["total"].pattern, "the sum of price and postage")
        self.assertEqual(
            [found[name].made_by for name in ("title", "begin", "price", "postage")], [""] * 4
        )
        self.assertTrue(all(found[name].kind == "typed" for name in ("slug", "end", "total")))

    def test_accepted_they_compute_what_the_recordings_sent(self) -> None:
        tapes = recorded()
        found = self.found(tapes)
        journey = self.journey(tapes[0])
        columns = {name: f"ads.{name}" for name in ("title", "begin", "price", "postage")}
        computed = [found[name] for name in ("slug", "end", "total")]
        made = accept(
            journey, [*computed, *(found[n] for n in columns)], tapes[0].exchanges, columns=columns
        ).journey
        form = dict(made.find_step(made.rounds[-1].step).requests[-1].body.form)  # type: ignore[union-attr, arg-type]
        for number, t in enumerate(tapes):
            row = {f"ads.{name}": found[name].values[number] for name in columns}
            for name in ("slug", "end", "total"):
                with self.subTest(name=name, seed=t.seed):
                    self.assertEqual(compile_text(form[name]).fill(row), found[name].values[number])

    def test_while_its_source_is_still_as_recorded_it_says_what_to_do(self) -> None:
        tapes = recorded()
        made = accept(self.journey(tapes[0]), [self.found(tapes)["slug"]], tapes[0].exchanges)
        self.assertIn("put a column or a capture there first", made.left[0])

    def test_chance_is_not_taken_for_a_rule(self) -> None:
        """Numbers that only fit in one recording, and short ones."""
        tapes = [Tape(BASE, seed) for seed in (1, 2)]
        for t in tapes:
            a, b = 40 + t.seed, 50 + 2 * t.seed
            total = a + b if t.seed == 1 else a + b + 1
            form = {
                "a": str(a),
                "b": str(b),
                "total": str(total),
                "rooms": str(t.seed),
                "beds": str(2 * t.seed),
            }
            t.call("POST", "/book", form=form, page="<p>kept</p>")
        self.assertEqual([each.pattern for each in self.found(tapes).values() if each.made_by], [])

    def journey(self, tape: Tape) -> Journey:
        return journey_from(Recording(exchanges=tuple(tape.exchanges), pages={}), "Ads", [BASE])
