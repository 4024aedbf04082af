"""Takes what is sent to it and shows what came: for those who try out who is told of a run."""

import collections
import json
import time
from html import escape
from typing import Any

from observatory import pages

LONGEST, KEPT = 64_000, 50


class Sink:
    """The newest messages, with their headers. POST /sink takes one, GET /sink shows them, GET
    /sink/log as JSON.
    """

    def __init__(self) -> None:
        self._came: collections.deque[dict[str, Any]] = collections.deque(maxlen=KEPT)

    def take(self, headers: dict[str, str], body: bytes) -> None:
        """One message, its body cut at 64 kB."""
        told = {
            name: value
            for name, value in headers.items()
            if name not in ("cookie", "authorization")
        }
        text = body[:LONGEST].decode("utf-8", "replace")
        self._came.append(
            {"at": time.strftime("%H:%M:%S", time.gmtime()), "headers": told, "body": text}
        )

    def as_json(self) -> bytes:
        return json.dumps(list(self._came)).encode()

    def as_page(self) -> bytes:
        """The newest first."""
        parts = []
        for each in reversed(self._came):
            kept = sorted(each["headers"].items())
            heads = "\n".join(
                f"{name}: {value}" for name, value in kept if name.startswith("dynamikos")
            )
            parts.append(
                f"<h2>{each['at']} UTC</h2><pre>{escape(heads)}\n\n{escape(each['body'])}</pre>"
            )
        said = "".join(parts) or "<p>Nothing came yet. Messages are taken by POST /sink.</p>"
        return pages.page("What came", f"<h1>What came</h1>{said}")
