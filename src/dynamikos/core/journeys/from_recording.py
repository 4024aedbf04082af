"""A journey from a recording: page by page into steps, cookies left to the jar, think times from gaps."""

import base64
import re
from collections.abc import Collection
from email.parser import BytesParser
from email.policy import HTTP
from html import unescape
from urllib.parse import SplitResult, parse_qsl, urlsplit

from msgspec.structs import replace

from dynamikos.core.checks import Check
from dynamikos.core.exchanges import Exchange, Recording
from dynamikos.core.exchanges.jsontext import problem_in
from dynamikos.core.exchanges.model import redirect_of
from dynamikos.core.journeys.model import Body, FormPart, Journey, Request, Step, key_from

STATIC = re.compile(r"\.(css|js|mjs|png|jpe?g|gif|svg|webp|avif|ico|woff2?|ttf|otf|mp4|webm|map)\Z", re.I)
STATIC_TYPES = ("image/", "font/", "text/css", "text/javascript", "application/javascript", "video/", "audio/")
# Headers a browser or the engine makes itself: cookies are the jar's, lengths and hosts are computed.
OWN_HEADERS = frozenset(
    [
        "host",
        "connection",
        "content-length",
        "cookie",
        "accept-encoding",
        "keep-alive",
        "te",
        "transfer-encoding",
        "upgrade",
        "expect",
        "proxy-connection",
        "upgrade-insecure-requests",
        "if-none-match",
        "if-modified-since",
        "cache-control",
        "pragma",
        "traceparent",
        "origin",
        "referer",
        "dnt",
        "priority",
    ]
)
MAX_THINK_S = 86_400.0
GAP_US = 1_000_000  # a pause this long within a page begins a new step
LEAVING = re.compile(r"sign-?out|log-?out|log-?off", re.I)


def journey_from(
    recording: Recording, name: str, origins: Collection[str], bases: dict[str, str] | None = None
) -> Journey:
    """The journey in `recording`, with only the exchanges to `origins` ("https://host:port").

    `bases` maps an origin to the environment value that stands for it ("env.observatory"). Steps begin with a page or
    after a pause; steps up to a sign-in with a password become the opening, a sign-out at the end the closing.
    """
    if recording.marks:
        return _from_marks(recording, name, origins, bases or {})
    groups = _groups(recording, origins)
    steps: list[Step] = []
    signed_in = leaving = -1
    for number, group in enumerate(groups):
        title = _title(recording, group)
        key = key_from(title, {step.step for step in steps})
        requests = _requests(group, recording, bases or {})
        think = 0.0
        if number + 1 < len(groups):
            gap = groups[number + 1][0][1].started_us - max(e.started_us + e.timings.total_us for _, e in group)
            think = round(min(max(0, gap) / 1_000_000, MAX_THINK_S), 1)
        if signed_in < 0 and any(b"passw" in e.sent.body.lower() and e.sent.method == "POST" for _, e in group):
            signed_in = number
        if LEAVING.search(urlsplit(group[0][1].sent.url).path) and number == len(groups) - 1:
            leaving = number
        steps.append(Step(step=key, name=title, think_s=think, recorded_think_s=think, requests=tuple(requests)))
    first = signed_in + 1
    last = leaving if leaving > signed_in else len(steps)
    return Journey(
        form=1,
        journey=key_from(name),
        name=name,
        opening=tuple(steps[:first]),
        rounds=tuple(steps[first:last]),
        closing=tuple(steps[last:]),
    )


