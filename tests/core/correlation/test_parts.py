"""Parts of the search: sites and decodings, alignment, looks, texts of JSON, each form of capture,
holes put in.
"""

import base64
import json
import string
from random import Random
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from dynamikos.core.captures import Capture, CssForm, RegexForm, View, compile_capture
from dynamikos.core.correlation import accept, find_strands, value_shapes
from dynamikos.core.correlation.accept import hard_wired, maker_for
from dynamikos.core.correlation.align import align
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.offers import Seen, offers
from dynamikos.core.correlation.placing import changed_request, fit
from dynamikos.core.correlation.sites import sites_of
from dynamikos.core.exchanges import Answer, Exchange, Recording, Sent
from dynamikos.core.exchanges.jsontext import spans
from dynamikos.core.journeys import Body, Request
from dynamikos.core.journeys.from_recording import journey_from
from dynamikos.core.values import compile_text
from tests.core.correlation.recordings import played

WORD = st.text("abcdefghijkmnopqrstuvwxyz0123456789-_", min_size=4, max_size=24).filter(
    lambda text: text.strip("-_") == text
)


def sent(url: str, body: bytes = b"", kind: str = "", **headers: str) -> Exchange:
    extra = [("Content-Type", kind)] if kind else []
    return Exchange(
        sent=Sent(
            method="POST" if body else "GET", url=url, headers=(*headers.items(), *extra), body=body
        )
    )


def answered(body: str, kind: str = "text/html", status: int = 200, **headers: str) -> Exchange:
    made = (
        ("Content-Type", kind),
        *((name.replace("_", "-"), value) for name, value in headers.items()),
    )
    return Exchange(
        sent=Sent(method="GET", url="http://kiln.example/a"),
        answer=Answer(status=status, headers=made, body=body.encode()),
    )


class Addresses(TestCase):
    def test_one_that_was_issued_is_put_in_although_its_origin_has_a_name(self) -> None:
        """A server that answers with where to go on: the address is a value as a whole, and the
        journey has the environment's name for its origin.
        """
        tapes = []
        for seed in ("7c1f93a2be", "90de45cc18"):
            to = f"http://kiln.example/steps/{seed}"
            page = Answer(
                status=200,
                headers=(("Content-Type", "application/json"),),
                body=json.dumps({"next": to}).encode(),
            )
            first = Exchange(sent=Sent(method="GET", url="http://kiln.example/a"), answer=page)
            second = sent(
                "http://kiln.example/go", json.dumps({"to": to}).encode(), "application/json"
            )
            done = replace(second, answer=Answer(status=200, body=b"ok"), entry=1)
            tapes.append([replace(first, entry=0), done])
        origin = "http://kiln.example"
        recording = Recording(exchanges=tuple(tapes[0]), pages={})
        journey = journey_from(recording, "J", [origin], {origin: "env.kiln"})
        strands = [each for each in find_strands(tapes) if each.kind == "issued"]
        made = accept(journey, strands, tapes[0])
        self.assertEqual(made.left, ())
        bodies = [r.body.json for _, r in made.journey.requests() if r.body is not None]
        self.assertNotIn("7c1f93a2be", str(bodies))
        whole = next(each for each in strands if each.value.startswith("http"))
        self.assertTrue(
            hard_wired(journey, whole)
        )  # its origin has a name, it is there all the same
        self.assertFalse(hard_wired(made.journey, whole))
        self.assertIn("{{", str(bodies))


