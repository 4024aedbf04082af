"""What a recording holds and a journey does not replay: streams, sockets, hosts that are left out,
answers whose bodies are missing.

A value that came from there is sent as it was recorded, and an application that still knows it says
yes: green, and wrong. So whatever has no other origin and appears after such a source is doubted:
where the source's text holds the value it came from there; where the text is not known it may have.
"""

from collections.abc import Collection, Iterator, Sequence
from typing import NamedTuple
from urllib.parse import urlsplit

from msgspec.structs import replace

from dynamikos.core.correlation import value_shapes
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.model import Strand
from dynamikos.core.correlation.origins import holding
from dynamikos.core.exchanges import Exchange
from dynamikos.core.exchanges.resources import is_static
from dynamikos.core.journeys.recorded_requests import unsupported

TELLING = 6  # signs of a value that stands in a text by no chance


class Source(NamedTuple):
    """An exchange that is not replayed: its position, what it is in words, whether the recording
    has what it said, and whether it is a stream of the application itself.
    """

    position: int
    words: str
    is_known: bool
    is_stream: bool = False


def sources_of(exchanges: Sequence[Exchange], origins: Collection[str]) -> list[Source]:
    """Those of a recording, in order, where a journey of it sends to `origins` only."""
    return list(_sources(exchanges, origins))


def _sources(exchanges: Sequence[Exchange], origins: Collection[str]) -> Iterator[Source]:
    for position, exchange in enumerate(exchanges):
        answer = exchange.answer
        if answer is None or (is_static(exchange) and not unsupported(exchange)):
            continue
        parts = urlsplit(exchange.sent.url)
        entry = exchange.entry if exchange.entry >= 0 else position
        place = f"of entry {entry} ({exchange.sent.method} {parts.path or '/'})"
        has_text = bool(answer.body)
        if what := unsupported(exchange):
            named = what.removeprefix("a ")
            yield Source(
                position,
                f"the {SAID.get(what, named)} {place}, which is not replayed",
                has_text,
                True,
            )
        elif f"{parts.scheme}://{parts.netloc}" not in origins:
            if has_text or answer.size_bytes > 0:
                host = f"the answer of {parts.netloc} {place}, a host that is left out"
                yield Source(position, host, has_text)
        elif not has_text and answer.size_bytes > 0 and exchange.sent.method != "HEAD":
            yield Source(position, f"the answer {place}, whose body the recording lacks", False)


SAID = {
    "a WebSocket handshake": "WebSocket",
    "a change of protocol": "connection of another protocol",
    "a stream of server-sent events": "stream of server-sent events",
}


def origin_in(
    sources: Sequence[Source], value: str, first: int, held: Collection[int]
) -> tuple[Source, bool] | None:
    """(a source of a value that is first sent at `first`, whether it is known to hold it); None
    where nothing speaks for one. `held` are the positions of the answers that hold it.
    """
    before = [source for source in sources if source.position < first]
    if len(value) >= TELLING or (len(value) >= 4 and value.isdigit()):
        for source in before:
            if source.position in held:
                return source, True
    silent = [source for source in reversed(before) if not source.is_known]
    opaque = next(iter(sorted(silent, key=lambda source: not source.is_stream)), None)
    if opaque is not None and value_shapes.generated(value):
        return opaque, False
    return None


def with_unreplayed(
    strands: Sequence[Strand], exchanges: Sequence[Exchange], origins: Collection[str]
) -> list[Strand]:
    """`strands`, those that no answer issues and that something unreplayed did, or may have, with
    that as a doubt. What is known to have come from there is the server's.
    """
    sources = sources_of(exchanges, origins)
    if not sources:
        return list(strands)
    waiting = [each for each in strands if _is_open(each)]
    everywhere = range(len(exchanges))
    where = [source.position for source in sources if source.is_known]
    values = [each.value for each in waiting]  # all in one pass over each text
    held = holding(Answers(exchanges, everywhere), values, where)
    found = dict(zip((each.name for each in waiting), held, strict=True))
    return [_doubted(e, sources, found[e.name]) if e.name in found else e for e in strands]


def _is_open(strand: Strand) -> bool:
    """Whether it has no origin: what is computed, typed as words, or a time has one."""
    if strand.captures or strand.made_by or not strand.uses:
        return False
    if strand.pattern.startswith(("a time stamp", "a date", "a click")):
        return False
    if strand.kind == "constant" and any(strand.values[1:]):
        return False  # the same in every recording
    if strand.kind == "constant":
        return value_shapes.generated(strand.value)  # a word stands in many a text
    return strand.kind != "typed" or any(sign.isdigit() for sign in strand.value)


def _doubted(strand: Strand, sources: Sequence[Source], held: Collection[int]) -> Strand:
    first = min(use.at for use in strand.uses)
    found = origin_in(sources, strand.value, first, held)
    if found is None:
        return strand
    source, is_known = found
    if not is_known:
        # an id that scripts make hardly comes from a host that counts visitors
        is_usual = strand.pattern.startswith(("a UUID", "a random number")) and not source.is_stream
        if strand.kind == "typed" or is_usual:
            return strand
        doubt = f"may come from {source.words}"
        return replace(strand, doubt=doubt, reasons=(*strand.reasons, doubt))
    doubt = f"stands in {source.words}: it would be sent as it was recorded"
    return replace(strand, kind="issued", proven=False, pattern="", doubt=doubt, reasons=(doubt,))
