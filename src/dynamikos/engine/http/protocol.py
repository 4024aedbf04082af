"""Reads HTTP/1.1 replies from bytes (sans-IO, on httptools)."""

import httptools

from dynamikos.engine.failures import Failure


class Reply:
    """A reply as it came in. Instants are the clock's seconds; `body` is empty unless it was to be kept."""

    __slots__ = (
        "body", "bytes_in", "bytes_out", "cookies", "first_at", "headers", "keep_alive", "last_at", "opened_us", "reused", "sent_at", "status",
    )  # fmt: skip

    def __init__(self) -> None:
        self.status = 0
        self.headers: list[tuple[bytes, bytes]] = []
        self.body = b""
        self.bytes_in = self.bytes_out = 0
        self.sent_at = self.first_at = self.last_at = 0.0
        self.keep_alive = True
        self.cookies: list[bytes] | None = None
        self.opened_us: tuple[int, int, int] | None = None  # dns, connect, ssl, when the connection was opened for it
        self.reused = False

    def header(self, name: bytes) -> bytes | None:
        """The first value of a header; `name` in lower case."""
        for key, value in self.headers:
            if key.lower() == name:
                return value
        return None


MAX_KEPT = 16_000_000


class ReplyReader:
    """One reply after another on a connection. `feed` returns the reply when it is complete."""

    __slots__ = ("_chunks", "_done", "_framed", "_head_only", "_keep", "_kept_bytes", "_parser", "_until_close", "reply")

    def __init__(self) -> None:
        self._parser = httptools.HttpResponseParser(self)
        self.begin(head_only=False, keep=False)

    def begin(self, *, head_only: bool, keep: bool) -> None:
        """Prepares for the next reply. `head_only` for HEAD; `keep` keeps the body (a status ≥ 400 is always kept)."""
        self.reply = Reply()
        self._chunks: list[bytes] = []
        self._kept_bytes = 0
        self._done = False
        self._head_only = head_only
        self._keep = keep
        self._until_close = False
        self._framed = False

    def feed(self, data: bytes) -> Reply | None:
        """Raises Failure("protocol") for what is not HTTP."""
        self.reply.bytes_in += len(data)
        try:
            self._parser.feed_data(data)
        except httptools.HttpParserUpgrade:
            self._finish()
        except httptools.HttpParserError as problem:
            raise Failure("protocol", f"the answer is not HTTP/1.1: {problem}; it begins with {data[:60]!r}") from problem
        return self.reply if self._done else None

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

    def on_header(self, name: bytes, value: bytes) -> None:
        if not self._done:
            reply = self.reply
            reply.headers.append((name, value))
            size = len(name)
            if size == 10 and name.lower() == b"set-cookie":
                if reply.cookies is None:
                    reply.cookies = []
                reply.cookies.append(value)
            elif (size == 14 and name.lower() == b"content-length") or (size == 17 and name.lower() == b"transfer-encoding"):
                self._framed = True

    def on_headers_complete(self) -> None:
        reply = self.reply
        status = self._parser.get_status_code()
        if 100 <= status < 200 and status != 101:  # interim (RFC 9110 §15.2): the final one follows
            reply.headers = []
            self._framed = False
            return
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
        if self._keep and self._kept_bytes < MAX_KEPT:
            self._chunks.append(body)
            self._kept_bytes += len(body)

    def on_message_complete(self) -> None:
        if self.reply.status:
            self._finish()

    def _finish(self) -> None:
        self._done = True
        if self._chunks:
            self.reply.body = self._chunks[0] if len(self._chunks) == 1 else b"".join(self._chunks)
