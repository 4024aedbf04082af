"""What belongs to a page and says nothing of its own: styles, scripts, pictures, fonts."""

import re
from urllib.parse import urlsplit

from dynamikos.core.exchanges.model import Exchange

FILE = re.compile(
    r"\.(css|js|mjs|png|jpe?g|gif|svg|webp|avif|ico|woff2?|ttf|otf|mp4|webm|map)\Z", re.I
)
LIFELESS = ("image/", "font/", "text/css", "video/", "audio/")  # types that can issue nothing
TYPES = (*LIFELESS, "text/javascript", "application/javascript")


def is_file(url: str) -> bool:
    """Whether an address ends like a static file."""
    return bool(FILE.search(urlsplit(url).path))


def is_static(exchange: Exchange) -> bool:
    """A resource of a page (style, script, picture, font), fetched with GET."""
    if exchange.sent.method != "GET":
        return False
    kind = (exchange.answer.header("content-type") or "") if exchange.answer else ""
    return kind.startswith(TYPES) or is_file(exchange.sent.url)
