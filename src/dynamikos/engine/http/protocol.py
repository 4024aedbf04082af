"""Reads HTTP/1.1 replies from bytes (sans-IO, on httptools)."""

import re
import time
from collections.abc import Callable, Sequence

import httptools

from dynamikos.core.captures import View
from dynamikos.core.captures.view import Headers
from dynamikos.engine.failures import Failure


class Reply(View):
    """A reply as it came in, which captures and checks look at. Instants are the clock's seconds;
    `body` is empty unless it was to be kept, and what it unpacks to once it was looked at.
    """

    seen: "KnownHead | None" = None  # its head, where no parser had to look at it
    cut = False  # whether more of the body came than was kept of one that was to be
    came = 0  # bytes of the body that came, without chunk framing, where it was cut
    bytes_in = 0
    bytes_out = 0
    sent_at = 0.0
    first_at = 0.0
    last_at = 0.0
    own_s = 0.0  # how long its last bytes may have been there before they were read
    keep_alive = True
    set_cookies: Sequence[bytes] | None = None
    # the content encodings of all headers of that name (RFC 9110 §5.3); empty when there are none
    encoding = b""
    opened_us: tuple[int, int, int] | None = (
        None  # dns, connect, ssl, when the connection was opened for it
    )
    resumed = False  # whether its TLS session was that of an earlier connection
    unpacked = False  # whether `body` is what was packed

    def __init__(self) -> None:
        """Nothing came yet."""

    @property
    def headers(self) -> Headers:
        """(name, value) in order."""
        return self._headers if self.seen is None else self.seen.headers

    def read(self, headers: Headers) -> None:
        """What a parser found in its head."""
        self._headers = headers
        encodings = [
            value for key, value in headers if len(key) == 16 and key.lower() == b"content-encoding"
        ]
        if encodings:
            self.encoding = b", ".join(encodings)

    def field(self, name: bytes) -> bytes | None:
        """The first value of a header; `name` in lower case."""
        for key, value in self.headers:
            if key.lower() == name:
                return value
        return None


SHAPE = re.compile(
    rb"HTTP/1\.1 ([2-9][0-9][0-9])(?: "
    rb"[^\r\n\0]*)?\r\n(?:[!#$%&'*+.^_`|~0-9A-Za-z-]+:[^\r\n\0]*\r\n)*\r\n\Z"
)
LENGTH = re.compile(rb"[0-9]{1,18}")
MOST_KNOWN, FILLED_S, PAUSE_S = 512, 20.0, 60.0


class KnownHead:
    """What the head of an answer says that is framed by one Content-Length and leaves the
    connection open.
    """

    __slots__ = ("_headers", "_raw", "encoding", "length", "set_cookies", "status")

    def __init__(
        self, raw: bytes, status: int, length: int, cookies: list[bytes] | None, encoding: bytes
    ) -> None:
        self._raw, self.status, self.length, self.set_cookies, self.encoding = (
            raw,
            status,
            length,
            cookies,
            encoding,
        )
        self._headers: list[tuple[bytes, bytes]] | None = None

    @property
    def headers(self) -> list[tuple[bytes, bytes]]:
        """Read when they are first asked for."""
        if self._headers is None:
            lines = [line.partition(b":") for line in self._raw.split(b"\r\n")[1:-2]]
            self._headers = [(name, value.strip(b" \t")) for name, _, value in lines]
        return self._headers


class Heads:
    """Reads heads of the simple kind (RFC 9112 §6.3) without a parser, and the same bytes once
    only.

    Heads that differ with every answer are read each time and not remembered: learning rests for a
    minute when the memory was full within seconds.
    """

    def __init__(self, now: Callable[[], float] = time.perf_counter) -> None:
        self.known: dict[bytes, KnownHead] = {}
        self._now = now
        self._begun, self._rests_until = now(), 0.0

    def read(self, head: bytes) -> KnownHead | None:
        """What `head`, with its empty line, says; None for all that a parser has to look at."""
        seen = read_head(head)
        if seen is None:
            return None
        if self._rests_until:
            now = self._now()
            if now < self._rests_until:
                return seen
            self.known.clear()
            self._begun, self._rests_until = now, 0.0
        if len(self.known) < MOST_KNOWN:
            self.known[head] = seen
            return seen
        now = self._now()
        if now - self._begun < FILLED_S:
            self._rests_until = now + PAUSE_S
        else:
            self.known.clear()
            self._begun = now
        return seen


