"""Small recordings of other people's applications, as plain values; `bench/trimming.py` made
them.
"""

from collections.abc import Iterable
from typing import Any

from dynamikos.core.exchanges import Answer, Exchange, Sent

BASE = "http://app.example"


def exchanges_of(rows: Iterable[dict[str, Any]]) -> list[Exchange]:
    """Rows of `{at_ms, method, path, headers, body, status, answered, content}` as exchanges."""
    made = []
    for row in rows:
        content = row["content"].encode()
        made.append(
            Exchange(
                sent=Sent(
                    method=row["method"],
                    url=BASE + row["path"],
                    headers=tuple((name, value) for name, value in row["headers"]),
                    body=row["body"].encode(),
                ),
                answer=Answer(
                    status=row["status"],
                    headers=tuple((name, value) for name, value in row["answered"]),
                    body=content,
                    size_bytes=len(content),
                ),
                started_us=row["at_ms"] * 1000,
                entry=len(made),
            )
        )
    return made
