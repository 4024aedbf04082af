"""What the page's script makes is made once, and what it computes of that is computed again."""

import base64
import hashlib
import hmac
from random import Random
from unittest import TestCase

from msgspec.structs import replace

from dynamikos.core.correlation import Strand, accept, find_strands
from dynamikos.core.correlation.accept import with_dependents
from dynamikos.core.correlation.value_shapes import stamp_of
from dynamikos.core.exchanges import Recording
from dynamikos.core.journeys import Journey
from dynamikos.core.journeys.from_recording import journey_from
from dynamikos.core.journeys.kinds import Setting
from dynamikos.core.journeys.text import write_journey
from dynamikos.core.journeys.verify import verify
from dynamikos.core.values import Maker, Values, compile_text
from tests.core.correlation.recordings import Tape

BASE = "http://desk.example"


def challenge_of(verifier: str) -> str:
    """RFC 7636 §4.2."""
    digest = hashlib.sha256(verifier.encode()).digest()
    return base64.urlsafe_b64encode(digest).decode().rstrip("=")


def signed_in(seed: int) -> Tape:
    """A single page: an id of the browser with each call, a verifier after its challenge, bodies
    with their digest, a signature with a key that was issued.
    """
    t = Tape(BASE, seed)
    client, verifier = t.uuid(), "-" + base64.b64encode(t.hex(32).encode()).decode()[:42]
    own = {"X-Client": client}
    t.call("GET", "/", page="<p>welcome</p>", sent=own)
    t.call(
        "GET",
        f"/authorize?code_challenge={challenge_of(verifier)}&code_challenge_method=S256",
        gives={"code": t.must(t.hex())},
        sent=own,
    )
    form = {"grant_type": "authorization_code", "code": t.issued[-1], "code_verifier": verifier}
    key = t.must(t.hex(24))
    t.call("POST", "/token", form=form, gives={"signing_key": key}, sent=own)
    note = {"note": f"Seen at {['ten', 'noon', 'dusk'][seed % 3]}", "client": client}
    t.call("POST", "/notes", body=note, gives={"id": t.must(t.number(10_000, 99_999))}, sent=own)
    body = t.exchanges[-1].sent.body
    checksum = {"Content-MD5": base64.b64encode(hashlib.md5(body).digest()).decode()}
    t.exchanges[-1] = t.exchanges[-1].__class__(
        **{
            name: getattr(t.exchanges[-1], name)
            for name in ("answer", "started_us", "entry", "timings", "page")
        },
        sent=t.exchanges[-1].sent.__class__(
            method="POST",
            url=BASE + "/notes",
            headers=(*t.exchanges[-1].sent.headers, *checksum.items()),
            body=body,
        ),
    )
    number = t.issued[-1]
    sign = hmac.new(key.encode(), number.encode(), "sha256").hexdigest()
    t.call("POST", f"/notes/{number}/keep?signature={sign}", form={"key": key}, page="<p>kept</p>")
    return t


def filled(journey: Journey, texts: list[str]) -> list[str]:
    """Texts of a journey with what its items set, captures as `given`."""
    values = Values({}, Maker(lambda: Random(4), lambda: 1_790_000_000_000_000))
    for _, step in journey.steps():
        if isinstance(step, Setting):
            for name, text in step.set:
                values[name] = compile_text(text).fill(values)
    return [compile_text(text).fill(values) for text in texts]