class Sites(TestCase):
    def places(self, exchange: Exchange) -> dict[str, str]:
        return {site.place: site.value for site in sites_of(exchange, 0)}

    def test_every_place_and_what_is_inside(self) -> None:
        token = (
            "eyJhbGciOiJub25lIn0."
            + base64.urlsafe_b64encode(b'{"sub":"keeper-7","iat":1}').decode().rstrip("=")
            + ".x"
        )
        found = self.places(
            sent(
                "http://kiln.example/orders/A%2F7/file.pdf;v=3?next=%2Fback%3Fid%3D42&f=%7B%22a%22%3A%5B1%5D%7D&tag=x&tag=y",
                Authorization=f"Bearer {token}",
                X_Coded=base64.b64encode(b"plain words").decode(),
            )
        )
        for place, value in {
            "path 2": "A/7",
            "path 3, piece 0": "file",
            "query next, query id": "42",
            "query f, json $.a[0]": "1",
            "query tag": "x",
            "query tag (2)": "y",
            "header Authorization, after Bearer": token,
            "header Authorization, after Bearer, token payload $.sub": "keeper-7",
            "header X_Coded, base64-decoded": "plain words",
        }.items():
            self.assertEqual(found.get(place), value, place)

    def test_bodies(self) -> None:
        self.assertEqual(
            self.places(
                sent("http://k.example/", b"a=1&b=%26", "application/x-www-form-urlencoded")
            )["form b"],
            "&",
        )
        found = self.places(
            sent(
                "http://k.example/",
                b'{"a":{"b":[{"c":7.5},"t"]},"no":null,"yes":true}',
                "application/json",
            )
        )
        self.assertEqual(
            {p: v for p, v in found.items() if p.startswith("json")},
            {"json $.a.b[0].c": "7.5", "json $.a.b[1]": "t"},
        )
        mixed = (
            b"--m\r\nContent-Disposition: form-data; "
            b'name="k"\r\n\r\nv1\r\n--m\r\nContent-Disposition: form-data;'
            b' name="f"; filename="x"\r\n\r\nDATA\r\n--m--\r\n'
        )
        self.assertEqual(
            self.places(sent("http://k.example/", mixed, "multipart/form-data; boundary=m")),
            {"field k": "v1"},
        )
        self.assertEqual(
            self.places(sent("http://k.example/", b"<a>1</a>", "text/xml")), {"body": "<a>1</a>"}
        )

    def test_what_browsers_make_is_no_site(self) -> None:
        self.assertEqual(
            self.places(
                sent(
                    "http://k.example/",
                    Cookie="a=b",
                    Referer="http://x/secret",
                    **{"Sec-Fetch-Mode": "cors"},
                )
            ),
            {},
        )


class Alignment(TestCase):
    def test_extra_and_missing_requests_and_other_values(self) -> None:
        def calls(*paths: str) -> list[Exchange]:
            return [sent(f"http://kiln.example{path}") for path in paths]

        first = calls("/", "/kilns/17", "/kilns/17/fire", "/poll?n=1", "/done")
        second = calls(
            "/", "/news", "/kilns/93", "/kilns/93/fire", "/poll?n=1", "/poll?n=2", "/done"
        )
        found = align(first, second)
        self.assertEqual(
            {a: b for a, b in found.items() if a in (0, 1, 2, 4)}, {0: 0, 1: 2, 2: 3, 4: 6}
        )

    def test_a_file_is_no_other_file_in_whatever_order_they_are_asked_for(self) -> None:
        names = ("Index-3o3U0UBa.js", "Index-reaEz31n.css", "shared-cH3oJBDc.js")
        base = "http://kiln.example/assets/"
        first = [sent(base + name) for name in names]
        second = [sent(base + name) for name in (names[2], names[0], names[1])]
        found = align(first, second)
        for one, other in found.items():
            self.assertEqual(first[one].sent.url, second[other].sent.url)
        self.assertTrue(found)
        # a file that the other recording lacks may be the same under another name
        self.assertEqual(
            align([sent(base + "pot-1a2b.png")], [sent(base + "pot-9z8y.png")]), {0: 0}
        )

    def test_one_address_for_everything_goes_by_operation(self) -> None:
        first, second = played("graph_queries", 1).exchanges, played("graph_queries", 2).exchanges
        self.assertEqual(align(first, [second[0], *second[2:]]), {0: 0, 2: 1, 3: 2, 4: 3})


