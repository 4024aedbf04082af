"""The body of a recorded request as bytes, from what a HAR file says of it.

HAR has texts only. A body that is no text is written by some browsers with one character a byte, by
others with its bytes replaced, or left out; a form with files only as a list of its fields. How
many bytes were sent (`bodySize`, or the header) tells which of these it is.
"""

import base64
import binascii
from collections.abc import Mapping, Sequence
from email.message import Message
from typing import Any
from urllib.parse import quote_plus

from dynamikos.core.figures import digits

TEXTS = ("text/", "json", "xml", "urlencoded", "javascript", "graphql")
REPLACED = "\N{REPLACEMENT CHARACTER}"


def posted(request: Mapping[str, Any]) -> tuple[bytes, str]:
    """(the body, what of it was lost, in words). Raises ValueError for base64 that is none."""
    data = request.get("postData") or {}
    kind, size = _told(request, str(data.get("mimeType") or ""))
    text = data.get("text")
    if text and data.get("encoding") == "base64":
        try:
            return base64.b64decode(text), ""
        except (binascii.Error, ValueError) as problem:
            raise ValueError(f"its body says base64 and is not: {problem}") from problem
    params = [each for each in data.get("params") or () if isinstance(each, dict)]
    body, lost = _of_text(str(text), kind, size) if text else (b"", "")
    if (body and not lost) or not params:
        return body, lost
    if "multipart/" in kind:
        return _multipart(params, kind)
    return (body, lost) if body else (_urlencoded(params), "")


def _told(request: Mapping[str, Any], kind: str) -> tuple[str, int]:
    """What the request says of its body: (content type, bytes; 0 where it says nothing)."""
    headers = {str(p["name"]).lower(): str(p["value"]) for p in request.get("headers") or ()}
    size = digits(headers.get("content-length", "")) or 0
    if not size and isinstance(request.get("bodySize"), int):
        size = max(0, request["bodySize"])
    return headers.get("content-type") or kind, size


def _urlencoded(params: Sequence[Mapping[str, Any]]) -> bytes:
    pairs = (
        f"{quote_plus(str(p['name']))}={quote_plus(str(p.get('value') or ''))}" for p in params
    )
    return "&".join(pairs).encode()


def _of_text(text: str, kind: str, size: int) -> tuple[bytes, str]:
    """A text as the bytes that were sent: by how many they were, else by what kind they are."""
    plain = text.encode("utf-8", "surrogatepass")
    try:
        octets = text.encode("latin-1")
    except UnicodeEncodeError:
        octets = plain
    if size == len(plain) or len(plain) == len(octets):
        return plain, _mismatch(len(plain), size, text)
    if size == len(octets):
        return octets, ""
    is_text = any(each in kind for each in TEXTS)
    body = plain if is_text or not _is_binary(octets) else octets
    return body, _mismatch(len(body), size, text)


def _is_binary(octets: bytes) -> bool:
    """Whether bytes are no text of UTF-8."""
    try:
        octets.decode()
    except UnicodeDecodeError:
        return True
    return False


def _mismatch(kept: int, size: int, text: str) -> str:
    if REPLACED in text:
        return (
            "its body was no text and was recorded as one: bytes are lost. Give the body or its "
            "file in the journey, or record through the doorway or the proxy."
        )
    if size and kept != size:
        return (
            f"its body had {size:,} bytes, the recording holds {kept:,}. Give the body or its file "
            "in the journey, or record through the doorway or the proxy."
        )
    return ""


def _multipart(params: Sequence[Mapping[str, Any]], kind: str) -> tuple[bytes, str]:
    """A multipart form (RFC 7578) of a list of its fields; files whose content is missing are
    named.
    """
    header = Message()
    header["content-type"] = kind
    boundary = str(header.get_param("boundary") or "")
    if not boundary:
        return b"", "its body is a form with files whose boundary is missing. Give it by hand."
    pieces, empty = [], []
    for each in params:
        name, file = str(each.get("name") or ""), str(each.get("fileName") or "")
        value = str(each.get("value") or "")
        head = f'Content-Disposition: form-data; name="{name}"'
        if file:
            head += f'; filename="{file}"'
            if not value:
                empty.append(file)
        if each.get("contentType"):
            head += f"\r\nContent-Type: {each['contentType']}"
        content, _ = _of_text(value, str(each.get("contentType") or "text/plain"), 0)
        pieces.append(f"--{boundary}\r\n{head}\r\n\r\n".encode() + content + b"\r\n")
    body = b"".join([*pieces, f"--{boundary}--\r\n".encode()])
    lost = (
        f"the content of {', '.join(empty)} is missing. Give the file in the journey."
        if empty
        else ""
    )
    return body, lost
