"""HAR 1.2 in: a browser's recorded session as exchanges, whatever browser wrote it."""

import base64
import binascii
import re
from collections.abc import Callable, Iterable
from datetime import datetime
from typing import Any
from urllib.parse import urlsplit

import msgspec

from dynamikos.core.errors import ImportRefused
from dynamikos.core.exchanges.model import Answer, Exchange, Sent, Timings
from dynamikos.core.exchanges.posted import posted

METHOD = re.compile(r"[!#$%&'*+.^_`|~0-9A-Z-]{1,40}\Z")  # RFC 9110 §9.1


class HostSummary(msgspec.Struct, frozen=True, kw_only=True):
    """One host of a recording. `ours` is the guess that a person may change: the first page's own
    site.
    """

    origin: str
    count: int
    size_bytes: int
    ours: bool


class Mark(msgspec.Struct, frozen=True, kw_only=True):
    """From `at_us` (µs since the epoch) on, until the next mark, a person was doing `name`,
    in `part` of the journey.
    """

    at_us: int
    name: str
    part: str = "rounds"


class Recording(msgspec.Struct, frozen=True, kw_only=True):
    """What was recorded, in order of time, with the titles of its pages and what could not be
    taken; `marks` name its stretches.
    """

    exchanges: tuple[Exchange, ...]
    pages: dict[str, str]
    creator: str = ""
    remarks: tuple[str, ...] = ()
    marks: tuple[Mark, ...] = ()


class _Har(msgspec.Struct):
    log: msgspec.Raw = msgspec.Raw(b"")


class _Log(msgspec.Struct):
    entries: list[msgspec.Raw] | None = None
    pages: list[dict[str, Any]] = []
    creator: dict[str, Any] = {}


def read_har(data: bytes, progress: Callable[[float], None] | None = None) -> Recording:
    """The recording in a HAR file's bytes. `progress` is told the share done (0…1).

    Raises ImportRefused for what is not JSON (with line and column), is cut off, or has no entries.
    A single entry that can't be used is left out and named in `remarks`.
    """
    data = data.removeprefix(b"\xef\xbb\xbf")
    if not data.strip():
        raise ImportRefused(
            "The file is empty. Export the session from the browser's network panel once more."
        )
    try:
        outer = msgspec.json.decode(data, type=_Har)
        log = msgspec.json.decode(outer.log, type=_Log) if outer.log else _Log()
    except RecursionError as problem:
        raise ImportRefused(
            "Something in the file is nested too deeply to be read. Export the session once more."
        ) from problem
    except msgspec.ValidationError as problem:
        raise ImportRefused(
            f"This is JSON, but not a HAR file: {problem}. A HAR file has 'log' with 'entries'."
        ) from problem
    except (msgspec.DecodeError, UnicodeDecodeError) as problem:
        raise ImportRefused(_where(data, problem)) from problem
    if not log.entries:
        raise ImportRefused(
            "The HAR file has no entries, so there is nothing to import. Record again with the "
            "network panel open."
        )
    exchanges: list[Exchange] = []
    remarks: list[str] = []
    total = len(log.entries)
    for number, raw in enumerate(log.entries):
        try:
            exchange = _entry(msgspec.json.decode(raw), number)
        except (
            KeyError,
            TypeError,
            ValueError,
            AttributeError,
            OverflowError,
            RecursionError,
        ) as problem:
            remarks.append(f"entry {number} left out: {_say(problem)}")
            continue
        if exchange is not None:
            exchanges.append(exchange)
        else:
            remarks.append(f"entry {number} left out: its address is not http or https")
        if progress is not None and number % 64 == 0:
            progress(number / total)
    if not exchanges:
        raise ImportRefused(
            f"None of the {total} entries can be used; the first reason: {remarks[0]}"
        )
    if progress is not None:
        progress(1.0)
    exchanges.sort(key=lambda exchange: exchange.started_us)
    remarks += [f"entry {each.entry}: {each.lost}" for each in exchanges if each.lost]
    pages = {str(page.get("id", "")): str(page.get("title", "")) for page in log.pages}
    creator = " ".join(str(log.creator.get(key, "")) for key in ("name", "version")).strip()
    return Recording(
        exchanges=tuple(exchanges), pages=pages, creator=creator, remarks=tuple(remarks)
    )


