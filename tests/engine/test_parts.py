"""Cookies, replies from bytes, masking, agreed targets, planned users."""

import asyncio
import time
from unittest import IsolatedAsyncioTestCase, TestCase

from dynamikos.core.frozen.seating import planned_by, seats_of
from dynamikos.core.plans import parse_target
from dynamikos.core.values.masking import MASK, Masker
from dynamikos.engine.failures import Failure, Reopen
from dynamikos.engine.http.connection import Arrivals, Connection
from dynamikos.engine.http.cookies import CookieJar, keeps_secrets
from dynamikos.engine.http.messages import Base, Head
from dynamikos.engine.http.protocol import Heads, Reply, ReplyReader
from dynamikos.engine.targets import check_target
from tests.engine.support import frozen, step


class Cookies(TestCase):
    def header(
        self,
        *set_cookies: str,
        host: str = "a.example",
        path: str = "/",
        secure: bool = False,
        now: float = 1000.0,
    ) -> str:
        jar = CookieJar()
        for text in set_cookies:
            jar.take(text, "a.example", "/x/y", 1000.0)
        return jar.header(host, path, secure, now)

    def test_rules_of_rfc_6265(self) -> None:
        cases = (
            (("a=1; Path=/",), {}, "a=1"),
            (("a=1",), {"path": "/"}, ""),
            (("a=1",), {"path": "/x/z"}, "a=1"),
            (("a=1; Path=/x",), {"path": "/xy"}, ""),
            (("a=1; Path=/; Secure",), {}, ""),
            (("a=1; Path=/; Secure",), {"secure": True}, "a=1"),
            (("a=1; Path=/; Max-Age=10",), {"now": 1011.0}, ""),
            (("a=1; Path=/", "a=; Path=/; Max-Age=0"), {}, ""),
            (("a=1; Path=/; Expires=Thu, 01 Jan 1970 00:00:01 GMT",), {}, ""),
            (("a=1; Path=/",), {"host": "b.a.example"}, ""),
            (("a=1; Path=/; Domain=a.example",), {"host": "b.a.example"}, "a=1"),
            (("a=1; Path=/; Domain=other.example",), {}, ""),
            (("junk",), {}, ""),
            (("a=1; Path=/", "b=2; Path=/x"), {"path": "/x/1"}, "b=2; a=1"),
            (("a=1=2; Path=/",), {}, "a=1=2"),
            (("a=1; Path=/; Max-Age=soon",), {}, "a=1"),
            # prefixes (RFC 6265bis §4.1.3) and public suffixes
            (("__Secure-a=1; Path=/",), {"secure": True}, ""),
            (("__Secure-a=1; Path=/; Secure",), {"secure": True}, "__Secure-a=1"),
            (("__Host-a=1; Path=/; Secure",), {"secure": True}, "__Host-a=1"),
            (("__Host-a=1; Path=/x; Secure",), {"secure": True, "path": "/x"}, ""),
            (("__Host-a=1; Path=/; Secure; Domain=a.example",), {"secure": True}, ""),
            (("a=1; Path=/; Domain=co.uk",), {"host": "x.co.uk"}, ""),
        )
        for given, asked, expected in cases:
            with self.subTest(given):
                self.assertEqual(self.header(*given, **asked), expected)

    def test_secure_cookies_within_this_machine(self) -> None:
        """As browsers have it: a server that is tried out on loopback sets them without TLS."""
        for host, kept in (
            ("127.0.0.1", True),
            ("127.8.0.9", True),
            ("[::1]", True),
            ("localhost", True),
            ("shop.localhost", True),
            ("shop.example", False),
            ("localhost.example", False),
            ("10.0.0.1", False),
        ):
            with self.subTest(host):
                self.assertEqual(keeps_secrets("http", host), kept)
                self.assertTrue(keeps_secrets("https", host))


