"""The only file that opens client sockets; the check of agreed targets is made here, for each of
them.
"""

import asyncio
import base64
import contextlib
import datetime
import errno
import ipaddress
import socket
import ssl
import time
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any
from urllib.parse import unquote, urlsplit
from weakref import WeakKeyDictionary

from cryptography.x509 import load_der_x509_certificate

from dynamikos.core.plans import AgreedTarget, Way
from dynamikos.core.ports import port_of
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.connection import Arrivals, Connection
from dynamikos.engine.http.protocol import Heads
from dynamikos.engine.http.shaping import Line, Shaped
from dynamikos.engine.ports import Origin, Sessions
from dynamikos.engine.sockets import Sockets
from dynamikos.engine.targets import check_target, embedded
from dynamikos.engine.tls import TICKET, Ticket, context_of

# what this machine has no more of: never the target's fault
OWN_LIMITS = {
    errno.EMFILE: "own-limit-descriptors",
    errno.ENFILE: "own-limit-descriptors",
    errno.EADDRNOTAVAIL: "own-limit-ports",
    errno.ENOBUFS: "own-limit-memory",
    errno.ENOMEM: "own-limit-memory",
}

REFUSALS = {
    errno.ECONNREFUSED: "connect-refused",
    errno.EHOSTUNREACH: "unreachable",
    errno.ENETUNREACH: "unreachable",
}


@dataclass(slots=True)
class Streams:
    """A connection of the recorder to a target, as asyncio streams, with its parts in µs
    (dns, connect, ssl; −1 none).
    """

    reader: asyncio.StreamReader
    writer: asyncio.StreamWriter
    parts_us: tuple[int, int, int]


async def open_streams(
    agreed: Sequence[AgreedTarget],
    origin: Origin,
    own_ports: frozenset[int],
    *,
    secure: bool = True,
    trust: str | None = None,
    way: Way | None = None,
    limit_s: float = 10.0,
    public_only: bool = False,
    there: str = "",
) -> Streams:
    """Connects for a person's own request that passes through the recorder. `secure`: TLS for
    https, with the target verified as `way` says, which also says where hosts are and through which
    proxy. `there` is where the host is, instead of looking it up. `public_only` refuses loopback
    and private addresses: other machines must not reach through us what only we can reach.

    Raises Failure, as for any other connection: the same check of targets.
    """
    scheme, host, port = origin
    way = way or Way()
    proxy = proxy_of(way.proxy) if way.proxy else None
    if proxy is not None:
        _verify_literal(agreed, origin, own_ports)
        there, there_port = proxy.origin[1:]
    else:
        there, there_port = there or way.hosts.get(host, host), port
    begun = time.perf_counter()
    found = await _looked_up(there, there_port)
    resolved = time.perf_counter()
    context = context_of(way, "", trust) if scheme == "https" and secure else None
    targets, asked = (
        (agreed, origin) if proxy is None else ((*agreed, _as_target(proxy)), proxy.origin)
    )
    last: Failure | None = None
    for family, address in found:
        check_target(targets, asked, address, own_ports)  # a proxy looks the host up by itself
        if public_only:
            _only_public(host, address)
        try:
            async with asyncio.timeout(limit_s):
                at = (family, address, there_port)
                reader, writer, connected = await _stream_to(at, origin, proxy, context)
        except TimeoutError:
            last = Failure(
                "timeout-connect", f"no connection to {host}:{port} within {limit_s:g} s"
            )
        except ssl.SSLError as wrong:
            raise Failure("tls", f"{host}:{port}: {_tls_problem(wrong)}") from wrong
        except OSError as wrong:
            last = Failure("connect", f"{host}:{port}: {wrong.strerror or wrong}")
        else:
            parts = (resolved - begun, connected - resolved, time.perf_counter() - connected)
            dns, connect, tls = (round(part * 1e6) for part in parts)
            return Streams(reader, writer, (dns, connect, tls if context else -1))
    raise last or Failure("dns", f"{host} has no address")