def _from_marks(recording: Recording, name: str, origins: Collection[str], bases: dict[str, str]) -> Journey:
    """Steps as they were named while recording; what came before the first name is a step of its own in the opening."""
    parts: dict[str, list[Step]] = {"opening": [], "rounds": [], "closing": []}
    marks = sorted(recording.marks, key=lambda mark: mark.at_us)
    stretches: list[tuple[str, str, list[tuple[int, Exchange]]]] = []
    for number, exchange in enumerate(recording.exchanges):
        url = urlsplit(exchange.sent.url)
        if f"{url.scheme}://{url.netloc}" not in origins:
            continue
        mark = next((each for each in reversed(marks) if each.at_us <= exchange.started_us), None)
        title, part = (mark.name, mark.part) if mark is not None else ("Before the first name", "opening")
        if stretches and is_static(exchange):  # a page keeps its resources, wherever the next stretch was begun
            title, part = stretches[-1][:2]
        if not stretches or stretches[-1][:2] != (title, part):
            stretches.append((title, part, []))
        stretches[-1][2].append((number, exchange))
    keys: set[str] = set()
    for index, (title, part, group) in enumerate(stretches):
        key = key_from(title, keys)
        keys.add(key)
        think = 0.0
        if index + 1 < len(stretches):
            gap = stretches[index + 1][2][0][1].started_us - max(e.started_us + e.timings.total_us for _, e in group)
            think = round(min(max(0, gap) / 1_000_000, MAX_THINK_S), 1)
        parts[part].append(
            Step(
                step=key,
                name=title,
                think_s=think,
                recorded_think_s=think,
                requests=tuple(_requests(group, recording, bases)),
            )
        )
    return Journey(
        form=1,
        journey=key_from(name),
        name=name,
        opening=tuple(parts["opening"]),
        rounds=tuple(parts["rounds"]),
        closing=tuple(parts["closing"]),
    )


def is_static(exchange: Exchange) -> bool:
    """A resource of a page (style, script, picture, font), fetched with GET."""
    if exchange.sent.method != "GET":
        return False
    kind = (exchange.answer.header("content-type") or "") if exchange.answer else ""
    return kind.startswith(STATIC_TYPES) or bool(STATIC.search(urlsplit(exchange.sent.url).path))


def _groups(recording: Recording, origins: Collection[str]) -> list[list[tuple[int, Exchange]]]:
    groups: list[list[tuple[int, Exchange]]] = []
    page = None
    end = 0
    redirected = False
    for number, exchange in enumerate(recording.exchanges):
        parts = urlsplit(exchange.sent.url)
        if f"{parts.scheme}://{parts.netloc}" not in origins:
            continue
        pause = exchange.started_us - end >= GAP_US and not is_static(exchange)
        new_page = exchange.page != page and not is_static(exchange)
        if not groups or ((new_page or pause) and not redirected):
            groups.append([])
        page = exchange.page
        groups[-1].append((number, exchange))
        end = max(end, exchange.started_us + exchange.timings.total_us)
        redirected = exchange.answer is not None and exchange.answer.status in (301, 302, 303, 307, 308)
    return groups


def _title(recording: Recording, group: list[tuple[int, Exchange]]) -> str:
    """The page's title, else its path in words."""
    exchange = group[0][1]
    main = next((e for _, e in group if e.answer and "html" in (e.answer.header("content-type") or "")), exchange)
    found = re.search(rb"<title[^>]*>([^<]{1,120})</title>", main.answer.body if main.answer else b"", re.I)
    if main.answer and found and main is exchange:
        return unescape(found.group(1).decode("utf-8", "replace")).strip()
    path = urlsplit(exchange.sent.url).path.strip("/") or "front page"
    words = re.sub(r"[-_/.]+", " ", path).strip()[:60]
    return (f"{exchange.sent.method.capitalize()} " if exchange.sent.method != "GET" else "Open ") + words


