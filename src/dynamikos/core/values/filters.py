"""What a hole may do to its value: FILTERS, plain ones (text → text); RICH, with arguments and any
value.

Both are the one list of each.
"""

import base64
import hashlib
import hmac
import html
import json
import re
import unicodedata
from collections.abc import Callable
from decimal import ROUND_HALF_UP, Decimal
from typing import Any
from urllib.parse import quote, unquote

import orjson
from jinja2 import StrictUndefined, UndefinedError

from dynamikos.core.errors import TemplateError
from dynamikos.core.values import dates
from dynamikos.core.values.numbers import ARITHMETIC, as_number, number, plain

LONGEST = 1_000_000  # characters of any text an expression may make
DIGESTS = ("md5", "sha1", "sha256", "sha512")
JWT_HMACS = {"HS256": "sha256", "HS512": "sha512"}
FILTERS: dict[str, Callable[[str], str]] = {
    "percent": lambda text: quote(text, safe=""),
    "base64": lambda text: base64.b64encode(text.encode()).decode(),
    "base64url": lambda text: base64.urlsafe_b64encode(text.encode()).decode().rstrip("="),
    "json": lambda text: json.dumps(text, ensure_ascii=False)[1:-1],
    "upper": str.upper,
    "lower": str.lower,
    "encoded": str,  # says that it is percent-encoded already: an address leaves it as it is
}


def as_text(value: Any) -> str:
    """What a value of an expression is when it is sent: numbers without exponent, true and false,
    lists and objects as JSON.
    """
    if isinstance(value, str):
        return value
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, Decimal):
        return plain(value)
    if isinstance(value, int | float):
        found = as_number(value)
        return "" if found is None else plain(found)
    return to_json(value)


def bounded(text: str) -> str:
    if len(text) > LONGEST:
        raise TemplateError(
            f"the text would have {len(text):,} characters; an expression makes at most {LONGEST:,}"
        )
    return text


def joined(*values: Any) -> str:
    """Texts one after the other (the ~ of expressions)."""
    texts = [as_text(value) for value in values]
    if sum(map(len, texts)) > LONGEST:
        raise TemplateError(f"the text would have more than {LONGEST:,} characters")
    return "".join(texts)


def to_json(value: Any) -> str:
    def plain_number(other: Any) -> Any:
        if isinstance(other, Decimal):
            return (
                int(other)
                if other == other.to_integral_value() and abs(other) < 2**63
                else float(other)
            )
        if isinstance(other, StrictUndefined):
            str(other)  # raises, saying which name has no value
        raise TypeError

    try:
        return bounded(orjson.dumps(value, default=plain_number).decode())
    except TypeError as problem:
        if isinstance(problem.__cause__, UndefinedError):
            raise problem.__cause__ from None
        raise TemplateError(f"{type(value).__name__} can't be written as JSON") from problem


def from_json(value: Any) -> Any:
    try:
        return orjson.loads(as_text(value))
    except ValueError as problem:
        raise TemplateError(f"“{as_text(value)[:60]}” is not JSON: {problem}") from problem


def pad(value: Any, width: int, sign: str = "0", side: str = "left") -> str:
    """Filled up to `width` (≤ 10,000) with `sign`."""
    text, count = as_text(value), _whole(width, 10_000)
    if len(sign) != 1:
        raise TemplateError("pad fills up with one character, such as pad(2) or pad(8, ' ')")
    return text.rjust(count, sign) if side == "left" else text.ljust(count, sign)


def _whole(value: Any, most: int) -> int:
    found = number(value)
    if found != found.to_integral_value() or not -most <= found <= most:
        raise TemplateError(f"“{as_text(value)[:40]}” must be a whole number up to {most:,}")
    return int(found)


def before(value: Any, mark: str) -> str:
    """What stands before the first `mark`; all of it when there is none."""
    return as_text(value).partition(mark)[0] if mark else as_text(value)


def after(value: Any, mark: str) -> str:
    """What stands after the first `mark`; nothing when there is none."""
    return as_text(value).partition(mark)[2] if mark else ""


