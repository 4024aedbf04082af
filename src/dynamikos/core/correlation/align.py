"""Which exchange of one recording is which of another: the best common order (Needleman and Wunsch
1970).
"""

import re
from collections.abc import Mapping, Sequence
from itertools import combinations_with_replacement
from typing import NamedTuple
from urllib.parse import parse_qsl, urlsplit

import numpy as np
import numpy.typing
import orjson

from dynamikos.core.exchanges import Exchange
from dynamikos.core.exchanges.resources import is_file

Scores = np.typing.NDArray[np.float64]
VARIABLE = re.compile(r"\d|[0-9a-f]{8}|[A-Za-z0-9_-]{20,}")


class Form(NamedTuple):
    """What stays of a request when its values change. A segment that may vary is "" here."""

    method: str
    host: str
    segments: tuple[str, ...]
    fields: frozenset[str]
    operation: str


def form_of(exchange: Exchange, known: Mapping[str, str] | None = None) -> Form:
    parts = urlsplit(exchange.sent.url)
    segments = tuple(parts.path.strip("/").split("/"))
    if known:  # what the recordings are known to call differently
        segments = tuple(known.get(each, each) for each in segments)
    fields = {name for name, _ in parse_qsl(parts.query, keep_blank_values=True)}
    operation = ""
    body = exchange.sent.body
    if body[:1] == b"{" and len(body) < 2_000_000:
        try:
            document = orjson.loads(body)
        except ValueError:
            document = {}
        fields.update(document)
        asked = (
            document.get("operationName")
            or document.get("query")
            or document.get("method")
            or document.get("action")
        )
        if isinstance(asked, str):
            operation = re.sub(r"\"[^\"]*\"|\d+", "", asked)[:200]
    elif body and b"=" in body[:200] and b"\r\n" not in body[:200]:
        fields.update(
            name
            for name, _ in parse_qsl(
                body[:20_000].decode("utf-8", "replace"), keep_blank_values=True
            )
        )
    fixed = tuple("" if VARIABLE.search(each) else each for each in segments)
    return Form(exchange.sent.method, parts.hostname or "", fixed, frozenset(fields), operation)


def likeness(one: Form, other: Form) -> float:
    """0 for different requests, up to 1 for the same; above 0.3 they may be the same request with
    other values.
    """
    if one.method != other.method or len(one.segments) != len(other.segments):
        return 0.0
    same = sum(a == b and a != "" for a, b in zip(one.segments, other.segments, strict=True))
    words = sum(
        a != b and a != "" and b != "" for a, b in zip(one.segments, other.segments, strict=True)
    )
    if same == 0 and words:
        return 0.0
    path = (same + 0.9 * (len(one.segments) - same - words) + 0.35 * words) / len(one.segments)
    either = one.fields | other.fields
    fields = len(one.fields & other.fields) / len(either) if either else 1.0
    if one.operation != other.operation:
        return 0.0 if one.operation and other.operation else 0.2 * path
    return path * (0.6 + 0.4 * fields) * (1.0 if one.host == other.host else 0.9)


def align(
    first: Sequence[Exchange], second: Sequence[Exchange], known: Mapping[str, str] | None = None
) -> dict[int, int]:
    """Positions in `first` → positions in `second` of the same request, in order but for what may
    have run at the same time.
    """
    if not first or not second:
        return {}
    scores = _scores(first, second, known)
    found = _in_order(scores)
    _out_of_order(found, scores)
    return found


def _scores(
    first: Sequence[Exchange], second: Sequence[Exchange], known: Mapping[str, str] | None
) -> Scores:
    """How alike each pair is, shape (n, m); 0: not the same request. Between two that are equally
    alike, the one at the same address, and the one that was answered alike: the last of several
    polls says that it is done.
    """
    ones, others = [form_of(e) for e in first], [form_of(e, known) for e in second]
    scores = _by_forms(ones, others)
    paths = [[urlsplit(each.sent.url).path for each in tape] for tape in (first, second)]
    is_same = _equal(*paths)
    # a file that both recordings have is no other file: browsers ask for them in any order
    common = {path for path in {*paths[0]} & {*paths[1]} if is_file(path)}
    mine, theirs = (np.array([path in common for path in tape], dtype=bool) for tape in paths)
    scores[(mine[:, None] | theirs[None, :]) & ~is_same] = 0.0
    scores += 0.05 * is_same * (scores > 0)
    told = [hash(_told(each)) for each in first], [hash(_told(each)) for each in second]
    return scores + 0.04 * _equal(*told) * (scores > 0)


