"""Reads HTTP/1.1 replies from bytes (sans-IO, on httptools)."""

import re
from collections.abc import Sequence

import httptools

from dynamikos.engine.failures import Failure


class Reply:
    """A reply as it came in. Instants are the clock's seconds; `body` is empty unless it was to be kept."""

    status = 0
    headers: Sequence[tuple[bytes, bytes]] = ()
    body = b""
    body_bytes = 0  # all that came, without chunk framing; what is kept of them is `body`
    bytes_in = bytes_out = 0
    sent_at = first_at = last_at = 0.0
    keep_alive = True
    reused = False
    cookies: Sequence[bytes] | None = None
    opened_us: tuple[int, int, int] | None = None  # dns, connect, ssl, when the connection was opened for it
    resumed = False  # whether its TLS session was that of an earlier connection

    _encoding: bytes | None = None

    @property
    def encoding(self) -> bytes:
        """The content encodings of all headers of that name, looked for once; empty when there are none (RFC 9110
        §5.3).
        """
        if self._encoding is None:
            self._encoding = b", ".join(value for key, value in self.headers if key.lower() == b"content-encoding")
        return self._encoding

    @property
    def cut(self) -> bool:
        """Whether more of the body came than was kept."""
        return len(self.body) < self.body_bytes

    def header(self, name: bytes) -> bytes | None:
        """The first value of a header; `name` in lower case."""
        for key, value in self.headers:
            if key.lower() == name:
                return value
        return None


class Heads:
    """Heads seen before, so that the same bytes are not parsed twice: head → (length of the body, status, headers,
    cookies, content encoding).

    Only what was framed by one Content-Length, came in one piece and leaves the connection open is remembered (RFC 9112
    §6).
    """

    def __init__(self) -> None:
        self.known: dict[bytes, tuple[int, int, Sequence[tuple[bytes, bytes]], Sequence[bytes] | None, bytes]] = {}
        self.plain: dict[bytes, int] = {}  # those that ask for nothing (below 300, no cookie): length of the body

    def learn(self, data: bytes, reply: Reply) -> None:
        """Remembers the head of a complete reply that came as `data`, if it is of the simple kind."""
        lengths = [value for name, value in reply.headers if name.lower() == b"content-length"]
        if (
            reply.encoding
            or reply.status < 200
            or reply.status in (204, 304)
            or not reply.keep_alive
            or len(lengths) != 1
            or not lengths[0].isdigit()
        ):
            return
        if any(name.lower() in (b"transfer-encoding", b"upgrade") for name, _ in reply.headers):
            return
        end = data.find(b"\r\n\r\n") + 4
        if end < 4 or end + int(lengths[0]) != len(data):
            return
        if len(self.known) >= 512:
            self.known.clear()
            self.plain.clear()
        self.known[data[:end]] = (int(lengths[0]), reply.status, tuple(reply.headers), reply.cookies, reply.encoding)
        if reply.status < 300 and reply.cookies is None:
            self.plain[data[:end]] = int(lengths[0])


MAX_KEPT = 16_000_000
MAX_HEAD = 256_000
FOLD = re.compile(rb"\r\n[ \t]+")


