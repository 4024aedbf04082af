"""Who asks: Basic, Digest by the examples of RFC 7616, tokens of clients fetched once and renewed,
common headers, multipart.
"""

import asyncio
import base64
import hashlib
import re
from email import message_from_bytes
from unittest import TestCase

import uvloop

from dynamikos.core.plans import parse_target
from dynamikos.engine.clock import RealClock
from dynamikos.engine.http.digest import challenge_in
from dynamikos.engine.network import RealNetwork
from dynamikos.engine.runner import Shard, run
from dynamikos.engine.testing import ListSink, Scripted, answer
from tests.engine.support import frozen, perform, step, totals

GET = 'request: get\naddress: "{{ env.base }}/x"'


def header(data: bytes, name: str) -> str | None:
    found = re.search(rb"(?im)^" + name.encode() + rb": (.*)\r$", data)
    return found.group(1).decode() if found else None


class Digest(TestCase):
    def test_examples_of_the_rfc(self) -> None:
        # RFC 7616 §3.9.1
        given = (
            'Digest realm="http-auth@example.org", qop="auth, auth-int", algorithm={},'
            ' nonce="7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v",'
            ' opaque="FQhe/qaU925kfnzjCev0ciny7QMkPqMAFRtzCUYo5tdS"'
        )
        cnonce = "f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ"
        for algorithm, response in (
            ("MD5", "8ca523f5e9506fed4657c9700eebdbec"),
            ("SHA-256", "753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1"),
        ):
            challenge = challenge_in([given.format(algorithm)])
            assert challenge is not None
            said = challenge.answer("GET", "/dir/index.html", "Mufasa", "Circle of Life", cnonce)
            self.assertIn(f'response="{response}"', said)
            self.assertIn("nc=00000001", said)
            self.assertIn(f'opaque="{challenge.opaque}"', said)

    def test_the_oldest_form_without_qop(self) -> None:
        # RFC 2069 §2.4, as corrected by its erratum 749
        challenge = challenge_in(
            ['Digest realm="testrealm@host.com", nonce="dcd98b7102dd2f0e8b11d0f600bfb0c093"']
        )
        assert challenge is not None
        said = challenge.answer("GET", "/dir/index.html", "Mufasa", "CircleOfLife", "")
        self.assertIn('response="1949323746fe6a43ef61f9606e7febea"', said)
        self.assertNotIn("nc=", said)

    def test_the_strongest_that_can_be_answered(self) -> None:
        found = challenge_in(
            [
                'Basic realm="a"',
                'Digest nonce="1", algorithm=MD5',
                'Digest nonce="2", algorithm=SHA-256',
                'Digest nonce="3", algorithm=X',
            ]
        )
        assert found is not None
        self.assertEqual(found.nonce, "2")
        self.assertIsNone(challenge_in(['Basic realm="a"', 'Digest nonce="1", qop="auth-int"']))

    def test_challenge_once_then_ahead_and_again_when_stale(self) -> None:
        nonces = ["n1"]

        def server(data: bytes) -> Scripted:
            said = header(data, "authorization") or ""
            if f'nonce="{nonces[-1]}"' in said and "nc=00000004" in said:
                nonces.append("n2")
            if f'nonce="{nonces[-1]}"' not in said:
                stale = ", stale=true" if "nonce" in said else ""
                return Scripted(
                    answer(
                        b"",
                        "401 Unauthorized",
                        'WWW-Authenticate: Digest realm="r", qop="auth", '
                        f'nonce="{nonces[-1]}"{stale}\r\n',
                    ),
                    0.1,
                )
            return Scripted(answer(b"in"), 0.1)

        made = frozen(
            'authorization: {digest: {user: u, password: "{{ env.base }}"}}\nrounds:\n'
            + step("one", GET, think_s=0.5),
            hold_s=4.9,
        )
        _, sink, network = perform(made, server)
        ledger = totals(made, sink)
        self.assertEqual(ledger.all_of("request").failed, {})
        counts = [
            re.search(r"nc=(\d+)", header(data, "authorization") or "") for data in network.requests
        ]
        self.assertEqual(
            [found and int(found.group(1)) for found in counts], [None, 1, 2, 3, 4, 1, 2, 3, 4, 5]
        )
        self.assertEqual(ledger.sent, len(network.requests))

    def test_wrong_password_is_asked_for_once(self) -> None:
        def server(data: bytes) -> Scripted:
            return Scripted(
                answer(
                    b"",
                    "401 Unauthorized",
                    'WWW-Authenticate: Digest realm="r", qop="auth", nonce="same"\r\n',
                ),
                0.1,
            )

        made = frozen(
            "rounds:\n"
            + step("one", GET + "\nauthorization: {digest: {user: u, password: p}}", think_s=0.5),
            hold_s=0.4,
        )
        _, sink, network = perform(made, server)
        self.assertEqual(totals(made, sink).all_of("request").failed, {"status-401": 1})
        self.assertEqual(len(network.requests), 2)


