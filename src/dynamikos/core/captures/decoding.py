"""Undoing an encoding of a captured text; REGISTRY is the one list of them."""

import base64
import binascii
import json
from collections.abc import Callable
from html import unescape
from urllib.parse import unquote_plus


def from_base64(text: str) -> str | None:
    """Base64 or base64url (RFC 4648 §4, §5), padded or not, of UTF-8 text; None for anything
    else.
    """
    plain = text.strip().replace("-", "+").replace("_", "/").rstrip("=")
    try:
        return base64.b64decode(plain + "=" * (-len(plain) % 4), validate=True).decode("utf-8")
    except (binascii.Error, ValueError):
        return None


def from_json(text: str) -> str | None:
    """The text of a JSON string's inside (RFC 8259 §7)."""
    try:
        value = json.loads(f'"{text}"')
    except ValueError:
        return None
    return str(value)


REGISTRY: dict[str, Callable[[str], str | None]] = {
    "percent": unquote_plus,
    "html": unescape,
    "json": from_json,
    "base64": from_base64,
}
