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
from dynamikos.core.correlation.coding import written
from dynamikos.core.correlation.model import Strand
from dynamikos.core.correlation.texts import whole
from dynamikos.core.exchanges import Exchange, text_of
from dynamikos.core.exchanges.resources import is_static
from dynamikos.core.journeys.recorded_requests import unsupported

TELLING = 6  # signs of a value that stands in a text by no chance


class Source(NamedTuple):
    """An exchange that is not replayed: its position, what it is in words, and what it said;
    `text` is None where the recording lacks that.
    """

    position: int
    words: str
    text: str | None
    is_stream: bool = False  # of the application itself

    def holds(self, value: str) -> bool:
        """Whether what it said holds a value, standing by itself."""
        return self.text is not None and any(_stands_in(self.text, form) for form in written(value))


def _stands_in(text: str, form: str) -> bool:
    at = text.find(form)
    while at >= 0:
        if whole(text, at, len(form)):
            return True
        at = text.find(form, at + 1)
    return False


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
        body = text_of(answer.body, answer.header("content-type") or "") if answer.body else None
        if what := unsupported(exchange):
            named = what.removeprefix("a ")
            yield Source(
                position, f"the {SAID.get(what, named)} {place}, which is not replayed", body, True
            )
        elif f"{parts.scheme}://{parts.netloc}" not in origins:
            if body is not None or answer.size_bytes > 0:
                host = f"the answer of {parts.netloc} {place}, a host that is left out"
                yield Source(position, host, body)
        elif body is None and answer.size_bytes > 0 and exchange.sent.method != "HEAD":
            yield Source(position, f"the answer {place}, whose body the recording lacks", None)


SAID = {
    "a WebSocket handshake": "WebSocket",
    "a change of protocol": "connection of another protocol",
    "a stream of server-sent events": "stream of server-sent events",
}


def origin_in(sources: Sequence[Source], value: str, first: int) -> tuple[Source, bool] | None:
    """(a source of a value that is first sent at `first`, whether it is known to hold it); None
    where nothing speaks for one.
    """
    before = [source for source in sources if source.position < first]
    if len(value) >= TELLING or (len(value) >= 4 and value.isdigit()):
        for source in before:
            if source.holds(value):
                return source, True
    silent = [source for source in reversed(before) if source.text is None]
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
    return [_doubted(each, sources) if _is_open(each) else each for each in strands]


def _is_open(strand: Strand) -> bool:
    """Whether it has no origin: what is computed, typed as words, or a time has one."""
    if strand.captures or strand.made_by or not strand.uses:
        return False
    if strand.pattern.startswith(("a time stamp", "a date", "a click")):
        return False
    if strand.kind == "constant" and any(strand.values[1:]):
        return False  # the same in every recording
    return strand.kind != "typed" or any(sign.isdigit() for sign in strand.value)


def _doubted(strand: Strand, sources: Sequence[Source]) -> Strand:
    first = min(use.at for use in strand.uses)
    found = origin_in(sources, strand.value, first)
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