def _equal(ones: Sequence[object], others: Sequence[object]) -> "np.typing.NDArray[np.bool_]":
    """Which are equal, shape (n, m)."""
    here, there = np.array(ones, dtype=object), np.array(others, dtype=object)
    return np.asarray(here[:, None] == there[None, :], dtype=bool)


def _by_forms(ones: Sequence[Form], others: Sequence[Form]) -> Scores:
    """Each pair of forms is compared once: recordings hold the same requests again and again."""
    here, there = {each.segments for each in ones}, {each.segments for each in others}
    numbers = {form: number for number, form in enumerate(dict.fromkeys([*ones, *others]))}
    table = np.zeros((len(numbers), len(numbers)))
    for (a, one), (b, other) in combinations_with_replacement(enumerate(numbers), 2):
        if one.method != other.method or len(one.segments) != len(other.segments):
            continue
        value = likeness(one, other)
        if one.segments != other.segments and (one.segments in there or other.segments in here):
            value = 0.0  # the other recording has this very address: it is that one
        table[a, b] = table[b, a] = value if value > 0.3 else 0.0
    return table[np.ix_([numbers[each] for each in ones], [numbers[each] for each in others])]


def _in_order(scores: Scores) -> dict[int, int]:
    """The best common order. Of equally good ways the one that pairs the earliest: what comes more
    often in one recording is left over at the end.
    """
    n, m = scores.shape
    best = np.zeros((n + 1, m + 1))
    for i in range(n - 1, -1, -1):
        across = np.maximum(best[i + 1, :-1], best[i + 1, 1:] + scores[i])
        best[i, :-1] = np.maximum.accumulate(across[::-1])[::-1]
    found: dict[int, int] = {}
    i = j = 0
    while i < n and j < m:
        score = scores[i, j]
        if score > 0 and abs(best[i, j] - best[i + 1, j + 1] - score) < 1e-9:
            found[i] = j
            i, j = i + 1, j + 1
        elif best[i, j] == best[i, j + 1]:
            j += 1
        else:
            i += 1
    return found


def _out_of_order(found: dict[int, int], scores: Scores) -> None:
    """What ran at the same time may have come in another order: the nearest one left over that is
    clearly the same.
    """
    n, m = scores.shape
    left = sorted(set(range(m)) - set(found.values()))
    for i in range(n):
        if i in found or not left:
            continue

        def rank(other: int, i: int = i) -> tuple[float, float]:
            return round(float(scores[i, other]), 6), -abs(other / m - i / n)

        j = max(left, key=rank)
        if scores[i, j] >= 0.8:
            found[i] = j
            left.remove(j)


def _told(exchange: Exchange) -> tuple[object, ...]:
    """What stays of an answer when its values change: status, kind, names of its own headers, the
    outline of small JSON.
    """
    answer = exchange.answer
    if answer is None:
        return ()
    outline: object = None
    if len(answer.body) < 20_000 and answer.body[:1] in (b"{", b"["):
        try:
            outline = _outline(orjson.loads(answer.body), 3)
        except ValueError:
            pass
    kind = (answer.header("content-type") or "").partition(";")[0]
    return (
        answer.status,
        kind,
        frozenset(
            name.lower()
            for name, _ in answer.headers
            if name.lower().startswith("x-") or name.lower() in ("location", "link", "etag")
        ),
        outline,
    )


def _outline(value: object, depth: int) -> object:
    if isinstance(value, dict):
        return tuple(
            (key, _outline(value[key], depth - 1) if depth else None) for key in sorted(value)
        )
    if isinstance(value, list):
        return ("[", _outline(value[0], depth - 1) if value and depth else bool(value))
    return "" if value is None else type(value).__name__
