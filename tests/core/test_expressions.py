"""Expressions: what they come to, and that none of them can run away."""

import time
from random import Random
from unittest import TestCase

from dynamikos.core.errors import TemplateError
from dynamikos.core.values import Maker, Values, compile_condition, compile_list, compile_text
from dynamikos.core.values.expressions import one_time_code

NOW_US = 1_700_000_000_000_000  # 2023-11-14T22:13:20Z
GIVEN = {
    "a": "12",
    "b": "3.5",
    "minutes": "45",
    "day": "7",
    "observers.email": "x@y",
    "l": '["p","q"]',
    "ref": "BF-22-x",
    "empty": "",
    "object": '{"q": {"z": 5}, "ids": [3, 1, 20]}',
    "said": "false",
}


def values() -> Values:
    counts: dict[str, int] = {}

    def run_count(name: str) -> str:
        counts[name] = counts.get(name, 0) + 4
        return str(counts[name] + 1)

    return Values(
        GIVEN,
        Maker(
            lambda: Random(1),
            lambda: NOW_US,
            run_count=run_count,
            known={"env.base": "http://x", "secrets.key": "s3"},
        ),
    )


class WhatTheyComeTo(TestCase):
    CASES = (
        ("{{ a + b }}", "15.5"),
        ("{{ a - b * 2 }}", "5"),
        ("{{ a ~ b }}", "123.5"),
        ("{{ 0.1 + 0.2 }}", "0.3"),
        ("{{ 7 // 2 }}|{{ 7 % 4 }}|{{ -day }}", "3|3|-7"),
        ("{{ 1 / 3 | number }}", "0.3333333333333333333333333333333333333333"),
        ("{{ 2 ** 10 }}", "1024"),
        ("{{ 2.345 | round(2) }}|{{ 2.5 | round }}|{{ 1000 | round }}", "2.35|3|1000"),
        ("{{ (a / 5) | fixed(2) }}", "2.40"),
        ("{{ 2.675 | fixed(2) }}", "2.68"),
        ("{{ 2.5 | round }}", "3"),
        ("{{ day | pad(2) }}.{{ a | pad(2) }}.2027", "07.12.2027"),
        ("{{ 'yes' if a > b else 'no' }}", "yes"),
        ("{{ minutes - 15 == 30 }}", "true"),
        ("{{ '9' < '10' }}", "true"),
        ("{{ 'q' in l }}", "true"),
        ("{{ 1 < a < 13 }}", "true"),
        ("{{ not (a == 12) }}", "false"),
        ("{{ empty | default('d') }}{{ nowhere | default('e') }}", "de"),
        ("{{ ref[3:5] }}{{ ref | cut(-1) }}", "22x"),
        ("{{ ref | after('-') | before('-') }}", "22"),
        ("{{ ref | replace('-', '/') | lower }}", "bf/22/x"),
        ("{{ (object | from_json).q.z + 1 }}", "6"),
        ("{{ (object | from_json).ids | sort | join('-') }}", "1-3-20"),
        ("{{ (object | from_json).ids | max }}", "20"),
        ("{{ l | first }}{{ l | last }}{{ l | count }}", "pq2"),
        ("{{ ['x', a + 1] | to_json }}", '["x",13]'),
        ("{{ 'a,b' | split(',') | reverse | join }}", "ba"),
        ("{{ now('%d.%m.%Y %H:%M') }}", "14.11.2023 22:13"),
        ("{{ now('%d.%m.%Y', days=7, hours=2) }}", "22.11.2023"),
        ("{{ now('%H:%M %z', zone='+05:30') }}", "03:43 +0530"),
        ("{{ now('%s', seconds=-10) }}", "1699999990"),
        ("{{ now('%Y-%m-%dT%H:%M:%S.%LZ') }}", "2023-11-14T22:13:20.000Z"),
        ("{{ now('%Q %:z', zone='+05:30', seconds=0.25) }}", "1700000000250 +05:30"),
        ("{{ now('%%s%%L') }}", "%s%L"),
        ("{{ '01.02.2027' | date('%Y-%m-%d', reads='%d.%m.%Y', days=-1) }}", "2027-01-31"),
        ("{{ '1700000000' | date('%Y') }}", "2023"),
        ("{{ '2027-07-01T12:00:00+02:00' | date('%H', zone='UTC') }}", "10"),
        ("{{ 'å b' | percent }}|{{ '%C3%A5' | unpercent }}", "%C3%A5%20b|å"),
        ("{{ 'hi' | base64 }}|{{ 'aGk' | unbase64 }}", "aGk=|hi"),
        # RFC 7636, appendix B: the bytes of a digest are what base64 writes
        (
            "{{ 'dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk' | sha256 | base64url }}",
            "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM",
        ),
        # RFC 1864, 2202: Content-MD5 is base64 of bytes; as a text it is hexadecimal
        ("{{ '' | md5 | base64 }}", "1B2M2Y8AsgTpgAmY7PhCfg=="),
        ("{{ ('' | md5 ~ '') | base64 | cut(0, 8) }}", "ZDQxZDhj"),
        ("{{ ({'sub': a, 'iat': 5} | jwt('k') | jwt_claims).sub }}", "12"),
        ("{{ ({'sub': a} | jwt('k') | jwt_head).alg }}", "HS256"),
        ("{{ {'iat': 1} | jwt('k') | split('.') | last | length }}", "43"),
        # RFC 4231, case 2
        ("{{ 'abc' | sha256 | cut(0, 8) }}", "ba7816bf"),
        ("{{ 'what do ya want for nothing?' | hmac('Jefe') | cut(0, 8) }}", "5bdcc146"),
        ("{{ env.base | upper ~ '/' }}", "HTTP://X/"),
        ("{{ secrets.key | md5 | length }}", "32"),
        ("{{ make.count('t') }}{{ make.count('t') }}{{ make.count('u') }}", "121"),
        ("{{ make.run_count('t') }} {{ make.run_count('t') }}", "5 9"),
        ("{{ make.text(3) | length }}", "3"),
        ("{{ make.text(4, 'hex') | replace('x', '') | length }}", "4"),
        ("{{ make.uuid7 | cut(0, 13) }}", "018bcfe5-6800"),  # RFC 9562 §5.7: milliseconds first
        ("{{ make.date(%d.%m.%Y, 1) }}", "15.11.2023"),
    )

    def test_each(self) -> None:
        for source, expected in self.CASES:
            with self.subTest(source):
                self.assertEqual(compile_text(source).fill(values()), expected)

    def test_made_at_random_from_the_users_own_stream(self) -> None:
        made = compile_text(
            "{{ make.number(1, 6) * 10 }} {{ make.choice('p', 'q', 'r') }} {{ make.choice(l) }} {{ "
            "make.uuid | upper }}"
        )
        self.assertEqual(made.fill(values()), made.fill(values()))
        again = values()
        self.assertNotEqual(made.fill(again), made.fill(again))
        self.assertRegex(made.fill(values()), r"^[1-6]0 [pqr] [pq] [0-9A-F-]{36}$")

    def test_conditions_and_lists(self) -> None:
        for source, expected in (
            ("{{ a > 11 }}", True),
            ("{{ said }}", False),
            ("{{ empty }}", False),
            ("{{ 0 }}", False),
            ("{{ l }}", True),
            ("{{ a }} x", True),
            ("{{ nowhere is defined }}", False),
        ):
            self.assertIs(compile_condition(source)(values()), expected, source)
        self.assertEqual(compile_list("{{ l }}")(values()), ["p", "q"])
        self.assertEqual(compile_list("{{ 'x y' | split(' ') }}")(values()), ["x", "y"])
        self.assertEqual(compile_list("[1, 2]")(values()), ["1", "2"])
        with self.assertRaisesRegex(TemplateError, "not a list"):
            compile_list("{{ a }}")(values())

    def test_names_are_known_without_running_anything(self) -> None:
        self.assertEqual(
            compile_text("{{ a + observers.n }}/{{ (x | from_json).q }}/{{ make.text(2) }}").names,
            ("a", "observers.n", "x"),
        )


