"""A journey compiled once for all users of a shard: work per exchange dominates everything else."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from urllib.parse import quote, quote_plus, urljoin, urlsplit

import orjson

from dynamikos.core.captures import compile_capture
from dynamikos.core.captures.base import Taker
from dynamikos.core.checks import compile_check
from dynamikos.core.checks.base import Judge
from dynamikos.core.errors import TemplateError
from dynamikos.core.frozen import Series, series_of
from dynamikos.core.journeys import Journey, Request, Step
from dynamikos.core.values import Template, bind, compile_text
from dynamikos.core.values.template import HOLE
from dynamikos.engine.failures import Failure
from dynamikos.engine.ports import Origin

Values = Mapping[str, str]
Fill = Callable[[Values], str]
RESERVED = "/:?#[]@!$&'()*+,;=-._~%"
DEFAULT_HEADERS = (("User-Agent", "Dynamikos/0.1"), ("Accept", "*/*"), ("Accept-Encoding", "gzip, deflate, br, zstd"))


def _filler(source: str, encode: Callable[[str], str] | None = None) -> tuple[Fill, str | None]:
    """(function values → text, the text itself if it is fixed). `encode` is applied to what fills a hole, not to the rest."""
    template = compile_text(source)
    if template.fixed is not None:
        fixed = template.fixed
        return (lambda values: fixed), fixed
    if encode is None:
        return template.fill, None
    encoder = encode

    def fill(values: Values) -> str:
        return template.fill(_Encoded(values, encoder))

    return fill, None


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


def split_url(url: str) -> tuple[Origin, str, str]:
    """(origin, Host header's value, request target). Raises Failure("address") for what is not http(s)."""
    try:
        parts = urlsplit(url)
        port = parts.port or (443 if parts.scheme == "https" else 80)
    except ValueError as problem:
        raise Failure("address", f"'{url[:120]}' is not an address: {problem}") from problem
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise Failure("address", f"'{url[:120]}' is not an http or https address")
    target = parts.path or "/"
    if parts.query:
        target += "?" + parts.query
    standard = port == (443 if parts.scheme == "https" else 80)
    host = f"[{parts.hostname}]" if ":" in parts.hostname else parts.hostname
    return (parts.scheme, parts.hostname, port), host if standard else f"{host}:{port}", target


@dataclass(slots=True)
class CompiledRequest:
    """A request ready to be filled. `plain` is (origin, host, target, head bytes, body bytes) when nothing in it varies."""

    request: Request
    step: Step
    series: int
    method: str
    fill_address: Fill
    fill_query: list[tuple[Fill, Fill]]
    fill_headers: list[tuple[str, Fill]]
    fill_body: Fill | None
    body_form: list[tuple[Fill, Fill]] | None
    captures: list[tuple[str, Taker]]
    checks: list[Judge]
    checks_status: bool
    keeps_body: bool
    embedded: list[Fill]
    plain: tuple[Origin, str, str, bytes, bytes] | None = None
    # for a quick one: where it goes, its head up to the span's number
    origin: Origin = ("", "", 0)
    start: bytes = b""

    def build(self, values: Values) -> tuple[Origin, str, str, bytes, bytes]:
        """(origin, host, target, head up to the last own header, body). Raises TemplateError or Failure."""
        if self.plain is not None:
            return self.plain
        url = self.fill_address(values)
        if self.fill_query:
            query = "&".join(f"{name(values)}={value(values)}" for name, value in self.fill_query)
            url += ("&" if "?" in url else "?") + query
        origin, host, target = split_url(url)
        if self.body_form is not None:
            body = "&".join(f"{name(values)}={value(values)}" for name, value in self.body_form).encode()
        else:
            body = self.fill_body(values).encode() if self.fill_body is not None else b""
        lines = "".join(f"{name}: {fill(values)}\r\n" for name, fill in self.fill_headers)
        head = f"{self.method} {target} HTTP/1.1\r\nHost: {host}\r\n{lines}"
        if body or self.method in ("POST", "PUT", "PATCH"):
            head += f"Content-Length: {len(body)}\r\n"
        return origin, host, target, head.encode("utf-8"), body


@dataclass(slots=True)
class CompiledStep:
    step: Step
    series: int
    embedded_series: int
    requests: list[CompiledRequest]

    thinks: bool = False
    quick: CompiledRequest | None = None  # its only request, if nothing varies in it and its answer is not looked into


@dataclass(slots=True)
class Script:
    """The compiled journey."""

    series: tuple[Series, ...]
    opening: list[CompiledStep]
    rounds: list[CompiledStep]
    closing: list[CompiledStep]


def compile_journey(journey: Journey, environment: Values) -> Script:
    """Raises TemplateError or RuleError for what `verify` would have named."""
    series = series_of(journey)
    numbers = {(each.level, each.step, each.request): each.no for each in series}
    parts: dict[str, list[CompiledStep]] = {"opening": [], "rounds": [], "closing": []}
    for part, step in journey.steps():
        made = CompiledStep(
            step=step,
            series=numbers[("step", step.step, "")],
            thinks=step.think_s > 0 or step.think_to_s > 0,
            embedded_series=numbers.get(("embedded", step.step, ""), -1),
            requests=[_request(each, step, numbers[("request", step.step, each.request)], environment) for each in step.requests],
        )
        if len(made.requests) == 1:
            only = made.requests[0]
            if only.plain is not None and only.method != "HEAD" and not (only.plain[4] or only.captures or only.checks or only.embedded):
                made.quick, only.origin = only, only.plain[0]
        parts[part].append(made)
    return Script(series, parts["opening"], parts["rounds"], parts["closing"])


def _request(request: Request, step: Step, series: int, known: Values) -> CompiledRequest:
    def text(source: str, encode: Callable[[str], str] | None = None) -> Fill:
        return _filler(bind(source, known), encode)[0]

    def pair(name: str, value: str) -> tuple[Fill, Fill]:
        return _escaped(bind(name, known)), _escaped(bind(value, known))

    headers = [(name, text(value, in_header)) for name, value in request.headers]
    given = {name.lower() for name, _ in request.headers}
    headers.extend((name, text(value)) for name, value in DEFAULT_HEADERS if name.lower() not in given)
    body, fill_body, form = request.body, None, None
    kind = ""
    if body is not None:
        if body.form is not None:
            form, kind = [pair(name, value) for name, value in body.form], "application/x-www-form-urlencoded"
        elif body.json is not None:
            fill_body, kind = text(body.json, in_json), "application/json"
        elif body.raw is not None:
            fill_body, kind = text(body.raw), "application/octet-stream"
        if "content-type" not in given:
            headers.append(("Content-Type", text(body.type or kind)))
    captures = [(capture.name, compile_capture(capture)) for capture in request.captures]
    address = bind(request.address, known)
    whole = HOLE.match(address) is not None
    made = CompiledRequest(
        request=request, step=step, series=series, method=request.method, fill_address=text(address, None if whole else in_path),
        fill_query=[pair(name, value) for name, value in request.query], fill_headers=headers, fill_body=fill_body, body_form=form,
        captures=captures, checks=[compile_check(check) for check in request.checks],
        checks_status=any(check.status is not None for check in request.checks),
        keeps_body=any(c.header is None and c.cookie is None for c in request.captures) or any(c.status is None for c in request.checks),
        embedded=[text(each, in_path) for each in request.embedded],
    )  # fmt: skip
    try:
        made.plain = made.build({})
    except (TemplateError, Failure):
        made.plain = None
    return made


def _escaped(source: str) -> Fill:
    """A query or form text: fixed parts and values percent-encoded alike (application/x-www-form-urlencoded)."""
    template: Template = compile_text(source)
    if template.fixed is not None:
        fixed = quote_plus(template.fixed)
        return lambda values: fixed
    return lambda values: quote_plus(template.fill(values))


def resolve(base: str, address: str) -> str:
    """An address of a page's resource or redirect, made absolute. Raises Failure("address") for what is none."""
    try:
        return urljoin(base, address).partition("#")[0]
    except ValueError as problem:
        raise Failure("address", f"'{address[:120]}' is not an address: {problem}") from problem
