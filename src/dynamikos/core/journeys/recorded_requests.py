"""Requests from recorded exchanges: what means something is kept, what a browser makes by itself
left to the engine.
"""

import base64
import re
from collections import Counter
from collections.abc import Sequence
from email.parser import BytesParser
from email.policy import HTTP
from html.parser import HTMLParser
from urllib.parse import SplitResult, parse_qsl, urljoin, urlsplit

import orjson
from msgspec.structs import replace

from dynamikos.core.checks import Check, JsonEquals
from dynamikos.core.exchanges import Exchange, Recording
from dynamikos.core.exchanges.graphql import operation_of
from dynamikos.core.exchanges.jsontext import problem_in
from dynamikos.core.exchanges.model import redirect_of
from dynamikos.core.exchanges.resources import is_static
from dynamikos.core.figures import digits
from dynamikos.core.journeys.kinds import Step
from dynamikos.core.journeys.model import key_from
from dynamikos.core.journeys.request import Body, FormPart, Request

# Headers a browser or the engine makes itself: cookies are the jar's, lengths and hosts are
# computed.
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
        "dnt",
        "priority",
    ]
)


def requests_from(
    group: list[tuple[int, Exchange]],
    recording: Recording,
    bases: dict[str, str],
    notes: dict[int, str] | None = None,
) -> list[Request]:
    """The requests of one step; `notes` are put to those of their exchanges (numbers in the
    recording).
    """
    requests: list[Request] = []
    targets = Targets()
    for number, exchange in group:
        url = exchange.sent.url
        if targets.led_to(exchange):  # the engine follows redirects itself
            continue
        if _is_in_vain(exchange) or unsupported(exchange):
            continue
        if is_static(exchange) and requests:
            address, parts = _address(url, bases)
            whole = address + (f"?{parts.query}" if parts.query else "")
            requests[-1] = _embed(requests[-1], whole)
            continue
        taken = {request.request for request in requests}
        requests.append(_request(number, exchange, recording, bases, notes or {}, taken))
    return requests


FOLLOWED_WITHIN = 4  # exchanges: a browser follows a redirect at once


class Targets:
    """Where redirects lead to that were not followed yet: something else, such as a page's beacon,
    may be sent in between.
    """

    def __init__(self) -> None:
        self._wanted: dict[str, int] = {}  # with how many exchanges have come since

    def led_to(self, exchange: Exchange) -> bool:
        """Whether the exchange is where one of them leads to; its own redirect is waited for."""
        self._wanted = {url: n + 1 for url, n in self._wanted.items() if n < FOLLOWED_WITHIN}
        url = exchange.sent.url.partition("#")[0]
        found = exchange.sent.method == "GET" and self._wanted.pop(url, 0) > 0
        target = redirect_of(exchange)
        if target is not None:
            self._wanted[target] = 0
        return found


def _is_in_vain(exchange: Exchange) -> bool:
    """What a browser asks for by itself and does not get, such as an icon."""
    answer = exchange.answer
    failed = bool(exchange.error) or (answer is not None and answer.status >= 400)
    return failed and is_static(exchange)


def _request(
    number: int,
    exchange: Exchange,
    recording: Recording,
    bases: dict[str, str],
    notes: dict[int, str],
    taken: set[str],
) -> Request:
    address, parts = _address(exchange.sent.url, bases)
    operation = operation_of(exchange.sent)
    words = words_of(operation.name) if operation is not None else ""
    plain = f"{exchange.sent.method.lower()}-{'-'.join(spoken(parts.path)) or 'front'}"
    checks, said = _status(_final(recording, number))
    if operation is not None:
        checks = (*checks, *_no_errors(exchange))
    checks = (*checks, *_said_to_work(exchange))
    body = _body(exchange, bases)
    if lost_body(exchange):
        body = _upload(recording, number)
        said = [*said, LOST_BODY if body is None else LOST_UPLOAD]
    if exchange.lost:
        said = [*said, f"{exchange.lost[0].upper()}{exchange.lost[1:]}"]
    if number in notes:
        said = [*said, notes[number]]
    return Request(
        request=key_from(words or plain, taken),
        method=exchange.sent.method,
        address=address,
        query=_pairs(parts.query, bases),
        headers=_headers(exchange, bases),
        body=body,
        checks=checks,
        recorded=number,
        note="\n".join(said),
    )