class OneTimeCodes(TestCase):
    def test_vectors(self) -> None:
        """RFC 6238, appendix B: SHA-1, 8 digits."""
        secret = "GEZD GNBV GY3T QOJQ GEZD GNBV GY3T QOJQ"
        for at_s, code in (
            (59, "94287082"),
            (1111111109, "07081804"),
            (1111111111, "14050471"),
            (1234567890, "89005924"),
            (2000000000, "69279037"),
            (20000000000, "65353130"),
        ):
            self.assertEqual(one_time_code(secret, at_s, 8), code)
            self.assertEqual(one_time_code(secret.lower(), at_s), code[2:])
        made = compile_text("{{ totp('GEZDGNBVGY3TQOJQ') }}").fill(values())
        self.assertEqual(made, one_time_code("GEZDGNBVGY3TQOJQ", NOW_US / 1e6))
        with self.assertRaisesRegex(TemplateError, "base32"):
            one_time_code("not/base32", 59)


class WhereItIsWrong(TestCase):
    CASES = (
        ("a -", "", 3),
        ("a § b", "§", 2),
        ("a | fixd(2)", "fixd", 4),
        ("1 + make.foo", ".foo", 8),
        ("a.b.c + 1", ".c", 3),
        ("(1 + 2", "", 6),
        ("a b", "b", 2),
        ("a | fixed(2,,)", ",", 12),
        ("b ~ 'abc", "'", 4),
        ("a + foo(1)", "foo", 4),
        ("a is odd", "is", 2),
        ("a + not_there", "not_there", 4),
        ("a[", "", 2),
        ("'not_there' ~ not_there_either", "not_there_either", 14),
    )

    def test_each(self) -> None:
        for source, piece, at in self.CASES:
            with self.subTest(source), self.assertRaises(TemplateError) as caught:
                compile_text("{{ " + source + " }}").fill(values())
            self.assertEqual(caught.exception.at, (at, at + len(piece)), source)
            self.assertEqual(source[at : at + len(piece)], piece)

    MISSING = (
        "nope",
        "nope - 1",
        "-nope",
        "nope == 1",
        "nope in 'a'",
        "nope[0]",
        "[nope]",
        "{'a': [nope]}",
        "[nope] | to_json",
        "nope | upper",
        "nope | round(1)",
        "nope | to_json",
        "'a' | cut(nope)",
        "make.choice([nope])",
        "1 if nope else 2",
        "a and nope",
        "nope ~ ''",
        "[a, nope] | join(',')",
        "nope | split(',')",
    )

    def test_a_missing_name_is_named_whatever_is_done_with_it(self) -> None:
        for source in self.MISSING:
            for compiled in (lambda text: compile_text(text).fill, compile_list, compile_condition):
                if compiled is compile_condition and source.startswith(("[", "{")):
                    continue  # a list is there, whatever is in it
                with (
                    self.subTest(source),
                    self.assertRaisesRegex(TemplateError, "nope has no value here"),
                ):
                    compiled("{{ " + source + " }}")(values())

    def test_what_an_object_or_a_list_does_not_have(self) -> None:
        cases = (
            ("(object | from_json).w", "no field “w”; it has q, ids"),
            ("(object | from_json).q.w + 1", "no field “w”; it has z"),
            ("(l | from_json)[2]", r"has 2 entries; there is no \[2\]"),
            ("a[5]", "has 2 letters"),
            ("(l | from_json).x", "only objects and lists"),
            ("l.x ~ 1", "l.x has no value"),
            ("(object | from_json)[0]", "no field “0”"),
        )
        for source, words in cases:
            with self.subTest(source), self.assertRaisesRegex(TemplateError, words):
                compile_text("{{ " + source + " }}").fill(values())
        for source, text in (
            ("(object | from_json).w | default('none')", "none"),
            ("(l | from_json)[9] is defined", "false"),
            ("a[1]", "2"),
            ("(l | from_json)[-1]", "q"),
            ("(object | from_json).ids[1:]", "[1,20]"),
        ):
            self.assertEqual(compile_text("{{ " + source + " }}").fill(values()), text)

    def test_objects_within_objects(self) -> None:
        self.assertEqual(compile_text("{{ {'a': {'b': 1} } }}").fill({}), '{"a":{"b":1}}')
        with self.assertRaisesRegex(TemplateError, "a space is needed"):
            compile_text("{{ {'a': {'b': 1}} }}")

    def test_what_only_comes_out_when_it_is_computed_has_no_place(self) -> None:
        with self.assertRaises(TemplateError) as caught:
            compile_text("{{ empty + 1 }}").fill(values())
        self.assertIsNone(caught.exception.at)


