"""What a hole may do to its value; FILTERS is the one list."""

import base64
import json
from collections.abc import Callable
from urllib.parse import quote

FILTERS: dict[str, Callable[[str], str]] = {
    "percent": lambda text: quote(text, safe=""),
    "base64": lambda text: base64.b64encode(text.encode()).decode(),
    "base64url": lambda text: base64.urlsafe_b64encode(text.encode()).decode().rstrip("="),
    "json": lambda text: json.dumps(text, ensure_ascii=False)[1:-1],
    "upper": str.upper,
    "lower": str.lower,
}
