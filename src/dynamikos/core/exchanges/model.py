"""Exchanges as values: what was sent, what came back, and how long each part took."""

from urllib.parse import urljoin

import msgspec

Headers = tuple[tuple[str, str], ...]


class Timings(msgspec.Struct, frozen=True, kw_only=True):
    """HAR 1.2's parts in microseconds; -1 means "does not apply". `connect_us` is without
    `ssl_us`.
    """

    blocked_us: int = 0
    dns_us: int = -1
    connect_us: int = -1
    ssl_us: int = -1
    send_us: int = 0
    wait_us: int = 0
    receive_us: int = 0

    @property
    def total_us(self) -> int:
        return sum(max(0, part) for part in msgspec.structs.astuple(self))


class Sent(msgspec.Struct, frozen=True, kw_only=True):
    """A request as it went out."""

    method: str
    url: str
    headers: Headers = ()
    body: bytes = b""


class Answer(msgspec.Struct, frozen=True, kw_only=True):
    """A response as it came in; `body` is decoded (no content-encoding), cut at what was kept."""

    status: int
    reason: str = ""
    headers: Headers = ()
    body: bytes = b""
    size_bytes: int = 0

    def header(self, name: str) -> str | None:
        """The first value of a header, names compared without case (RFC 9110 §5.1)."""
        wanted = name.lower()
        return next((value for key, value in self.headers if key.lower() == wanted), None)


class Exchange(msgspec.Struct, frozen=True, kw_only=True):
    """One request with its response, or with the reason why there is none (`error`).

    `entry` is its index in the file, if from one; `http` the protocol it went over, where that is
    known ("h2"); `lost` says what the recording lacks of it, in words.
    """

    sent: Sent
    answer: Answer | None = None
    timings: Timings = Timings()
    error: str = ""
    started_us: int = 0
    page: str = ""
    embedded: bool = False
    entry: int = -1
    http: str = ""
    lost: str = ""


REDIRECTS = frozenset({301, 302, 303, 307, 308})  # RFC 9110 §15.4


def redirect_of(exchange: Exchange) -> str | None:
    """Where the answer redirects to, absolute and without fragment; None when it does not, or to
    nothing that is an address.
    """
    if exchange.answer is None or exchange.answer.status not in REDIRECTS:
        return None
    location = exchange.answer.header("location")
    try:
        return urljoin(exchange.sent.url, location).partition("#")[0] if location else None
    except ValueError:
        return None


def text_of(body: bytes, content_type: str = "") -> str:
    """`body` as text by its declared charset, else UTF-8 with replacement."""
    charset = "utf-8"
    for part in content_type.split(";")[1:]:
        key, _, value = part.strip().partition("=")
        if key.lower() == "charset" and value:
            charset = value.strip("\"' ")
    try:
        return body.decode(charset, "replace")
    except LookupError:
        return body.decode("utf-8", "replace")
