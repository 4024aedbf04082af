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
    """Function values → text. `encode` is applied to what fills a hole, not to the rest. What is
    computed from values named `secret` is remembered by the user, to be masked.
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

    return _joined([_filled(piece, encoder, secret) for piece in _pieces(source)])


def _filled(piece: str, encode: Callable[[str], str], secret: Collection[str]) -> Fill:
    """A literal part as it is, or a hole whose outcome is encoded."""
    if HOLE.fullmatch(piece) is None:
        return lambda values: piece
    return _hole(piece, encode, secret)


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
            found = template.fill(values)
            sent = found if encode is None else encode(found)
        except TemplateError:
            raise TemplateError(
                "what is computed from a secret could not be; nothing of it is shown"
            ) from None
        maker = getattr(values, "maker", None)
        if maker is not None:
            maker.remember(found)
        return sent

    return fill


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


def json_filler(source: str, known: Values, *, secret: Collection[str] = NO_SECRETS) -> Fill:
    """A JSON text: what fills a hole inside of a string is escaped as one, whatever it was computed
    from; what stands outside of strings is JSON itself and left as it is. `known` values are put
    in now.
    """
    fills: list[Fill] = []
    literals = [""]  # before each of `names`, and after the last
    names: list[tuple[str, bool]] = []  # with whether it is escaped
    inside, is_plain = False, not computes(source, secret)
    for piece in _pieces(source):
        if HOLE.fullmatch(piece) is None:
            inside = _ends_inside(piece, inside)
        else:
            bound = bind(piece, known, secret)
            if "{{" in bound:
                fills.append(_hole(piece, in_json if inside else None, secret))
                name = piece[2:-2].strip()
                is_plain = is_plain and compile_text(piece).names == (name,)
                names.append((name, inside))
                literals.append("")
                continue
            piece = in_json(bound) if inside else bound
        fills.append(lambda values, literal=piece: literal)  # type: ignore[misc]
        literals[-1] += piece
    if not is_plain:
        return fills[0] if len(fills) == 1 else _joined(fills)
    first, rest = literals[0], list(zip(names, literals[1:], strict=True))

    def quick(values: Values) -> str:
        out = first
        try:
            for (name, is_escaped), after in rest:
                out += (in_json(values[name]) if is_escaped else values[name]) + after
        except KeyError as missing:
            raise missing_value(missing.args[0]) from None
        return out

    return quick


def _ends_inside(text: str, inside: bool) -> bool:
    """Whether the end of a piece of JSON lies inside of a string, as its beginning does or not."""
    at = 0
    while at < len(text):
        if text[at] == "\\":
            at += 1
        elif text[at] == '"':
            inside = not inside
        at += 1
    return inside


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
    "json_filler",
    "uses",
]