class Replies(TestCase):
    def read(self, data: bytes, *, head_only: bool = False, pieces: int = 1) -> object:
        reader = ReplyReader()
        reader.begin(head_only=head_only, keep=True)
        reply = None
        size = max(1, len(data) // pieces)
        for at in range(0, len(data), size):
            reply = reader.feed(data[at : at + size]) or reply
        return reply or reader.end_of_stream()

    def test_framings(self) -> None:
        cases = (
            (b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhello", b"hello", True),
            (
                b"HTTP/1.1 200 OK\r\nTransfer-Encoding: "
                b"chunked\r\n\r\n3\r\nhel\r\n2\r\nlo\r\n0\r\n\r\n",
                b"hello",
                True,
            ),
            (b"HTTP/1.1 200 OK\r\n\r\nhello", b"hello", False),
            (b"HTTP/1.1 204 No Content\r\n\r\n", b"", True),
            (
                b"HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n",
                b"",
                True,
            ),
            (b"HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 1\r\n\r\nx", b"x", False),
            (b"HTTP/1.0 200 OK\r\nContent-Length: 1\r\n\r\nx", b"x", False),
        )
        for data, body, keep_alive in cases:
            for pieces in (1, 7, len(data)):
                with self.subTest(data, pieces=pieces):
                    reply = self.read(data, pieces=pieces)
                    self.assertEqual(
                        (reply.body, reply.keep_alive, reply.bytes_in),
                        (body, keep_alive, len(data)),
                    )  # type: ignore[attr-defined]

    def test_head_has_no_body(self) -> None:
        self.assertEqual(
            self.read(b"HTTP/1.1 200 OK\r\nContent-Length: 500\r\n\r\n", head_only=True).status, 200
        )  # type: ignore[attr-defined]

    def test_unfinished_is_not_a_reply(self) -> None:
        self.assertIsNone(self.read(b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhel"))
        with self.assertRaises(Failure):
            self.read(b"garbage\r\n\r\n")


class Masking(TestCase):
    def test_all_forms(self) -> None:
        mask = Masker(["pässword/1"])
        import base64
        import json
        from urllib.parse import quote

        secret = "pässword/1"
        for text in (
            secret,
            quote(secret, safe=""),
            json.dumps(secret),
            base64.b64encode(secret.encode()).decode(),
        ):
            self.assertNotEqual(mask.text(f"a {text} b"), f"a {text} b")
            self.assertIn(MASK, mask.text(f"a {text} b"))
        for lead in ("", "x", "xy", "xyz"):
            coded = base64.b64encode(lead.encode() + secret.encode() + b"!!").decode()
            self.assertIn(MASK, mask.text(coded), lead)
        self.assertEqual(mask.text("nothing here"), "nothing here")


class Agreed(TestCase):
    TARGETS = tuple(
        map(
            parse_target,
            (
                "http://staging.example",
                "https://*.wide.example",
                "http://127.0.0.1:8470",
                "http://10.0.0.5",
            ),
        )
    )

    def test_who_may_be_sent_to(self) -> None:
        allowed = (
            (("http", "staging.example", 80), "93.184.216.34"),
            (("https", "a.wide.example", 443), "93.184.216.34"),
            (("http", "127.0.0.1", 8470), "127.0.0.1"),
            (("http", "10.0.0.5", 80), "10.0.0.5"),
            (("http", "staging.example", 80), "10.1.1.1"),
        )
        for origin, address in allowed:
            check_target(self.TARGETS, origin, address)
        refused = (
            (("http", "other.example", 80), "93.184.216.34"),
            (("https", "staging.example", 443), "93.184.216.34"),
            (("http", "staging.example", 8080), "93.184.216.34"),
            (("http", "staging.example", 80), "169.254.169.254"),
            (("http", "staging.example", 80), "0.0.0.0"),
            (("http", "staging.example", 80), "fe80::1"),
            (("https", "a.wide.example", 443), "10.0.0.1"),
            (("https", "a.wide.example", 443), "127.0.0.1"),
            (("http", "staging.example", 80), "::ffff:169.254.169.254"),
            (("http", "staging.example", 80), "224.0.0.1"),
        )
        for origin, address in refused:
            with self.subTest(origin=origin, address=address), self.assertRaises(Failure) as caught:
                check_target(self.TARGETS, origin, address)
            self.assertEqual(caught.exception.kind, "not-agreed")
        with self.assertRaises(Failure):
            check_target(self.TARGETS, ("http", "127.0.0.1", 8470), "127.0.0.1", frozenset({8470}))


class Sharing(TestCase):
    def test_shards_add_up(self) -> None:
        parts = "rounds:\n" + step("s", "{request: r, address: '{{ env.base }}/'}")
        made = frozen(parts, users=10, climb_s=5, hold_s=5)
        numbers = sorted(seat.number for shard in range(3) for seat in seats_of(made, shard, 3))
        self.assertEqual(numbers, list(range(1, 11)))
        alone, three = (
            planned_by(seats_of(made, 0, 1)),
            [planned_by(seats_of(made, shard, 3)) for shard in range(3)],
        )
        for second in range(10):
            self.assertEqual(sum(there(second + 0.995) for there in three), alone(second + 0.995))
            self.assertEqual(made.planned_at(second + 0.995), alone(second + 0.995))


class Arriving(IsolatedAsyncioTestCase):
    """What several connections read in one turn of the loop."""

    def connection(self, arrivals: Arrivals) -> tuple[Connection, "Waits"]:
        made, taker = Connection(set(), Heads(), arrivals), Waits()
        made.connection_made(Written())
        return made, taker

    def send(self, connection: Connection, taker: "Waits", at: float) -> None:
        head = Head(Base("GET", "/", "x"))
        connection.send(head, b"", taker, "", "00-0-", 1, False, at)  # type: ignore[arg-type]

    async def test_each_gets_its_own_in_order_at_the_instant_of_reading(self) -> None:
        arrivals, answer = Arrivals(), b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n"
        pairs = [self.connection(arrivals) for _ in range(3)]
        order: list[int] = []
        for number, (connection, taker) in enumerate(pairs):
            taker.told = lambda number=number: order.append(number)  # type: ignore[misc]
            self.send(connection, taker, time.perf_counter())
        for connection, _ in (pairs[2], pairs[0], pairs[1]):
            connection.data_received(answer)
        read = time.perf_counter()
        self.assertEqual(order, [])
        await asyncio.sleep(0)
        self.assertEqual(order, [2, 0, 1])
        for _, taker in pairs:
            self.assertLessEqual(taker.reply.last_at, read)  # type: ignore[union-attr]

    async def test_an_error_of_ours_with_one_leaves_the_others(self) -> None:
        arrivals, answer = Arrivals(), b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n"
        (first, broken), (second, fine) = self.connection(arrivals), self.connection(arrivals)

        def wrong() -> None:
            raise RuntimeError("ours")

        broken.told = wrong
        for connection, taker in ((first, broken), (second, fine)):
            self.send(connection, taker, time.perf_counter())
            connection.data_received(answer)
        await asyncio.sleep(0)
        self.assertEqual(fine.reply.status, 200)  # type: ignore[union-attr]

    async def test_what_came_before_the_request_is_no_answer_to_it(self) -> None:
        arrivals, answer = Arrivals(), b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n"
        connection, taker = self.connection(arrivals)
        connection.data_received(answer)  # nobody asked
        self.send(connection, taker, time.perf_counter())
        await asyncio.sleep(0)
        self.assertIsNone(taker.reply)
        self.assertIsInstance(taker.failure, Reopen)
        self.assertFalse(connection.alive)


class Waits:
    """Whoever waits for an answer."""

    def __init__(self) -> None:
        self.reply: Reply | None = None
        self.failure: Exception | None = None
        self.told = lambda: None

    def arrived(self, reply: Reply, link: Connection) -> None:
        self.reply = reply
        self.told()

    def lost(self, failure: Exception, link: Connection) -> None:
        self.failure = failure


class Written(asyncio.Transport):
    """A transport that sends nothing."""

    def write(self, data: bytes) -> None:  # type: ignore[override]
        pass

    def is_closing(self) -> bool:
        return False

    def close(self) -> None:
        pass

    def abort(self) -> None:
        pass
