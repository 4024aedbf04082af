"""A value looked up in a body without reading the rest is the same as in the whole."""

import random
from typing import Any
from unittest import TestCase

import orjson

from dynamikos.core.captures import Capture, View, compile_capture
from dynamikos.core.captures.paths import MISSING, as_text, compile_path, compile_text

WORDS = ("id", "slots", "a b", "ü", "")


def document(draw: random.Random, depth: int = 0) -> Any:
    kind = draw.randrange(7 if depth < 4 else 5)
    if kind == 5:
        return [document(draw, depth + 1) for _ in range(draw.randrange(4))]
    if kind == 6:
        return {draw.choice(WORDS): document(draw, depth + 1) for _ in range(draw.randrange(5))}
    return draw.choice([None, True, 7, -1.5, 'quo"te\\', "grün", "", 12345678901234567890])


def path(draw: random.Random) -> str:
    parts = [
        f"[{draw.randrange(3)}]" if draw.random() < 0.4 else f"['{draw.choice(WORDS)}']"
        for _ in range(3)
    ]
    return "$" + "".join(parts[: draw.randrange(1, 4)])


class WithoutTheRest(TestCase):
    def test_the_same_as_in_the_whole(self) -> None:
        draw, found = random.Random(3), 0
        for _ in range(20_000):
            made, asked = document(draw), path(draw)
            body, text = orjson.dumps(made), compile_text(asked)
            assert text is not None
            value = compile_path(asked)(made)
            try:
                seen = text(body)
            except ValueError:
                continue  # it has to be read as a whole
            found += 1
            self.assertIsNot(value, MISSING, (body, asked))
            self.assertEqual(seen, None if value is None else as_text(value), (body, asked))
        self.assertGreater(found, 300)

    def test_a_body_that_is_no_json_is_none_whatever_is_looked_for(self) -> None:
        """One or two bytes changed anywhere: where a value is found, the whole is read alike."""
        whole = b'{"x":[1,2.5e3,"q\\u00e9\\n",null,true],"a":{"b":"val","c":{"d":[{}]}},'
        whole += b'"z":-1,"g":"\xc3\xbc"}'
        draw, found = random.Random(5), 0
        text, walk = compile_text("$.a.b"), compile_path("$.a.b")
        assert text is not None
        for _ in range(30_000):
            body = bytearray(whole)
            for _ in range(draw.choice((1, 1, 2))):
                at = draw.randrange(len(body))
                body[at : at + draw.randrange(2)] = bytes(
                    [draw.choice(b'{}[]",:\\0-9eE.+ntf \n\x00\xc3\xff')]
                )
            try:
                seen = text(bytes(body))
            except ValueError:
                continue
            found += 1
            value = walk(orjson.loads(bytes(body)))  # raises for what is no JSON
            self.assertEqual(seen, None if value is None else as_text(value), body)
        self.assertGreater(found, 3000)

    def test_numbers_as_in_the_whole(self) -> None:
        text, walk = compile_text("$.a"), compile_path("$.a")
        assert text is not None
        for number in (
            "0",
            "-0",
            "1.10",
            "1E2",
            "-7.0e-3",
            "18446744073709551615",
            "-9223372036854775808",
        ):
            body = b'{"a": %b}' % number.encode()
            self.assertEqual(text(body), as_text(walk(orjson.loads(body))), number)
        for number in (
            "18446744073709551616",
            "123456789012345678901234567890",
            "1e999",
            "01",
            "NaN",
        ):
            with self.assertRaises(ValueError):  # read as a whole
                text(b'{"a": %b}' % number.encode())

    def test_what_it_does_not_say(self) -> None:
        self.assertIsNone(compile_text("$..id"))
        self.assertIsNone(compile_text("$"))
        text = compile_text("$.slots[0].id")
        assert text is not None
        self.assertEqual(text(b' {"x": [1, {}], "slots": [{"no": 1, "id": 7}, {"id": "x"}]} '), "7")
        for body in (
            b"",
            b"{",
            b'{"slots": []}',
            b'{"slots": [1]}',
            b'{"slots": [{"id": 1}, 5]}',
            b"{} x",
            b"\xff",
        ):
            with self.assertRaises(ValueError):
                text(body)

    def test_a_capture_falls_back_to_the_whole(self) -> None:
        take = compile_capture(Capture(name="a", json="$.slots[0].id"))
        for reads in (0, 1, 2):
            for body, value in (
                (b'{"slots": [{"id": "x"}, 5]}', "x"),
                (b'{"slots": [{"id": "x"}]}', "x"),
                (b'{"slots": [{"id": null}]}', None),
                (b'{"slots": 3}', None),
                (b"no JSON", None),
            ):
                view = View(200, (), body)
                view.reads_json = reads
                self.assertEqual(take(view), value, (reads, body))