class MadeOnce(TestCase):
    def setUp(self) -> None:
        self.tapes = [signed_in(1), signed_in(2)]
        self.found = {e.name: e for e in find_strands([t.exchanges for t in self.tapes])}
        self.journey = journey_from(
            Recording(exchanges=tuple(self.tapes[0].exchanges), pages={}), "Notes", [BASE]
        )

    def named(self, place: str, value: str = "") -> Strand:
        return next(
            each
            for each in self.found.values()
            if any(use.place == place for use in each.uses) and value in each.value
        )

    def accepted(self, *strands: Strand) -> Journey:
        made = accept(self.journey, strands, self.tapes[0].exchanges)
        self.assertEqual(made.left, ())
        self.assertEqual(verify(made.journey, set()), [])
        return made.journey

    def test_each_value_is_known_for_what_it_is(self) -> None:
        told = {
            place: (self.named(place).kind, self.named(place).pattern)
            for place in ("header X-Client", "form code_verifier", "query code_challenge")
        }
        self.assertEqual(told["header X-Client"], ("client-made", "a UUID"))
        self.assertEqual(told["form code_verifier"], ("client-made", "random text"))
        self.assertEqual(
            told["query code_challenge"],
            ("client-made", "the SHA-256 of code_verifier as base64url"),
        )
        self.assertEqual(
            self.named("header Content-Md5").pattern, "the MD5 of the request's body as base64"
        )
        signature = self.named("query signature")
        self.assertIn("the HMAC by SHA-256 of", signature.pattern)
        self.assertIn("with the key", signature.pattern)

    def test_an_id_is_made_once_and_stands_at_all_its_places(self) -> None:
        strand = self.named("header X-Client")
        self.assertEqual(len(strand.uses), 5)
        made = self.accepted(strand)
        text = write_journey(made)
        self.assertEqual(text.count("make.uuid"), 1)
        self.assertNotIn(strand.value, text)
        first = next(step for _, step in made.steps())
        self.assertIsInstance(first, Setting)
        self.assertEqual(first.gives(), [strand.name])

    def test_a_verifier_is_made_before_its_challenge_and_they_fit(self) -> None:
        verifier = self.named("form code_verifier")
        chosen = with_dependents([verifier], list(self.found.values()))
        self.assertEqual([e.name for e in chosen], ["code_verifier", "code_challenge"])
        made = self.accepted(*chosen)
        steps = [step for _, step in made.steps()]
        at = next(n for n, step in enumerate(steps) if isinstance(step, Setting))
        requests = [r for _, r in made.requests()]
        asked = next(r for r in requests if "authorize" in r.address)
        told = next(r for r in requests if "token" in r.address)
        self.assertTrue(any(r is asked for r in steps[at + 1].requests))
        query, form = dict(asked.query), dict(told.body.form)  # type: ignore[union-attr, arg-type]
        challenge, secret = filled(made, [query["code_challenge"], form["code_verifier"]])
        self.assertEqual(challenge, challenge_of(secret))
        self.assertNotEqual(secret, verifier.value)
        self.assertRegex(secret, r"^[\w-]{43}$")

    def test_one_recording_is_enough_for_a_digest(self) -> None:
        alone = {e.name: e for e in find_strands([self.tapes[0].exchanges])}
        self.assertEqual(alone["code_challenge"].made_by, "{0} | sha256 | base64url")
        self.assertEqual(alone["code_verifier"].kind, "client-made")

    def test_a_second_time_changes_nothing(self) -> None:
        every = [e for e in self.found.values() if e.kind in ("client-made", "issued")]
        once = accept(self.journey, every, self.tapes[0].exchanges).journey
        self.assertEqual(accept(once, every, self.tapes[0].exchanges).journey, once)

    def test_one_after_the_other_keeps_each_name(self) -> None:
        """What is accepted later never takes the name of what was there before."""
        issued = [e for e in self.found.values() if e.kind == "issued" and e.captures]
        once = accept(self.journey, issued[:1], self.tapes[0].exchanges).journey
        again = accept(once, issued, self.tapes[0].exchanges).journey
        together = accept(self.journey, issued, self.tapes[0].exchanges).journey
        named = [
            sorted((c.name, r.request) for _, r in each.requests() for c in r.captures)
            for each in (again, together)
        ]
        self.assertEqual(named[0], named[1])
        self.assertEqual(len({name for name, _ in named[0]}), len(issued))

    def test_made_in_the_rounds_and_sent_in_the_closing_is_said(self) -> None:
        tape = signed_in(1)
        client = dict(tape.exchanges[0].sent.headers)["X-Client"]
        tape.call("POST", "/sign-out", form={"client": client}, page="<p>bye</p>")
        other = signed_in(2)
        mine = dict(other.exchanges[0].sent.headers)["X-Client"]
        other.call("POST", "/sign-out", form={"client": mine}, page="<p>bye</p>")
        journey = journey_from(
            Recording(exchanges=tuple(tape.exchanges), pages={}), "Notes", [BASE]
        )
        journey = replace(journey, opening=(), rounds=(*journey.opening, *journey.rounds))
        self.assertTrue(journey.closing)
        found = find_strands([tape.exchanges, other.exchanges])
        strand = next(e for e in found if e.value == client)
        left = accept(journey, [strand], tape.exchanges).left
        self.assertEqual(len(left), 1)
        self.assertIn("is made in the rounds and sent in the closing", left[0])

    def test_a_signature_is_computed_of_what_was_captured(self) -> None:
        every = [e for e in self.found.values() if e.kind in ("client-made", "issued")]
        made = self.accepted(*every)
        kept = next(r for _, r in made.requests() if "keep" in r.address)
        expression = dict(kept.query)["signature"]
        names = compile_text(expression).names
        self.assertEqual(len(names), 2)
        filled_in = compile_text(expression).fill({names[0]: "77", names[1]: "k" * 24})
        self.assertEqual(filled_in, hmac.new(b"k" * 24, b"77", "sha256").hexdigest())