class Looks(TestCase):
    def test_made_by_a_machine(self) -> None:
        for value in (
            "7f3b9fab6637226cce19",
            "bed:9a8b7c6d5e",
            "74937123",
            "31102038-01",
            "550e8400-e29b-41d4-a716-446655440000",
            "QmFzZTY0IGlzIG5pY2U0",
            "a1b2-c3d4-e5f6",
        ):
            self.assertTrue(value_shapes.generated(value), value)
        for value in (
            "lyra",
            "Orla Ashdown",
            "en-GB",
            "2026-12-24",
            "31.10.2038",
            "ada@observers.example",
            "12",
            "application_form",
            "tide-of-the-1-day-revised",
            "first_page.2026",
            "/a/b1/c2",
        ):
            self.assertFalse(value_shapes.generated(value), value)

    def test_how_often_random_text_is_taken_for_a_name_in_an_address(self) -> None:
        draw, wrong = Random(3), 0
        for size in (8, 12, 21, 32):
            for alphabet in (string.ascii_lowercase + string.digits + "-_", string.hexdigits[:16]):
                for _ in range(500):
                    value = "".join(draw.choice(alphabet) for _ in range(size))
                    wrong += value_shapes.generated(value[:1] + "7x9" + value[1:]) is False
        self.assertLessEqual(wrong, 20)  # of 4,000

    def test_own_making(self) -> None:
        now = 1_790_000_000_000_000
        self.assertIn("milliseconds", value_shapes.own_making("1790000012345", "t", now))
        self.assertIn("seconds", value_shapes.own_making("1790000012", "when", now))
        self.assertIn("ISO 8601", value_shapes.own_making("2026-09-21T14:13:20Z", "when", now))
        self.assertEqual(value_shapes.own_making("1590000012345", "t", now), "a random number")
        self.assertEqual(value_shapes.own_making("318", "click_y", now), "a click position")
        self.assertIn("%d.%m.%Y", value_shapes.own_making("21.09.2026", "day", now))
        self.assertEqual(value_shapes.own_making("74937", "row", now), "")

    def test_names(self) -> None:
        self.assertEqual(value_shapes.words("X-Hold_TokenID"), ("x", "hold", "token", "id"))
        self.assertEqual(value_shapes.likeness("X-Form-Key", "form_key"), 1.0)
        self.assertGreaterEqual(value_shapes.likeness("slot", "slots id"), 0.5)
        self.assertEqual(value_shapes.likeness("colour", "kiln_id"), 0.0)