def hosts_of(exchanges: Iterable[Exchange]) -> list[HostSummary]:
    """Origins by number of exchanges, most first; `ours` for the first page's host and hosts of the
    same site.
    """
    counts: dict[str, list[int]] = {}
    first = page = ""
    for exchange in exchanges:
        parts = urlsplit(exchange.sent.url)
        origin = f"{parts.scheme}://{parts.netloc}"
        first = first or origin
        if (
            not page
            and exchange.answer is not None
            and exchange.answer.body
            and "html" in (exchange.answer.header("content-type") or "")
        ):
            page = origin
        row = counts.setdefault(origin, [0, 0])
        row[0] += 1
        row[1] += exchange.answer.size_bytes if exchange.answer else 0
    first = page or first
    site = _site(first)
    rows = [
        HostSummary(
            origin=origin,
            count=count,
            size_bytes=size,
            ours=origin == first or _site(origin) == site,
        )
        for origin, (count, size) in counts.items()
    ]
    return sorted(rows, key=lambda row: (not row.ours, -row.count, row.origin))


def _site(origin: str) -> str:
    """The last two labels of a host name, or an address as it is (a guess that a person
    confirms).
    """
    host = urlsplit(origin).hostname or ""
    if host.replace(".", "").isdigit() or ":" in host:
        return host
    return ".".join(host.split(".")[-2:])


def _where(data: bytes, problem: Exception) -> str:
    """Says where JSON breaks, by line and column, and whether the file seems cut off."""
    text = str(problem)
    position = len(data)
    if "byte " in text:
        digits = "".join(filter(str.isdigit, text.rsplit("byte ", 1)[1].split()[0]))
        position = int(digits) if digits else position
    elif "truncated" in text:
        position = len(data)
    line = data.count(b"\n", 0, position) + 1
    column = position - (data.rfind(b"\n", 0, position) + 1) + 1
    if "truncated" in text:
        return (
            f"The file is cut off: JSON ends unfinished at line {line}, column {column} "
            f"({len(data):,} bytes). "
            "Export it again, and wait until the browser has written it."
        )
    if (
        isinstance(problem, UnicodeDecodeError)
        or data[:2] in (b"\xff\xfe", b"\xfe\xff")
        or b"\x00" in data[:200]
    ):
        return (
            "The file is not UTF-8 text, so it is not JSON and not a HAR file. Choose the .har "
            "file the browser saved."
        )
    return (
        f"The file is not JSON (line {line}, column {column}): {text}. Choose the .har file the "
        "browser saved."
    )


def _say(problem: Exception) -> str:
    return (
        f"the key {problem} is missing"
        if isinstance(problem, KeyError)
        else str(problem) or type(problem).__name__
    )


def _entry(entry: dict[str, Any], number: int) -> Exchange | None:
    request, response = entry["request"], entry.get("response") or {}
    url = str(request["url"]).partition("#")[0]
    scheme = urlsplit(url).scheme
    if scheme not in ("http", "https", "ws", "wss"):
        return None
    headers = _headers(request)
    if scheme in ("ws", "wss"):  # RFC 6455 §3: the handshake is a request of HTTP
        url = "http" + url[2:]
        if not any(name.lower() == "upgrade" for name, _ in headers):
            headers = (*headers, ("Upgrade", "websocket"))
    method = str(request["method"]).upper()
    if not METHOD.match(method):
        raise ValueError(f"'{method[:40]}' is no method")
    body, lost = posted(request)
    sent = Sent(method=method, url=url, headers=headers, body=body)
    status = _whole(response.get("status"), "status", 999)
    messages = _messages(entry)
    if messages and status == 0:
        status = 101  # some exports leave the answer out
    answer = None
    error = ""
    if status > 0:
        content = response.get("content") or {}
        body = messages or _content(content)
        size = _whole(content.get("size"), "size of its body", 1 << 50)
        answer = Answer(
            status=status,
            reason=str(response.get("statusText") or ""),
            headers=_with_cookies(response),
            body=body,
            size_bytes=size if size > 0 else len(body),
        )
    else:
        error = str(response.get("_error") or "no answer was recorded")
    return Exchange(
        sent=sent,
        answer=answer,
        timings=_timings(entry.get("timings") or {}),
        error=error,
        started_us=_instant(str(entry["startedDateTime"])),
        page=str(entry.get("pageref") or ""),
        entry=number,
        http=_protocol(str(response.get("httpVersion") or request.get("httpVersion") or "")),
        lost=lost,
    )


