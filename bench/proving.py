"""Harder questions to a search: does what it proved hold on a recording it has not seen, and does
it prove chance?
"""

import re
from collections.abc import Callable, Sequence

import orjson
from msgspec.structs import replace

from dynamikos.core.captures import compile_capture
from dynamikos.core.correlation import Strand, find_strands
from dynamikos.core.correlation.search import answers_of, map_of
from dynamikos.core.correlation.sites import sites_of
from dynamikos.core.exchanges import Exchange

SHORT = re.compile(r"\d{1,4}")
MOVES = (1, 2, 3, 5)


def holding(
    strands: Sequence[Strand],
    first: Sequence[Exchange],
    unseen: Sequence[Exchange],
    origins: Sequence[str],
) -> tuple[list[str], list[str]]:
    """(names of the strands whose capture yields on `unseen` what is sent there, names of those
    whose does not).

    Strands whose requests the unseen recording lacks are in neither.
    """
    main, other = answers_of(first, origins), answers_of(unseen, origins)
    there = map_of(main, other)
    position = {each.entry if each.entry >= 0 else at: at for at, each in enumerate(main.exchanges)}
    good: list[str] = []
    bad: list[str] = []
    for strand in strands:
        if (
            strand.kind != "issued"
            or not strand.proven
            or strand.followed
            or strand.capture is None
        ):
            continue
        assert strand.origin is not None
        begun = there.get(main.start[position[strand.origin.entry]])
        if begun is None or strand.capture.pick == "random":
            continue
        taken = compile_capture(strand.capture)(other.view(begun))
        sent = {
            site.value
            for use in strand.uses
            if position[use.entry] in there
            for site in sites_of(other.exchanges[there[position[use.entry]]], 0)
            if site.place == use.place
        }
        if sent:
            (good if taken in sent else bad).append(strand.name)
    return good, bad


def chance(
    recordings: Sequence[Sequence[Exchange]], origins: Sequence[str]
) -> tuple[list[str], int]:
    """(what is proven all the same, how many values were tried) when every short number that the
    second recording sends is another one than it was: then no answer issued it.
    """
    held: list[str] = []
    tried = 0
    for by in MOVES:
        moved = [_moved(each, by) for each in recordings[1]]
        for strand in find_strands([recordings[0], moved], origins=origins):
            if not SHORT.fullmatch(strand.value) or len(set(filter(None, strand.values))) < 2:
                continue
            tried += 1
            if strand.kind == "issued" and strand.proven and not strand.followed:
                held.append(
                    f"{strand.name}={strand.value} (+{by}, {strand.uses[0].context} "
                    f"{strand.uses[0].place})"
                )
    return held, tried


def _moved(exchange: Exchange, by: int) -> Exchange:
    """A request with `by` added to every short number in its path, query, form and JSON."""

    def more(match: re.Match[str]) -> str:
        return str(int(match.group(0)) + by)

    url = exchange.sent.url
    base = re.match(r"\w+://[^/]*", url)
    head = base.group(0) if base else ""
    rest = re.sub(r"(?<=[/=])\d{1,4}(?=[/?&#]|\Z)", more, url[len(head) :])
    body = exchange.sent.body
    kind = next(
        (value for name, value in exchange.sent.headers if name.lower() == "content-type"), ""
    )
    if "urlencoded" in kind:
        body = re.sub(r"(?<==)\d{1,4}(?=&|\Z)", more, body.decode("latin-1")).encode("latin-1")
    elif "json" in kind and body:
        body = _moved_json(body, more)
    return replace(exchange, sent=replace(exchange.sent, url=head + rest, body=body))


def _moved_json(body: bytes, more: Callable[[re.Match[str]], str]) -> bytes:
    def walk(value: object) -> object:
        if isinstance(value, dict):
            return {name: walk(each) for name, each in value.items()}
        if isinstance(value, list):
            return [walk(each) for each in value]
        if isinstance(value, int) and not isinstance(value, bool) and SHORT.fullmatch(str(value)):
            return int(SHORT.sub(more, str(value)))
        return (
            SHORT.sub(more, value) if isinstance(value, str) and SHORT.fullmatch(value) else value
        )

    try:
        return orjson.dumps(walk(orjson.loads(body)))
    except ValueError:
        return body