class Offers(TestCase):
    """Each form, found from a value, holds where other values stand at the same place."""

    def first(
        self, exchange: Exchange, value: str, name: str, other: Exchange, other_value: str
    ) -> Capture:
        one, two = Answers([exchange], [0]), Answers([other], [0])
        made = offers(one, 0, value, [name], [Seen(two.view(0), other_value)])
        self.assertTrue(made and made[0].proven, f"{value}: {made}")
        return made[0].capture

    def test_each_form(self) -> None:
        cases: list[tuple[str, Exchange, Exchange, str]] = [
            (
                "json",
                answered('{"a":{"key":"k-11"}}', "application/json"),
                answered('{"a":{"key":"k-22"}}', "application/json"),
                "",
            ),
            (
                "css",
                answered('<input name="key" value="k-11"><p>k-1</p>'),
                answered('<p>x</p><input name="key" value="k-22">'),
                "",
            ),
            ("header", answered("", Kiln_Key="k-11"), answered("", Kiln_Key="k-22"), ""),
            (
                "cookie",
                answered("", Set_Cookie="desk=k-11; Path=/"),
                answered("", Set_Cookie="desk=k-22; Path=/"),
                "",
            ),
            (
                "address",
                answered("", status=302, Location="/b?key=k-11&z=1"),
                answered("", status=302, Location="/b?key=k-22&z=1"),
                "",
            ),
            (
                "between",
                answered("<script>var key = 'k-11';</script>"),
                answered("<script>var key = 'k-22';</script>"),
                "",
            ),
            (
                "regex",
                answered("", Link="</p/k-11>; rel=x"),
                answered("", Link="</p/k-22>; rel=x"),
                "",
            ),
            (
                "css",
                answered(f'<b id="key">{base64.b64encode(b"k-11").decode()}</b>'),
                answered(f'<b id="key">{base64.b64encode(b"k-22").decode()}</b>'),
                "base64",
            ),
            (
                "between",
                answered("<script>u('\\u002Fx?key=k-11\\u0026z')</script>"),
                answered("<script>u('\\u002Fx?key=k-22\\u0026z')</script>"),
                "",
            ),
        ]
        for form, one, other, decode in cases:
            capture = self.first(one, "k-11", "key", other, "k-22")
            self.assertIsNotNone(getattr(capture, form), f"{form}: {capture}")
            self.assertEqual(capture.decode, decode)

    def test_a_neighbour_that_stays_beats_a_position_that_changes(self) -> None:
        one = answered(
            '{"s":[{"id":"aaa1","free":false},{"id":"bbb2","free":true}]}', "application/json"
        )
        other = answered(
            '{"s":[{"id":"ccc3","free":true},{"id":"ddd4","free":true}]}', "application/json"
        )
        self.assertEqual(
            self.first(one, "bbb2", "slot", other, "ccc3").json, "$.s[?@.free == true].id"
        )

    def test_never_on_text_that_itself_changes(self) -> None:
        one, other = (
            answered("<script>x=9;go(71,'k-11')</script>"),
            answered("<script>x=9;go(38,'k-22')</script>"),
        )
        made = self.first(one, "k-11", "key", other, "k-22")
        self.assertNotIn("71", json.dumps(str(made)))

    @settings(max_examples=120)
    @given(
        WORD,
        WORD,
        WORD,
        st.sampled_from(["json", "html", "script", "header", "cookie"]),
        st.booleans(),
    )
    def test_what_is_offered_as_proven_returns_the_right_value(
        self, value: str, other: str, name: str, where: str, noise: bool
    ) -> None:
        def page(text: str) -> Exchange:
            extra = "zzz " * 3 if noise else ""
            if where == "json":
                return answered(
                    json.dumps({"noise": extra, "deep": [{name: text}]}), "application/json"
                )
            if where == "html":
                return answered(
                    f'<p>{extra}</p><form><input type="hidden" name="k_{name}" '
                    f'value="{text}"></form>'
                )
            if where == "script":
                return answered(f'<script>{extra};window.boot={{"k_{name}":"{text}"}};</script>')
            return answered(
                "",
                **(
                    {"X_Given": text}
                    if where == "header"
                    else {"Set_Cookie": f"desk={text}; Path=/"}
                ),
            )

        one, two = Answers([page(value)], [0]), Answers([page(other)], [0])
        made = offers(one, 0, value, [name], [Seen(two.view(0), other)])
        self.assertTrue(made)
        for offer in made:
            if offer.proven and not offer.chosen:
                self.assertEqual(compile_capture(offer.capture)(one.view(0)), value)
                self.assertEqual(compile_capture(offer.capture)(two.view(0)), other)


class Picks(TestCase):
    def test_first_last_nth_all_random(self) -> None:
        view = View(
            200,
            [],
            b'<a class="k" href="1"></a><a class="k" href="2"></a><a class="k" href="3"></a>',
            choose=lambda count: count - 2,
        )

        def take(pick: object) -> str | None:
            return compile_capture(
                Capture(name="v", css=CssForm(selector="a.k", attribute="href"), pick=pick)
            )(view)  # type: ignore[arg-type]

        self.assertEqual(
            [take(pick) for pick in ("first", "last", 2, 9, "random", "all")],
            ["1", "3", "2", None, "2", '["1","2","3"]'],
        )

    def test_header_pattern_and_decodings(self) -> None:
        view = View(200, [(b"Link", b"</p/77>; rel=x")], b"a%2Fb &amp; \\u0026 a2V5")
        self.assertEqual(
            compile_capture(
                Capture(name="v", regex=RegexForm(pattern="/p/([0-9]+)", header="link"))
            )(view),
            "77",
        )
        for pattern, decode, wanted in (
            ("(a%2Fb)", "percent", "a/b"),
            ("(&amp;)", "html", "&"),
            (r"(\\u0026)", "json", "&"),
            ("(a2V5)", "base64", "key"),
        ):
            self.assertEqual(
                compile_capture(Capture(name="v", regex=RegexForm(pattern=pattern), decode=decode))(
                    view
                ),
                wanted,
            )  # type: ignore[arg-type]
        self.assertIsNone(
            compile_capture(
                Capture(name="v", regex=RegexForm(pattern="(rel)", header="link"), decode="base64")
            )(view)
        )


