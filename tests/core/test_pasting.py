"""Pasted command lines and blocks as requests; HAR out and in again; edits of a journey."""

import json
import re
from unittest import TestCase

from hypothesis import example, given
from hypothesis import strategies as st

from dynamikos.core.errors import ImportRefused
from dynamikos.core.exchanges import (
    Answer,
    Exchange,
    Mark,
    Recording,
    Sent,
    Timings,
    read_curl,
    read_har,
    write_har,
)
from dynamikos.core.journeys import parse_journey, verify, write_journey
from dynamikos.core.journeys.editing import (
    EditError,
    duplicate,
    merge_step,
    place_before,
    set_thinking,
    split_step,
    switch,
)
from dynamikos.core.journeys.from_recording import journey_from

BULK = r"""curl 'http://kilns.example/sign-in' \
  -H 'Accept: text/html' -H 'X-Key: a b' \
  --data-raw 'user=ada&word=%26x' --compressed ;
curl "http://kilns.example/api" -X PUT -H "Content-Type: application/json" -d "{\"a\": \"it's\"}" && \
  curl -sG http://kilns.example/find --data-urlencode 'q=two words' -d page=2
curl http://kilns.example/up -F note=hello -F 'tag=x' -u ada:pw -b 'sid=1'
curl $'http://kilns.example/it\'s' --json '{"n":1}'"""  # noqa: E501


def for_the_prompt(text: str) -> str:
    """As browsers write a word for the command prompt of Windows."""
    text = text.replace("\\", "\\\\").replace('"', '\\"')
    text = re.sub(r"[^a-zA-Z0-9\s_\-:=+~'/.',?;()*`]", r"^\g<0>", text)
    text = re.sub(r"%(?=[a-zA-Z0-9_])", "%^", text)
    return '^"' + re.sub(r"\r?\n", "^\n\n", text) + '^"'


class Curl(TestCase):
    @given(
        st.lists(
            st.text(st.sampled_from("ab1 ^%&\"\\'{}<>|!$\n:"), max_size=12), min_size=1, max_size=3
        )
    )
    @example(["$''"])
    def test_as_windows_has_it_copied(self, bodies: list[str]) -> None:
        url = 'http://kilns.example/find?q=a%20b&page=2&sign=^"'
        calls = [
            f"curl {for_the_prompt(url)} ^\r\n  -H {for_the_prompt('accept: */*')} ^\r\n"
            f"  --data-raw {for_the_prompt(each)}"
            for each in bodies
        ]
        made = read_curl(" &\r\n".join(calls))
        self.assertEqual([each.sent.url for each in made], [url] * len(bodies))
        self.assertEqual([(each.sent.body or b"").decode() for each in made], bodies)
        self.assertEqual({dict(each.sent.headers)["accept"] for each in made}, {"*/*"})

    def test_a_dollar_before_a_quotation_mark_that_stands_in_others(self) -> None:
        made = read_curl("""curl "http://kilns.example/" -d "price $'5\\n'" -d 'a$' -d $'b\\n'""")
        self.assertEqual(made[0].sent.body, b"price $'5\\n'&a$&b\n")

    def test_the_program_by_its_name_on_windows(self) -> None:
        self.assertEqual(
            read_curl('curl.exe "http://kilns.example/a^b"')[0].sent.url, "http://kilns.example/a^b"
        )

    def test_in_bulk_with_all_that_browsers_write(self) -> None:
        made = read_curl(BULK)
        self.assertEqual(
            [(each.sent.method, each.sent.url) for each in made],
            [
                ("POST", "http://kilns.example/sign-in"),
                ("PUT", "http://kilns.example/api"),
                ("GET", "http://kilns.example/find?q=two+words&page=2"),
                ("POST", "http://kilns.example/up"),
                ("POST", "http://kilns.example/it's"),
            ],
        )
        self.assertEqual(dict(made[0].sent.headers)["X-Key"], "a b")
        self.assertEqual(
            dict(made[0].sent.headers)["Content-Type"], "application/x-www-form-urlencoded"
        )
        self.assertEqual(made[0].sent.body, b"user=ada&word=%26x")
        self.assertEqual(json.loads(made[1].sent.body), {"a": "it's"})
        self.assertIn(b'name="tag"\r\n\r\nx', made[3].sent.body)
        self.assertEqual(dict(made[3].sent.headers)["Authorization"], "Basic YWRhOnB3")
        self.assertNotIn("Cookie", dict(made[3].sent.headers))
        self.assertEqual(dict(made[4].sent.headers)["Content-Type"], "application/json")
        journey = journey_from(
            Recording(exchanges=tuple(made), pages={}), "Pasted", ["http://kilns.example"]
        )
        self.assertEqual(sum(len(step.requests) for _, step in journey.steps()), 5)
        self.assertEqual(verify(journey, set()), [])

    def test_a_request_as_a_browser_shows_it(self) -> None:
        one = read_curl(
            "POST /hold HTTP/1.1\nHost: kilns.example\nX-Form-Key: k\nContent-Type: "
            'application/json\n\n{"slot": 1}'
        )[0]
        self.assertEqual(
            (one.sent.method, one.sent.url, one.sent.body),
            ("POST", "http://kilns.example/hold", b'{"slot": 1}'),
        )

    def test_what_cannot_be_read_is_named(self) -> None:
        for text, what in (
            ("curl 'http://x", "quotation mark"),
            ("curl -d @file http://x.example", "paste its content"),
            ("hello there", "curl calls"),
            ("curl ftp://x/y", "no http"),
            ("GET /x HTTP/1.1\nAccept: a", "no host"),
            ("GET /x HTTP/1.1\nHost x", "line 2"),
            ("curl http://a.example http://b.example", "two addresses"),
        ):
            with self.assertRaisesRegex(ImportRefused, what):
                read_curl(text)


