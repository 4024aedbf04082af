"""Texts with holes, compiled to functions of a user's values, each hole encoded for the place it stands in."""

from collections.abc import Callable, Mapping
from urllib.parse import quote, quote_plus

import orjson

from dynamikos.core.errors import TemplateError
from dynamikos.core.values import Template, compile_text
from dynamikos.core.values.template import missing_value

Values = Mapping[str, str]
Fill = Callable[[Values], str]
RESERVED = "/:?#[]@!$&'()*+,;=-._~%"


def filler(source: str, encode: Callable[[str], str] | None = None) -> Fill:
    """Function values → text. `encode` is applied to what fills a hole, not to the rest."""
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


class _Encoded(dict[str, str]):
    """Looks a name up and encodes it, only when asked."""

    __slots__ = ("_encode", "_values", "maker")

    def __init__(self, values: Values, encode: Callable[[str], str]) -> None:
        self._values, self._encode = values, encode
        self.maker = getattr(values, "maker", None)

    def __getitem__(self, name: str) -> str:
        return self._encode(self._values[name])


def in_path(value: str) -> str:
    return quote(value, safe=RESERVED)


def in_json(value: str) -> str:
    return orjson.dumps(value).decode()[1:-1]


def in_header(value: str) -> str:
    if "\r" in value or "\n" in value or "\0" in value:
        raise TemplateError("a value with a line break can't be sent in a header")
    return value


def escaped(source: str) -> Fill:
    """A query or form text: fixed parts and values percent-encoded alike (application/x-www-form-urlencoded)."""
    template: Template = compile_text(source)
    if template.fixed is not None:
        fixed = quote_plus(template.fixed)
        return lambda values: fixed
    if template.pieces is not None and template.pieces[0] == "" and [after for _, after in template.pieces[1]] == [""]:
        name = template.pieces[1][0][0]  # one name and nothing else

        def one(values: Values) -> str:
            try:
                text = values[name]
            except KeyError:
                raise missing_value(name) from None
            return text if text.isalnum() and text.isascii() else quote_plus(text)

        return one

    def fill(values: Values) -> str:
        text = template.fill(values)
        return text if text.isalnum() and text.isascii() else quote_plus(text)

    return fill
