"""Places in a request: what stands there as it is written, and a value replaced there by a hole."""

import json
import re
from collections.abc import Callable, Sequence
from itertools import islice
from typing import NamedTuple
from urllib.parse import quote, quote_plus, unquote

from msgspec.structs import replace

from dynamikos.core.correlation.coding import written
from dynamikos.core.correlation.field_names import PLACE, renamed
from dynamikos.core.correlation.texts import whole
from dynamikos.core.exchanges.jsontext import spans
from dynamikos.core.journeys import Body, FormPart, Request

HOLE = re.compile(r"\{\{.*?\}\}", re.S)
FILTER_OF = {"": "", "percent": " | percent", "json": "", "html": "", "base64": " | base64"}


def text_at(request: Request, place: str) -> str | None:
    """What a request sends at a place, as it is written there; None where that is no text of its
    own.
    """
    at = _Place.of(place)
    body = request.body or Body()
    if at.kind == "path":
        base = re.match(r"\{\{.*?\}\}|https?://[^/]*", request.address)
        segments = _outside(request.address[base.end() if base else 0 :], "/")
        return segments[int(at.name)] if int(at.name) < len(segments) else None
    if at.kind == "json" and body.json is not None:
        scalars = (body.json[a:b] for found, a, b in spans(body.json) if found == at.whole)
        return next((scalar.strip('"') for scalar in scalars), None)
    found = [text for name, text in _named(request, body, at.kind) if is_name(name, at.name)]
    return found[at.nth - 1] if at.nth <= len(found) else None


def _named(request: Request, body: Body, kind: str) -> Sequence[tuple[str, str]]:
    """The names and texts of a kind of place, headers as sites name them."""
    if kind == "query":
        return request.query
    if kind == "header":
        return [(name.title(), text) for name, text in request.headers]
    if kind in ("form", "field") and body.form is not None:
        return body.form
    if kind == "field" and body.parts is not None:
        return [(part.name, part.value) for part in body.parts]
    if kind == PLACE:
        names = [name for name, _ in body.form or ()] + [part.name for part in body.parts or ()]
        return [(name, name) for name in names]
    return ()


def is_name(written: str, recorded: str) -> bool:
    """Whether a name as it is written, maybe with holes, is the recorded one."""
    if "{{" not in written:
        return written == recorded
    fixed = (re.escape(part) for part in HOLE.split(written))
    return re.fullmatch(".+".join(fixed), recorded) is not None


def changed_request(request: Request, place: str, value: str, hole: str) -> Request:
    """`request` with `value` replaced by the hole at `place`; unchanged when it is not there."""
    at = _Place.of(place)
    if at.kind == "path":
        return replace(request, address=_path(request.address, int(at.name), value, hole))
    if at.kind == "query":
        return replace(request, query=_pairs(request.query, at.name, at.nth, value, hole))
    if at.kind == "header":
        headers = _pairs(request.headers, at.name, at.nth, value, hole, any_case=True)
        return replace(request, headers=headers)
    if request.body is None:
        return request
    return replace(request, body=_changed_body(request.body, at, value, hole))


class _Place(NamedTuple):
    """A place as sites name it: "query page (2)" is the second field of that name."""

    kind: str
    name: str
    nth: int
    whole: str  # after the kind

    @classmethod
    def of(cls, place: str) -> "_Place":
        first = place.split(", ")[0]
        number = re.search(r" \((\d+)\)\Z", first)
        kind, _, name = re.sub(r" \(\d+\)\Z", "", first).partition(" ")
        return cls(kind, name, int(number.group(1)) if number else 1, first.partition(" ")[2])


def _changed_body(body: Body, at: _Place, value: str, hole: str) -> Body:
    if at.kind == PLACE:
        return _with_names(body, at.whole, value, hole)
    if body.form is not None and at.kind in ("form", "field"):
        return Body(form=_pairs(body.form, at.name, at.nth, value, hole), type=body.type)
    if body.parts is not None and at.kind == "field":
        return replace(body, parts=_parts(body.parts, at.name, at.nth, value, hole))
    if body.json is not None and at.kind == "json":
        return Body(json=_json(body.json, at.whole, value, hole), type=body.type)
    if body.raw is not None:
        return Body(raw=_changed_text(body.raw, at, value, hole, is_raw=True), type=body.type)
    if body.json is not None:
        return Body(json=_changed_text(body.json, at, value, hole, is_raw=False), type=body.type)
    return body


def _with_names(body: Body, name: str, value: str, hole: str) -> Body:
    """A hole in the name of a field."""
    new = renamed(name, value, f"{{{{ {hole} }}}}")
    if body.form is not None:
        return replace(body, form=tuple((new if n == name else n, v) for n, v in body.form))
    if body.parts is not None:
        parts = (replace(p, name=new) if p.name == name else p for p in body.parts)
        return replace(body, parts=tuple(parts))
    return body


def _changed_text(text: str, at: _Place, value: str, hole: str, *, is_raw: bool) -> str:
    """A body as one text: a field of a multipart one, a pair of an encoded form, or anywhere."""
    span: tuple[int, int] | None = 0, len(text)
    is_form = at.kind == "form" and is_raw
    if at.kind == "field":
        span = _part_span(text, at.name)
    elif is_form:
        span = _pair_span(text, at.name, at.nth)
    if span is None:
        return text
    changed = fit(text[span[0] : span[1]], value, hole, coded=is_form)
    return text if changed is None else text[: span[0]] + changed + text[span[1] :]


