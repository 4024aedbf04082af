"""Requests as HTTP/1.1 writes them (RFC 9112)."""

from dynamikos.engine.http.messages import Body, Head, size_of

BODIED = frozenset(
    ("POST", "PUT", "PATCH")
)  # say the length of their body even when there is none (RFC 9110 §8.6)


def written(
    head: Head, body: Body, cookie: str, trace: str, span: int, through: str = "", more: str = ""
) -> bytes:
    """The head and, unless it is held, the body. `cookie` is all cookies, `trace` and `span` make a
    traceparent (W3C Trace Context); without `trace` there is none.

    To a proxy `through` is the origin that requests in absolute form begin with (§3.2.2), `more`
    lines for it.
    """
    base = head.base
    text = base.start
    if head.own:
        text += "".join([f"{name}: {value}\r\n" for name, value in head.own])
    if body or base.method in BODIED:
        text += f"Content-Length: {size_of(body)}\r\n"
    if through:
        first, _, rest = text.partition("\r\n")
        text = f"{first.replace(' /', f' {through}/', 1)}\r\n{more}{rest}"
    if not trace:  # of what belongs to no user: probes, webhooks
        own = f"Cookie: {cookie}\r\n\r\n" if cookie else "\r\n"
        data = text.encode() + own.encode("latin-1", "replace")
    elif not cookie:
        data = f"{text}traceparent: {trace}{span:016x}-01\r\n\r\n".encode()
    elif cookie.isascii():
        data = f"{text}Cookie: {cookie}\r\ntraceparent: {trace}{span:016x}-01\r\n\r\n".encode()
    else:  # cookies go back as they came, byte by byte
        line = f"Cookie: {cookie}\r\ntraceparent: {trace}{span:016x}-01\r\n\r\n".encode(
            "latin-1", "replace"
        )
        data = text.encode() + line
    return data + body if body and isinstance(body, bytes) else data


def joined(own: str, jar: str) -> str:
    """A Cookie header of the request's own and what the jar has: one header holds both (RFC 6265
    §5.4).
    """
    if own and not own.isascii():
        own = own.encode().decode("latin-1")
    return f"{own}; {jar}" if own and jar else own or jar