def _verify_literal(
    agreed: Sequence[AgreedTarget], origin: Origin, own_ports: frozenset[int]
) -> None:
    """The check of a target that a proxy will look up: of a name that is left to it, of an address
    it is made here. Raises Failure.
    """
    with contextlib.suppress(ValueError):
        check_target(agreed, origin, str(ipaddress.ip_address(origin[1])), own_ports)


async def _looked_up(host: str, port: int) -> list[tuple[int, str]]:
    """(family, address) each. Raises Failure."""
    loop = asyncio.get_running_loop()
    try:
        found = await loop.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except OSError as problem:
        raise Failure(
            "dns", f"{host} can't be resolved: {problem.strerror or problem}"
        ) from problem
    return [(family, str(place[0])) for family, _, _, _, place in found]


async def _stream_to(
    at: tuple[int, str, int], origin: Origin, proxy: "Proxy | None", context: ssl.SSLContext | None
) -> tuple[asyncio.StreamReader, asyncio.StreamWriter, float]:
    """(reader, writer, when it was connected) of a connection to an address (family, address,
    port), through the proxy that may be there, with TLS where a `context` is given.
    """
    sock = await _joined(*at)
    try:
        if proxy is not None:
            await _tunnel(asyncio.get_running_loop(), sock, proxy, *origin[1:])
        reader, writer = await asyncio.open_connection(sock=sock, limit=256 * 1024)
    except BaseException:
        sock.close()
        raise
    connected = time.perf_counter()
    if context is not None:
        await writer.start_tls(context, server_hostname=origin[1])
        reader._transport = writer.transport  # type: ignore[attr-defined]  # 3.11 forgets it (cpython gh-106867)
    return reader, writer, connected


def _as_target(proxy: "Proxy") -> AgreedTarget:
    _, host, port = proxy.origin
    return AgreedTarget(scheme="http", host=host, port=port)


async def _joined(family: int, address: str, port: int) -> socket.socket:
    """A connected socket that does not block."""
    sock = _new_socket(family, None)
    try:
        await asyncio.get_running_loop().sock_connect(sock, (address, port))
    except BaseException:
        sock.close()
        raise
    return sock


def _only_public(host: str, address: str) -> None:
    """Raises Failure for loopback and private addresses."""
    found = ipaddress.ip_address(address.partition("%")[0])
    if not (embedded(found).is_global and found.is_global):
        raise Failure(
            "not-agreed",
            f"{host} is {found}, inside; a proxy for other machines only leads there when the "
            "recording names it",
        )


@dataclass(frozen=True, slots=True)
class Proxy:
    """An outgoing proxy: where it is, and the header line with which it is asked."""

    origin: Origin
    header: bytes


def proxy_of(address: str) -> Proxy:
    """`http://[name:password@]host:port`. Raises Failure."""
    try:
        parts = urlsplit(address)
        port = port_of(parts, 3128)
    except ValueError as problem:
        raise Failure("proxy", f"the proxy's address can't be read: {problem}") from problem
    if parts.scheme != "http" or not parts.hostname:
        raise Failure("proxy", "a proxy is given as http://host:port")
    header = b""
    if parts.username:
        given = f"{unquote(parts.username)}:{unquote(parts.password or '')}".encode()
        header = b"Proxy-Authorization: Basic " + base64.b64encode(given) + b"\r\n"
    return Proxy(("http", parts.hostname, port), header)


async def _tunnel(
    loop: asyncio.AbstractEventLoop, sock: socket.socket, proxy: Proxy, host: str, port: int
) -> None:
    """CONNECT (RFC 9110 §9.3.6). Raises Failure."""
    there = f"{_in_brackets(host)}:{port}".encode()
    await loop.sock_sendall(
        sock, b"CONNECT %b HTTP/1.1\r\nHost: %b\r\n%b\r\n" % (there, there, proxy.header)
    )
    answer = b""
    while b"\r\n\r\n" not in answer:
        part = await loop.sock_recv(sock, 1)  # not a byte of what follows
        if not part or len(answer) > 16_000:
            raise Failure(
                "proxy",
                f"the proxy {proxy.origin[1]}:{proxy.origin[2]} closed without an answer to "
                "CONNECT",
            )
        answer += part
    status = answer.split(b"\r\n", 1)[0].decode("latin-1")
    if status.split(" ")[1:2] != ["200"]:
        raise Failure(
            "proxy",
            f"the proxy {proxy.origin[1]}:{proxy.origin[2]} refused {host}:{port}: {status[:80]}",
        )