class Clients(TestCase):
    ASK = (
        '{client: {address: "{{ env.base }}/token", id: "sky desk", secret: "s:1", scope: "plan"}}'
    )

    def server(self, life: str) -> "list[str]":
        self.issued: list[str] = []

        def answers(data: bytes) -> Scripted:
            if data.startswith(b"POST /token"):
                self.issued.append(f"t{len(self.issued) + 1}")
                self.asked = data
                return Scripted(
                    answer(
                        f'{{"access_token": "{self.issued[-1]}", "token_type": '
                        f'"Bearer"{life}}}'.encode()
                    ),
                    0.2,
                )
            if header(data, "authorization") != f"Bearer {self.issued[-1] if self.issued else ''}":
                return Scripted(answer(b"", "401 Unauthorized"), 0.1)
            return Scripted(answer(b"in"), 0.1)

        self.answers = answers
        return self.issued

    def test_fetched_once_for_all_users_and_counted_apart(self) -> None:
        issued = self.server("")
        made = frozen(
            f"authorization: {self.ASK}\nrounds:\n" + step("one", GET, think_s=0.9),
            users=5,
            hold_s=3.95,
        )
        _, sink, network = perform(made, self.answers)
        self.assertEqual(issued, ["t1"])
        said = header(self.asked, "authorization") or ""
        self.assertEqual(base64.b64decode(said.removeprefix("Basic ")), b"sky+desk:s%3A1")
        self.assertTrue(self.asked.endswith(b"grant_type=client_credentials&scope=plan"))
        ledger = totals(made, sink)
        self.assertEqual(
            (ledger.all_of("token").passed.n, ledger.all_of("request").failed), (1, {})
        )
        self.assertAlmostEqual(ledger.all_of("token").moments.mean_us, 200_000, delta=2)
        self.assertAlmostEqual(ledger.all_of("request").moments.mean_us, 100_000, delta=2)
        self.assertEqual(ledger.sent, len(network.requests))

    def test_renewed_before_it_expires(self) -> None:
        issued = self.server(', "expires_in": 2')
        made = frozen(
            f"authorization: {self.ASK}\nrounds:\n" + step("one", GET, think_s=0.4), hold_s=5.9
        )
        _, sink, _ = perform(made, self.answers)
        self.assertEqual(totals(made, sink).all_of("request").failed, {})
        self.assertIn(len(issued), (3, 4))

    def test_renewed_once_when_it_is_refused_in_mid_run(self) -> None:
        issued = self.server("")
        answers, count = self.answers, 0

        def server(data: bytes) -> Scripted:
            nonlocal count
            count += 1
            if count == 5:
                issued.append("changed by the server")
            return answers(data)

        made = frozen(
            f"authorization: {self.ASK}\nrounds:\n" + step("one", GET, think_s=0.4), hold_s=3.9
        )
        _, sink, _ = perform(made, server)
        self.assertEqual(totals(made, sink).all_of("request").failed, {})
        self.assertEqual(issued, ["t1", "changed by the server", "t3"])

    def test_a_token_or_a_name_can_not_bring_headers_of_its_own(self) -> None:
        def server(data: bytes) -> Scripted:
            if data.startswith(b"POST /token"):
                return Scripted(
                    answer(b'{"access_token": "t\\r\\nX-Evil: 1", "token_type": "Bearer"}')
                )
            return Scripted(
                answer(
                    b"",
                    "401 Unauthorized",
                    'WWW-Authenticate: Digest realm="r", qop="auth", nonce="n"\r\n',
                )
            )

        digest = '{digest: {user: "u\\r\\nX-Evil: 1", password: p}}'
        for proof in (self.ASK, digest):
            made = frozen(
                f"authorization: {proof}\nrounds:\n" + step("one", GET, think_s=1), hold_s=0.5
            )
            _, sink, network = perform(made, server)
            self.assertFalse([data for data in network.requests if b"X-Evil" in data], proof)
            self.assertEqual(sum(totals(made, sink).all_of("request").failed.values()), 1)

    def test_refused_clients_say_why_and_nothing_secret_is_kept(self) -> None:
        def server(data: bytes) -> Scripted:
            return Scripted(
                answer(
                    b'{"error": "invalid_client", "error_description": "unknown id"}',
                    "401 Unauthorized",
                ),
                0.1,
            )

        made = frozen(
            f"authorization: {self.ASK}\nrounds:\n" + step("one", GET, think_s=0.5), hold_s=0.4
        )
        _, sink, network = perform(made, server)
        self.assertEqual(totals(made, sink).all_of("request").failed, {"token": 1})
        self.assertIn(
            "answered 401 without a token: invalid_client. unknown id", sink.kept[0].error
        )
        self.assertEqual(len(network.requests), 1)