def cut(value: Any, first: int = 0, last: int | None = None) -> str:
    """Characters from `first` (0 is the first one) up to, without, `last`; negative ones count from
    the end.
    """
    return as_text(value)[_whole(first, LONGEST) : None if last is None else _whole(last, LONGEST)]


def replaced(value: Any, old: str, new: str) -> str:
    text = as_text(value)
    found = text.count(old)
    if len(text) + found * (len(new) - len(old)) > LONGEST:
        raise TemplateError(f"the text would have more than {LONGEST:,} characters")
    return text.replace(old, new)


def slug(value: Any, mark: str = "-") -> str:
    """Small letters and digits without accents, with `mark` for blanks and hyphens: “Café, № 5” →
    "cafe-no-5".
    """
    text = unicodedata.normalize("NFKD", as_text(value)).encode("ascii", "ignore").decode().lower()
    return bounded(re.sub(r"[-\s]+", mark, re.sub(r"[^\w\s-]", "", text)).strip("-_"))


def fixed(value: Any, places: int = 2) -> str:
    """Rounded half up to so many decimals, all of them written: 3.5 → "3.50"."""
    step = Decimal(1).scaleb(-_whole(places, 30))
    return format(number(value).quantize(step, rounding=ROUND_HALF_UP, context=ARITHMETIC), "f")


def date(
    value: Any,
    form: str,
    reads: str = "",
    days: Any = 0,
    hours: Any = 0,
    minutes: Any = 0,
    seconds: Any = 0,
    zone: str = "",
) -> str:
    """The date in `value`, moved, written as `form`."""
    instant = dates.moved(dates.read(as_text(value), reads), days, hours, minutes, seconds)
    return dates.written(instant.astimezone(dates.zone_of(zone)) if zone else instant, form)


class Digest(str):
    """A digest: hexadecimal where it is sent as it is; `base64` and `base64url` write its bytes."""

    __slots__ = ()

    @property
    def octets(self) -> bytes:
        return bytes.fromhex(self)


def hashed(name: str) -> Callable[[Any], Digest]:
    return lambda value: Digest(
        hashlib.new(name, octets_of(value), usedforsecurity=False).hexdigest()
    )


def keyed(value: Any, key: str, name: str = "sha256") -> Digest:
    """HMAC (RFC 2104)."""
    if name not in DIGESTS:
        raise TemplateError(f"hmac takes {', '.join(DIGESTS)}")
    return Digest(hmac.new(octets_of(key), octets_of(value), name).hexdigest())


def octets_of(value: Any) -> bytes:
    """A digest's bytes; those of any other text in UTF-8."""
    if isinstance(value, Digest):
        return value.octets
    return as_text(value).encode("utf-8", "surrogateescape")  # a body may be no text


def based(value: Any) -> str:
    return bounded(base64.b64encode(octets_of(value)).decode())


def based_for_urls(value: Any) -> str:
    """Base64 of the alphabet for addresses, without padding (RFC 4648 §5)."""
    return bounded(base64.urlsafe_b64encode(octets_of(value)).decode().rstrip("="))


def jwt_part(value: Any, number: int) -> Any:
    """The head (0) or the claims (1) of a JSON Web Token (RFC 7519); its signature is not looked
    at.
    """
    parts = as_text(value).split(".")
    if len(parts) < 2:
        raise TemplateError(f"“{as_text(value)[:40]}” is no JSON Web Token: it has no dots")
    return from_json(decoded(parts[number]))


def jwt_signed(value: Any, key: str, name: str = "HS256") -> str:
    """A JSON Web Token with the object `value` as its claims, signed by HMAC (RFC 7515)."""
    if name not in JWT_HMACS:
        raise TemplateError(f"jwt signs with {', '.join(JWT_HMACS)}")
    claims = from_json(value) if isinstance(value, str) else value
    if not isinstance(claims, dict):
        raise TemplateError(f"“{as_text(value)[:40]}” is no object, so it holds no claims")
    head = to_json({"alg": name, "typ": "JWT"})
    text = f"{based_for_urls(head)}.{based_for_urls(to_json(claims))}"
    return bounded(f"{text}.{based_for_urls(keyed(text, key, JWT_HMACS[name]))}")


