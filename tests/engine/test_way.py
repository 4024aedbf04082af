"""The way to a target over real sockets on loopback: trust, client certificate, host overrides,
outgoing proxy, and what is still refused.
"""

import asyncio
import base64
import ssl
from collections.abc import Awaitable, Callable
from unittest import TestCase

import trustme
import uvloop

from dynamikos.core.plans import Way, parse_target
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.messages import Base, Head
from dynamikos.engine.network import RealNetwork
from dynamikos.engine.testing import asked

Seen = list[bytes]


async def served(seen: Seen, context: ssl.SSLContext | None = None) -> asyncio.Server:
    """Answers every request with whether a client certificate came with it."""

    async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while head := await reader.readuntil(b"\r\n\r\n"):
                seen.append(head)
                own = writer.get_extra_info("peercert")
                body = b"known" if own else b"unknown"
                writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%b" % (len(body), body))
                await writer.drain()
        except (asyncio.IncompleteReadError, ConnectionError, ssl.SSLError):
            pass
        writer.close()

    return await asyncio.start_server(answer, "127.0.0.1", 0, ssl=context)


async def proxied(seen: Seen) -> asyncio.Server:
    """A forward proxy: CONNECT and absolute form; only loopback is behind it, whatever the name."""

    async def pump(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while part := await reader.read(65536):
                writer.write(part)
                await writer.drain()
        except ConnectionError:
            pass
        writer.close()

    async def forward(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        head = await reader.readuntil(b"\r\n\r\n")
        seen.append(head)
        if b"refused.example" in head.split(b"\r\n")[0]:
            writer.write(b"HTTP/1.1 403 Forbidden\r\nContent-Length: 0\r\n\r\n")
            writer.close()
            return
        method, address, _ = head.split(b" ", 2)
        place = address if method == b"CONNECT" else address.split(b"/")[2]
        there, back = await asyncio.open_connection("127.0.0.1", int(place.rsplit(b":", 1)[1]))
        if method == b"CONNECT":
            writer.write(b"HTTP/1.1 200 Connected\r\n\r\n")
        else:
            back.write(head)
        await asyncio.gather(pump(reader, back), pump(there, writer))

    return await asyncio.start_server(forward, "127.0.0.1", 0)


def port(server: asyncio.Server) -> int:
    return int(server.sockets[0].getsockname()[1])


class OnTheWay(TestCase):
    def perform(self, program: Callable[[], Awaitable[None]]) -> None:
        uvloop.run(asyncio.wait_for(program(), 20))  # type: ignore[arg-type]

    async def ask(self, network: RealNetwork, origin: tuple[str, str, int]) -> bytes:
        link = await network.open(origin, {})
        first, again = [await asked(link, Head(Base("GET", "/x", "h"))) for _ in range(2)]
        self.assertEqual(first.body, again.body)
        await network.aclose()
        return first.body

    def test_a_user_resumes_its_own_tls_session_and_nobody_elses(self) -> None:
        authority = trustme.CA()

        async def program() -> None:
            context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
            authority.issue_cert("staging.example").configure_cert(context)
            server = await served([], context)
            origin = ("https", "staging.example", port(server))
            way = Way(
                trust=authority.cert_pem.bytes().decode(), hosts={"staging.example": "127.0.0.1"}
            )
            network = RealNetwork(
                [parse_target(f"https://staging.example:{port(server)}")], way=way
            )
            told: list[bool] = []
            for sessions in (first := {}, first, first, {}):  # type: ignore[var-annotated]
                link = await network.open(origin, sessions)
                await asked(link, Head(Base("GET", "/x", "h")))
                told.append(link.remember(origin, sessions))
                link.close()
            self.assertEqual(told, [False, True, True, False])
            await network.aclose()
            server.close()

        self.perform(program)

    def test_own_authority_client_certificate_and_host_override(self) -> None:
        authority, other = trustme.CA(), trustme.CA()
        pem = authority.cert_pem.bytes().decode()
        own = authority.issue_cert("visitor@staging.example")
        certificate, key = (
            own.cert_chain_pems[0].bytes().decode(),
            own.private_key_pem.bytes().decode(),
        )

        async def program() -> None:
            context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
            authority.issue_cert("staging.example").configure_cert(context)
            authority.configure_trust(context)
            context.verify_mode = ssl.CERT_OPTIONAL
            server = await served([], context)
            origin = ("https", "staging.example", port(server))
            agreed = [parse_target(f"https://staging.example:{port(server)}")]
            hosts = {"staging.example": "127.0.0.1"}
            for way, found in (
                (Way(trust=pem, hosts=hosts), b"unknown"),
                (Way(trust=pem, hosts=hosts, certificate=certificate, key_secret="key"), b"known"),
                (Way(trust="anything", hosts=hosts), b"unknown"),
            ):
                self.assertEqual(
                    await self.ask(
                        RealNetwork(agreed, way=way, key=key if way.certificate else ""), origin
                    ),
                    found,
                )
            for way in (Way(hosts=hosts), Way(trust=other.cert_pem.bytes().decode(), hosts=hosts)):
                network = RealNetwork(agreed, way=way)
                with self.assertRaises(Failure) as said:
                    await network.open(origin, {})
                self.assertEqual(said.exception.kind, "tls")
                await network.aclose()
            with self.assertRaisesRegex(Failure, "can't be used"):
                RealNetwork(
                    agreed,
                    way=Way(certificate=certificate),
                    key=trustme.CA().issue_cert("x.example").private_key_pem.bytes().decode(),
                )
            server.close()

        self.perform(program)

    def test_an_override_leads_nowhere_that_is_never_a_target(self) -> None:
        async def program() -> None:
            agreed = [
                parse_target("http://staging.example:80"),
                parse_target("http://*.wild.example:80"),
            ]
            for host, address in (
                ("staging.example", "169.254.169.254"),
                ("staging.example", "0.0.0.0"),
                ("a.wild.example", "127.0.0.1"),
            ):
                network = RealNetwork(agreed, way=Way(hosts={host: address}))
                with self.assertRaises(Failure) as said:
                    await network.open(("http", host, 80), {})
                self.assertEqual(said.exception.kind, "not-agreed")
                await network.aclose()

        self.perform(program)

    def test_through_a_proxy_in_absolute_form_and_by_connect(self) -> None:
        async def program() -> None:
            authority, plain, passed = trustme.CA(), [], []
            context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
            authority.issue_cert("far.example").configure_cert(context)
            server, secure, proxy = (
                await served(plain),
                await served([], context),
                await proxied(passed),
            )
            address = f"http://127.0.0.1:{port(proxy)}"
            agreed = [
                parse_target(f"http://far.example:{port(server)}"),
                parse_target(f"https://far.example:{port(secure)}"),
                parse_target("https://refused.example"),
                parse_target(address),
            ]
            way = Way(
                proxy=address.replace("//", "//ada:p%40ss@"),
                trust=authority.cert_pem.bytes().decode(),
            )
            self.assertEqual(
                await self.ask(RealNetwork(agreed, way=way), ("http", "far.example", port(server))),
                b"unknown",
            )
            self.assertTrue(
                passed[0].startswith(b"GET http://far.example:%d/x HTTP/1.1\r\n" % port(server))
            )
            self.assertIn(b"Proxy-Authorization: Basic " + base64.b64encode(b"ada:p@ss"), passed[0])
            self.assertEqual(
                await self.ask(
                    RealNetwork(agreed, way=way), ("https", "far.example", port(secure))
                ),
                b"unknown",
            )
            self.assertTrue(passed[1].startswith(b"CONNECT far.example:%d " % port(secure)))
            for origin, lines, kind in (
                (("https", "refused.example", 443), agreed, "proxy"),
                (("http", "far.example", port(server)), agreed[:3], "not-agreed"),
                (("http", "other.example", 80), agreed, "not-agreed"),
            ):
                network = RealNetwork(lines, way=way)
                with self.assertRaises(Failure) as said:
                    await network.open(origin, {})
                self.assertEqual(said.exception.kind, kind)
                await network.aclose()
            for each in (server, secure, proxy):
                each.close()

        self.perform(program)