class Common(TestCase):
    def test_headers_common_to_all_give_way_to_own_ones(self) -> None:
        own = (
            'request: own\naddress: "{{ env.base }}/y"\nheaders: [[x-sky, mine]]\nauthorization: '
            "{none: true}"
        )
        made = frozen(
            "headers: [[X-Sky, all], [X-More, m]]\nauthorization: {basic: {user: ü, password: "
            "p}}\nrounds:\n" + step("one", GET, own, think_s=1),
            hold_s=0.5,
        )
        _, _, network = perform(made, lambda data: Scripted(answer()))
        first, second = network.requests[:2]
        self.assertEqual((header(first, "x-sky"), header(second, "x-sky")), ("all", "mine"))
        self.assertEqual(header(second, "x-more"), "m")
        self.assertEqual(
            header(first, "authorization"), "Basic " + base64.b64encode("ü:p".encode()).decode()
        )
        self.assertIsNone(header(second, "authorization"))

    def test_embedded_resources_carry_them_too_but_not_elsewhere(self) -> None:
        page = (
            'request: page\naddress: "{{ env.base }}/p"\nembedded: ["/own.css", '
            '"http://127.0.0.1:9998/other.css"]'
        )
        made = frozen(
            "headers: [[X-Sky, all]]\nauthorization: {basic: {user: u, password: p}}\nrounds:\n"
            + step("one", page, think_s=1),
            hold_s=0.5,
        )
        _, _, network = perform(made, lambda data: Scripted(answer()))
        said = {
            data.split(b" ")[1]: (header(data, "x-sky"), header(data, "authorization") is not None)
            for data in network.requests
        }
        self.assertEqual(said[b"/own.css"], ("all", True))
        self.assertEqual(said[b"/other.css"], (None, False))

    def test_multipart_is_read_back_by_another_library(self) -> None:
        picture = bytes(range(256))
        body = (
            '{parts: [{name: "title-{{ round.number }}", value: "M {{ round.number }}"}, '
            '{name: "a \\"b\\"", file: '
            "sky.png, type:"
            f" image/png, base64: {base64.b64encode(picture).decode()}}}]}}"
        )
        made = frozen(
            "rounds:\n"
            + step(
                "one",
                f'request: up\nmethod: POST\naddress: "{{{{ env.base }}}}/up"\nbody: {body}',
                think_s=1,
            ),
            hold_s=0.5,
        )
        _, _, network = perform(made, lambda data: Scripted(answer()))
        head, _, sent = network.requests[0].partition(b"\r\n\r\n")
        self.assertEqual(int(header(head + b"\r\n", "content-length") or 0), len(sent))
        message = message_from_bytes(
            b"Content-Type: "
            + (header(head + b"\r\n", "content-type") or "").encode()
            + b"\r\n\r\n"
            + sent
        )
        title, file = message.get_payload()
        self.assertEqual(title.get_payload(), "M 1")
        self.assertEqual(file.get_param("name", header="content-disposition"), "a %22b%22")
        self.assertEqual(title.get_param("name", header="content-disposition"), "title-1")
        self.assertEqual(
            (file.get_filename(), file.get_content_type(), file.get_payload(decode=True)),
            ("sky.png", "image/png", picture),
        )