def _messages(entry: dict[str, Any]) -> bytes:
    """What a socket received, a message a line, where the export has it."""
    kept = entry.get("_webSocketMessages")
    if not isinstance(kept, list):
        return b""
    texts = (str(e.get("data") or "") for e in kept if isinstance(e, dict) and _came_in(e))
    return "\n".join(texts).encode("utf-8", "surrogatepass")


def _came_in(message: dict[str, Any]) -> bool:
    return message.get("type") == "receive"


def _protocol(text: str) -> str:
    """An HTTP version in its short form: "h2", "h3", "http/1.1"; "" for what is none."""
    plain = text.strip().lower()
    found = re.match(r"(?:http/|h)(\d(?:\.\d)?)", plain)
    if not found:
        return "h3" if plain.startswith("quic") else ""
    version = found.group(1).removesuffix(".0")
    return f"h{version}" if version in ("2", "3") else f"http/{found.group(1)}"


def _whole(value: Any, what: str, most: int) -> int:
    """A whole number that HAR gives; 0 for none and for what it calls unknown (−1).

    Raises ValueError for one that can't be it.
    """
    number = float(value or 0)
    if not number <= most:
        raise ValueError(f"its {what} is {str(value)[:40]}, which can't be")
    return max(0, int(number))


def _headers(message: dict[str, Any]) -> tuple[tuple[str, str], ...]:
    pairs = ((str(pair["name"]), str(pair["value"])) for pair in message.get("headers") or ())
    return tuple(
        (name, value) for name, value in pairs if not name.startswith(":")
    )  # HTTP/2 pseudo-headers


def _with_cookies(response: dict[str, Any]) -> tuple[tuple[str, str], ...]:
    """The answer's headers; cookies that an export lists only apart become Set-Cookie lines
    again.
    """
    headers = _headers(response)
    if any(name.lower() == "set-cookie" for name, _ in headers):
        return headers
    cookies = (each for each in response.get("cookies") or () if each.get("name"))
    return (
        *headers,
        *(
            (
                "Set-Cookie",
                f"{each['name']}={each.get('value') or ''}; Path={each.get('path') or '/'}",
            )
            for each in cookies
        ),
    )


def _content(content: dict[str, Any]) -> bytes:
    text = content.get("text")
    if not text:
        return b""
    if content.get("encoding") == "base64":
        try:
            return base64.b64decode(text)
        except (binascii.Error, ValueError) as problem:
            raise ValueError(f"its body says base64 and is not: {problem}") from problem
    return str(text).encode("utf-8", "surrogatepass")


def _timings(timings: dict[str, Any]) -> Timings:
    def part(name: str) -> int:
        value = timings.get(name)
        if value is None or float(value) < 0:
            return -1
        return round(
            _whole(value, f"time {name}", 1 << 40) * 1000
            if float(value) > 1e9
            else float(value) * 1000
        )

    ssl, connect = part("ssl"), part("connect")
    if ssl >= 0 and connect >= 0:  # HAR counts ssl inside connect; we keep them apart
        connect = max(0, connect - ssl)
    return Timings(
        blocked_us=max(0, part("blocked")),
        dns_us=part("dns"),
        connect_us=connect,
        ssl_us=ssl,
        send_us=max(0, part("send")),
        wait_us=max(0, part("wait")),
        receive_us=max(0, part("receive")),
    )


def _instant(text: str) -> int:
    moment = datetime.fromisoformat(text)
    return round(moment.timestamp() * 1_000_000)