class NothingRunsAway(TestCase):
    READ = (
        ("{{ a $ b }}", "means nothing here"),
        ("{{ (a }}", "can't be read"),
        ("{{ a b }}", "not expected here"),
        ("{{ a | nope }}", "no filter 'nope'"),
        ("{{ make.nope }}", "makes nothing known"),
        ("{{ a.b.c }}", "not a name"),
        ("{{ a.upper() }}", "change a value through filters"),
        ("{{ range(10) }}", "can be called"),
        ("{{ lipsum() }}", "can be called"),
        ("{{ " + "(" * 60 + "a" + ")" * 60 + " }}", "nested too deeply"),
        ("{{ " + "-" * 400 + "a }}", "nested too deeply"),
        ("{{ " + "a+" * 1000 + "a }}", "at most 2,000"),
        ("{{ " + "a ~ " * 400 + "a }}", None),
        ("{{ " + "1 if a else " * 60 + "2 }}", "nested too deeply"),
        ("{{ " + "[" * 60 + "]" * 60 + " }}", "nested too deeply"),
        ("{{ a is callable }}", "no test"),
        ("{{ " + "a|upper" + "|upper" * 200 + "|pad(1) }}", "nested too deeply"),
    )
    RUN = (
        "{{ 'a' * 1000000000 }}",
        "{{ [1] * 1000000000 }}",
        "{{ 9 ** 9 ** 999 }}",
        "{{ 9**1000 ** 1000 }}",
        "{{ a | pad(999999999) }}",
        "{{ a % 0 }}",
        "{{ now('%999999999d') }}",
        "{{ now(days=99999999999) }}",
        "{{ a | replace('', 'x') | replace('x', a | pad(10000)) | replace('0', a | pad(10000)) }}",
        "{{ ''.__class__ }}",
        "{{ a['__class__'] }}",
        "{{ (l | from_json).__class__ }}",
        "{{ make['__class__'] }}",
        "{{ 'x' | fixed(2) }}",
        "{{ a | fixed(10**9) }}",
        "{{ '" + "[" * 1500 + "' | from_json }}",
        "{{ a + nowhere }}",
        "{{ make.text(1) + 1 }}",
        "{{ l | hmac('k', 'crc') }}",
        "{{ make.choice([]) }}",
        "{{ '%s' % a }}",
        "{{ a | date('%Y') }}",
        "{{ [] | first }}",
        "{{ [[], 1] | sum }}",
        "{{ a | pad }}",
        "{{ a | fixed(2, 3, 4, 5) }}",
    )

    def test_what_cannot_be_read_is_said(self) -> None:
        for source, words in self.READ:
            with self.subTest(source[:60]):
                if words is None:
                    compile_text(source)
                else:
                    with self.assertRaisesRegex(TemplateError, words):
                        compile_text(source)

    def test_what_is_too_much_ends_at_once_with_words(self) -> None:
        for source in self.RUN:
            with self.subTest(source[:60]):
                begun = time.process_time()
                with self.assertRaises(TemplateError) as said:
                    compile_text(source).fill(values())
                self.assertLess(
                    time.process_time() - begun, 2
                )  # a hundred times what the slowest takes
                self.assertGreater(len(str(said.exception)), 15)