class Waiting(TestCase):
    def test_who_waits_for_a_token_is_told_when_it_can_not_be_had(self) -> None:
        from dynamikos.engine.failures import Failure
        from dynamikos.engine.users.proving import Tokens

        async def program() -> None:
            tokens = Tokens()

            async def fetch() -> tuple[str, float]:
                await asyncio.sleep(0.01)
                raise Failure("token", "no")

            found = await asyncio.gather(
                *(tokens.get(("c",), lambda: 0.0, fetch) for _ in range(3)), return_exceptions=True
            )
            self.assertTrue(all(isinstance(each, Failure) for each in found))

            async def good() -> tuple[str, float]:
                return "t", 0.0

            self.assertEqual(await tokens.get(("c",), lambda: 0.0, good), "t")

        uvloop.run(program())


class OnTheWire(TestCase):
    """A server of its own, with its own computation of Digest (RFC 7616 §3.4) and tokens that live
    for a second.
    """

    def test_digest_and_tokens_against_a_real_server(self) -> None:
        seen: list[tuple[str, int]] = []
        issued: list[str] = []

        def sha(text: str) -> str:
            return hashlib.sha256(text.encode()).hexdigest()

        def digest_is_right(said: str, method: str, path: str) -> bool:
            given = dict(re.findall(r'(\w+)="?([^",]+)"?', said.removeprefix("Digest ")))
            secret, asked = sha(f"sky:{given['realm']}:word"), sha(f"{method}:{path}")
            wanted = sha(f"{secret}:nonce-1:{given['nc']}:{given['cnonce']}:auth:{asked}")
            return given["response"] == wanted and given["uri"] == path

        async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            while True:
                try:
                    head = (await reader.readuntil(b"\r\n\r\n")).decode()
                except (asyncio.IncompleteReadError, ConnectionError):
                    return
                method, path, _ = head.split("\r\n")[0].split(" ")
                await reader.readexactly(
                    int((re.search(r"(?i)content-length: (\d+)", head) or ["", "0"])[1])
                )
                said = (re.search(r"(?im)^authorization: (.*)\r$", head) or ["", ""])[1]
                status, more, body = "200 OK", "", b"{}"
                if path == "/token":
                    issued.append(f"t{len(issued)}")
                    body = f'{{"access_token": "{issued[-1]}", "expires_in": 1}}'.encode()
                elif path == "/bearer" and said != f"Bearer {issued[-1] if issued else ''}":
                    status = "401 Unauthorized"
                elif path.startswith("/digest") and not (
                    said and digest_is_right(said, method, path)
                ):
                    status, more = (
                        "401 Unauthorized",
                        'WWW-Authenticate: Digest realm="desk", qop="auth", algorithm=SHA-256, '
                        'nonce="nonce-1"\r\n',
                    )
                seen.append((path, int(status[:3])))
                writer.write(
                    f"HTTP/1.1 {status}\r\nContent-Length: {len(body)}\r\n{more}\r\n".encode()
                    + body
                )

        async def program() -> ListSink:
            server = await asyncio.start_server(serve, "127.0.0.1", 0)
            base = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}"
            proofs = {
                "digest?a=b%20c": "{digest: {user: sky, password: word}}",
                "bearer": f'{{client: {{address: "{base}/token", id: i, secret: s}}}}',
            }
            steps = "".join(
                step(
                    f"s{n}",
                    f'request: r\naddress: "{base}/{path}"\nauthorization: {proof}',
                    think_s=0.1,
                )
                for n, (path, proof) in enumerate(proofs.items())
            )
            made = frozen("rounds:\n" + steps, users=3, hold_s=2.5, grace_s=2)
            network, clock, sink = RealNetwork([parse_target(base)]), RealClock(), ListSink()
            await run(
                Shard(number=0, count=1, frozen=made, rows={}, secrets={}),
                network,
                clock,
                sink,
                begin=clock.now() + 0.05,
            )
            await network.aclose()
            clock.close()
            server.close()
            self.assertEqual(totals(made, sink).all_of("request").failed, {})
            return sink

        sink = uvloop.run(program())
        self.assertEqual(sum(message.answered for message in sink.messages), len(seen))
        refused = [path for path, status in seen if status == 401]
        self.assertEqual(refused.count("/digest?a=b%20c"), 3)  # each user is asked once
        # one token may be renewed while others still send the old one
        self.assertLessEqual(refused.count("/bearer"), 3 * len(issued))
        self.assertIn(len(issued), (2, 3, 4))
