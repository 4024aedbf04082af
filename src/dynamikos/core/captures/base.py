"""The capture as a value, and the view of an answer that captures and checks share (each body parsed at most once)."""

from collections.abc import Callable, Iterator, Sequence
from typing import Annotated, Any, Literal

import msgspec
import orjson
from selectolax.lexbor import LexborHTMLParser

from dynamikos.core.errors import RuleError
from dynamikos.core.exchanges.model import text_of

Captured = str | None
Headers = Sequence[tuple[bytes, bytes]]
Taker = Callable[["View"], Captured]
Finder = Callable[["View"], Iterator[str]]  # all matches, one after the other
Decoding = Literal["", "percent", "html", "json", "base64"]
Pick = Literal["first", "last", "random", "all"] | Annotated[int, msgspec.Meta(ge=1, le=100_000)]


class CssForm(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """The elements that `selector` finds: one `attribute` of each, or its text when none is named."""

    selector: str
    attribute: str = ""


class BetweenForm(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What stands between a `before` and the next `after`."""

    before: str
    after: str


class RegexForm(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """A group of a match in the body, or in a `header`; group 0 is the whole match."""

    pattern: str
    group: int = 1
    header: str = ""


class Capture(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """Takes one value out of an answer and keeps it as `name`. Exactly one form is given.

    `address` is a regular expression with one group, searched in the addresses of the request and of its redirects. Of
    several matches `pick` takes one ("all": their JSON list); `decode` undoes an encoding of what was found. Where
    nothing is found the request fails, unless `otherwise` says what the value is then.
    """

    name: str
    json: str | None = None
    css: CssForm | None = None
    between: BetweenForm | None = None
    regex: RegexForm | None = None
    header: str | None = None
    cookie: str | None = None
    address: str | None = None
    pick: Pick = "first"
    decode: Decoding = ""
    otherwise: str | None = None
    note: str = ""


class View:
    """An answer as captures and checks look at it. Body, text, JSON and HTML are made once, when first asked for."""

    duration_ms = 0.0  # response time, where it is known
    beyond = ""  # why what is looked for may stand where nobody looked; "" when all of the body is here
    reads_json = 0  # how many captures and checks read it as JSON, where that is known
    status: int = 0
    body: bytes = b""
    cookies: Callable[[], dict[str, str]] = staticmethod(dict)
    addresses: Sequence[str] = ()
    _choose: Callable[[int], int] = staticmethod(lambda count: 0)
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
        """`choose(n)` gives a number below n to captures that pick at random, once for every n: two that pick from
        lists of the same length in one answer take the same position, so that what belongs together stays together.
        """
        self.status, self._headers, self.body, self.cookies, self.addresses = status, headers, body, cookies, addresses
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


def compile_finder(capture: Capture) -> Finder:
    """`capture` as a function View → its matches one after the other, decoded.

    Raises RuleError with the place of a wrong expression.
    """
    from dynamikos.core.captures import decoding, forms

    given = [name for name in forms.REGISTRY if getattr(capture, name) is not None]
    if len(given) != 1:
        raise RuleError(
            f"capture '{capture.name}' needs exactly one of {', '.join(forms.REGISTRY)}; it has {len(given)}"
        )
    find = forms.REGISTRY[given[0]](getattr(capture, given[0]))
    if not capture.decode:
        return find
    decode = decoding.REGISTRY[capture.decode]

    def decoded(view: View) -> Iterator[str]:
        return (value for value in map(decode, find(view)) if value is not None)

    return decoded


def compile_capture(capture: Capture) -> Taker:
    """`capture` as a function View → text or None. Raises RuleError with the place of a wrong expression."""
    taker, otherwise = _taker(capture), capture.otherwise
    if otherwise is None:
        return taker

    def take(view: View) -> Captured:
        found = taker(view)
        return otherwise if found is None else found

    return take


def _taker(capture: Capture) -> Taker:
    from dynamikos.core.captures import forms

    pick = capture.pick
    find = compile_finder(capture)
    if pick == "first" and not capture.decode and capture.json is not None:
        return forms.first_by_json(capture.json)  # a key walk
    if pick == "all":
        return lambda view: orjson.dumps(list(find(view))).decode()
    if pick == "first":
        return lambda view: next(find(view), None)

    def take(view: View) -> Captured:
        found = list(find(view))
        if not found:
            return None
        if pick == "last":
            return found[-1]
        if pick == "random":
            return found[view.choose(len(found))]
        return found[pick - 1] if isinstance(pick, int) and pick <= len(found) else None

    return take
