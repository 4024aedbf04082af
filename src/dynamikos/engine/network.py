"""The only file that opens client sockets, and the one check of agreed targets."""

import asyncio
import base64
import contextlib
import errno
import ipaddress
import os
import socket
import ssl
import tempfile
import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any
from urllib.parse import unquote, urlsplit

from dynamikos.core.plans import AgreedTarget, Way
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.connection import Arrivals, Connection
from dynamikos.engine.http.protocol import Heads
from dynamikos.engine.ports import Origin, Sessions

# what this machine has no more of: never the target's fault
OWN_LIMITS = {
    errno.EMFILE: "own-limit-descriptors",
    errno.ENFILE: "own-limit-descriptors",
    errno.EADDRNOTAVAIL: "own-limit-ports",
    errno.ENOBUFS: "own-limit-memory",
    errno.ENOMEM: "own-limit-memory",
}
METADATA = frozenset({"169.254.169.254", "fd00:ec2::254", "100.100.100.200"})


Ip = ipaddress.IPv4Address | ipaddress.IPv6Address
TRANSLATED = (ipaddress.ip_network("64:ff9b::/96"), ipaddress.ip_network("64:ff9b:1::/48"))  # RFC 6052, RFC 8215


def embedded(address: Ip) -> Ip:
    """The IPv4 address that an IPv6 one stands for (mapped, 6to4, Teredo, NAT64); else the address itself."""
    if isinstance(address, ipaddress.IPv4Address):
        return address
    inner = address.ipv4_mapped or address.sixtofour or (address.teredo[1] if address.teredo else None)
    if inner is None and any(address in each for each in TRANSLATED):
        inner = ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)
    return inner or address


def check_target(
    agreed: Iterable[AgreedTarget], origin: Origin, address: str, own_ports: frozenset[int] = frozenset()
) -> None:
    """Raises Failure("not-agreed") unless a connection to the resolved `address` for `origin` may be opened.

    Scheme, host and port must be on the list. Link-local, metadata, multicast and unspecified addresses and Dynamikos's
    own ports are never allowed; one that is not public only when the agreed line names that address, or a host that is
    not a wildcard. A line with an address of its own covers that address alone.
    """
    scheme, host, port = origin
    line = next((each for each in agreed if each.covers(scheme, host.lower().rstrip("."), port)), None)
    if line is None:
        raise Failure(
            "not-agreed", f"{scheme}://{host}:{port} is not an agreed target; an owner can add it in Settings"
        )
    try:
        resolved = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        raise Failure("not-agreed", f"{host} resolved to '{address}', which is not an address") from None
    given = resolved
    resolved = embedded(resolved)
    if str(resolved) in METADATA or resolved.is_link_local or resolved.is_unspecified or resolved.is_multicast:
        raise Failure(
            "not-agreed",
            f"{host} resolves to {resolved}, which is never a target (link-local, metadata, unspecified or multicast)",
        )
    if line.address:
        if given != ipaddress.ip_address(line.address):
            raise Failure("not-agreed", f"{host} was agreed at {line.address}, not at {given}")
    elif line.host.startswith("*.") and not (resolved.is_global and given.is_global):
        raise Failure(
            "not-agreed",
            f"{host} resolves to {given}, which is not public; name this host itself in the agreed targets",
        )
    if resolved.is_loopback and port in own_ports:
        raise Failure("not-agreed", f"{host}:{port} is Dynamikos itself")


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
    limit_s: float = 10.0,
    public_only: bool = False,
) -> Streams:
    """Connects for a person's own request that passes through the recorder. `secure`: TLS for https, with the target
    verified.
    `public_only` refuses loopback and private addresses: other machines must not reach through us what only we can
    reach.

    Raises Failure, as for any other connection: the same check of targets.
    """
    scheme, host, port = origin
    begun = time.perf_counter()
    try:
        found = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except OSError as problem:
        raise Failure("dns", f"{host} can't be resolved: {problem.strerror or problem}") from problem
    resolved = time.perf_counter()
    context = None
    if scheme == "https" and secure:
        context = ssl.create_default_context(cafile=trust)
        context.set_alpn_protocols(["http/1.1"])
    problem_: Failure | None = None
    for _, _, _, _, place in found:
        address = str(place[0])
        check_target(agreed, origin, address, own_ports)
        resolved_to = ipaddress.ip_address(address.partition("%")[0])
        if public_only and not (embedded(resolved_to).is_global and resolved_to.is_global):
            raise Failure(
                "not-agreed",
                f"{host} is {resolved_to}, inside; a proxy for other machines only leads there when the recording"
                " names it",
            )
        try:
            async with asyncio.timeout(limit_s):
                reader, writer = await asyncio.open_connection(address, port, limit=256 * 1024)
                connected = time.perf_counter()
                if context is not None:
                    await writer.start_tls(context, server_hostname=host)
                    reader._transport = writer.transport  # type: ignore[attr-defined]  # 3.11 forgets it (cpython gh-106867)
        except TimeoutError:
            problem_ = Failure("timeout-connect", f"no connection to {host}:{port} within {limit_s:g} s")
        except ssl.SSLError as wrong:
            raise Failure(
                "tls", f"{host}:{port}: {getattr(wrong, 'verify_message', '') or wrong.reason or wrong}"
            ) from wrong
        except OSError as wrong:
            problem_ = Failure("connect", f"{host}:{port}: {wrong.strerror or wrong}")
        else:
            done = time.perf_counter()
            parts = (
                round((resolved - begun) * 1e6),
                round((connected - resolved) * 1e6),
                round((done - connected) * 1e6) if context else -1,
            )
            return Streams(reader, writer, parts)
    raise problem_ or Failure("dns", f"{host} has no address")


