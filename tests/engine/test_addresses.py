"""What goes out in the first lines of a request: addresses, hosts and headers, each value encoded
for its place.
"""

from unittest import TestCase

import msgspec

from dynamikos.core.errors import RuleError
from dynamikos.core.journeys import verify
from dynamikos.core.plans import parse_target
from dynamikos.engine.failures import Failure
from dynamikos.engine.targets import check_target
from dynamikos.engine.testing import Scripted, answer
from dynamikos.engine.users.compiled import split_url
from dynamikos.engine.users.filling import addressed
from tests.engine.support import BASE, frozen, ok, perform, step


class Encoded(TestCase):
    def test_a_value_is_encoded_for_its_place(self) -> None:
        values = {"v": "", "base": BASE, "link": "/a/b?c=d e"}
        for given, path, query in (
            ("C#", "C%23", "C%23"),
            ("R&D", "R&D", "R%26D"),
            ("50% off", "50%25%20off", "50%25%20off"),
            ("a/b?c", "a%2Fb%3Fc", "a/b?c"),
            ("é", "%C3%A9", "%C3%A9"),
            ("a+b=c", "a+b=c", "a%2Bb%3Dc"),
            ("plain", "plain", "plain"),
        ):
            with self.subTest(given):
                values["v"] = given
                self.assertEqual(
                    addressed("{{ base }}/x/{{ v }}/y", {})(values), f"{BASE}/x/{path}/y"
                )
                self.assertEqual(
                    addressed("{{ base }}/x?q={{ v }}&z=1", {})(values), f"{BASE}/x?q={query}&z=1"
                )
                self.assertEqual(
                    addressed("{{ base }}/x/{{ env.v }}", {"env.v": given})(values),
                    f"{BASE}/x/{path}",
                )
                self.assertEqual(
                    addressed("{{ base }}/{{ v | percent }}", {})(values)
                    .partition("9999/")[2]
                    .count("%25%25"),
                    0,
                )
        self.assertEqual(addressed("{{ base }}{{ link }}", {})(values), f"{BASE}/a/b?c=d%20e")
        self.assertEqual(
            addressed("{{ base }}/x/{{ w | encoded }}", {})({"base": BASE, "w": "a%20b"}),
            f"{BASE}/x/a%20b",
        )
        self.assertEqual(
            addressed("{{ whole }}", {})({"whole": f"{BASE}/ä?x=1&y=2"}), f"{BASE}/%C3%A4?x=1&y=2"
        )
        self.assertEqual(
            addressed("{{ base }}/ein weg/ü 50% {{ v }}", {})({"base": BASE, "v": "a b"}),
            f"{BASE}/ein%20weg/%C3%BC%2050%25%20a%20b",
        )

    def test_hosts_and_targets(self) -> None:
        self.assertEqual(split_url("http://h/x?")[2], "/x?")
        self.assertEqual(split_url("http://bücher.example/")[0][1], "xn--bcher-kva.example")
        for wrong in (
            "http://" + "a" * 64 + ".example/",
            "http://" + "ä" * 70 + ".example/",
            "http://h:99999/",
            "ftp://h/",
            "http:///x",
            "http://[::1/",
        ):
            with self.subTest(wrong), self.assertRaises(Failure) as caught:
                split_url(wrong)
            self.assertEqual(caught.exception.kind, "address")