class HarOut(TestCase):
    def test_out_and_in_again_is_the_same(self) -> None:
        exchange = Exchange(
            sent=Sent(
                method="POST",
                url="http://kilns.example/a?x=1",
                headers=(("Content-Type", "application/json"),),
                body=b'{"a":1}',
            ),
            answer=Answer(
                status=201,
                reason="Created",
                headers=(("Content-Type", "image/png"), ("Set-Cookie", "a=1")),
                body=bytes(range(256)),
                size_bytes=256,
            ),
            timings=Timings(
                blocked_us=0,
                dns_us=1000,
                connect_us=2000,
                ssl_us=3000,
                send_us=0,
                wait_us=4000,
                receive_us=5000,
            ),
            started_us=1_790_000_000_123_000,
            page="p1",
            entry=0,
        )
        lost = Exchange(
            sent=Sent(method="GET", url="http://kilns.example/b"),
            error="connect: refused",
            started_us=1_790_000_001_000_000,
            entry=1,
        )
        again = read_har(write_har([exchange, lost], {"p1": "Kilns"}))
        self.assertEqual(again.exchanges[0], exchange)
        self.assertEqual(
            (again.exchanges[1].answer, again.exchanges[1].error), (None, "connect: refused")
        )
        self.assertEqual(again.pages, {"p1": "Kilns"})


JOURNEY = """form: 1
journey: j
name: J
rounds:
  - {step: a, name: A, think_s: 2, requests: [{request: one, address: "http://k.example/1"}, {request: two, address: "http://k.example/2"}]}
  - {step: b, name: B, think_s: 4, requests: [{request: one, address: "http://k.example/{{ gone }}"}]}
"""  # noqa: E501


