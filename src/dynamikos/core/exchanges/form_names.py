"""Names of what a form sends."""

import re
from urllib.parse import parse_qsl

from dynamikos.core.exchanges.model import Exchange

MOST = 2_000_000  # bytes of a body that are looked at
PART = re.compile(rb'content-disposition:[^\r\n]*?[;\s]name="([^"]*)"', re.I)


def form_names(exchange: Exchange) -> list[str]:
    """Names of the fields and files in the body of a form (URL-encoded, or multipart by RFC 7578),
    each once; [] for what is no form by its content type.
    """
    sent = exchange.sent
    kind = next((value for name, value in sent.headers if name.lower() == "content-type"), "")
    body = sent.body[:MOST]
    if "multipart/" in kind:
        names = [each.decode("utf-8", "replace") for each in PART.findall(body)]
    elif "urlencoded" in kind:
        text = body.decode("utf-8", "replace")
        names = [name for name, _ in parse_qsl(text, keep_blank_values=True)]
    else:
        names = []
    return list(dict.fromkeys(names))
