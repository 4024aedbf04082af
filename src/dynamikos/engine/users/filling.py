"""Texts with holes, compiled to functions of a user's values, each hole encoded for the place it
stands in.
"""

import re
from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Literal
from urllib.parse import quote, quote_plus

import orjson

from dynamikos.core.errors import TemplateError
from dynamikos.core.journeys.tainted import computes, is_secret, uses
from dynamikos.core.values import Template, bind, compile_text
from dynamikos.core.values.template import HOLE, missing_value

Values = Mapping[str, str]
Fill = Callable[[Values], str]
Place = Literal["start", "base", "authority", "path", "query"]
RESERVED = "/:?#[]@!$&'()*+,;=-._~%"  # RFC 3986 §2.2 and §2.3, and what is percent-encoded already
BARE_PERCENT = re.compile(r"%(?![0-9A-Fa-f]{2})")
IN_SEGMENT = "!$&'()*+,;=:@-._~"  # §3.3: pchar
NO_SECRETS: frozenset[str] = frozenset()


def filler(
    source: str, encode: Callable[[str], str] | None = None, *, secret: Collection[str] = NO_SECRETS
) -> Fill:
    """Function values → text. `encode` is applied to what fills a hole, not to the rest (of an
    expression: to the values it is computed from). What is computed from values named `secret` is
    remembered by the user, to be masked.
    """
    if computes(source, secret):
        return _joined([_remembering(text, encode, secret) for text in _pieces(source)])
    template = compile_text(source)
    if template.fixed is not None:
        fixed = template.fixed
        return lambda values: fixed
    if encode is None:
        return template.fill
    encoder = encode
    plain = template.pieces
    if plain is not None:  # names only: no detour through a mapping that encodes
        first, rest = plain
        if first == "" and len(rest) == 1 and rest[0][1] == "":
            return _one_name(rest[0][0], encoder)

        def quick(values: Values) -> str:
            out = first
            try:
                for name, after in rest:
                    out += encoder(values[name]) + after
            except KeyError as missing:
                raise missing_value(missing.args[0]) from None
            return out

        return quick

    def fill(values: Values) -> str:
        return template.fill(_Encoded(values, encoder))

    return fill


def _one_name(name: str, encode: Callable[[str], str]) -> Fill:
    """A value and nothing else."""

    def one(values: Values) -> str:
        try:
            return encode(values[name])
        except KeyError:
            raise missing_value(name) from None

    return one


def form_encoded(
    pairs: Sequence[tuple[str, str]], *, secret: Collection[str] = NO_SECRETS
) -> Callable[[Values], bytes]:
    """A form's body (application/x-www-form-urlencoded): what is fixed in it is joined once."""
    fixed: list[str] = [""]  # before each of `fills`, and after the last
    fills: list[Fill] = []
    for at, (name, value) in enumerate(pairs):
        for text, sign in ((name, "&" if at else ""), (value, "=")):
            fill = escaped(text, secret=secret)
            fixed[-1] += sign
            try:
                fixed[-1] += fill({})
            except TemplateError:
                fills.append(fill)
                fixed.append("")
    first, rest = fixed[0], list(zip(fills, fixed[1:], strict=True))

    def form(values: Values) -> bytes:
        out = first
        for fill, after in rest:
            out += fill(values) + after
        return out.encode()

    return form


def _pieces(source: str) -> list[str]:
    """Its literal parts and its holes, in order."""
    pieces, last = [], 0
    for hole in HOLE.finditer(source):
        pieces += [source[last : hole.start()], hole.group(0)]
        last = hole.end()
    return [piece for piece in (*pieces, source[last:]) if piece]


def _joined(fills: list[Fill]) -> Fill:
    return lambda values: "".join([fill(values) for fill in fills])


def _remembering(text: str, encode: Callable[[str], str] | None, secret: Collection[str]) -> Fill:
    """The filler of one piece; a hole that computes something of a secret tells the user what
    that is.
    """
    if not computes(text, secret):
        return filler(text, encode)
    template = compile_text(text)

    def fill(values: Values) -> str:
        try:
            found = template.fill(values if encode is None else _Encoded(values, encode))
        except TemplateError:
            raise TemplateError(
                "what is computed from a secret could not be; nothing of it is shown"
            ) from None
        maker = getattr(values, "maker", None)
        if maker is not None:
            maker.remember(found)
        return found

    return fill


class _Encoded(dict[str, str]):
    """Looks a name up and encodes it, only when asked."""

    __slots__ = ("_encode", "_values", "maker")

    def __init__(self, values: Values, encode: Callable[[str], str]) -> None:
        self._values, self._encode = values, encode
        self.maker = getattr(values, "maker", None)

    def __getitem__(self, name: str) -> str:
        return self._encode(self._values[name])


