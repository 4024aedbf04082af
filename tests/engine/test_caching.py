"""A user's cache by the sections of RFC 9111, alone and in virtual time."""

from unittest import TestCase, mock

from msgspec.structs import replace

from dynamikos.core.frozen import every_series
from dynamikos.core.personas import Persona, Visit
from dynamikos.core.plans.model import Caching
from dynamikos.core.plans.workloads import UserRounds
from dynamikos.core.reports import Ledger
from dynamikos.engine.http import caching
from dynamikos.engine.http.caching import Bodies, Cache, Entry, entry_of
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.testing import Scripted, answer
from tests.engine.support import perform
from tests.engine.test_personas import made
from tests.engine.test_workloads import hold

DATE = "Sat, 28 Nov 2026 12:00:00 GMT"


def reply(*lines: str, status: int = 200, body: bytes = b"x") -> Reply:
    found = Reply()
    found.status, found.body = status, body
    pairs = [line.partition(":") for line in lines]
    found.read([(name.strip().encode(), value.strip().encode()) for name, _, value in pairs])
    return found


def entry(
    *lines: str, heuristic: bool = False, status: int = 200, sent: dict[str, str] | None = None
) -> Entry | None:
    return entry_of(reply(*lines, status=status), sent or {}, 1000.0, heuristic=heuristic)


class Freshness(TestCase):
    def test_for_how_long_it_is_fresh(self) -> None:
        cases = (
            (("Cache-Control: max-age=60",), 60, False),
            (("Cache-Control: max-age=60, s-maxage=5",), 60, False),  # that is for shared ones
            (("Cache-Control: private, max-age=60",), 60, False),
            (("Cache-Control: max-age=60", "Age: 50"), 10, False),
            ((f"Date: {DATE}", "Expires: Sat, 28 Nov 2026 12:02:00 GMT"), 120, False),
            ((f"Date: {DATE}", "Expires: 0", "ETag: a"), 0, False),
            (
                (
                    f"Date: {DATE}",
                    "Expires: Sat, 28 Nov 2026 12:02:00 GMT",
                    "Cache-Control: max-age=1",
                ),
                1,
                False,
            ),
            (
                (f"Date: {DATE}", "Last-Modified: Sat, 28 Nov 2026 11:43:20 GMT"),
                100,
                True,
            ),  # a tenth of 1,000 s
            (("Cache-Control: no-cache, max-age=60", "ETag: a"), 0, False),
            (("Cache-Control: max-age=60", "Vary: Cookie"), 0, False),
        )
        for lines, seconds, heuristic in cases:
            with self.subTest(lines):
                found = entry(*lines, heuristic=heuristic)
                assert found is not None
                self.assertEqual(found.is_fresh(1000.0 + max(0.0, seconds - 0.5)), seconds > 0)
                self.assertFalse(found.is_fresh(1000.0 + seconds))

    def test_what_is_not_kept(self) -> None:
        for lines in (
            (),
            ("Cache-Control: no-store, max-age=60",),
            ("Vary: *", "Cache-Control: max-age=60"),
        ):
            self.assertIsNone(entry(*lines))
        self.assertIsNone(entry("Cache-Control: max-age=60", status=500))
        changed = ("Date: " + DATE, "Last-Modified: Sat, 28 Nov 2026 11:43:20 GMT")
        found = entry(*changed)  # a page: no heuristics, but it can be asked about
        assert found is not None
        self.assertEqual(
            (found.is_fresh(1000.0), found.conditions()[0][0]), (False, "If-Modified-Since")
        )

    def test_asked_about_renewed_varied_and_changed(self) -> None:
        cache = Cache(Bodies())
        given = {"accept-language": "fi"}
        cache.keep(
            "u",
            reply("ETag: a", "Cache-Control: max-age=5", "Vary: Accept-Language"),
            given,
            0,
            heuristic=False,
        )
        self.assertIsNone(cache.find("u", {"accept-language": "sv"}))
        found = cache.find("u", given)
        assert found is not None
        self.assertEqual((found.is_fresh(4), found.is_fresh(6)), (True, False))
        self.assertEqual(found.conditions(), [("If-None-Match", "a")])
        renewed = cache.renew(
            "u", found, reply("Cache-Control: max-age=50", status=304), 6, heuristic=False
        )
        self.assertTrue(renewed.is_fresh(50))
        back = reply(status=304, body=b"")
        renewed.put_into(back)
        self.assertEqual((back.status, back.body, back.field(b"etag")), (200, b"x", b"a"))
        cache.changed("u", "POST", 500)
        self.assertIsNotNone(cache.find("u", given))
        cache.changed("u", "POST", 303)
        self.assertIsNone(cache.find("u", given))

    def test_bodies_are_kept_once_for_all(self) -> None:
        bodies, kept = Bodies(), []
        for _ in range(3):
            cache = Cache(bodies)
            cache.keep(
                "u",
                reply("Cache-Control: max-age=5", body=bytes(bytearray(b"abc"))),
                {},
                0,
                heuristic=False,
            )
            kept.append(cache.find("u", {}))
        self.assertEqual(len({id(each.body) for each in kept if each}), 1)

    def test_pages_that_are_never_the_same_again_do_not_fill_the_memory(self) -> None:
        bodies = Bodies()
        cache = Cache(bodies)
        with mock.patch.multiple(caching, MOST_SHARED=5_000, MOST_KEPT=3_000, MOST_ENTRIES=20):
            for number in range(100):
                body = str(number).encode() * (500 if number < 50 else 1)
                cache.keep(f"u{number}", reply("ETag: a", body=body), {}, 0, heuristic=False)
                cache.keep(
                    f"u{number}", reply("ETag: b", body=body), {}, 0, heuristic=False
                )  # the same address again
                self.assertLessEqual(bodies.size, 5_000)
                self.assertIsNotNone(cache.find(f"u{number}", {}))
                here = [
                    each
                    for each in (cache.find(f"u{no}", {}) for no in range(100))
                    if each is not None
                ]
                self.assertLessEqual(sum(len(each.body) for each in here), 3_000)
            self.assertEqual(len(here), 20)
            for no in range(100):
                cache.changed(f"u{no}", "POST", 200)
            cache.keep("v", reply("ETag: a", body=b"x" * 2_999), {}, 0, heuristic=False)
            self.assertIsNotNone(cache.find("v", {}))


