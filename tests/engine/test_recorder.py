"""Proxy and doorway between a real client and a made-up target: bytes unchanged, everything
recorded truthfully.
"""

import asyncio
import gzip
import hashlib
import ssl
import tempfile
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from unittest import IsolatedAsyncioTestCase

import trustme

from dynamikos.core.exchanges import Exchange
from dynamikos.core.plans import Way, parse_target
from dynamikos.engine.recorder.certificates import Authority
from dynamikos.engine.recorder.doorway import Doorway
from dynamikos.engine.recorder.messages import Broken, Head, framing, status_of
from dynamikos.engine.recorder.proxy import Proxy

CHUNKED = (
    b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nTransfer-Encoding:"
    b' chunked\r\n\r\n4;x=1\r\n{"a"\r\n3\r\n:1}\r\n0\r\nX-End: 1\r\n\r\n'
)
BINARY = bytes(range(256)) * 40


def answer(body: bytes, *headers: str, status: str = "200 OK") -> bytes:
    lines = "".join(f"{line}\r\n" for line in headers)
    return f"HTTP/1.1 {status}\r\nContent-Length: {len(body)}\r\n{lines}\r\n".encode() + body


class Target:
    """Answers by path; remembers raw requests."""

    def __init__(self, answers: dict[str, bytes]) -> None:
        self.answers, self.heads, self.bodies = answers, [], []  # type: ignore[var-annotated]
        self.port = 0

    async def begin(self, context: ssl.SSLContext | None = None) -> None:
        self.server = await asyncio.start_server(self._client, "127.0.0.1", 0, ssl=context)
        self.port = self.server.sockets[0].getsockname()[1]

    async def _client(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while True:
                head = await reader.readuntil(b"\r\n\r\n")
                text = head.decode("latin-1")
                length = next(
                    (
                        int(line[15:])
                        for line in text.split("\r\n")
                        if line.lower().startswith("content-length:")
                    ),
                    0,
                )
                self.heads.append(text)
                self.bodies.append(await reader.readexactly(length) if length else b"")
                path = text.split(" ")[1].partition("?")[0]
                if path == "/socket":
                    writer.write(
                        b"HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: "
                        b"Upgrade\r\n\r\n"
                    )
                    while piece := await reader.read(100):
                        writer.write(piece[::-1])
                        await writer.drain()
                    return
                if path == "/big":
                    writer.write(
                        f"HTTP/1.1 200 OK\r\nContent-Length: {100_000_000}\r\n\r\n".encode()
                    )
                    for _ in range(1000):
                        writer.write(b"z" * 100_000)
                        await writer.drain()
                    continue
                data = self.answers.get(path, answer(b"none", status="404 Not Found"))
                writer.write(data)
                await writer.drain()
                if path in ("/short", "/close"):
                    return
        except (asyncio.IncompleteReadError, OSError):
            pass
        finally:
            writer.close()


class RecorderCase(IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.recorded: list[Exchange] = []
        self.target = Target(
            {
                "/bin": answer(BINARY, "Content-Type: application/octet-stream"),
                "/chunks": CHUNKED,
                "/empty": b"HTTP/1.1 204 No Content\r\n\r\n",
                "/gz": answer(
                    gzip.compress(b"plain text"),
                    "Content-Type: text/plain",
                    "Content-Encoding: gzip",
                ),
                "/liar": answer(b"not gzip", "Content-Type: text/plain", "Content-Encoding: gzip"),
                "/latin": answer(
                    "Größe".encode("latin-1"), "Content-Type: text/html; charset=iso-8859-1"
                ),
                "/short": b"HTTP/1.1 200 OK\r\nContent-Length: 500\r\n\r\nonly this",
                "/close": b"HTTP/1.0 200 OK\r\n\r\nuntil the end",
                "/junk": b"hello\r\n\r\n",
                "/echo": answer(b"ok"),
                "/moved": answer(
                    b"",
                    "Location: /bin",
                    "Set-Cookie: a=1; Path=/; Domain=127.0.0.1; Secure; SameSite=None",
                    status="302 Found",
                ),
            }
        )
        await self.target.begin()
        self.base = f"http://127.0.0.1:{self.target.port}"
        self.folder = tempfile.TemporaryDirectory()
        self.authority = Authority(Path(self.folder.name), datetime.now(UTC))

    async def asyncTearDown(self) -> None:
        self.target.server.close()
        self.folder.cleanup()

    async def ask(
        self,
        port: int,
        data: bytes,
        *,
        context: ssl.SSLContext | None = None,
        until_close: bool = False,
    ) -> bytes:
        reader, writer = await asyncio.open_connection("127.0.0.1", port, ssl=context)
        writer.write(data)
        try:
            if until_close:
                return await asyncio.wait_for(reader.read(-1), 20)
            head = await asyncio.wait_for(reader.readuntil(b"\r\n\r\n"), 10)
            length = next(
                (
                    int(line[15:])
                    for line in head.decode("latin-1").split("\r\n")
                    if line.lower().startswith("content-length:")
                ),
                0,
            )
            return head + (await reader.readexactly(length) if length else b"")
        finally:
            writer.close()

    async def eventually(self, what: Callable[[], object]) -> None:
        for _ in range(400):
            if what():
                return
            await asyncio.sleep(0.01)
        self.fail("waited in vain")


class ProxyTests(RecorderCase):
    async def asyncSetUp(self) -> None:
        await super().asyncSetUp()
        self.proxy = Proxy((parse_target(self.base),), self.authority, self.recorded.append)
        self.port = await self.proxy.listen()

    async def asyncTearDown(self) -> None:
        await self.proxy.aclose()
        await super().asyncTearDown()

    async def through(self, path: str, body: bytes = b"", **how: Any) -> bytes:
        method = "POST" if body else "GET"
        length = f"Content-Length: {len(body)}\r\n" if body else ""
        head = (
            f"{method} {self.base}{path} HTTP/1.1\r\n"
            f"Host: 127.0.0.1:{self.target.port}\r\n"
            "Proxy-Connection: keep-alive\r\n"
            f"{length}\r\n"
        )
        return await self.ask(self.port, head.encode() + body, **how)

    async def test_no_byte_of_a_body_is_changed_and_all_is_recorded(self) -> None:
        for path, raw in (
            ("/bin", self.target.answers["/bin"]),
            ("/gz", self.target.answers["/gz"]),
            ("/liar", self.target.answers["/liar"]),
            ("/latin", self.target.answers["/latin"]),
        ):
            self.assertEqual(await self.through(path), raw, path)
        sent = BINARY * 30
        await self.through("/echo?q=1", sent)
        self.assertEqual(self.target.bodies[-1], sent)
        self.assertNotIn("roxy-", self.target.heads[-1])
        self.assertTrue(self.target.heads[-1].startswith("POST /echo?q=1 HTTP/1.1"))
        await self.eventually(lambda: len(self.recorded) == 5)
        by_path = {each.sent.url.removeprefix(self.base): each for each in self.recorded}
        self.assertEqual(by_path["/bin"].answer.body, BINARY)  # type: ignore[union-attr]
        self.assertEqual(by_path["/gz"].answer.body, b"plain text")  # type: ignore[union-attr]
        self.assertEqual(by_path["/liar"].answer.body, b"not gzip")  # type: ignore[union-attr]
        self.assertIn("kept as it came", by_path["/liar"].error)
        self.assertEqual(by_path["/echo?q=1"].sent.body, sent)
        self.assertGreater(by_path["/bin"].timings.total_us, 0)

    async def test_chunked_and_until_close(self) -> None:
        reader, writer = await asyncio.open_connection("127.0.0.1", self.port)
        writer.write(f"GET {self.base}/chunks HTTP/1.1\r\nHost: x\r\n\r\n".encode())
        self.assertEqual(await reader.readexactly(len(CHUNKED)), CHUNKED)
        writer.write(
            f"GET {self.base}/empty HTTP/1.1\r\nHost: x\r\n\r\n".encode()
        )  # the same connection goes on
        self.assertIn(b"204", await reader.readuntil(b"\r\n\r\n"))
        writer.close()
        self.assertEqual(
            await self.through("/close", until_close=True), self.target.answers["/close"]
        )
        await self.eventually(lambda: len(self.recorded) == 3)
        self.assertEqual(
            [each.answer.body for each in self.recorded if each.answer],
            [b'{"a":1}', b"", b"until the end"],
        )

    async def test_what_fails_is_recorded_as_it_failed(self) -> None:
        self.assertIn(b"only this", await self.through("/short", until_close=True))
        self.assertIn(b"not HTTP/1.1", await self.through("/junk", until_close=True))
        self.target.server.close()
        await self.target.server.wait_closed()
        self.assertIn(b"502 Bad Gateway", await self.through("/bin", until_close=True))
        await self.eventually(lambda: len(self.recorded) == 3)
        self.assertIn("491 bytes before the end", self.recorded[0].error)
        self.assertEqual(self.recorded[0].answer.body, b"only this")  # type: ignore[union-attr]
        self.assertIsNone(self.recorded[2].answer)
        self.assertIn("connect", self.recorded[2].error)

    async def test_a_hundred_megabytes_pass_and_the_record_says_how_much_it_kept(self) -> None:
        reader, writer = await asyncio.open_connection("127.0.0.1", self.port)
        writer.write(f"GET {self.base}/big HTTP/1.1\r\nHost: x\r\n\r\n".encode())
        await reader.readuntil(b"\r\n\r\n")
        total = 0
        while total < 100_000_000:
            total += len(await reader.read(1_000_000))
        writer.close()
        await self.eventually(lambda: self.recorded)
        self.assertEqual(self.recorded[0].answer.size_bytes, 100_000_000)  # type: ignore[union-attr]
        self.assertEqual(len(self.recorded[0].answer.body), 8_000_000)  # type: ignore[union-attr]
        self.assertIn("only the first 8,000,000", self.recorded[0].error)

    async def test_web_sockets_pass(self) -> None:
        reader, writer = await asyncio.open_connection("127.0.0.1", self.port)
        writer.write(
            f"GET {self.base}/socket HTTP/1.1\r\nHost: x\r\nUpgrade: websocket\r\nConnection: "
            "Upgrade\r\n\r\n".encode()
        )
        self.assertIn(b"101", await reader.readuntil(b"\r\n\r\n"))
        writer.write(b"abc")
        self.assertEqual(await reader.readexactly(3), b"cba")
        writer.close()

    async def test_a_socket_of_a_listed_host_is_recorded_as_browsers_ask_for_it(self) -> None:
        """For ws:// a browser asks a proxy for a tunnel, as for https."""
        reader, writer = await asyncio.open_connection("127.0.0.1", self.port)
        host = self.base.removeprefix("http://")
        writer.write(f"CONNECT {host} HTTP/1.1\r\nHost: {host}\r\n\r\n".encode())
        self.assertIn(b"200", await reader.readuntil(b"\r\n\r\n"))
        writer.write(
            f"GET /socket HTTP/1.1\r\nHost: {host}\r\nUpgrade: websocket\r\nConnection: "
            "Upgrade\r\n\r\n".encode()
        )
        self.assertIn(b"101", await reader.readuntil(b"\r\n\r\n"))
        writer.write(b"abc")
        self.assertEqual(await reader.readexactly(3), b"cba")
        writer.close()
        await self.eventually(lambda: self.recorded)
        self.assertEqual(self.recorded[0].sent.url, f"{self.base}/socket")
        self.assertEqual(self.recorded[0].answer.status, 101)  # type: ignore[union-attr]

    async def test_https_is_decrypted_only_for_listed_hosts(self) -> None:
        authority = trustme.CA()
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        authority.issue_cert("localhost").configure_cert(context)
        trust = Path(self.folder.name) / "target.pem"
        authority.cert_pem.write_to_path(str(trust))
        secret = Target({"/secret": answer(b"hidden" * 1000, "Content-Type: text/plain")})
        await secret.begin(context)

        async def over(proxy: Proxy, cafile: Path) -> bytes:
            port = await proxy.listen()
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            writer.write(
                f"CONNECT localhost:{secret.port} HTTP/1.1\r\nHost: localhost\r\n\r\n".encode()
            )
            self.assertIn(b"200", await reader.readuntil(b"\r\n\r\n"))
            await writer.start_tls(
                ssl.create_default_context(cafile=str(cafile)), server_hostname="localhost"
            )
            writer.write(b"GET /secret HTTP/1.1\r\nHost: localhost\r\n\r\n")
            head = await reader.readuntil(b"\r\n\r\n")
            data = await reader.readexactly(6000)
            writer.close()
            await proxy.aclose()
            return head + data

        listed = Proxy(
            (parse_target(f"https://localhost:{secret.port}"),),
            self.authority,
            self.recorded.append,
            trust=str(trust),
        )
        self.assertEqual(await over(listed, self.authority.path), secret.answers["/secret"])
        await self.eventually(lambda: self.recorded)
        self.assertEqual(self.recorded[0].sent.url, f"https://localhost:{secret.port}/secret")
        self.recorded.clear()
        other = Proxy(
            (parse_target(self.base),), self.authority, self.recorded.append, trust=str(trust)
        )
        # the target's own certificate: passed unread
        self.assertEqual(await over(other, trust), secret.answers["/secret"])
        self.assertEqual(self.recorded, [])
        unknown = Proxy(
            (parse_target(f"https://localhost:{secret.port}"),),
            self.authority,
            self.recorded.append,
        )
        port = await unknown.listen()
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        writer.write(f"CONNECT localhost:{secret.port} HTTP/1.1\r\n\r\n".encode())
        await reader.readuntil(b"\r\n\r\n")
        await writer.start_tls(
            ssl.create_default_context(cafile=str(self.authority.path)), server_hostname="localhost"
        )
        writer.write(b"GET /secret HTTP/1.1\r\nHost: localhost\r\n\r\n")
        # a certificate nobody vouches for is not accepted for the person
        self.assertIn(b"502", await reader.readuntil(b"\r\n\r\n"))
        writer.close()
        await unknown.aclose()
        self.assertIn("tls", self.recorded[0].error)
        secret.server.close()

    async def test_an_environment_says_whom_to_trust_where_hosts_are_and_which_proxy(self) -> None:
        """The same target by a name that only the environment knows; through a proxy; and with no
        trust in it, where the person reads what to do.
        """
        authority, context = trustme.CA(), ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        authority.issue_cert("staging.example").configure_cert(context)
        secret = Target({"/secret": answer(b"hidden")})
        await secret.begin(context)
        outer = Proxy((), self.authority, lambda exchange: None)
        via = await outer.listen()
        target = f"https://staging.example:{secret.port}"
        pem = authority.cert_pem.bytes().decode()
        here = {"staging.example": "127.0.0.1"}
        for way, expected in (
            (Way(trust=pem, hosts=here), b"hidden"),
            (Way(trust="anything", hosts=here), b"hidden"),
            (Way(hosts=here), b"not accepted"),
            (Way(trust=pem, proxy=f"http://127.0.0.1:{via}"), b"staging.example can't be resolved"),
        ):
            with self.subTest(trust=way.trust[:20], proxy=bool(way.proxy)):
                door = Doorway([target], "r.localhost", self.recorded.append, way=way)
                port = await door.listen()
                told = await self.ask(
                    port,
                    f"GET /secret HTTP/1.1\r\nHost: r.localhost:{port}\r\nConnection: "
                    "close\r\n\r\n".encode(),
                    until_close=True,
                )
                await door.aclose()
                if way.proxy:  # the outer proxy looks the name up, and nobody knows it
                    self.assertIn(b"refused staging.example", told)
                else:
                    self.assertIn(expected, told)
                if expected == b"not accepted":
                    self.assertIn(b"begin the recording with an environment", told)
        # who is not listed goes there directly: the outer proxy is not asked
        listed = Proxy(
            (parse_target("https://staging.example"),),
            self.authority,
            self.recorded.append,
            way=Way(proxy=f"http://127.0.0.1:{via + 1 if via < 65_535 else 1}"),  # nobody there
        )
        port = await listed.listen()
        asked = f"GET {self.base}/echo HTTP/1.1\r\nHost: x\r\n\r\n".encode()
        self.assertIn(b"ok", await self.ask(port, asked))
        await listed.aclose()
        plain = Doorway(
            [self.base],
            "r.localhost",
            self.recorded.append,
            way=Way(proxy=f"http://127.0.0.1:{via}"),
        )
        port = await plain.listen()
        request = f"GET /echo HTTP/1.1\r\nHost: r.localhost:{port}\r\n\r\n".encode()
        self.assertIn(b"ok", await self.ask(port, request))
        await plain.aclose()
        await outer.aclose()
        secret.server.close()

    async def test_numbers_that_are_none(self) -> None:
        for target in ("host:²", "host:" + "9" * 5000, "host:0", "host:65536", ":80"):
            said = await self.ask(
                self.port, f"CONNECT {target} HTTP/1.1\r\n\r\n".encode("latin-1"), until_close=True
            )
            self.assertIn(b"is not host:port", said, target[:20])
        for first in (
            "HTTP/1.1 ² OK",
            "HTTP/1.1 99 No",
            "HTTP/1.1 " + "2" * 5000,
            "HTTP/1.1",
            "SIP/2.0 200 OK",
        ):
            with self.assertRaises(Broken):
                status_of(Head(first, [], b""))
        for length in ("²", "9" * 5000, "-1", "5, 5"):
            with self.assertRaises(Broken):
                framing(
                    Head("HTTP/1.1 200 OK", [("Content-Length", length)], b""),
                    answer_to="GET",
                    status=200,
                )

    async def test_limits(self) -> None:
        self.assertIn(
            b"400",
            await self.ask(self.port, b"GET / HTTP/1.1\r\nHost: x\r\n\r\n", until_close=True),
        )
        own = await self.ask(
            self.port,
            f"GET http://127.0.0.1:{self.port}/ HTTP/1.1\r\nHost: x\r\n\r\n".encode(),
            until_close=True,
        )
        self.assertIn(b"Dynamikos itself", own)
        meta = await self.ask(
            self.port, b"CONNECT 169.254.169.254:80 HTTP/1.1\r\n\r\n", until_close=True
        )
        self.assertIn(b"never a target", meta)
        guarded = Proxy(
            (parse_target(self.base),), self.authority, self.recorded.append, credentials="ada:word"
        )
        port = await guarded.listen()
        self.assertIn(
            b"407",
            await self.ask(
                port, f"GET {self.base}/echo HTTP/1.1\r\nHost: x\r\n\r\n".encode(), until_close=True
            ),
        )
        given = await self.ask(
            port,
            f"GET {self.base}/echo HTTP/1.1\r\nHost: x\r\nProxy-Authorization: Basic "
            "YWRhOndvcmQ=\r\n\r\n".encode(),
        )
        self.assertIn(b"ok", given)
        self.assertNotIn("uthorization", self.target.heads[-1])
        await guarded.aclose()

    async def test_the_authority_is_kept_and_its_key_is_nobody_elses(self) -> None:
        again = Authority(Path(self.folder.name), datetime.now(UTC))
        self.assertEqual(again.pem(), self.authority.pem())
        self.assertEqual((Path(self.folder.name) / "authority.key").stat().st_mode & 0o777, 0o600)
        later = Authority(Path(self.folder.name), datetime(2100, 1, 1, tzinfo=UTC))
        self.assertNotEqual(later.pem(), self.authority.pem())


class DoorwayTests(RecorderCase):
    async def door(
        self, page: bytes, *headers: str, path: str = "/page", more: list[str] | None = None
    ) -> tuple[Doorway, Callable[..., Awaitable[bytes]]]:
        self.target.answers[path] = answer(page, *headers)
        doorway = Doorway([self.base, *(more or [])], "r-abc123.localhost", self.recorded.append)
        port = await doorway.listen()
        self.addAsyncCleanup(doorway.aclose)

        async def get(
            path: str, *lines: str, body: bytes = b"", host: str = "r-abc123.localhost"
        ) -> bytes:
            extra = "".join(f"{line}\r\n" for line in lines) + (
                f"Content-Length: {len(body)}\r\n" if body else ""
            )
            return await self.ask(
                port,
                f"{'POST' if body else 'GET'} {path} HTTP/1.1\r\nHost: "
                f"{host}:{port}\r\n{extra}\r\n".encode()
                + body,
            )

        return doorway, get

    async def test_addresses_policies_and_cookies_are_rewritten_and_the_recording_is_original(
        self,
    ) -> None:
        other = "https://img.ferries.example"
        page = (
            f'<a href="{self.base}/x">a</a><a href="//127.0.0.1:{self.target.port}/y">b</a><script '
            'src="/s.js"'
            ' integrity="sha256-x"></script><img '
            f'src="{other}/i.png"><p>{self.base}0/no</p>'.encode()
        )
        doorway, get = await self.door(
            page,
            "Content-Type: text/html",
            "Content-Security-Policy: default-src 'none'",
            "Strict-Transport-Security: max-age=1",
            "Set-Cookie: s=1; Domain=127.0.0.1; Secure; Path=/",
            more=[other],
        )
        door = doorway.address()
        got = (
            await get(
                "/page",
                f"Referer: {door}/from",
                "Cookie: s=1; dynamikos-0a1b2c3d=never",
                "Accept-Encoding: gzip, sdch",
            )
        ).decode()
        self.assertIn(f'<a href="{door}/x">', got)
        self.assertIn(f'<a href="{door.partition(":")[2]}/y">', got)
        self.assertIn(f'<img src="{doorway.address(1)}/i.png">', got)
        self.assertIn(f"{self.base}0/no", got)  # another port is another place
        for gone in (
            "integrity",
            "Content-Security-Policy",
            "Strict-Transport",
            "Domain=",
            "Secure",
        ):
            self.assertNotIn(gone, got)
        head = self.target.heads[-1]
        self.assertIn(f"Host: 127.0.0.1:{self.target.port}", head)
        self.assertIn(f"Referer: {self.base}/from", head)
        self.assertIn("Cookie: s=1\r\n", head)
        self.assertNotIn("dynamikos", head)
        recorded = self.recorded[0]
        self.assertEqual(recorded.sent.url, f"{self.base}/page")
        self.assertEqual(recorded.answer.body, page)  # type: ignore[union-attr]
        self.assertTrue(recorded.answer.header("content-security-policy"))  # type: ignore[union-attr]

    async def test_only_this_products_cookies_are_kept_apart_and_by_their_whole_name(self) -> None:
        mine = (
            "dynamikos",
            "dynamikos-form",
            "dynamikos-theme",
            "dynamikos-0a1b2c3d",
            "dynamikos-0a1b2c3d-form",
        )
        theirs = (
            "sessionid",
            "csrftoken",
            "theme",
            "themepark",
            "dynamikosx",
            "sessionid2",
            "dynamikos-shop",
        )
        lines = [f"Set-Cookie: {name}=of-target; Path=/; HttpOnly" for name in (*mine, *theirs)]
        _, get = await self.door(b"x", "Content-Type: text/html", *lines)
        got = (
            await get(
                "/page", "Cookie: " + "; ".join(f"{name}=of-browser" for name in (*mine, *theirs))
            )
        ).decode()
        head = self.target.heads[-1]
        for name in theirs:
            self.assertIn(f"Set-Cookie: {name}=of-target; Path=/; HttpOnly\r\n", got)
            self.assertRegex(head, rf"[ ;]{name}=of-browser")
        for name in mine:
            self.assertNotIn(f"{name}=of-target", got)
            self.assertNotRegex(head, rf"[ ;]{name}=of-browser")

    async def test_redirects_forms_and_json_come_home(self) -> None:
        doorway, get = await self.door(
            f'{{"next":"{self.base.replace("/", chr(92) + "/")}\\/z"}}'.encode(),
            "Content-Type: application/json",
        )
        door = doorway.address()
        self.target.answers["/go"] = answer(
            b"", f"Location: {self.base}/page?back={self.base}", status="302 Found"
        )
        self.assertIn(f"Location: {door}/page?back={door}".encode(), await get("/go"))
        self.assertIn(door.replace("/", "\\/").encode(), await get("/page"))
        sent = f"return_to={door.replace(':', '%3A').replace('/', '%2F')}%2Fhome&a=1".encode()
        await get("/echo", "Content-Type: application/x-www-form-urlencoded", body=sent)
        home = self.base.replace(":", "%3A").replace("/", "%2F")
        self.assertEqual(self.target.bodies[-1].decode(), f"return_to={home}%2Fhome&a=1")
        self.assertEqual(self.recorded[-1].sent.body, self.target.bodies[-1])

    async def test_pictures_pass_untouched_and_compressed_texts_arrive(self) -> None:
        _, get = await self.door(
            gzip.compress(f"<p>{self.base}</p>".encode()),
            "Content-Type: text/html",
            "Content-Encoding: gzip",
        )
        self.assertEqual(
            hashlib.sha256((await get("/bin")).partition(b"\r\n\r\n")[2]).digest(),
            hashlib.sha256(BINARY).digest(),
        )
        self.assertIn(b"<p>http://r-abc123.localhost", await get("/page"))
        self.assertIn("Größe".encode("latin-1"), await get("/latin"))
        self.assertIn(b"not gzip", await get("/liar"))

    async def test_other_names_and_a_dead_target(self) -> None:
        doorway, get = await self.door(b"x")
        self.assertIn(b"421", await get("/page", host="dynamikos.localhost"))
        self.target.server.close()
        await self.target.server.wait_closed()
        self.assertIn(b"502", await get("/page"))
        self.assertIn("connect", self.recorded[-1].error.lower())
        self.assertTrue(doorway.address().startswith("http://r-abc123.localhost:"))