class ReplyReader:
    """One reply after another on a connection. `feed` returns the reply when it is complete.

    `interim` says that nothing but interim answers (RFC 9110 §15.2) has come yet.
    """

    __slots__ = (
        "_chunks",
        "_done",
        "_framed",
        "_head",
        "_head_only",
        "_headers",
        "_keep",
        "_kept_bytes",
        "_parser",
        "_until_close",
        "continued",
        "interim",
        "reply",
    )

    def __init__(self) -> None:
        self._parser = httptools.HttpResponseParser(self)
        self._headers: list[tuple[bytes, bytes]] = []
        self.begin(head_only=False, keep=False)

    def begin(self, *, head_only: bool, keep: bool) -> None:
        """Prepares for the next reply. `head_only` for HEAD; `keep` keeps the body (that of a status ≥ 400, and an
        encoded one, always).
        """
        self.reply = Reply()
        self.reply.headers = self._headers = []
        self._chunks: list[bytes] = []
        self._kept_bytes = 0
        self._head: bytearray | None = bytearray()
        self._done = self.interim = self.continued = False
        self._head_only = head_only
        self._keep = keep
        self._until_close = False
        self._framed = False

    def feed(self, data: bytes) -> Reply | None:
        """Raises Failure("protocol") for what is not HTTP."""
        self.reply.bytes_in += len(data)
        if self._head is not None:
            self._head += data
            if len(self._head) > MAX_HEAD and b"\r\n\r\n" not in self._head[:MAX_HEAD]:
                raise Failure("protocol", f"the head of the answer has more than {MAX_HEAD:,} bytes")
        try:
            self._parser.feed_data(data)
        except httptools.HttpParserUpgrade:
            self._finish()
        except httptools.HttpParserError as problem:
            # what follows the answer is none: it is complete, and the connection can't be trusted any more
            if self._done:
                self.reply.keep_alive = False
            elif not self._unfolded():
                raise Failure(
                    "protocol", f"the answer is not HTTP/1.1: {problem}; it begins with {data[:60]!r}"
                ) from problem
        return self.reply if self._done else None

    def _unfolded(self) -> bool:
        """Reads a head with folded lines once more, each fold a space (RFC 9112 §5.2); false where there is none."""
        head = bytes(self._head or b"")
        end = head.find(b"\r\n\r\n")
        plain = FOLD.sub(b" ", head[:end] if end >= 0 else head) + (head[end:] if end >= 0 else b"")
        if plain == head:
            return False
        self._parser = httptools.HttpResponseParser(self)
        self.reply.headers = self._headers = []
        self.reply.cookies, self._framed = None, False
        self._head = None if end >= 0 else bytearray(plain)
        try:
            self._parser.feed_data(plain)
        except httptools.HttpParserError:
            return self._done
        return True

    def end_of_stream(self) -> Reply | None:
        """The server closed: a complete reply if its end was to be the close (RFC 9112 §6.3), else None."""
        if self._until_close and not self._done:
            self._finish()
            self.reply.keep_alive = False
            return self.reply
        return None

    @property
    def started(self) -> bool:
        return self.reply.bytes_in > 0

    # httptools' callbacks --------------------------------------------------------------------------

    def on_message_begin(self) -> None:
        if self._done:  # a second answer to one request
            self.reply.keep_alive = False
        self.interim = False

    def on_header(self, name: bytes, value: bytes) -> None:
        if not self._done:
            reply = self.reply
            self._headers.append((name, value))
            size = len(name)
            if size == 10 and name.lower() == b"set-cookie":
                reply.cookies = [*(reply.cookies or ()), value]
            elif (size == 14 and name.lower() == b"content-length") or (
                size == 17 and name.lower() == b"transfer-encoding"
            ):
                self._framed = True
            elif size == 16 and name.lower() == b"content-encoding":
                self._keep = True  # whether it is what it says is seen when it is undone

    def on_headers_complete(self) -> None:
        if self._done:
            return
        reply = self.reply
        status = self._parser.get_status_code()
        if 100 <= status < 200 and status != 101:  # interim (RFC 9110 §15.2): the final one follows
            reply.headers = self._headers = []
            self._framed, self.interim = False, True
            self.continued = self.continued or status == 100
            return
        self._head = None
        reply.status = status
        reply.keep_alive = self._parser.should_keep_alive()
        if status >= 400:
            self._keep = True
        if self._head_only:
            self._finish()
            self._parser = httptools.HttpResponseParser(self)
            return
        if status not in (204, 304):
            self._until_close = not self._framed

    def on_body(self, body: bytes) -> None:
        if self._done:
            return
        self.reply.body_bytes += len(body)
        if self._keep and self._kept_bytes < MAX_KEPT:
            self._chunks.append(body[: MAX_KEPT - self._kept_bytes])
            self._kept_bytes += len(body)

    def on_message_complete(self) -> None:
        if self.reply.status and not self._done:
            self._finish()

    def _finish(self) -> None:
        self._done = True
        if self._chunks:
            self.reply.body = self._chunks[0] if len(self._chunks) == 1 else b"".join(self._chunks)