def read_head(head: bytes) -> KnownHead | None:
    shape = SHAPE.match(head)
    if shape is None:
        return None
    status, low = int(shape.group(1)), head.lower()
    if status in (204, 304) or b"\r\ntransfer-encoding:" in low or b"\r\nupgrade:" in low:
        return None
    length, many = _one(low, head, b"\r\ncontent-length:")
    encoding, too_many = _one(low, head, b"\r\ncontent-encoding:")
    connection, of_them = _one(low, head, b"\r\nconnection:")
    if (
        many
        or too_many
        or of_them
        or not LENGTH.fullmatch(length)
        or connection.lower() not in (b"", b"keep-alive")
    ):
        return None
    cookies: list[bytes] | None = None
    at = low.find(b"\r\nset-cookie:")
    while at >= 0:
        end = head.find(b"\r\n", at + 13)
        cookies = [*(cookies or ()), head[at + 13 : end].strip(b" \t")]
        at = low.find(b"\r\nset-cookie:", end)
    return KnownHead(head, status, int(length), cookies, encoding)


def _one(low: bytes, head: bytes, name: bytes) -> tuple[bytes, bool]:
    """(the value of a header, whether there is more than one); empty when there is none."""
    at = low.find(name)
    if at < 0:
        return b"", False
    begin = at + len(name)
    return head[begin : head.find(b"\r\n", begin)].strip(b" \t"), low.find(name, begin) >= 0


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
        """Prepares for the next reply. `head_only` for HEAD; `keep` keeps the body (that of a
        status ≥ 400, and an encoded one, always).
        """
        self.reply: Reply = Reply()
        self._headers = []
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
                raise Failure(
                    "protocol", f"the head of the answer has more than {MAX_HEAD:,} bytes"
                )
        try:
            self._parser.feed_data(data)
        except httptools.HttpParserUpgrade:
            self._finish()
        except httptools.HttpParserError as problem:
            # what follows the answer is none: it is complete, and the connection can't be trusted
            # any more
            if self._done:
                self.reply.keep_alive = False
            elif not self._unfolded():
                raise Failure(
                    "protocol",
                    f"the answer is not HTTP/1.1: {problem}; it begins with {data[:60]!r}",
                ) from problem
        return self.reply if self._done else None

    def _unfolded(self) -> bool:
        """Reads a head with folded lines once more, each fold a space (RFC 9112 §5.2); false where
        there is none.
        """
        head = bytes(self._head or b"")
        end = head.find(b"\r\n\r\n")
        plain = FOLD.sub(b" ", head[:end] if end >= 0 else head) + (head[end:] if end >= 0 else b"")
        if plain == head:
            return False
        self._parser = httptools.HttpResponseParser(self)
        self._headers = []
        self.reply.set_cookies, self._framed = None, False
        self._head = None if end >= 0 else bytearray(plain)
        try:
            self._parser.feed_data(plain)
        except httptools.HttpParserError:
            return self._done
        return True

    def end_of_stream(self) -> Reply | None:
        """The server closed: a complete reply if its end was to be the close (RFC 9112 §6.3), else
        None.
        """
        if self._until_close and not self._done:
            self._finish()
            self.reply.keep_alive = False
            return self.reply
        return None

    @property
    def started(self) -> bool:
        return self.reply.bytes_in > 0

    # httptools' callbacks -------------------------------------------------------------------------

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
                reply.set_cookies = [*(reply.set_cookies or ()), value]
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
            self._headers = []
            self._framed, self.interim = False, True
            self.continued = self.continued or status == 100
            return
        self._head = None
        reply.read(self._headers)
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
        self.reply.came += len(body)
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
            self.reply.cut = len(self.reply.body) < self.reply.came
