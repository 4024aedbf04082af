"""GraphQL over HTTP: the operation that a call asks for."""

import re
from typing import NamedTuple

import orjson

from dynamikos.core.exchanges.model import Exchange, Sent

DOCUMENT = re.compile(
    r"\s*(?:#[^\n]*\n\s*)*(?:(query|mutation|subscription|fragment)\b\s*(\w*)|\{)"
)


class Operation(NamedTuple):
    """Its name ("" when it has none), "query", "mutation" or "subscription", and the document."""

    name: str
    kind: str
    document: str


def operation_of(sent: Sent) -> Operation | None:
    """The operation (the first of several) in a call's JSON body, None for other calls."""
    if sent.body[:1] not in (b"{", b"["):
        return None
    try:
        body = orjson.loads(sent.body)
    except ValueError:
        return None
    body = body[0] if isinstance(body, list) and body else body
    document = body.get("query") if isinstance(body, dict) else None
    if not isinstance(body, dict) or not isinstance(document, str):
        return None
    match = DOCUMENT.match(document)
    if match is None:
        return None
    kind = match.group(1) or "query"
    if kind == "fragment":  # the operation comes after it
        later = re.search(r"\b(query|mutation|subscription)\s+(\w+)", document)
        kind, name = (later.group(1), later.group(2)) if later else ("query", "")
    else:
        name = match.group(2) or ""
    named = body.get("operationName")
    return Operation(named if isinstance(named, str) and named else name, kind, document)


def writes(exchange: Exchange) -> bool:
    """Whether a request may change something: one that asks by POST in GraphQL does not."""
    if exchange.sent.method in ("GET", "HEAD", "OPTIONS"):
        return False
    operation = operation_of(exchange.sent)
    return operation is None or operation.kind != "query"
