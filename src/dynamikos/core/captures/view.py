"""The view of an answer that captures and checks share: each body is parsed at most once."""

from collections.abc import Callable, Iterator, Sequence
from typing import Any, NamedTuple

import orjson
from selectolax.lexbor import LexborHTMLParser

from dynamikos.core.exchanges.model import text_of

Captured = str | None
Headers = Sequence[tuple[bytes, bytes]]
Taker = Callable[["View"], Captured]
Finder = Callable[["View"], Iterator[str]]  # all matches, one after the other


class View:
    """An answer as captures and checks look at it. Body, text, JSON and HTML are made once, when
    first asked for.
    """

    duration_ms = 0.0  # response time, where it is known
    beyond = (
        ""  # why what is looked for may stand where nobody looked; "" when all of the body is here
    )
    reads_json = 0  # how many captures and checks read it as JSON, where that is known
    status: int = 0
    body: bytes = b""
    cookies: Callable[[], dict[str, str]]
    addresses: Sequence[str] = ()
    _choose: Callable[[int], int]
    _headers: Headers = ()
    _size_bytes: int | None = -1
    _drawn: dict[int, int] | None = None
    _json: Any = None
    _html: LexborHTMLParser | None = None
    _text: str | None = None
    _content_type: str | None = None

    def __init__(
        self,
        status: int,
        headers: Headers,
        body: bytes,
        cookies: Callable[[], dict[str, str]] = dict,
        addresses: Sequence[str] = (),
        choose: Callable[[int], int] = lambda count: 0,
    ) -> None:
        """`choose(n)` gives a number below n to captures that pick at random, once for every n: two
        that pick from lists of the same length in one answer take the same position, so that what
        belongs together stays together.
        """
        self.status, self._headers, self.body, self.cookies, self.addresses = (
            status,
            headers,
            body,
            cookies,
            addresses,
        )
        self._choose = choose

    @property
    def headers(self) -> Headers:
        """(name, value) in order."""
        return self._headers

    @property
    def size_bytes(self) -> int | None:
        """Of all of the body; None when that is not known."""
        return len(self.body) if self._size_bytes == -1 else self._size_bytes

    @size_bytes.setter
    def size_bytes(self, size: int | None) -> None:
        self._size_bytes = size

    @property
    def content_type(self) -> str:
        if self._content_type is None:
            self._content_type = self.header("content-type") or ""
        return self._content_type

    def choose(self, count: int) -> int:
        """A position below `count`, the same one each time it is asked for."""
        if self._drawn is None:
            self._drawn = {}
        if count not in self._drawn:
            self._drawn[count] = self._choose(count)
        return self._drawn[count]

    def header(self, name: str) -> str | None:
        wanted = name.lower().encode("latin-1", "replace")
        for key, value in self.headers:
            if key.lower() == wanted:
                return value.decode("latin-1")
        return None

    @property
    def text(self) -> str:
        if self._text is None:
            self._text = text_of(self.body, self.content_type)
        return self._text

    def json(self) -> Any:
        """The body as JSON. Raises ValueError when it is not."""
        if self._json is None:
            self._json = (orjson.loads(self.body),)
        return self._json[0]

    def html(self) -> LexborHTMLParser:
        if self._html is None:
            self._html = LexborHTMLParser(self.text)
        return self._html


class CaptureKind(NamedTuple):
    """A kind of capture: `find` makes of its value what finds matches (raises RuleError with the
    place of a wrong expression), `says` is the expression in a line, `first` makes what takes the
    first match alone, where that is quicker. `needs_body`: it looks into the body,
    `reads_addresses`: at the addresses of request and redirects.
    """

    name: str
    find: Callable[[Any], Finder]
    says: Callable[[Any], str]
    first: Callable[[Any], Taker] | None = None
    needs_body: bool = True
    reads_addresses: bool = False