class Holes(TestCase):
    def test_json_text_keeps_its_form(self) -> None:
        text = '{ "a": [1, {"b": "x y"}],\n "n": {{ count }}, "s": "{{ name }}-z" }'
        self.assertEqual(
            {path: text[a:b] for path, a, b in spans(text)},
            {"$.a[0]": "1", "$.a[1].b": '"x y"', "$.n": "{{ count }}", "$.s": '"{{ name }}-z"'},
        )
        request = Request(
            request="r", method="POST", address="{{ env.t }}/a/b%2Fc?x", body=Body(json=text)
        )
        self.assertEqual(
            changed_request(request, "json $.a[0]", "1", "k").body,
            Body(json=text.replace("[1,", "[{{ k }},")),
        )
        self.assertEqual(
            changed_request(request, "json $.a[1].b", "x y", "k").body,
            Body(json=text.replace('"x y"', '"{{ k }}"')),
        )
        with self.assertRaises(ValueError):
            list(spans('{"a": }'))

    def test_each_place(self) -> None:
        request = Request(
            request="r",
            method="POST",
            address="{{ env.t }}/orders/3%2Fab/x",
            query=(("q", "1"), ("q", "go:77"), ("j", '{"k":"v-9"}')),
            headers=(("X-Key", "Bearer tok-1"),),
            body=Body(form=(("state", "c3RhdGUtMQ=="), ("z", "1"))),
        )
        self.assertEqual(
            changed_request(request, "path 2", "3/ab", "o").address,
            "{{ env.t }}/orders/{{ o | percent }}/x",
        )
        self.assertEqual(
            changed_request(request, "query q (2), word 1", "77", "n").query[1], ("q", "go:{{ n }}")
        )
        self.assertEqual(
            changed_request(request, "query j, json $.k", "v-9", "n").query[2],
            ("j", '{"k":"{{ n }}"}'),
        )
        self.assertEqual(
            changed_request(request, "header X-Key, after Bearer", "tok-1", "n").headers[0][1],
            "Bearer {{ n }}",
        )
        self.assertEqual(
            changed_request(request, "form state, base64-decoded", "state-1", "n").body,
            Body(form=(("state", "{{ n | base64 }}"), ("z", "1"))),
        )
        self.assertEqual(changed_request(request, "query nothing", "1", "n"), request)
        raw = Request(
            request="r",
            method="POST",
            address="a",
            body=Body(
                raw='--m\r\nContent-Disposition: form-data; name="k"\r\n\r\nv1\r\n--m--',
                type="multipart/form-data; boundary=m",
            ),
        )
        self.assertIn(
            "\r\n\r\n{{ n }}\r\n--m--", changed_request(raw, "field k", "v1", "n").body.raw or ""
        )  # type: ignore[union-attr]

    @given(WORD, WORD)
    def test_a_hole_filled_with_the_value_gives_the_text_again(
        self, value: str, around: str
    ) -> None:
        for text in (value, f"<{value}>", f"a={value}&b={around}"):
            made = fit(text, value, "n")
            self.assertIsNotNone(made)
            self.assertEqual(compile_text(made or "").fill({"n": value}), text)

    def test_makers_fit_what_was_recorded(self) -> None:
        found = {use.place: s for s in self.scene() for use in s.uses}
        self.assertEqual(maker_for(found["query t"]), "make.milliseconds")
        self.assertRegex(maker_for(found["json $.click.x"]), r"make\.number\(1, \d+\)")
        self.assertEqual(maker_for(found["query limit"]), "")

    def scene(self):  # type: ignore[no-untyped-def]
        from dynamikos.core.correlation import find_strands

        return find_strands([played("chance_numbers", 1).exchanges])