class Silent(TestCase):
    """Where nothing is computed, nothing is said to be."""

    def test_random_hex_is_no_digest_of_anything(self) -> None:
        for seed in range(20):
            tapes = [Tape(BASE, seed), Tape(BASE, seed + 50)]
            for t in tapes:
                for size in (32, 40, 64):
                    t.call("POST", "/a", form={"a": t.hex(12), "b": t.hex(size), "c": "constant"})
            found = find_strands([t.exchanges for t in tapes])
            self.assertEqual([e.pattern for e in found if e.made_by], [])

    def test_a_digest_in_one_recording_only_is_not_one(self) -> None:
        tapes = [Tape(BASE, 1), Tape(BASE, 2)]
        for t in tapes:
            text = t.hex(16)
            digest = hashlib.md5(text.encode()).hexdigest() if t.seed == 1 else t.hex(32)
            t.call("POST", "/a", form={"a": text, "b": digest})
        self.assertEqual(
            [e.pattern for e in find_strands([t.exchanges for t in tapes]) if e.made_by], []
        )


class Longer(TestCase):
    def found(self, ends: tuple[str, str]) -> list[str]:
        tapes = [Tape(BASE, seed) for seed in (1, 2)]
        for t, end in zip(tapes, ends, strict=True):
            title = ("Copper lamp", "Telescope mount")[t.seed - 1]
            t.call("GET", "/new", page="<form><input name=title></form>")
            t.call("POST", "/new", form={"title": title}, page="<p>kept</p>")
            t.call("POST", "/edit", form={"headline": title + end}, page="<p>kept</p>")
        return [e.pattern for e in find_strands([t.exchanges for t in tapes]) if e.made_by]

    def test_the_same_text_around_another_value(self) -> None:
        self.assertEqual(
            self.found((", revised", ", revised")), ["title with “, revised” after it"]
        )

    def test_another_text_each_time_is_no_rule(self) -> None:
        self.assertEqual(self.found((", revised", ", again")), [])


class Stamps(TestCase):
    """Each form that clients write is made anew in that form: at the same instant the same text."""

    CASES = (
        "1790000000",
        "1790000000123",
        "1790000000123456",
        "1790000000123456000",
        "1790000000.123",
        "2026-09-21T14:13:20Z",
        "2026-09-21T14:13:20.123Z",
        "2026-09-21T14:13:20.123456Z",
        "2026-09-21T14:13:20.123456000Z",
        "2026-09-21T16:13:20.123+02:00",
        "2026-09-21T16:13:20+0200",
        "2026-09-21 14:13:20",
        "2026-09-21T14:13",
        "Mon, 21 Sep 2026 14:13:20 GMT",
        "Mon Sep 21 2026 16:13:20 GMT+0200 (Central European Summer Time)",
        "20260921T141320Z",
    )

    def test_each_form(self) -> None:
        values = Values({}, Maker(lambda: Random(0), lambda: 1_790_000_000_123_456))
        for text in self.CASES:
            with self.subTest(text):
                stamp = stamp_of(text)
                assert stamp is not None
                self.assertAlmostEqual(stamp.at_us, 1_790_000_000_123_456, delta=61_000_000)
                self.assertEqual(compile_text(f"{{{{ {stamp.maker} }}}}").fill(values), text)

    def test_what_is_none(self) -> None:
        for text in ("", "12", "1790000000123.5.1", "2026-13-01T10:00", "Mon Sep", "17900000001"):
            self.assertIsNone(stamp_of(text), text)


class ShortIds(TestCase):
    """Ids of a page's own that are no longer than what a person types."""

    def kind_of(self, name: str, *values: str) -> str:
        tapes = []
        for seed, value in enumerate(values, 1):
            t = Tape(BASE, seed)
            t.call("GET", "/", page="<p>welcome</p>")
            t.call("POST", "/ask", body={name: value}, gives={"ok": True})
            t.call("POST", "/more", body={name: value}, gives={"ok": True})
            tapes.append(t.exchanges)
        found = [each for each in find_strands(tapes) if each.name == name]
        return found[0].kind if found else ""

    def test_by_name_shape_and_difference(self) -> None:
        for name, values in (
            ("session_hash", ("big4w5jn0hn", "1dq56ke9yx9")),
            ("client_id", ("x7k2p9q1", "m4t8w3z6")),
        ):
            with self.subTest(name=name):
                self.assertEqual(self.kind_of(name, *values), "client-made")

    def test_what_people_number_or_choose_is_typed(self) -> None:
        for name, values in (
            ("plan_id", ("hut42b7x", "hut43b7x")),
            ("answer", ("big4w5jn0hn", "1dq56ke9yx9")),
            ("room_id", ("12", "15")),
        ):
            with self.subTest(name=name):
                self.assertEqual(self.kind_of(name, *values), "typed")

    def test_how_often_numbered_names_are_taken_for_made_ones(self) -> None:
        draw = Random(7)
        wrong = 0
        for _ in range(200):
            word = "".join(draw.choice("abcdefghijklmnopqrstuvwxyz") for _ in range(5))
            one, other = (f"{word}{draw.randint(100, 999)}" for _ in range(2))
            wrong += one != other and self.kind_of("room_id", one, other) == "client-made"
        self.assertLessEqual(wrong, 2)