@dataclass(frozen=True, slots=True)
class Proxy:
    """An outgoing proxy: where it is, and the header line with which it is asked."""

    origin: Origin
    header: bytes


def proxy_of(address: str) -> Proxy:
    """`http://[name:password@]host:port`. Raises Failure."""
    try:
        parts = urlsplit(address)
        port = parts.port or 3128
    except ValueError as problem:
        raise Failure("proxy", f"the proxy's address can't be read: {problem}") from problem
    if parts.scheme != "http" or not parts.hostname:
        raise Failure("proxy", "a proxy is given as http://host:port")
    header = b""
    if parts.username:
        given = f"{unquote(parts.username)}:{unquote(parts.password or '')}".encode()
        header = b"Proxy-Authorization: Basic " + base64.b64encode(given) + b"\r\n"
    return Proxy(("http", parts.hostname, port), header)


async def _join(loop: asyncio.AbstractEventLoop, sock: socket.socket, address: str, port: int) -> None:
    """Connects a socket to an address that is resolved already. Raises OSError.

    As the event loop's own, without its way through names: given as bytes, an address is not encoded as a name.
    """
    try:
        sock.connect((address.encode(), port))
        return
    except (BlockingIOError, InterruptedError):
        pass
    writable: asyncio.Future[None] = loop.create_future()
    loop.add_writer(sock, _ring, writable)
    try:
        await writable
    finally:
        loop.remove_writer(sock)
    wrong = sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
    if wrong:
        raise OSError(wrong, os.strerror(wrong))


def _ring(writable: "asyncio.Future[None]") -> None:
    if not writable.done():
        writable.set_result(None)


async def _tunnel(loop: asyncio.AbstractEventLoop, sock: socket.socket, proxy: Proxy, host: str, port: int) -> None:
    """CONNECT (RFC 9110 §9.3.6). Raises Failure."""
    there = f"{f'[{host}]' if ':' in host else host}:{port}".encode()
    await loop.sock_sendall(sock, b"CONNECT %b HTTP/1.1\r\nHost: %b\r\n%b\r\n" % (there, there, proxy.header))
    answer = b""
    while b"\r\n\r\n" not in answer:
        part = await loop.sock_recv(sock, 1)  # not a byte of what follows
        if not part or len(answer) > 16_000:
            raise Failure("proxy", f"the proxy {proxy.origin[1]}:{proxy.origin[2]} closed without an answer to CONNECT")
        answer += part
    status = answer.split(b"\r\n", 1)[0].decode("latin-1")
    if status.split(" ")[1:2] != ["200"]:
        raise Failure("proxy", f"the proxy {proxy.origin[1]}:{proxy.origin[2]} refused {host}:{port}: {status[:80]}")