def decoded(value: Any) -> str:
    """Base64, of either alphabet, with or without its padding."""
    text = as_text(value).strip().replace("-", "+").replace("_", "/").rstrip("=")
    try:
        return base64.b64decode(text + "=" * (-len(text) % 4), validate=True).decode("utf-8")
    except ValueError as problem:
        raise TemplateError(f"“{as_text(value)[:40]}” is not base64 of a text") from problem


def listed(value: Any) -> list[Any]:
    """A list as it is; a text that is a JSON list, read."""
    found = from_json(value) if isinstance(value, str) else value
    if not isinstance(found, list | tuple):
        raise TemplateError(
            f"“{as_text(value)[:40]}” is not a list; capture with pick: all, or use split"
        )
    return list(found)


def item(value: Any, at: int) -> Any:
    found = listed(value)
    if not found:
        raise TemplateError("the list is empty, so there is none to take")
    return found[at]


def ordered(value: Any) -> list[Any]:
    found = listed(value)
    if all(as_number(each) is not None for each in found):
        return sorted(found, key=number)
    return sorted(found, key=as_text)


def added(value: Any) -> Decimal:
    total = Decimal(0)
    for each in listed(value):
        total = ARITHMETIC.add(total, number(each))
    return total


def split(value: Any, mark: str = ",") -> list[str]:
    if not mark:
        raise TemplateError("split needs the text between the parts, such as split(',')")
    return as_text(value).split(mark)


def rounded(value: Any, places: int = 0) -> Decimal:
    """Half up, to `places` decimals (≤ 40) at most; noughts at the end are not written (`fixed`
    writes them).
    """
    return number(value).quantize(
        Decimal(1).scaleb(-_whole(places, 40)), rounding=ROUND_HALF_UP, context=ARITHMETIC
    )


def otherwise(value: Any, instead: Any = "") -> Any:
    """`instead` for what is missing or empty."""
    from jinja2 import Undefined

    return instead if isinstance(value, Undefined) or value is None or value == "" else value


def _text(function: Callable[[str], str]) -> Callable[[Any], str]:
    return lambda value: bounded(function(as_text(value)))


RICH: dict[str, Callable[..., Any]] = {
    **{name: _text(function) for name, function in FILTERS.items()},
    "base64": based,
    "base64url": based_for_urls,
    "jwt": jwt_signed,
    "jwt_claims": lambda value: jwt_part(value, 1),
    "jwt_head": lambda value: jwt_part(value, 0),
    "unpercent": _text(unquote),
    "unbase64": decoded,
    "html": _text(html.escape),
    "unhtml": _text(html.unescape),
    "hmac": keyed,
    **{name: hashed(name) for name in DIGESTS},
    "trim": _text(str.strip),
    "title": _text(str.title),
    "pad": pad,
    "cut": cut,
    "before": before,
    "after": after,
    "replace": replaced,
    "slug": slug,
    "number": number,
    "fixed": fixed,
    "round": rounded,
    "abs": lambda value: abs(number(value)),
    "date": date,
    "to_json": to_json,
    "from_json": from_json,
    "split": split,
    "join": lambda value, mark="": joined(
        *[part for each in listed(value) for part in (mark, each)][1:]
    ),
    "first": lambda value: item(value, 0),
    "last": lambda value: item(value, -1),
    "sort": ordered,
    "reverse": lambda value: listed(value)[::-1],
    "length": lambda value: len(value) if isinstance(value, list | dict) else len(as_text(value)),
    "count": lambda value: len(listed(value)),
    "sum": added,
    "min": lambda value: min(map(number, listed(value)), default=""),
    "max": lambda value: max(map(number, listed(value)), default=""),
    "unique": lambda value: list(dict.fromkeys(map(as_text, listed(value)))),
    "default": otherwise,
}