def _part_span(text: str, name: str) -> tuple[int, int] | None:
    start = text.find(f'name="{name}"')
    if start < 0:
        return None
    end = text.find("\n--", start)
    return start, end if end >= 0 else len(text)


def _pair_span(text: str, name: str, nth: int) -> tuple[int, int] | None:
    pattern = re.compile(rf"(?:(?<=\A)|(?<=&)){re.escape(quote_plus(name))}=[^&]*")
    match = next(islice(pattern.finditer(text), nth - 1, None), None)
    return None if match is None else match.span()


def _parts(
    parts: Sequence[FormPart], name: str, nth: int, value: str, hole: str
) -> tuple[FormPart, ...]:
    """Like `_pairs`, for the parts of a multipart form."""
    values = [(part.name, part.value) for part in parts]
    changed = _pairs(values, name, nth, value, hole)
    return tuple(replace(part, value=new) for part, (_, new) in zip(parts, changed, strict=True))


def _path(address: str, number: int, value: str, hole: str) -> str:
    base = re.match(r"\{\{.*?\}\}|https?://[^/]*", address)
    start = base.end() if base else 0
    segments = _outside(address[start:], "/")
    if number >= len(segments):
        return address
    segment = segments[number]
    if unquote(segment) == value:
        segments[number] = (
            _written_hole(hole, "percent")
            if quote(value, safe="") != quote(value, safe="/:?#[]@!$&'()*+,;=-._~%")
            else f"{{{{ {hole} }}}}"
        )
    else:  # a value that was captured as it stands encoded in an address is sent as it is
        segments[number] = (
            fit(segment, value, f"{hole} | encoded" if "%" in value else hole, in_path=True)
            or segment
        )
    return address[:start] + "/".join(segments)


def _outside(text: str, mark: str) -> list[str]:
    """`text` split at `mark`, but not inside of a hole."""
    pieces, last = [], 0
    inside = [(m.start(), m.end()) for m in HOLE.finditer(text)]
    for match in re.finditer(re.escape(mark), text):
        if not any(start <= match.start() < end for start, end in inside):
            pieces.append(text[last : match.start()])
            last = match.end()
    return [*pieces, text[last:]]


def _pairs(
    pairs: Sequence[tuple[str, str]],
    name: str,
    nth: int,
    value: str,
    hole: str,
    *,
    any_case: bool = False,
) -> tuple[tuple[str, str], ...]:
    out, count = [], 0
    for key, text in pairs:
        if is_name(key, name) or (any_case and key.lower() == name.lower()):
            count += 1
            if count == nth:
                text = fit(text, value, hole) or text
        out.append((key, text))
    return tuple(out)


def _json(text: str, path: str, value: str, hole: str) -> str:
    try:
        for found, start, end in spans(text):
            if found != path:
                continue
            scalar = text[start:end]
            if not scalar.startswith('"'):
                return text[:start] + f"{{{{ {hole} }}}}" + text[end:] if scalar == value else text
            inner = json.loads(scalar)
            if inner == value:
                return text[:start] + f'"{{{{ {hole} }}}}"' + text[end:]
            changed = fit(inner, value, hole)
            return (
                text[:start] + json.dumps(changed, ensure_ascii=False) + text[end:]
                if changed is not None
                else text
            )
    except ValueError:
        return fit(text, value, hole) or text
    return text


def _written_hole(hole: str, coding: str) -> str:
    return f"{{{{ {hole}{FILTER_OF[coding]} }}}}"


def _through(name: str) -> Callable[[str], str]:
    """What makes a hole that goes through the filter `name`; "" for none."""
    return lambda inside: f"{{{{ {inside} | {name} }}}}" if name else f"{{{{ {inside} }}}}"


def fit(
    text: str, value: str, hole: str, *, in_path: bool = False, coded: bool = False
) -> str | None:
    """`text` with `value`, however it is written there, replaced by the hole; None when it is not
    in it as a whole.
    """
    if text == value:
        return f"{{{{ {hole} }}}}"
    forms = [(value, _through("percent" if coded else ""))]
    for form, coding in written(value).items():
        if coding == "percent":
            forms.append((form, _through("" if in_path else "percent")))
        elif coding == "json":
            forms.append((form, _through("json")))
        elif coding == "base64":
            of_urls = "-" in form or "_" in form or len(form) % 4
            forms.append((form, _through("base64url" if of_urls else "base64")))
    for form, make in forms:
        pieces, last, found = [], 0, False
        holes = [(m.start(), m.end()) for m in HOLE.finditer(text)]
        at = text.find(form)
        while at >= 0:
            inside = any(start <= at < end and form[:2] != "{{" for start, end in holes)
            if whole(text, at, len(form)) and not inside:
                pieces.append(text[last:at] + make(hole))
                last, found = at + len(form), True
            at = text.find(form, at + len(form))
        if found:
            return "".join(pieces) + text[last:]
    return None
