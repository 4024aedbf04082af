"""Heads that are read without a parser say the same as the parser."""

import random
from unittest import TestCase

from dynamikos.engine.http.cookies import CookieJar
from dynamikos.engine.http.protocol import (
    FILLED_S,
    MOST_KNOWN,
    PAUSE_S,
    Heads,
    ReplyReader,
    read_head,
)
from tests.engine.test_caching import entry

PLAIN = [
    b"Server: owl",
    b"Date: Fri, 27 Nov 2026 10:00:00 GMT",
    b"content-type: text/html",
    b"X-Id:7",
    b'ETag:  "a" ',
    b"Set-Cookie: a=b; Path=/",
    b"set-cookie: c=d",
    b"Connection: keep-alive",
    b"Vary: Transfer-Encoding",
]
HARD = [
    b"Transfer-Encoding: chunked",
    b"Connection: close",
    b"Content-Length: 3",
    b"Upgrade: h2c",
    b" folded: yes",
    b"X Y: no name",
    b"Content-Length : 2",
    b"Connection: upgrade",
    b"Bad\x00: x",
    b"no colon",
]


class Read(TestCase):
    def test_the_same_as_the_parser(self) -> None:
        draw, read = random.Random(7), 0
        for _ in range(3000):
            lines = draw.sample(PLAIN, draw.randrange(len(PLAIN)))
            if draw.random() < 0.4:
                lines.append(draw.choice(HARD))
            body = bytes(draw.randrange(65, 90) for _ in range(draw.randrange(9)))
            lines.append(b"Content-Length: %d" % len(body))
            if draw.random() < 0.2:
                lines.append(b"Content-Encoding: gzip")
            draw.shuffle(lines)
            status = draw.choice(
                [b"200 OK", b"404", b"302 Found", b"204 No Content", b"304 Same", b"500 "]
            )
            head = b"HTTP/1.1 " + status + b"\r\n" + b"\r\n".join(lines) + b"\r\n\r\n"
            seen = read_head(head)
            if seen is None:
                continue
            read += 1
            reader = ReplyReader()
            reader.begin(head_only=False, keep=True)
            reply = reader.feed(head + body)
            assert reply is not None, head
            self.assertTrue(reply.keep_alive, head)
            self.assertEqual(
                (seen.status, seen.length, seen.encoding),
                (reply.status, len(body), reply.encoding),
                head,
            )
            self.assertEqual(
                list(seen.headers), [(name, value.strip()) for name, value in reply.headers], head
            )
            self.assertEqual(seen.set_cookies, reply.set_cookies, head)
        self.assertGreater(read, 800)

    def test_what_a_parser_has_to_look_at(self) -> None:
        fine = b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n%b\r\n"
        self.assertIsNotNone(read_head(fine % b""))
        for line in HARD:
            if line != b"Content-Length : 2":
                self.assertIsNone(read_head(fine % (line + b"\r\n")), line)
        others = [
            b"HTTP/1.0 200 OK\r\nContent-Length: 2\r\n\r\n",
            b"HTTP/1.1 200 OK\r\n\r\n",
            b"HTTP/1.1 100 Go\r\n\r\n",
            b"HTTP/1.1 200 OK\nContent-Length: 2\n\n",
            b"",
        ]
        for head in others:
            self.assertIsNone(read_head(head), head)


class Remembering(TestCase):
    def test_heads_that_always_differ_are_not_learnt(self) -> None:
        now = [0.0]
        heads = Heads(lambda: now[0])

        def head(number: int) -> bytes:
            return b"HTTP/1.1 200 OK\r\nX-Id: %d\r\nContent-Length: 2\r\n\r\n" % number

        for number in range(5 * MOST_KNOWN):
            self.assertIsNotNone(heads.read(head(number)))
            now[0] += 0.001
        self.assertEqual(len(heads.known), MOST_KNOWN)
        self.assertIn(head(0), heads.known)  # what was learnt before stays
        now[0] += PAUSE_S
        heads.read(head(-1))
        self.assertEqual(list(heads.known), [head(-1)])
        for number in range(
            2 * MOST_KNOWN
        ):  # a date that changes every second: forgotten and learnt anew
            heads.read(head(number))
            now[0] += 2 * FILLED_S / MOST_KNOWN
        self.assertIn(head(2 * MOST_KNOWN - 1), heads.known)


class Hostile(TestCase):
    """Numbers in what a server sends that are none: an answer is not read by them, and nothing
    breaks.
    """

    def test_lengths(self) -> None:
        for length in ("9" * 5000, "²", "+5", "-1", "0x5", "5, 5", ""):
            with self.subTest(length[:20]):
                self.assertIsNone(
                    read_head(
                        f"HTTP/1.1 200 OK\r\nContent-Length: {length}\r\n\r\n".encode("latin-1")
                    )
                )

    def test_ages_of_cookies(self) -> None:
        for attribute, there in (
            ("Max-Age=" + "9" * 5000, True),
            ("Max-Age=²", True),
            ("Max-Age=-5", False),
            ("Max-Age=--5", True),
            ("Expires=Fri, 31 Dec 99999 00:00:00 GMT", True),
            ("Expires=Mon, 00 Jan 0000 99:99:99 +9999", True),
        ):
            with self.subTest(attribute[:30]):
                jar = CookieJar()
                jar.take(f"a=b; {attribute}", "here", "/", 1000.0)
                self.assertEqual(jar.values(), {"a": "b"} if there else {})

    def test_ages_of_what_is_kept(self) -> None:
        for lines in (("Cache-Control: max-age=²",), ("Cache-Control: max-age=" + "9" * 5000,)):
            self.assertIsNone(entry(*lines))
        for age in ("²", "9" * 5000, "-3"):
            kept = entry("Cache-Control: max-age=60", f"Age: {age}")
            assert kept is not None
            self.assertEqual((kept.fresh_s, kept.age_s), (60, 0))
