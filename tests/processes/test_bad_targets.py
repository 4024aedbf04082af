"""Real sockets against targets that misbehave: each is a failure of its own kind with clear words,
never a crash.
"""

import asyncio
import ssl
import tempfile
from pathlib import Path
from unittest import TestCase

import trustme

from dynamikos.core.plans import parse_target
from dynamikos.engine.clock import RealClock
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.messages import Base, Head
from dynamikos.engine.http.protocol import Reply
from dynamikos.engine.network import RealNetwork
from dynamikos.engine.testing import asked
from tests.processes.support import free_port


class BadTargets(TestCase):
    def ask(
        self,
        url: str,
        *,
        serve: bytes | None = None,
        tls: ssl.SSLContext | None = None,
        silent: bool = False,
        trust: str | None = None,
        agreed: str | None = None,
    ) -> Reply:
        """One exchange with a server that sends `serve` and closes."""
        target = parse_target(url)

        async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            await reader.readuntil(b"\r\n\r\n")
            if silent:
                await asyncio.sleep(8)
            writer.write(serve or b"")
            writer.close()

        async def program() -> Reply:
            server = (
                await asyncio.start_server(answer, "127.0.0.1", target.port, ssl=tls)
                if serve is not None
                else None
            )
            network, clock = (
                RealNetwork(
                    (parse_target(agreed or url),),
                    connect_s=3,
                    first_byte_s=1.5,
                    whole_s=3,
                    trust=trust,
                ),
                RealClock(),
            )
            try:
                link = await network.open((target.scheme, target.host, target.port), {})
                return await asked(link, Head(Base("GET", "/", "h")))
            finally:
                await network.aclose()
                clock.close()
                if server is not None:
                    server.close()

        return asyncio.run(program())

    def test_each_has_its_own_kind_and_words(self) -> None:
        authority = trustme.CA()
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        authority.issue_cert("127.0.0.1").configure_cert(context)
        fine = b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"
        local = f"http://127.0.0.1:{free_port()}"
        secure = f"https://127.0.0.1:{free_port()}"
        cases = (
            (lambda: self.ask(f"http://127.0.0.1:{free_port()}"), "connect-refused", "127.0.0.1"),
            (
                lambda: self.ask("http://nowhere.invalid"),
                "dns",
                "nowhere.invalid can't be resolved",
            ),
            (lambda: self.ask(secure, serve=fine, tls=context), "tls", "certificate"),
            (
                lambda: self.ask(local.replace("http:", "https:"), serve=fine),
                "timeout-tls",
                "no connection to 127.0.0.1",
            ),
            (
                lambda: self.ask(local, serve=b"HTTP/1.1 200 OK\r\nContent-Length: 99\r\n\r\nhalf"),
                "closed-mid-body",
                "bytes of its answer",
            ),
            (
                lambda: self.ask(local, serve=b"220 mail.example ESMTP\r\n"),
                "protocol",
                "not HTTP/1.1",
            ),
            (lambda: self.ask(local, serve=b""), "closed-early", "without an answer"),
            (
                lambda: self.ask(local, serve=fine, silent=True),
                "timeout-first-byte",
                "no first byte",
            ),
            (
                lambda: self.ask(local, agreed="http://127.0.0.1:1"),
                "not-agreed",
                "not an agreed target",
            ),
            (lambda: self.ask("http://169.254.169.254"), "not-agreed", "never a target"),
        )
        for ask, kind, words in cases:
            with self.subTest(kind, words=words), self.assertRaises(Failure) as caught:
                ask()
            self.assertEqual(caught.exception.kind, kind)
            self.assertIn(words, caught.exception.detail)

    def test_tls_with_a_trusted_authority_and_its_timings(self) -> None:
        authority = trustme.CA()
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        authority.issue_cert("127.0.0.1").configure_cert(context)
        with tempfile.TemporaryDirectory() as folder:
            trust = Path(folder) / "ca.pem"
            authority.cert_pem.write_to_path(str(trust))
            reply = self.ask(
                f"https://127.0.0.1:{free_port()}",
                serve=b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok",
                tls=context,
                trust=str(trust),
            )
        self.assertEqual((reply.status, reply.body), (200, b"ok"))
        self.assertLessEqual(reply.sent_at, reply.first_at)