# addresses ----------------------------------------------------------------------------------------


def in_reference(value: str) -> str:
    """A whole address, or one relative to another: only what can't stand in any address is
    encoded.
    """
    return quote(BARE_PERCENT.sub("%25", value), safe=RESERVED)


def in_segment(value: str) -> str:
    return quote(value, safe=IN_SEGMENT)


def in_query(value: str) -> str:
    return quote(value, safe="-._~!$'()*,;:@/?")


def in_authority(value: str) -> str:
    if any(sign in value for sign in "/?#@\\ \t\r\n"):
        raise TemplateError(f"“{value[:60]}” can't stand in the host of an address")
    return value


ENCODERS: dict[Place, Callable[[str], str]] = {
    "start": in_reference,
    "base": in_reference,
    "authority": in_authority,
    "path": in_segment,
    "query": in_query,
}


def _place_after(text: str, place: Place) -> Place:
    """Where in an address one is after the literal `text`, having been at `place`."""
    if place == "start":
        _, mark, rest = text.partition("://")
        if mark:
            place, text = "authority", rest
        elif text:
            place = "path"
    if place in ("authority", "base") and any(sign in text for sign in "/?#"):
        place = "path"
    if place == "path" and ("?" in text or "#" in text):
        place = "query"
    return place


def addressed(source: str, known: Values, *, secret: Collection[str] = NO_SECRETS) -> Fill:
    """An address with holes as a function of values: each hole percent-encoded for its place (RFC
    3986), unless it is the whole address, its beginning or what follows that at once, or goes
    through `| percent` or `| encoded`. `known` values are put in now.
    """
    place: Place = "start"
    fills: list[Fill] = []
    for piece in _pieces(source):
        hole = HOLE.fullmatch(piece)
        if hole is None:
            literal = in_reference(piece) if place not in ("start", "authority") else piece
            fills.append(lambda values, literal=literal: literal)  # type: ignore[misc]
            place = _place_after(piece, place)
            continue
        encode = (
            None
            if hole.group(1).split("|")[-1].strip() in ("percent", "encoded")
            else ENCODERS[place]
        )
        bound = bind(piece, known, secret)
        if "{{" not in bound:
            fixed = bound if encode is None else encode(bound)
            fills.append(lambda values, fixed=fixed: fixed)  # type: ignore[misc]
        else:
            fills.append(_hole(piece, encode, secret))
        if place == "start":
            place = "base"
    return fills[0] if len(fills) == 1 else _joined(fills)


def _hole(text: str, encode: Callable[[str], str] | None, secret: Collection[str]) -> Fill:
    """One hole whose whole outcome is encoded."""
    inner = _remembering(text, None, secret)
    if encode is None:
        return inner
    encoder = encode
    return lambda values: encoder(inner(values))


# other places -------------------------------------------------------------------------------------


def in_json(value: str) -> str:
    return orjson.dumps(value).decode()[1:-1]


def in_header(value: str) -> str:
    if "\r" in value or "\n" in value or "\0" in value:
        raise TemplateError("a value with a line break can't be sent in a header")
    return value


def escaped(source: str, *, secret: Collection[str] = NO_SECRETS) -> Fill:
    """A query or form text: fixed parts and values percent-encoded alike
    (application/x-www-form-urlencoded); what went through `| encoded` is left as it is.
    """
    template: Template = compile_text(source)
    if template.fixed is not None:
        fixed = quote_plus(template.fixed)
        return lambda values: fixed
    if (
        template.pieces is not None
        and template.pieces[0] == ""
        and [after for _, after in template.pieces[1]] == [""]
    ):
        name = template.pieces[1][0][0]  # one name and nothing else

        def one(values: Values) -> str:
            try:
                text = values[name]
            except KeyError:
                raise missing_value(name) from None
            return text if text.isalnum() and text.isascii() else quote_plus(text)

        return one
    marked = [HOLE.fullmatch(piece) for piece in _pieces(source)]
    if any(
        hole is not None and hole.group(1).split("|")[-1].strip() == "encoded" for hole in marked
    ):
        return _joined([_one_escaped(piece, secret) for piece in _pieces(source)])
    inner = filler(source, secret=secret)

    def fill(values: Values) -> str:
        text = inner(values)
        return text if text.isalnum() and text.isascii() else quote_plus(text)

    return fill


def _one_escaped(piece: str, secret: Collection[str]) -> Fill:
    hole = HOLE.fullmatch(piece)
    if hole is not None and hole.group(1).split("|")[-1].strip() == "encoded":
        return filler(piece, secret=secret)
    return escaped(piece, secret=secret)


__all__ = [
    "Fill",
    "Values",
    "addressed",
    "escaped",
    "filler",
    "in_header",
    "in_json",
    "is_secret",
    "uses",
]