@dataclass(slots=True)
class _Dial:
    """A connection that is being opened to one address of an origin; instants are those of
    `time.perf_counter`.
    """

    origin: Origin
    family: int
    address: str
    begun: float
    resolved_at: float
    session: ssl.SSLSession | None  # of an earlier connection, to be resumed
    connected_at: float = 0.0
    phase: str = "connect"  # or "tls"

    @property
    def scheme(self) -> str:
        return self.origin[0]

    @property
    def host(self) -> str:
        return self.origin[1]

    @property
    def port(self) -> int:
        return self.origin[2]

    def parts_us(self, done: float) -> tuple[int, int, int]:
        """(name looked up, connected, TLS agreed), µs; −1 without TLS."""
        return (
            round((self.resolved_at - self.begun) * 1e6),
            round((self.connected_at - self.resolved_at) * 1e6),
            round((done - self.connected_at) * 1e6) if self.scheme == "https" else -1,
        )

    def failure(self, problem: OSError, limit_s: float) -> Failure:
        """What went wrong, as it is counted and said."""
        where = f"{self.host} ({self.address}:{self.port})"
        if isinstance(problem, TimeoutError):
            return Failure(
                f"timeout-{self.phase}", f"no connection to {where} within {limit_s:g} s"
            )
        if isinstance(problem, ssl.SSLError):
            return Failure("tls", f"{where}: {_tls_problem(problem)}")
        number = problem.errno or 0
        kind = OWN_LIMITS.get(number) or (
            "tls" if self.phase == "tls" else REFUSALS.get(number, "connect")
        )
        return Failure(kind, f"{where}: {problem.strerror or problem}")


def _new_socket(family: int, line: Line | None) -> socket.socket:
    """One that does not block. Raises Failure where this machine has no more of them."""
    try:
        sock = socket.socket(family, socket.SOCK_STREAM | socket.SOCK_NONBLOCK)
    except OSError as problem:
        kind = OWN_LIMITS.get(problem.errno or 0, "own-limit-sockets")
        raise Failure(kind, f"no socket could be had: {problem.strerror}") from problem
    if line is not None:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, line.buffer)
    return sock


def _tls_problem(problem: ssl.SSLError) -> str:
    return str(getattr(problem, "verify_message", "") or problem.reason or problem)


def _in_brackets(host: str) -> str:
    """As an authority has it (RFC 3986 §3.2.2)."""
    return f"[{host}]" if ":" in host else host