def words_of(name: str) -> str:
    """The words of a name as programs write it: "LaunchPipeline" → "Launch Pipeline"."""
    return re.sub(r"(?<=[a-z0-9])(?=[A-Z])|_", " ", name)


def spoken(path: str) -> list[str]:
    """The segments of a path that are words, not numbers or ids; all of them if there are none."""
    segments = [each for each in path.split("/") if each]
    words = [
        each
        for each in segments
        if not re.fullmatch(r"[\d_.-]+|[0-9a-f]{8}[0-9a-f-]*|[A-Za-z0-9_-]{20,}|.*%.*", each)
    ]
    return words or segments


def unsupported(exchange: Exchange) -> str:
    """What an exchange is that can't be replayed, in words; "" for what can."""
    answer = exchange.answer
    upgrade = next(
        (value for name, value in exchange.sent.headers if name.lower() == "upgrade"), ""
    )
    if upgrade.lower() == "websocket" or exchange.sent.url.startswith(("ws:", "wss:")):
        return "a WebSocket handshake"
    if answer is not None and answer.status == 101:
        return "a change of protocol"
    if answer is not None and (answer.header("content-type") or "").lower().startswith(
        "text/event-stream"
    ):
        return "a stream of server-sent events"
    return ""


def _status(final: Exchange | None) -> tuple[tuple[Check, ...], list[str]]:
    """The check of a recorded status, and what is to be said of one that a browser would call an
    error.
    """
    if final is None or final.answer is None or final.answer.status <= 0:
        return (), []
    status = final.answer.status
    checks = (Check(status=status),)
    if status < 400:
        return checks, []
    return checks, [
        f"The recording has {status} here too: the application answers so. Leave the request out "
        "if it is not part of"
        " what the person does."
    ]


def _no_errors(exchange: Exchange) -> tuple[Check, ...]:
    """GraphQL says 200 whatever happens: the check that its answer has no errors, where the
    recorded one had none (GraphQL specification, 7.1 Response Format).
    """
    try:
        answer = orjson.loads(exchange.answer.body) if exchange.answer is not None else None
    except ValueError:
        return ()
    if not isinstance(answer, dict) or "data" not in answer or answer.get("errors"):
        return ()
    return (Check(json=JsonEquals(path="$.errors[0]"), never=True),)


def _said_to_work(exchange: Exchange) -> tuple[Check, ...]:
    """The check that an answer to something written says again that it worked, where it has a field
    of its own for that: such applications say 200 whatever happens.
    """
    answer = exchange.answer
    if exchange.sent.method in ("GET", "HEAD") or answer is None or answer.body[:1] != b"{":
        return ()
    try:
        said = orjson.loads(answer.body)
    except ValueError:
        return ()
    return tuple(
        Check(json=JsonEquals(path=f"$.{name}", equals="true"))
        for name in ("success", "ok")
        if said.get(name) is True
    )


LOST_BODY = (
    "The recording says that a body was sent, but has none: browsers leave uploads out of HAR "
    "files. Give the body"
    " here, or record it through the doorway or the proxy."
)
LOST_UPLOAD = (
    "The recording has no body for this upload: browsers leave it out of HAR files. Its fields "
    "were taken from the form"
    " of the page before; the file's content is a stand-in, so put the real one in its place."
)


def lost_body(exchange: Exchange) -> bool:
    """Whether a request says that it has a body, and the recording has none."""
    if exchange.sent.body or exchange.sent.method in ("GET", "HEAD"):
        return False
    headers = {name.lower(): value for name, value in exchange.sent.headers}
    length = headers.get("content-length", "")
    return "multipart/" in headers.get("content-type", "") or (digits(length) or 0) > 0


