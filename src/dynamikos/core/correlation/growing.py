"""Lists that grew in the recording when something was made: do they grow in a replay, too?"""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import orjson

from dynamikos.core.correlation import value_shapes
from dynamikos.core.exchanges import Exchange, text_of
from dynamikos.core.exchanges.graphql import writes

TOTALS = frozenset({"total", "count", "totals", "amount"})
ROWS = {"tr": "rows of tables", "li": "items of lists", "article": "articles"}
MOST_BYTES = 2_000_000


class Growth(NamedTuple):
    """Between two answers to the same request something was written, and what stands at `place`
    became `by` more.
    """

    before: int
    after: int
    place: str
    by: int


def grown(exchanges: Sequence[Exchange]) -> Iterator[Growth]:
    """What grew in a recording, between each request and the next that is the same."""
    last: dict[tuple[str, bytes], int] = {}
    written = -1
    for position, exchange in enumerate(exchanges):
        if writes(exchange):
            written = position
            continue
        key = exchange.sent.url, exchange.sent.body
        before = last.get(key)
        last[key] = position
        if before is None or written < before:
            continue
        here, there = counts_of(exchanges[before]), counts_of(exchange)
        for place, count in there.items():
            if count > here.get(place, count):
                yield Growth(before, position, place, count - here[place])


def counts_of(exchange: Exchange) -> dict[str, int]:
    """How many there are, by place: of a JSON answer its lists and totals, of a page its rows and
    items.
    """
    answer = exchange.answer
    if answer is None or answer.status != 200 or len(answer.body) > MOST_BYTES:
        return {}
    if answer.body.lstrip()[:1] in (b"{", b"["):
        try:
            return dict(_lists(orjson.loads(answer.body), "$", 0))
        except ValueError:
            return {}
    if "html" not in (answer.header("content-type") or ""):
        return {}
    text = text_of(answer.body, answer.header("content-type") or "").lower()
    return {
        words: found
        for tag, words in ROWS.items()
        if (found := text.count(f"<{tag}>") + text.count(f"<{tag} "))
    }


def _lists(value: object, path: str, depth: int) -> Iterator[tuple[str, int]]:
    if isinstance(value, list):
        yield f"the list {path}", len(value)
    elif isinstance(value, dict) and depth < 4:
        for name, each in value.items():
            if (
                isinstance(each, int)
                and not isinstance(each, bool)
                and set(value_shapes.words(name)) & TOTALS
            ):
                yield f"the number {path}.{name}", each
            yield from _lists(each, f"{path}.{name}", depth + 1)