class Editing(TestCase):
    def test_split_and_merge_are_opposites_but_for_names(self) -> None:
        journey = parse_journey(JOURNEY)
        apart = split_step(journey, "a", "two")
        self.assertEqual(
            [(s.name, [r.request for r in s.requests], s.think_s) for s in apart.rounds],
            [("A", ["one"], 0.0), ("A, continued", ["two"], 2.0), ("B", ["one"], 4.0)],
        )
        self.assertEqual(merge_step(apart, "a").rounds[0], journey.rounds[0])
        joined = merge_step(journey, "a")
        self.assertEqual([r.request for r in joined.rounds[0].requests], ["one", "two", "one-2"])
        for wrong in (lambda: split_step(journey, "a", "one"), lambda: merge_step(journey, "b")):
            with self.assertRaises(EditError):
                wrong()

    def test_dropped_before_another(self) -> None:
        journey = duplicate(parse_journey(JOURNEY), "b")  # a, b, b-2

        def order(at: str, before: str) -> list[str]:
            return [step.step for step in place_before(journey, at, before).rounds]

        self.assertEqual(order("b-2", "a"), ["b-2", "a", "b"])
        self.assertEqual(order("a", "b-2"), ["b", "a", "b-2"])
        self.assertEqual(order("a", "a"), ["a", "b", "b-2"])
        moved = place_before(journey, "a/two", "b/one")
        self.assertEqual(
            [[r.request for r in s.requests] for s in moved.rounds],
            [["one"], ["two", "one"], ["one"]],
        )
        moved = place_before(
            journey, "a/one", "b"
        )  # onto a step: its last, with a key of its own there
        self.assertEqual(
            [[r.request for r in s.requests] for s in moved.rounds],
            [["two"], ["one", "one-2"], ["one"]],
        )
        self.assertEqual(
            [r.request for r in place_before(journey, "a/two", "a/one").rounds[0].requests],
            ["two", "one"],
        )

    def test_duplicates_have_keys_of_their_own(self) -> None:
        journey = duplicate(duplicate(parse_journey(JOURNEY), "a"), "a", "one")
        self.assertEqual([s.step for s in journey.rounds], ["a", "a-2", "b"])
        self.assertEqual([r.request for r in journey.rounds[0].requests], ["one", "one-2", "two"])
        self.assertEqual(parse_journey(write_journey(journey)), journey)

    def test_what_is_off_is_neither_verified_nor_run(self) -> None:
        journey = parse_journey(JOURNEY)
        self.assertEqual(len(verify(journey, set())), 1)
        off = switch(journey, "b")
        self.assertEqual(verify(off, set()), [])
        self.assertEqual([s.step for s in off.active().rounds], ["a"])
        self.assertEqual(switch(off, "b"), journey)
        self.assertEqual(
            [r.request for r in switch(journey, "a", "one").active().rounds[0].requests], ["two"]
        )

    def test_think_times_of_all_steps(self) -> None:
        half = set_thinking(parse_journey(JOURNEY), "recorded", 0.5, 0)
        self.assertEqual([s.think_s for s in half.rounds], [1.0, 2.0])
        # what was recorded is not lost
        self.assertEqual(
            [s.think_s for s in set_thinking(half, "recorded", 1, 0).rounds], [2.0, 4.0]
        )
        even = set_thinking(half, "even", 1, 3)
        self.assertEqual([s.mean_think_s() for s in even.rounds], [2.0, 2.0])
        normal = set_thinking(half, "log-normal", 2, 6).rounds[0]
        self.assertAlmostEqual(normal.sigma(), 0.66792, places=4)
        self.assertAlmostEqual(normal.mean_think_s(), 2.49985, places=3)

    def test_names_given_while_recording_become_steps(self) -> None:
        def at(second: int, path: str) -> Exchange:
            return Exchange(
                sent=Sent(method="GET", url=f"http://k.example{path}"),
                started_us=second * 1_000_000,
            )

        marks = (
            Mark(at_us=2_000_000, name="Sign in", part="opening"),
            Mark(at_us=5_000_000, name="Look"),
            Mark(at_us=9_000_000, name="Leave", part="closing"),
        )
        # the style that is fetched after the next name was given stays with its page
        recording = Recording(
            exchanges=(
                at(1, "/"),
                at(2, "/in"),
                at(3, "/in2"),
                at(5, "/a.css"),
                at(6, "/x"),
                at(9, "/out"),
            ),
            pages={},
            marks=marks,
        )
        journey = journey_from(recording, "Named", ["http://k.example"])
        self.assertEqual(
            [(part, step.name, len(step.requests), step.think_s) for part, step in journey.steps()],
            [
                ("opening", "Before the first name", 1, 1.0),
                ("opening", "Sign in", 2, 1.0),
                ("rounds", "Look", 1, 3.0),
                ("closing", "Leave", 1, 0.0),
            ],
        )
        self.assertEqual(journey.opening[1].requests[1].embedded, ("http://k.example/a.css",))
