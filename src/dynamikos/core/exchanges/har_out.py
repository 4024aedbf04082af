"""HAR 1.2 out: a recording or rehearsal for any tool that reads HAR files."""

import base64
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import Any
from urllib.parse import parse_qsl, urlsplit

import msgspec

from dynamikos.core.exchanges.model import Exchange


def write_har(exchanges: Iterable[Exchange], pages: Mapping[str, str] | None = None) -> bytes:
    """The exchanges as a HAR 1.2 file.

    Bodies that are not UTF-8 are base64; an exchange without answer has status 0 and `_error`.
    """
    entries = [_entry(each) for each in exchanges]
    begun: dict[str, str] = {}
    for entry in entries:
        if entry.get("pageref"):
            begun.setdefault(entry["pageref"], entry["startedDateTime"])
    listed = [
        {
            "id": key,
            "title": (pages or {}).get(key, ""),
            "startedDateTime": at,
            "pageTimings": {"onContentLoad": -1, "onLoad": -1},
        }
        for key, at in begun.items()
    ]
    log = {
        "version": "1.2",
        "creator": {"name": "Dynamikos", "version": "0.1"},
        "pages": listed,
        "entries": entries,
    }
    return msgspec.json.format(msgspec.json.encode({"log": log}), indent=1)


def _pairs(pairs: Iterable[tuple[str, str]]) -> list[dict[str, str]]:
    return [{"name": name, "value": value} for name, value in pairs]


def _body(body: bytes) -> tuple[str, bool]:
    """(text, whether it is base64)."""
    try:
        return body.decode("utf-8"), False
    except UnicodeDecodeError:
        return base64.b64encode(body).decode(), True


def _entry(exchange: Exchange) -> dict[str, Any]:
    sent, answer, timings = exchange.sent, exchange.answer, exchange.timings
    kind = next((value for name, value in sent.headers if name.lower() == "content-type"), "")
    request: dict[str, Any] = {
        "method": sent.method,
        "url": sent.url,
        "httpVersion": exchange.http or "unknown",
        "cookies": [],
        "headers": _pairs(sent.headers),
        "queryString": _pairs(parse_qsl(urlsplit(sent.url).query, keep_blank_values=True)),
        "headersSize": -1,
        "bodySize": len(sent.body),
    }
    if sent.body:
        text, coded = _body(sent.body)
        request["postData"] = {
            "mimeType": kind,
            "text": text,
            **({"encoding": "base64"} if coded else {}),
        }
    text, coded = _body(answer.body) if answer is not None else ("", False)
    content: dict[str, Any] = {
        "size": answer.size_bytes if answer else 0,
        "mimeType": (answer.header("content-type") or "") if answer else "",
        "text": text,
    }
    if coded:
        content["encoding"] = "base64"

    def ms(part: int) -> float:
        return -1 if part < 0 else part / 1000

    connect = timings.connect_us
    if connect >= 0 and timings.ssl_us >= 0:  # HAR counts ssl inside connect
        connect += timings.ssl_us
    entry: dict[str, Any] = {
        "startedDateTime": datetime.fromtimestamp(exchange.started_us / 1e6, UTC)
        .isoformat(timespec="milliseconds")
        .replace("+00:00", "Z"),
        "time": timings.total_us / 1000,
        "request": request,
        "response": {
            "status": answer.status if answer else 0,
            "statusText": answer.reason if answer else "",
            "httpVersion": exchange.http or "unknown",
            "cookies": [],
            "headers": _pairs(answer.headers) if answer else [],
            "content": content,
            "redirectURL": (answer.header("location") or "") if answer else "",
            "headersSize": -1,
            "bodySize": -1,
        },
        "cache": {},
        "timings": {
            "blocked": ms(timings.blocked_us),
            "dns": ms(timings.dns_us),
            "connect": ms(connect),
            "ssl": ms(timings.ssl_us),
            "send": ms(timings.send_us),
            "wait": ms(timings.wait_us),
            "receive": ms(timings.receive_us),
        },
    }
    if exchange.error:
        entry["response"]["_error"] = exchange.error
    if exchange.page:
        entry["pageref"] = exchange.page
    return entry
