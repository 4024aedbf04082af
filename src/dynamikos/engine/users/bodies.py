"""What makes the body of a request: a form, parts of one, JSON, text or bytes, with their holes."""

import base64
import hashlib
from collections.abc import Callable

from dynamikos.core.journeys import Body, FormPart, Request
from dynamikos.core.values import bind
from dynamikos.engine.users.filling import Fill, Values, form_encoded, json_filler

Make = Callable[[Values], bytes]


def made_body(
    request: Request, text: Callable[..., Fill], known: Values, secret: frozenset[str]
) -> tuple[Make | None, str]:
    """(what makes the body's bytes, its content type); (None, "") when there is none."""
    body = request.body
    if body is None:
        return None, ""
    if body.form is not None:
        bound = [
            (bind(name, known, secret), bind(value, known, secret)) for name, value in body.form
        ]
        form = form_encoded(bound, secret=secret)
        return form, body.type or "application/x-www-form-urlencoded"
    if body.file:
        return None, body.type or "application/octet-stream"
    if body.parts is not None:
        boundary = "dynamikos-" + hashlib.sha256(repr(body.parts).encode()).hexdigest()[:24]
        return _multipart(
            body, boundary, text
        ), f"{body.type.partition(';')[0] or 'multipart/form-data'}; boundary={boundary}"
    if body.base64 is not None:
        content = base64.b64decode(body.base64)
        return (lambda values: content), body.type or "application/octet-stream"
    fill = (
        json_filler(body.json, known, secret=secret)
        if body.json is not None
        else text(body.raw or "")
    )
    kind = body.type or (
        "application/json" if body.json is not None else "application/octet-stream"
    )
    return (lambda values: fill(values).encode()), kind


def _multipart(body: Body, boundary: str, text: Callable[..., Fill]) -> Make:
    """RFC 7578: each part's head and content, a value's holes filled, a file's content as it is."""

    def quoted(name: str) -> str:  # as HTML says: WHATWG, multipart/form-data encoding algorithm
        return name.replace('"', "%22").replace("\r", "%0D").replace("\n", "%0A")

    def tail(part: FormPart) -> bytes:
        lines = '"'
        if part.file:
            lines += f'; filename="{quoted(part.file)}"'
        if part.type or part.file:
            lines += f"\r\nContent-Type: {part.type or 'application/octet-stream'}"
        return lines.encode() + b"\r\n\r\n"

    pieces: list[tuple[Fill, bytes, Fill | None, bytes]] = []
    for part in body.parts or ():
        if part.base64:
            pieces.append((text(part.name), tail(part), None, base64.b64decode(part.base64)))
        else:
            pieces.append((text(part.name), tail(part), text(part.value), b""))
    begin = f'--{boundary}\r\nContent-Disposition: form-data; name="'.encode()
    end = f"--{boundary}--\r\n".encode()

    def make(values: Values) -> bytes:
        return (
            b"".join(
                b"%b%b%b%b\r\n"
                % (
                    begin,
                    quoted(name(values)).encode(),
                    after,
                    content if fill is None else fill(values).encode(),
                )
                for name, after, fill, content in pieces
            )
            + end
        )

    return make
