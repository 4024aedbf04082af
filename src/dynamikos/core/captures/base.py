"""The capture as a value, and the view of an answer that captures and checks share (each body parsed at most once)."""

from collections.abc import Callable
from typing import Any

import msgspec
import orjson
from selectolax.lexbor import LexborHTMLParser

from dynamikos.core.errors import RuleError
from dynamikos.core.exchanges.model import text_of

Captured = str | None
Taker = Callable[["View"], Captured]


class CssForm(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """The first element that `selector` finds: one `attribute` of it, or its text when none is named."""

    selector: str
    attribute: str = ""


class BetweenForm(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What stands between the first `before` and the next `after`."""

    before: str
    after: str


class RegexForm(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """A group of the first match; group 0 is the whole match."""

    pattern: str
    group: int = 1


class Capture(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """Takes one value out of an answer and keeps it as `name`. Exactly one form is given."""

    name: str
    json: str | None = None
    css: CssForm | None = None
    between: BetweenForm | None = None
    regex: RegexForm | None = None
    header: str | None = None
    cookie: str | None = None
    note: str = ""


class View:
    """An answer as captures and checks look at it. Body, text, JSON and HTML are made once, when first asked for."""

    __slots__ = ("_html", "_json", "_text", "body", "content_type", "cookies", "headers", "status")

    def __init__(self, status: int, headers: list[tuple[bytes, bytes]], body: bytes, cookies: Callable[[], dict[str, str]] = dict) -> None:
        self.status, self.headers, self.body, self.cookies = status, headers, body, cookies
        self._json: Any = None
        self._html: LexborHTMLParser | None = None
        self._text: str | None = None
        self.content_type = self.header("content-type") or ""

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


def compile_capture(capture: Capture) -> Taker:
    """`capture` as a function View → text or None. Raises RuleError with the place of a wrong expression."""
    from dynamikos.core.captures import forms

    given = [name for name in forms.REGISTRY if getattr(capture, name) is not None]
    if len(given) != 1:
        raise RuleError(f"capture '{capture.name}' needs exactly one of {', '.join(forms.REGISTRY)}; it has {len(given)}")
    return forms.REGISTRY[given[0]](getattr(capture, given[0]))
