"""How one value may be written: the forms searched for in answers, and what a sent text may hold
inside.
"""

import base64
import html
import json
import re
from collections.abc import Iterator
from typing import Any
from urllib.parse import quote, quote_plus, unquote, unquote_plus

import orjson

from dynamikos.core.captures import Decoding
from dynamikos.core.captures.decoding import from_base64

PRINTABLE = re.compile(r"[\x20-\x7e\u00a0-\uffff\r\n\t]+\Z")
BASE64 = re.compile(r"[A-Za-z0-9+/_-]{8,}={0,2}\Z")
JWT = re.compile(r"(eyJ[A-Za-z0-9_-]+)\.([A-Za-z0-9_-]+)\.([A-Za-z0-9_-]*)\Z")


def written(value: str) -> dict[str, Decoding]:
    """Texts an answer may hold for `value` → the decoding that gives it back ("" for the value
    itself).
    """
    forms: dict[str, Decoding] = {value: ""}
    for text in (
        html.escape(value),
        html.escape(value, quote=False),
        value.replace("&", "&amp;"),
        value.replace("/", "&#x2F;"),
    ):
        forms.setdefault(text, "html")
    plain = json.dumps(value, ensure_ascii=False)[1:-1]
    for text in (
        plain,
        json.dumps(value)[1:-1],
        plain.replace("/", "\\/"),
        plain.replace("&", "\\u0026").replace("=", "\\u003d"),
    ):
        forms.setdefault(text, "json")
    coded = quote(value, safe="")
    for text in (
        coded,
        quote_plus(value),
        re.sub(r"%[0-9A-F]{2}", lambda match: match.group(0).lower(), coded),
    ):
        forms.setdefault(text, "percent")
    if len(value) >= 4:
        raw = value.encode()
        for coded in (base64.b64encode(raw).decode(), base64.urlsafe_b64encode(raw).decode()):
            for text in (coded, coded.rstrip("=")):
                forms.setdefault(text, "base64")
    return forms


def inside(value: str) -> Iterator[tuple[str, str, str, str]]:
    """What a sent text holds inside: (place within, name, value, coding), one level deep."""
    if JWT.match(value):
        yield from _token_fields(value)
        return
    text = value.strip()
    if text[:1] in ("{", "[") and len(text) > 2:
        try:
            document = orjson.loads(text)
        except ValueError:
            pass
        else:
            for path, name, leaf in leaves(document):
                yield f"json {path}", name, leaf, "json"
            return
    if re.match(r"(https?:/)?/\S*[?/]\S+\Z", value) and len(value) < 4000:
        yield from _address_parts(value)
        return
    if re.search(r"%[0-9A-Fa-f]{2}", value):
        yield "percent-decoded", "", unquote(value), "percent"
    if BASE64.match(value) and re.search(r"[A-Z]", value) and len(value) >= 12:
        decoded = from_base64(value)
        if decoded is not None and len(decoded) >= 4 and PRINTABLE.match(decoded):
            yield "base64-decoded", "", decoded, "base64"


def leaves(document: Any, limit: int = 20_000) -> Iterator[tuple[str, str, str]]:
    """(JSONPath, name, text) of every scalar; a name is the nearest key."""
    stack: list[tuple[str, str, Any]] = [("$", "", document)]
    count = 0
    steps: dict[str, str] = {}
    while stack:
        path, name, value = stack.pop()
        if isinstance(value, dict):
            for key in reversed(list(value)):
                step = steps.get(key)
                if step is None:
                    step = steps[key] = (
                        f".{key}"
                        if re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", key)
                        else f"[{json.dumps(key)}]"
                    )
                stack.append((path + step, key, value[key]))
        elif isinstance(value, list):
            for index in range(len(value) - 1, -1, -1):
                stack.append((f"{path}[{index}]", name, value[index]))
        elif value is not None and not isinstance(value, bool):
            yield path, name, value if isinstance(value, str) else orjson.dumps(value).decode()
            count += 1
            if count >= limit:
                return


def _token_fields(token: str) -> Iterator[tuple[str, str, str, str]]:
    """The payload fields of a JSON Web Token (RFC 7519)."""
    payload = from_base64(token.split(".")[1])
    try:
        document = orjson.loads(payload or "")
    except ValueError:
        return
    for path, name, leaf in leaves(document):
        yield f"token payload {path}", name, leaf, "jwt"


def _address_parts(value: str) -> Iterator[tuple[str, str, str, str]]:
    path, _, query = value.partition("#")[0].partition("?")
    segments = re.sub(r"\Ahttps?://[^/]*", "", path).split("/")
    for number, segment in enumerate(segments):
        if segment:
            yield (
                f"path {number}",
                segments[number - 1] if number else "",
                unquote(segment),
                "percent",
            )
    for pair in query.split("&") if query else ():
        name, _, text = pair.partition("=")
        if text:
            yield f"query {name}", name, unquote_plus(text), "percent"