class Named(str):
    """A server's name on its way through the event loop, which hands it to the context that wraps the connection: it
    brings the session to resume there, and the TLS layer back.
    """

    session: ssl.SSLSession | None
    tls: ssl.SSLObject | None

    def __new__(cls, name: str, session: ssl.SSLSession | None) -> "Named":
        made = super().__new__(cls, name)
        made.session, made.tls = session, None
        return made


class Resuming(ssl.SSLContext):
    """Resumes the session that the server's name brings (RFC 8446 §2.2, RFC 5077)."""

    def wrap_bio(
        self,
        incoming: ssl.MemoryBIO,
        outgoing: ssl.MemoryBIO,
        server_side: bool = False,
        server_hostname: Any = None,
        session: Any = None,
    ) -> Any:
        brought = server_hostname if isinstance(server_hostname, Named) else None
        made = super().wrap_bio(
            incoming, outgoing, server_side, str(server_hostname) if server_hostname is not None else None,
            session if brought is None else brought.session,
        )  # fmt: skip
        if brought is not None:
            brought.tls = made
        return made


def context_of(way: Way, key: str, trust: str | None) -> ssl.SSLContext:
    """Whom to trust, and who we are. Raises Failure for certificates that can't be read."""
    try:
        context = Resuming(ssl.PROTOCOL_TLS_CLIENT)
        given = way.trust if way.trust not in ("", "system", "anything") else None
        if trust or given:
            context.load_verify_locations(cafile=trust, cadata=given)
        else:
            context.load_default_certs(ssl.Purpose.SERVER_AUTH)
    except (ssl.SSLError, ValueError, OSError) as problem:
        raise Failure("tls", f"the environment's trusted certificates can't be read: {problem}") from problem
    if way.trust == "anything":
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    if way.certificate:
        # made for its owner only; Python's ssl reads files alone
        with tempfile.NamedTemporaryFile("w", suffix=".pem") as file:
            file.write(way.certificate.rstrip() + "\n" + key)
            file.flush()
            try:
                context.load_cert_chain(file.name)
            except (ssl.SSLError, OSError) as problem:
                raise Failure(
                    "tls",
                    f"the client certificate and its key can't be used: {getattr(problem, 'reason', '') or problem}",
                ) from problem
    context.set_alpn_protocols(["http/1.1"])
    return context


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
    ) -> None:
        """`way` says whom to trust, where hosts are and through which proxy; `key` is the client certificate's, in PEM.
        Raises Failure for certificates that can't be read.
        """
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
        self._checked: set[Origin] = set()
        self._let_pass: set[tuple[Origin, str]] = set()
        self._watcher: asyncio.Task[None] | None = None

    def open_count(self) -> int:
        return self._opened

    def check(self, origin: Origin) -> None:
        if origin not in self._checked:
            self._line(origin)
            self._checked.add(origin)

    def _line(self, origin: Origin) -> AgreedTarget:
        scheme, host, port = origin
        line = next((each for each in self._agreed if each.covers(scheme, host.lower().rstrip("."), port)), None)
        if line is None:
            check_target(self._agreed, origin, "0.0.0.0", self._own_ports)  # raises, before any name is looked up
            raise Failure("not-agreed", f"{scheme}://{host}:{port} is not an agreed target")
        return line

    async def open(self, origin: Origin, sessions: Sessions) -> Connection:
        if self._watcher is None:
            self._watcher = asyncio.create_task(self._watch(), name="time-outs")
        _, host, port = origin
        line = self._line(origin)
        begun = time.perf_counter()
        proxy = self._proxy
        if proxy is not None:  # the proxy looks the target up; it has to be agreed itself
            with contextlib.suppress(ValueError):
                check_target(self._agreed, origin, str(ipaddress.ip_address(host)), self._own_ports)
            addresses = await self._resolve(proxy.origin[1], proxy.origin[2])
        else:
            addresses = await self._resolve(line.address or self._way.hosts.get(host, host), port)
        resolved_at = time.perf_counter()
        self._turn += 1
        problem: Failure | None = None
        for offset in range(len(addresses)):
            family, address = addresses[(self._turn + offset) % len(addresses)]
            self._agree(origin if proxy is None else proxy.origin, address)
            try:
                return await self._connect(origin, family, address, begun, resolved_at, sessions.get(origin))
            except Failure as failure:
                problem = failure
        raise problem or Failure("dns", f"{host} has no address")

    def _agree(self, origin: Origin, address: str) -> None:
        """The check of agreed targets on the resolved address; what it let pass once it lets pass again."""
        if (origin, address) not in self._let_pass:
            check_target(self._agreed, origin, address, self._own_ports)
            self._let_pass.add((origin, address))

    async def _resolve(self, host: str, port: int) -> list[tuple[int, str]]:
        known = self._addresses.get((host, port))
        if known is None:
            known = asyncio.get_running_loop().create_future()
            self._addresses[(host, port)] = known
            try:
                found = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
                known.set_result([(family, str(place[0])) for family, _, _, _, place in found])
            except OSError as problem:
                del self._addresses[(host, port)]
                failure = Failure("dns", f"{host} can't be resolved: {problem.strerror or problem}")
                known.set_exception(failure)
                known.exception()  # seen: others that wait for it raise it themselves
                raise failure from problem
        return await asyncio.shield(known)

    async def _connect(
        self,
        origin: Origin,
        family: int,
        address: str,
        begun: float,
        resolved_at: float,
        session: ssl.SSLSession | None,
    ) -> Connection:
        scheme, host, port = origin
        proxy = self._proxy
        loop = asyncio.get_running_loop()
        try:
            sock = socket.socket(family, socket.SOCK_STREAM)
        except OSError as problem:
            raise Failure(
                OWN_LIMITS.get(problem.errno or 0, "own-limit-sockets"), f"no socket could be had: {problem.strerror}"
            ) from problem
        sock.setblocking(False)
        sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        phase, where = "connect", f"{host} ({address}:{port})"
        connection: Connection
        try:
            async with asyncio.timeout(self._connect_s):
                await _join(loop, sock, address, port if proxy is None else proxy.origin[2])
                if proxy is not None and scheme == "https":
                    await _tunnel(loop, sock, proxy, host, port)
                connected_at = time.perf_counter()
                phase = "tls"
                secure = self._ssl if scheme == "https" else None
                named = Named(host, session) if secure is not None else None
                _, connection = await loop.create_connection(
                    self._connection, sock=sock, ssl=secure, server_hostname=named
                )
                connection.tls = named.tls if named is not None else None
        except TimeoutError as problem:
            sock.close()
            raise Failure(f"timeout-{phase}", f"no connection to {where} within {self._connect_s:g} s") from problem
        except ssl.SSLError as problem:
            sock.close()
            raise Failure(
                "tls", f"{where}: {getattr(problem, 'verify_message', '') or problem.reason or problem}"
            ) from problem
        except OSError as problem:
            sock.close()
            number = problem.errno or 0
            known = {
                errno.ECONNREFUSED: "connect-refused",
                errno.EHOSTUNREACH: "unreachable",
                errno.ENETUNREACH: "unreachable",
            }
            kind = OWN_LIMITS.get(number) or ("tls" if phase == "tls" else known.get(number, "connect"))
            raise Failure(kind, f"{where}: {problem.strerror or problem}") from problem
        except asyncio.CancelledError:
            sock.close()
            raise
        done = time.perf_counter()
        connection.connect_parts_us = (
            round((resolved_at - begun) * 1e6),
            round((connected_at - resolved_at) * 1e6),
            round((done - connected_at) * 1e6) if scheme == "https" else -1,
        )
        if proxy is not None and scheme == "http":
            there = f"http://{f'[{host}]' if ':' in host else host}:{port}"
            connection.ask_in_full(there, proxy.header.decode("latin-1"))
        self._opened += 1
        return connection

    async def _watch(self) -> None:
        """Looks for overdue exchanges ten times a second (less often with thousands of connections): cheaper than a
        timer for each.
        """
        while True:
            await asyncio.sleep(max(0.1, len(self._links) / 20_000))
            now = time.perf_counter()
            for connection in list(self._links):
                connection.overdue(now, self._first_byte_s, self._whole_s)

    async def aclose(self) -> None:
        if self._watcher is not None:
            self._watcher.cancel()
            self._watcher = None
        for connection in list(self._links):
            connection.close()