class RealNetwork:
    """Opens connections. Addresses are resolved once and used in turn; limits are seconds."""

    def __init__(
        self,
        agreed: Sequence[AgreedTarget],
        *,
        own_ports: frozenset[int] = frozenset(),
        connect_s: float = 10.0,
        first_byte_s: float = 60.0,
        whole_s: float = 120.0,
        trust: str | None = None,
        way: Way | None = None,
        key: str = "",
        distance_s: float = 0.0,
    ) -> None:
        """`way` says whom to trust, where hosts are and through which proxy; `key` is the client
        certificate's, in PEM; `distance_s` is a simulated round trip that everything takes longer.
        Raises Failure for certificates that can't be read.
        """
        self._distance_s, self._farther = distance_s, WeakKeyDictionary[Line, Line]()
        self._far = Line.of_distance(distance_s) if distance_s else None
        self._way = way or Way()
        self._proxy = proxy_of(self._way.proxy) if self._way.proxy else None
        self._agreed = tuple(agreed)
        self._own_ports = own_ports
        self._connect_s, self._first_byte_s, self._whole_s = connect_s, first_byte_s, whole_s
        self._links: set[Connection] = set()
        self._heads, self._arrivals = Heads(), Arrivals()
        self._addresses: dict[tuple[str, int], asyncio.Future[list[tuple[int, str]]]] = {}
        self._turn = 0
        self._opened = 0
        self._connection: Any = partial(Connection, self._links, self._heads, self._arrivals)
        self._ssl = context_of(self._way, key, trust)
        self._lines: dict[Origin, AgreedTarget] = {}
        self._let_pass: set[tuple[Origin, str]] = set()
        self._watcher: asyncio.Task[None] | None = None
        self._sockets: Sockets | None = None

    def open_count(self) -> int:
        return self._opened

    def check(self, origin: Origin) -> None:
        self._line(origin)

    def _line(self, origin: Origin) -> AgreedTarget:
        """The line of the agreed targets that covers it; what was found once is found again. Raises
        Failure.
        """
        line = self._lines.get(origin)
        if line is None:
            scheme, host, port = origin
            line = next(
                (
                    each
                    for each in self._agreed
                    if each.covers(scheme, host.lower().rstrip("."), port)
                ),
                None,
            )
            if line is None:
                check_target(
                    self._agreed, origin, "0.0.0.0", self._own_ports
                )  # raises, before a name is looked up
                raise Failure("not-agreed", f"{scheme}://{host}:{port} is not an agreed target")
            self._lines[origin] = line
        return line

    async def open(
        self, origin: Origin, sessions: Sessions, line: Line | None = None
    ) -> Connection:
        if self._watcher is None:
            self._watcher = asyncio.create_task(self._watch(), name="time-outs")
        if self._far is not None:
            line = self._from_afar(line)
        _, host, port = origin
        agreed = self._line(origin)
        begun = time.perf_counter()
        proxy = self._proxy
        if proxy is not None:  # the proxy looks the target up; it has to be agreed itself
            _verify_literal(self._agreed, origin, self._own_ports)
            addresses = await self._resolve(proxy.origin[1], proxy.origin[2])
        else:
            addresses = await self._resolve(agreed.address or self._way.hosts.get(host, host), port)
        resolved_at = time.perf_counter()
        self._turn += 1
        problem: Failure | None = None
        for offset in range(len(addresses)):
            family, address = addresses[(self._turn + offset) % len(addresses)]
            self._agree(origin if proxy is None else proxy.origin, address)
            try:
                dial = _Dial(origin, family, address, begun, resolved_at, sessions.get(origin))
                return await self._connect(dial, line)
            except Failure as failure:
                problem = failure
        raise problem or Failure("dns", f"{host} has no address")

    def _from_afar(self, line: Line | None) -> Line | None:
        """A user's line, which its connections share, with the distance besides."""
        if line is None:
            return self._far
        if line not in self._farther:
            self._farther[line] = line.further(self._distance_s)
        return self._farther[line]

    def _agree(self, origin: Origin, address: str) -> None:
        """The check of agreed targets on the resolved address; what it let pass once it lets pass
        again.
        """
        if (origin, address) not in self._let_pass:
            check_target(self._agreed, origin, address, self._own_ports)
            self._let_pass.add((origin, address))

    async def _resolve(self, host: str, port: int) -> list[tuple[int, str]]:
        known = self._addresses.get((host, port))
        if known is None:
            known = asyncio.get_running_loop().create_future()
            self._addresses[(host, port)] = known
            try:
                known.set_result(await _looked_up(host, port))
            except Failure as failure:
                del self._addresses[(host, port)]
                known.set_exception(failure)
                known.exception()  # seen: others that wait for it raise it themselves
                raise
        return known.result() if known.done() else await asyncio.shield(known)

    async def _connect(self, dial: "_Dial", line: Line | None) -> Connection:
        sock = _new_socket(dial.family, line)
        if self._sockets is None:
            self._sockets = Sockets(self._connect_s)
        sockets = self._sockets
        try:
            joined = sockets.begin(
                sock, dial.address, dial.port if self._proxy is None else self._proxy.origin[2]
            )
            if joined is not None:
                await joined
                sockets.joined(sock)
            if dial.scheme == "http" and line is None:
                dial.connected_at = time.perf_counter()
                connection: Connection = self._connection()
                connection.connection_made(sockets.plain(sock, connection))
            else:
                sockets.let_go(sock)
                connection = await self._negotiated(sock, dial, line)
        except BaseException as problem:
            sockets.let_go(sock)
            sock.close()
            if isinstance(problem, OSError):
                raise dial.failure(problem, self._connect_s) from problem
            raise
        connection.connect_parts_us = dial.parts_us(time.perf_counter())
        if self._proxy is not None and dial.scheme == "http":
            there = f"http://{_in_brackets(dial.host)}:{dial.port}"
            connection.ask_in_full(there, self._proxy.header.decode("latin-1"))
        self._opened += 1
        return connection

    async def _negotiated(
        self, sock: socket.socket, dial: "_Dial", line: Line | None
    ) -> Connection:
        """What follows on a connected socket before a request can go: the proxy's tunnel, the
        line's round trip, TLS; all of it within what is left of the time for connecting.
        """
        left_s = self._connect_s - (time.perf_counter() - dial.resolved_at)
        async with asyncio.timeout(max(0.0, left_s)):
            if self._proxy is not None and dial.scheme == "https":
                await _tunnel(asyncio.get_running_loop(), sock, self._proxy, dial.host, dial.port)
            if line is not None:
                await asyncio.sleep(line.trip_s())
            dial.connected_at = time.perf_counter()
            dial.phase = "tls"
            return await self._dressed(
                sock, dial.host if dial.scheme == "https" else None, dial.session, line
            )

    async def _dressed(
        self,
        sock: socket.socket,
        name: str | None,
        session: ssl.SSLSession | None,
        line: Line | None,
    ) -> Connection:
        """A connection over a connected socket, with TLS to `name`, and shaped as a `line`, where
        those are given.
        """
        loop, secure = asyncio.get_running_loop(), self._ssl if name is not None else None
        ticket = Ticket(session) if secure is not None else None
        TICKET.set(ticket)
        connection: Connection
        if line is None:
            _, connection = await loop.create_connection(
                self._connection, sock=sock, ssl=secure, server_hostname=name
            )
        else:
            made = partial(Shaped, self._connection(), line)
            _, shaped = await loop.create_connection(
                made, sock=sock, ssl=secure, server_hostname=name
            )
            connection = shaped.inner
            if ticket is not None and ticket.tls is not None:
                for _ in range(1 if ticket.tls.version() == "TLSv1.3" else 2):
                    await asyncio.sleep(line.trip_s())
        connection.tls = ticket.tls if ticket is not None else None
        return connection

    async def knock(self, origin: Origin) -> tuple[float, float | None]:
        """Connects once and hangs up: (seconds it took, days until the certificate ends, None
        without TLS). Raises Failure.
        """
        begun = time.perf_counter()
        link = await self.open(origin, {})
        took = time.perf_counter() - begun
        secure = link.tls
        der = secure.getpeercert(binary_form=True) if secure is not None else None
        link.close()
        if not der:
            return took, None
        ends = load_der_x509_certificate(der).not_valid_after_utc
        return took, (ends - datetime.datetime.now(datetime.UTC)).total_seconds() / 86_400

    async def _watch(self) -> None:
        """Looks for overdue exchanges ten times a second (less often with thousands of
        connections): cheaper than a timer for each.
        """
        while True:
            await asyncio.sleep(max(0.1, len(self._links) / 20_000))
            now = time.perf_counter()
            if self._sockets is not None:
                self._sockets.overdue(now)
            for connection in list(self._links):
                connection.overdue(now, self._first_byte_s, self._whole_s)

    async def aclose(self) -> None:
        if self._watcher is not None:
            self._watcher.cancel()
            self._watcher = None
        for connection in list(self._links):
            connection.close()
        if self._sockets is not None:
            self._sockets.close()
            self._sockets = None