def _requests(group: list[tuple[int, Exchange]], recording: Recording, bases: dict[str, str]) -> list[Request]:
    requests: list[Request] = []
    skip_to: str | None = None
    for number, exchange in group:
        url = exchange.sent.url
        if skip_to == url and exchange.sent.method == "GET":  # the engine follows redirects itself
            skip_to = redirect_of(exchange)
            continue
        if is_static(exchange) and exchange.answer is not None and exchange.answer.status >= 400:
            continue  # what a browser asks for by itself and does not get, such as an icon
        address, parts = _address(url, bases)
        if is_static(exchange) and requests:
            requests[-1] = _embed(requests[-1], address + (f"?{parts.query}" if parts.query else ""))
            continue
        taken = {request.request for request in requests}
        words = "-".join(part for part in parts.path.split("/") if part) or "front"
        checks: tuple[Check, ...] = ()
        final = _final(recording, number)
        if final is not None and final.answer is not None and final.answer.status < 400:
            checks = (Check(status=final.answer.status),)
        requests.append(
            Request(
                request=key_from(f"{exchange.sent.method.lower()}-{words}", taken),
                method=exchange.sent.method,
                address=address,
                query=tuple(parse_qsl(parts.query, keep_blank_values=True)),
                headers=_headers(exchange),
                body=_body(exchange),
                checks=checks,
                recorded=number,
            )
        )
        skip_to = redirect_of(exchange)
    return requests


def _final(recording: Recording, number: int) -> Exchange | None:
    """The exchange at the end of the redirects that begin at `number`."""
    exchange = recording.exchanges[number]
    for following in recording.exchanges[number + 1 : number + 12]:
        wanted = redirect_of(exchange)
        if wanted is None:
            break
        if following.sent.url == wanted:
            exchange = following
    return exchange if redirect_of(exchange) is None else None


def _address(url: str, bases: dict[str, str]) -> tuple[str, SplitResult]:
    parts = urlsplit(url)
    origin = f"{parts.scheme}://{parts.netloc}"
    base = f"{{{{ {bases[origin]} }}}}" if origin in bases else origin
    return base + (parts.path or "/").replace("{{", "%7B%7B"), parts


def _embed(request: Request, address: str) -> Request:
    return request if address in request.embedded else replace(request, embedded=(*request.embedded, address))


def _headers(exchange: Exchange) -> tuple[tuple[str, str], ...]:
    kept = []
    for name, value in exchange.sent.headers:
        lower = name.lower()
        if (
            lower in OWN_HEADERS
            or lower.startswith(("sec-", "proxy-"))
            or (lower == "content-type" and exchange.sent.body)
        ):
            continue
        if lower in ("user-agent", "accept-language", "accept"):
            continue
        kept.append((name, value.replace("{{", "{ {")))
    return tuple(kept)


def _body(exchange: Exchange) -> Body | None:
    body = exchange.sent.body
    if not body:
        return None
    kind = next((value for name, value in exchange.sent.headers if name.lower() == "content-type"), "")
    text = body.decode("utf-8", "replace").replace("{{", "{ {")
    if kind.startswith("multipart/form-data"):
        parts = _parts(body, kind)
        if parts:
            return Body(parts=parts)
    if "x-www-form-urlencoded" in kind:
        return Body(form=tuple(parse_qsl(text, keep_blank_values=True)))
    if "json" in kind and not problem_in(text):
        return Body(json=text, type="" if kind == "application/json" else kind)
    return Body(raw=text, type=kind or "application/octet-stream")


def _parts(body: bytes, kind: str) -> tuple[FormPart, ...]:
    """The parts of a multipart form (RFC 7578); () for what can't be read as one."""
    message = BytesParser(policy=HTTP).parsebytes(b"Content-Type: " + kind.encode() + b"\r\n\r\n" + body)
    made = []
    for part in message.iter_parts() if message.is_multipart() else ():
        name = part.get_param("name", header="content-disposition")
        if not isinstance(name, str):
            return ()
        content = part.get_payload(decode=True) or b""
        assert isinstance(content, bytes)
        file = part.get_filename() or ""
        given = str(part.get("content-type") or "")
        try:
            text = content.decode("utf-8")
        except UnicodeDecodeError:
            text = "\0"
        if "\0" in text or (file and "{{" in text):
            made.append(FormPart(name=name, file=file or name, type=given, base64=base64.b64encode(content).decode()))
        else:
            made.append(FormPart(name=name, file=file, type=given, value=text.replace("{{", "{ {")))
    return tuple(made)
