"""Sites: every value a client sends, with its place."""

import re
from collections.abc import Callable, Sequence
from email.message import Message
from typing import NamedTuple
from urllib.parse import parse_qsl, unquote, urlsplit

import orjson

from dynamikos.core.correlation.coding import inside, leaves
from dynamikos.core.exchanges import Exchange, text_of
from dynamikos.core.exchanges.resources import is_file

# Headers that a browser makes itself, or that describe the message; cookies are the jar's.
BROWSER = frozenset(
    "accept accept-charset accept-encoding accept-language access-control-request-headers "
    "access-control-request-method"
    " cache-control connection content-encoding content-length content-type cookie date dnt expect "
    "host"
    " if-modified-since if-none-match if-range keep-alive origin pragma priority "
    "proxy-authorization proxy-connection"
    " purpose range referer save-data te trailer transfer-encoding upgrade "
    "upgrade-insecure-requests user-agent via"
    " x-requested-with".split()
)
SCHEME = re.compile(r"(Bearer|Token|Basic|JWT|MAC|ApiKey|Key|OAuth)\s+(\S.*)\Z", re.I)
CLIENT_MADE = re.compile(
    r"(Digest|Negotiate|NTLM|Basic)\s", re.I
)  # from a name and a password, for each request
MAX_TEXT = 200_000


class Site(NamedTuple):
    """`place` is the same in every recording of the journey; `outer` is the place whose value holds
    this one, `coding` how.
    """

    entry: int
    place: str
    name: str
    value: str
    coding: str = ""
    outer: str = ""
    static: bool = False


Add = Callable[..., None]  # place, name, value, outer, coding: see sites_of


def sites_of(exchange: Exchange, entry: int) -> list[Site]:
    """All values in a request, those inside of others after the whole they are part of."""
    found: list[Site] = []
    static = exchange.sent.method == "GET" and is_file(exchange.sent.url)
    seen: dict[str, int] = {}

    def add(
        place: str, name: str, value: str, outer: str = "", coding: str = "", depth: int = 0
    ) -> None:
        if not value or len(value) > MAX_TEXT:
            return
        count = seen[place] = seen.get(place, 0) + 1
        if count > 1:
            place = f"{place} ({count})"
        found.append(Site(entry, place, name, value, coding, outer, static))
        if depth < 3:
            for within, inner, text, how in inside(value):
                if text != value:
                    add(f"{place}, {within}", inner or name, text, place, how, depth + 1)

    parts = urlsplit(exchange.sent.url)
    _path(parts.path.split("/"), add)
    for name, value in parse_qsl(parts.query, keep_blank_values=True):
        add(f"query {name}", name, value)
    _headers(exchange, add)
    if exchange.sent.body:
        _body(exchange, add)
    return found


def _path(segments: Sequence[str], add: Add) -> None:
    for number, segment in enumerate(segments):
        if not segment:
            continue
        before = _named(segments, number)
        segment, *matrix = segment.split(";")  # parameters of a segment (RFC 3986 §3.3)
        for each in matrix:
            name, sign, value = each.partition("=")
            if sign:
                add(f"path {number}, ;{name}", name, unquote(value))
        text = unquote(segment)
        add(f"path {number}", before, text)
        pieces = re.split(r"[.,=()~:@!]|%2C", text)
        if len(pieces) > 1:  # a file's ending, keys in brackets
            for index, piece in enumerate(pieces):
                add(f"path {number}, piece {index}", before, piece, f"path {number}", "part")


def _named(segments: Sequence[str], number: int) -> str:
    """What a segment is called: by the one before it, or where that is a number by the name of
    what has that number.
    """
    before = unquote(segments[number - 1]) if number else ""
    if not re.search(r"\d", before):
        return before
    earlier = (each for each in reversed(segments[: number - 1]) if each)
    return next((each for each in earlier if not re.search(r"\d", each)), before)


def _headers(exchange: Exchange, add: Add) -> None:
    """Those that no browser sends by itself."""
    for name, value in exchange.sent.headers:
        lower = name.lower()
        if lower in BROWSER or lower.startswith(("sec-", "proxy-", ":")):
            continue
        if lower == "authorization" and CLIENT_MADE.match(value):
            continue
        place, scheme = f"header {name.title()}", SCHEME.match(value)
        add(place, name, value)
        if scheme:
            add(f"{place}, after {scheme.group(1)}", name, scheme.group(2), place, "part")


def _body(exchange: Exchange, add: Add) -> None:
    body = exchange.sent.body
    kind = next(
        (value for name, value in exchange.sent.headers if name.lower() == "content-type"), ""
    )
    text = text_of(body, kind)
    if "multipart/" in kind:
        fields = multipart(body, kind)
        if fields:
            for name, value in fields:
                add(f"field {name}", name, value)
            return
    if text.lstrip()[:1] in ("{", "[") and "urlencoded" not in kind:
        try:
            document = orjson.loads(body)
        except ValueError:
            pass
        else:
            for path, name, leaf in leaves(document):
                add(f"json {path}", name, leaf)
            return
    if "urlencoded" in kind or "multipart/" in kind or re.match(r"[^\s=&<{]{1,80}=[^\s<]*\Z", text):
        for name, value in parse_qsl(text, keep_blank_values=True):
            add(f"form {name}", name, value)
        return
    add("body", "", text)


def multipart(body: bytes, kind: str) -> list[tuple[str, str]]:
    """Names and values of a multipart body's text fields (RFC 7578); a file's content is left
    out.
    """
    header = Message()
    header["content-type"] = kind
    boundary = header.get_param("boundary")
    if not isinstance(boundary, str) or not boundary:
        return []
    found = []
    for piece in body.split(b"--" + boundary.encode())[1:]:
        head, gap, content = piece.partition(b"\r\n\r\n")
        if not gap:
            head, gap, content = piece.partition(b"\n\n")
        name = re.search(rb'name="([^"]*)"', head)
        if gap and name and b"filename=" not in head.lower():
            found.append(
                (
                    name.group(1).decode("utf-8", "replace"),
                    content.rstrip(b"\r\n").decode("utf-8", "replace"),
                )
            )
    return found