class _Forms(HTMLParser):
    """Collects the forms of a page: their address and their fields."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.forms: list[tuple[str, list[tuple[str, str, str]]]] = []  # action, (name, value, type)
        self._area: list[str] | None = None
        self._open = False

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        marks = {name: value or "" for name, value in attrs}
        if tag == "form":
            self.forms.append((marks.get("action", ""), []))
            self._open = True
        if not self._open or not marks.get("name"):
            return
        fields = self.forms[-1][1]
        kind = marks.get("type", "text").lower()
        if tag == "input" and kind not in ("submit", "button", "image", "reset"):
            if kind not in ("checkbox", "radio") or "checked" in marks:
                fields.append((marks["name"], marks.get("value", ""), kind))
        elif tag == "textarea":
            fields.append((marks["name"], "", "text"))
        elif tag == "select":
            fields.append((marks["name"], "", "select"))

    def handle_endtag(self, tag: str) -> None:
        if tag == "form":
            self._open = False


def _upload(recording: Recording, number: int) -> Body | None:
    """The fields of the form that a lost upload was sent from: the latest page before with one for
    its address.
    """
    sent = recording.exchanges[number].sent
    if not any(
        name.lower() == "content-type" and "multipart/form-data" in value
        for name, value in sent.headers
    ):
        return None
    for exchange in reversed(recording.exchanges[:number]):
        answer = exchange.answer
        if (
            answer is None
            or "html" not in (answer.header("content-type") or "")
            or b"<form" not in answer.body
        ):
            continue
        page = _Forms()
        page.feed(answer.body[:2_000_000].decode("utf-8", "replace"))
        for action, fields in page.forms:
            if urljoin(exchange.sent.url, action) == sent.url and any(
                kind == "file" for _, _, kind in fields
            ):
                return Body(parts=tuple(_part(*field) for field in fields))
    return None


def _part(name: str, value: str, kind: str) -> FormPart:
    if kind == "file":
        return FormPart(
            name=name,
            file="upload.txt",
            type="text/plain",
            value="A file in place of the recorded one.\n",
        )
    return FormPart(name=name, value=value.replace("{{", "{ {"))


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
    return (
        request
        if address in request.embedded
        else replace(request, embedded=(*request.embedded, address))
    )


def _headers(exchange: Exchange, bases: dict[str, str]) -> tuple[tuple[str, str], ...]:
    """Headers that mean something: all but those that a browser makes for every request of the
    kind.
    """
    kept = []
    writes = exchange.sent.method not in ("GET", "HEAD", "OPTIONS")
    for name, value in exchange.sent.headers:
        lower = name.lower()
        if lower in ("origin", "referer"):
            if writes:  # a guard against foreign forms may look at them
                kept.append((name, _place(value, bases, whole=lower == "referer")))
            continue
        if (
            lower in OWN_HEADERS
            or lower.startswith(("sec-", "proxy-", ":"))
            or (lower == "content-type" and (exchange.sent.body or "multipart/" in value))
            or lower in ("user-agent", "accept-language")
        ):
            continue
        kept.append((name, _text(value, bases)))
    return tuple(kept)


def folded(steps: Sequence[Step]) -> tuple[tuple[tuple[str, str], ...], list[Step]]:
    """(headers common to the journey, its steps without them).

    Common is what every request has, and the Accept that most have; `*/*` is what is sent without
    one.
    """
    requests = [request for step in steps for request in step.requests]
    if not requests:
        return (), list(steps)
    counts = Counter(pair for request in requests for pair in dict.fromkeys(request.headers))
    common = [
        pair for pair, count in counts.items() if count == len(requests) and len(requests) > 2
    ]
    accepts = Counter(
        next((v for n, v in each.headers if n.lower() == "accept"), ANYTHING) for each in requests
    )
    most = accepts.most_common(1)[0][0]
    common = [pair for pair in common if pair[0].lower() != "accept"]
    if most != ANYTHING:
        common.append(("Accept", most))

    def without(request: Request) -> Request:
        kept = []
        for name, value in request.headers:
            if (name, value) in common or (name.lower() == "accept" and value == most):
                continue
            kept.append((name, value))
        if most != ANYTHING and not any(name.lower() == "accept" for name, _ in request.headers):
            kept.append(("Accept", ANYTHING))
        return replace(request, headers=tuple(kept))

    return tuple(common), [step.with_requests(without) for step in steps]


ANYTHING = "*/*"


def _place(value: str, bases: dict[str, str], *, whole: bool) -> str:
    """An Origin or Referer with the environment's address; of a path only what has no numbers,
    which may be ids.
    """
    parts = urlsplit(value)
    origin = f"{parts.scheme}://{parts.netloc}"
    base = f"{{{{ {bases[origin]} }}}}" if origin in bases else origin
    if not whole:
        return base
    return base + (parts.path if parts.path and not re.search(r"\d", parts.path) else "/").replace(
        "{{", "%7B%7B"
    )


def _text(text: str, bases: dict[str, str]) -> str:
    """A recorded text, in which the application's own addresses follow the environment, too: where
    to return to after a sign-in is such a one.
    """
    text = text.replace("{{", "{ {")
    for origin, name in bases.items():
        if origin in text:
            text = re.sub(re.escape(origin) + r"(?![\w.:-])", f"{{{{ {name} }}}}", text)
    return text


def _pairs(text: str, bases: dict[str, str]) -> tuple[tuple[str, str], ...]:
    """The fields of a query or of a form."""
    pairs = parse_qsl(text, keep_blank_values=True)
    return tuple((name.replace("{{", "{ {"), _text(value, bases)) for name, value in pairs)


def _body(exchange: Exchange, bases: dict[str, str]) -> Body | None:
    body = exchange.sent.body
    if not body:
        return None
    kind = next(
        (value for name, value in exchange.sent.headers if name.lower() == "content-type"), ""
    )
    text = body.decode("utf-8", "replace")
    if kind.startswith("multipart/form-data"):
        parts = _parts(body, kind, bases)
        if parts:
            return Body(parts=parts)
    if "x-www-form-urlencoded" in kind:
        return Body(form=_pairs(text, bases))
    text = _text(text, bases)
    if "json" in kind and not problem_in(text):
        return Body(json=text, type="" if kind == "application/json" else kind)
    try:
        body.decode("utf-8")
    except UnicodeDecodeError:
        return Body(base64=base64.b64encode(body).decode(), type=kind)
    return Body(raw=text, type=kind or "application/octet-stream")


def _parts(body: bytes, kind: str, bases: dict[str, str]) -> tuple[FormPart, ...]:
    """The parts of a multipart form (RFC 7578); () for what can't be read as one."""
    message = BytesParser(policy=HTTP).parsebytes(
        b"Content-Type: " + kind.encode() + b"\r\n\r\n" + body
    )
    made = []
    for part in message.iter_parts() if message.is_multipart() else ():
        name = part.get_param("name", header="content-disposition")
        if not isinstance(name, str):
            return ()
        name = name.replace("{{", "{ {")
        content = part.get_payload(decode=True) or b""
        assert isinstance(content, bytes)
        file = part.get_filename() or ""
        given = str(part.get("content-type") or "")
        try:
            text = content.decode("utf-8")
        except UnicodeDecodeError:
            text = "\0"
        if "\0" in text or (file and "{{" in text):
            made.append(
                FormPart(
                    name=name,
                    file=file or name,
                    type=given,
                    base64=base64.b64encode(content).decode(),
                )
            )
        else:
            made.append(FormPart(name=name, file=file, type=given, value=_text(text, bases)))
    return tuple(made)