PAGE = """form: 1
journey: a
name: A
rounds:
  - step: s
    name: S
    think_s: 1
    requests:
      - request: r
        address: "{{ env.base }}/page"
        captures: [{name: word, between: {before: "<b>", after: "</b>"}}]
        embedded: ["/style.css", "/often.js"]
  - {step: t, name: T, requests: [{request: r, address: "{{ env.base }}/after?{{ word }}"}]}
"""
TWICE = PAGE.replace('{{ word }}"', '{{ word }}", embedded: ["/style.css"]')


class Visiting(TestCase):
    def run_of(
        self,
        visit: Visit | None,
        rounds: int = 3,
        *,
        cache: Caching = "none",
        nobody: bool = False,
        text: str = PAGE,
    ) -> tuple[list[bytes], Ledger]:
        """`nobody`: the row has no persona."""

        def server(data: bytes) -> Scripted:
            if b"/page" in data:
                if b'If-None-Match: "p"' in data:
                    return Scripted(answer(status="304 Not Modified"), 0.1)
                return Scripted(
                    answer(b"<b>word</b>", headers='ETag: "p"\r\nCache-Control: no-cache\r\n'), 0.1
                )
            age = "max-age=500" if b"style" in data else "max-age=1"
            return Scripted(answer(b"rule", headers=f"Cache-Control: {age}\r\n"), 0.1)

        who = None if nobody else Persona(form=1, persona="p", visit=visit)
        frozen = made(UserRounds(users=1, rounds=rounds), hold(1, 60), who=who, text=text)
        frozen = replace(frozen, plan=replace(frozen.plan, cache=cache))
        _, sink, network = perform(frozen, server)
        found = Ledger(every_series(frozen))
        for message in sink.messages:
            found.add(message)
        return [each.partition(b"\r\n")[0] for each in network.requests], found

    def test_without_a_visit_everything_is_asked_for_each_time(self) -> None:
        asked, found = self.run_of(None)
        self.assertEqual(len(asked), 12)
        self.assertEqual(found.all_of("embedded").cached, 0)

    def test_one_user_asks_only_for_what_has_expired(self) -> None:
        asked, found = self.run_of(
            Visit(visit="return")
        )  # nothing is there from before: nobody primed it here
        paths = [each.split(b" ")[1] for each in asked]
        self.assertEqual(paths.count(b"/style.css"), 1)
        self.assertEqual(paths.count(b"/often.js"), 3)  # a second old when it is wanted again
        self.assertEqual((paths.count(b"/page"), paths.count(b"/after?word")), (3, 3))
        self.assertEqual(
            (found.all_of("embedded").cached, found.all_of("embedded").passed.n), (2, 4)
        )
        self.assertEqual((found.rounds, found.all_of("request", "s").failures), ([3, 0], 0))

    def test_who_comes_for_the_first_time_has_nothing(self) -> None:
        asked, found = self.run_of(Visit(visit="first"))
        self.assertEqual((len(asked), found.all_of("embedded").cached), (12, 0))

    def test_a_plan_says_it_for_those_without_a_persona(self) -> None:
        cases: tuple[tuple[Caching, int, int], ...]
        cases = (("none", 15, 0), ("user", 10, 5), ("round", 12, 3))
        for cache, count, cached in cases:
            with self.subTest(cache=cache):
                asked, found = self.run_of(None, cache=cache, nobody=True, text=TWICE)
                self.assertEqual((len(asked), found.all_of("embedded").cached), (count, cached))
                self.assertEqual((found.rounds, found.all_of("request", "s").failures), ([3, 0], 0))
        asked, _ = self.run_of(None, cache="user")  # a persona says it itself
        self.assertEqual(len(asked), 12)