class Headers(TestCase):
    def test_a_line_break_begins_no_header_and_lengths_are_not_given_twice(self) -> None:
        for name, value in (
            ("X-A", "a\r\nX-B: b"),
            ("X A", "a"),
            ("Content-Length", "3"),
            ("transfer-encoding", "chunked"),
            ("X:Y", "a"),
            ("", "a"),
        ):
            with self.subTest(name):
                made = frozen("rounds:\n" + step("s", 'request: r\naddress: "{{ env.base }}/"'))
                first = made.journey.rounds[0]
                request = msgspec.structs.replace(first.requests[0], headers=((name, value),))
                journey = msgspec.structs.replace(
                    made.journey, rounds=(msgspec.structs.replace(first, requests=(request,)),)
                )
                self.assertTrue(
                    any("header" in each.message for each in verify(journey, {"env.base"})), name
                )
                with self.assertRaises(RuleError):
                    perform(msgspec.structs.replace(made, journeys={"j": journey}), ok)

    def test_an_own_host_replaces_and_an_own_cookie_joins(self) -> None:
        made = frozen(
            "rounds:\n"
            + step(
                "s",
                'request: r\naddress: "{{ env.base }}/"\nheaders: [[Host, other.example], [Cookie, '
                "a=1]]",
            )
        )
        came = b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\nSet-Cookie: s=\xc3\xbc\r\n\r\n"
        _, _, network = perform(made, lambda data: Scripted(came, 1))
        second = network.requests[1]
        self.assertEqual((second.count(b"Host:"), second.count(b"ookie:")), (1, 1))
        self.assertIn(b"Host: other.example\r\n", second)
        self.assertIn("Cookie: a=1; s=\u00fc\r\n".encode(), second)  # the bytes that came

    def test_credentials_stay_with_their_origin(self) -> None:
        """Scheme, host and port: an own Authorization header, Basic, Bearer, a hand-written Cookie,
        a header with a secret.
        """
        for where, stays in (
            ("http://127.0.0.1:9999/b", True),
            ("http://127.0.0.1:9998/b", False),
            ("http://localhost:9999/b", False),
            ("https://127.0.0.1:9999/b", False),
        ):
            for proof in (
                "headers: [[Authorization, Own x]]",
                "authorization: {basic: {user: u, password: p}}",
                "authorization: {bearer: t}",
                "headers: [[Cookie, a=1]]",
                'headers: [[X-Api-Key, "{{ secrets.key }}"]]',
            ):
                with self.subTest(where, proof=proof):
                    made = frozen(
                        "rounds:\n"
                        + step("s", f'request: r\naddress: "{{{{ env.base }}}}/a"\n{proof}'),
                        hold_s=1,
                    )
                    made = msgspec.structs.replace(
                        made, values={**made.values, "secrets.key": "k-secret-k"}
                    )
                    _, _, network = perform(
                        made,
                        lambda data, where=where: Scripted(
                            answer(b"", "302 Found", f"Location: {where}\r\n")
                            if data.startswith(b"GET /a")
                            else answer(b"ok"),
                            2,
                        ),
                    )
                    there = next(each for each in network.requests if each.startswith(b"GET /b"))
                    sent = any(
                        mark in there for mark in (b"Authorization:", b"Cookie: a=1", b"X-Api-Key")
                    )
                    self.assertEqual(sent, stays)

    def test_a_location_goes_back_as_the_bytes_it_came_as(self) -> None:
        made = frozen("rounds:\n" + step("s", 'request: r\naddress: "{{ env.base }}/a"'), hold_s=1)
        head = b"HTTP/1.1 302 Found\r\nContent-Length: 0\r\nLocation: /caf\xe9 x?\r\n\r\n"
        _, _, network = perform(
            made, lambda data: Scripted(head if data.startswith(b"GET /a") else answer(), 2)
        )
        self.assertIn(b"GET /caf%E9%20x? HTTP/1.1", network.requests[1])


class Agreed(TestCase):
    def test_only_what_was_agreed_and_never_ourselves(self) -> None:
        wild, named, at = (
            parse_target("http://*.staging.example"),
            parse_target("http://app.example"),
            parse_target("http://app.example at 10.0.0.7"),
        )
        table = [
            (wild, "a.staging.example", "93.184.216.34", True),
            (wild, "a.staging.example", "10.0.0.1", False),
            (wild, "a.staging.example", "127.0.0.1", False),
            (wild, "a.staging.example", "100.64.0.1", False),
            (wild, "a.staging.example", "64:ff9b::a00:1", False),
            (wild, "a.staging.example", "::ffff:10.0.0.1", False),
            (wild, "a.staging.example", "2002:a00:1::", False),
            (wild, "a.staging.example", "fd00::1", False),
            (wild, "a.staging.example", "192.0.2.1", False),
            (named, "app.example", "10.0.0.7", True),
            (named, "app.example", "169.254.169.254", False),
            (named, "app.example", "64:ff9b::a9fe:a9fe", False),
            (named, "app.example", "0.0.0.0", False),
            (at, "app.example", "10.0.0.7", True),
            (at, "app.example", "10.0.0.8", False),
            (at, "app.example", "93.184.216.34", False),
        ]
        for line, host, address, allowed in table:
            with self.subTest(f"{line} {address}"):
                try:
                    check_target([line], ("http", host, 80), address)
                except Failure:
                    self.assertFalse(allowed)
                else:
                    self.assertTrue(allowed)
