"""Jobs on documents from outside and on recorded pages: what a stranger wrote is parsed here, in a
child that is bounded, never in the web.
"""

import zlib
from collections.abc import Callable

import msgspec

from dynamikos.core.captures import View
from dynamikos.core.checks import suggested
from dynamikos.core.correlation import Accepted, Strand, accept, strand_by_hand
from dynamikos.core.correlation.doing import Replay, doubts_on
from dynamikos.core.correlation.model import Use
from dynamikos.core.correlation.witnessed import with_proofs
from dynamikos.core.errors import ImportRefused, TextError
from dynamikos.core.exchanges import (
    Answer,
    Exchange,
    Recording,
    hosts_of,
    likeness,
    read_curl,
    read_har,
)
from dynamikos.core.exchanges.har import HostSummary
from dynamikos.core.frozen import canonical
from dynamikos.core.journeys import parse_journey, parse_shared
from dynamikos.core.journeys.from_openapi import Description, Operation
from dynamikos.core.journeys.from_recording import journey_from
from dynamikos.core.journeys.text import JOURNEY

Progress = Callable[[float], None]


class ReadRecording(msgspec.Struct, frozen=True, array_like=True):
    """A HAR file that was read: its exchanges as they are stored, one by one."""

    creator: str
    pages: dict[str, str]
    remarks: list[str]
    hosts: list[HostSummary]
    bodies: list[bytes]


def stored(exchange: Exchange) -> bytes:
    return zlib.compress(msgspec.msgpack.encode(exchange), 1)


def har(payload: bytes, progress: Progress) -> bytes:
    """The bytes of a HAR file → ReadRecording. Raises ImportRefused."""
    try:
        core = read_har(payload, lambda share: progress(0.8 * share))
    except RecursionError as problem:
        raise ImportRefused(
            "Something in the file is nested too deeply to be read; export the session once more."
        ) from problem
    bodies = []
    for number, exchange in enumerate(core.exchanges):
        bodies.append(stored(exchange))
        if number % 50 == 0:
            progress(0.8 + 0.2 * number / len(core.exchanges))
    return msgspec.msgpack.encode(
        ReadRecording(
            core.creator, core.pages, list(core.remarks), hosts_of(core.exchanges), bodies
        )
    )


def curl(payload: bytes, progress: Progress) -> bytes:
    """A pasted text and the instant (µs) → ReadRecording without answers. Raises ImportRefused."""
    text, begun = msgspec.msgpack.decode(payload, type=tuple[str, int])
    exchanges = [
        msgspec.structs.replace(each, started_us=begun + each.started_us)
        for each in read_curl(text)
    ]
    return msgspec.msgpack.encode(
        ReadRecording("pasted", {}, [], hosts_of(exchanges), [stored(each) for each in exchanges])
    )


class Described(msgspec.Struct, frozen=True, array_like=True):
    """What an API description holds; and, where operations were chosen, the journey of them
    (canonical JSON).
    """

    title: str
    base: str
    operations: list[Operation]
    journey: bytes


def described(payload: bytes, progress: Progress) -> bytes:
    """(document, its name, chosen operations or None, the journey's name, base address) →
    Described.

    Raises ImportRefused.
    """
    document, name, chosen, called, base = msgspec.msgpack.decode(
        payload, type=tuple[bytes, str, list[str] | None, str, str]
    )
    found = Description(document, name)
    made = (
        canonical(found.journey(called or found.title, set(chosen), base))
        if chosen is not None
        else b""
    )
    return msgspec.msgpack.encode(Described(found.title, found.base(), found.operations(), made))


def scripted(payload: bytes, progress: Progress) -> bytes:
    """(recording, name, origins, environment values by origin) → the journey made from it, as
    canonical JSON.
    """
    recording, name, origins, bases = msgspec.msgpack.decode(
        payload, type=tuple[Recording, str, list[str], dict[str, str]]
    )
    return canonical(journey_from(recording, name, origins, bases))


def doing(payload: bytes, progress: Progress) -> bytes:
    """(replays, the recording's exchanges) → list of Doubt."""
    replays, recording = msgspec.msgpack.decode(payload, type=tuple[list[Replay], list[Exchange]])
    return msgspec.msgpack.encode(doubts_on(replays, recording))


def text_form(payload: bytes, progress: Progress) -> bytes:
    """("journey" or "shared", its text) → (canonical JSON, "", 0, 0), or what is wrong with it:
    (b"", message, line, column).
    """
    kind, text = msgspec.msgpack.decode(payload, type=tuple[str, str])
    try:
        return msgspec.msgpack.encode(
            (canonical(parse_shared(text) if kind == "shared" else parse_journey(text)), "", 0, 0)
        )
    except TextError as problem:
        return msgspec.msgpack.encode((b"", problem.message, problem.line, problem.column))


class Pair(msgspec.Struct, frozen=True, array_like=True):
    """An answer as recorded and as replayed. Header names of `headers` are in lower case."""

    recorded: Answer
    status: int
    headers: dict[str, str]
    body: str
    size_bytes: int


def compare(payload: bytes, progress: Progress) -> bytes:
    """Pairs → for each the reasons why it looks different."""
    pairs = msgspec.msgpack.decode(payload, type=list[Pair])
    return msgspec.msgpack.encode(
        [
            likeness.differences(
                each.recorded, each.status, each.headers, each.body, each.size_bytes
            )
            for each in pairs
        ]
    )


Seen = tuple[int, list[tuple[str, str]], bytes]  # status, headers, body


def view_of(seen: Seen) -> View:
    """A kept or recorded answer, whose body is decoded already, as captures and checks look at
    it.
    """
    status, headers, body = seen
    kept = [(n, v) for n, v in headers if n.lower() not in ("content-encoding", "content-length")]
    return View(
        status,
        [
            (name.encode("latin-1", "replace"), value.encode("latin-1", "replace"))
            for name, value in kept
        ],
        body,
    )


def suggest(payload: bytes, progress: Progress) -> bytes:
    """(answer, the recorded one or None, other bodies, values by name) → (words, check as JSON) of
    fitting checks.
    """
    answer, recorded, others, values = msgspec.msgpack.decode(
        payload, type=tuple[Seen, Seen | None, list[str], dict[str, str]]
    )
    found = suggested(
        view_of(answer), view_of(recorded) if recorded is not None else None, others, values
    )
    return msgspec.msgpack.encode(
        [(words, msgspec.json.encode(check).decode()) for words, check in found]
    )


class GivenAnswer(msgspec.Struct, frozen=True, array_like=True):
    """An answer that captures are tried on. `headers` and `body` as they came."""

    status: int
    headers: list[tuple[bytes, bytes]]
    body: bytes
    cookies: dict[str, str]
    addresses: list[str]


class ByHand(msgspec.Struct, frozen=True, array_like=True):
    """A value marked in a recorded answer."""

    recordings: list[list[Exchange]]
    position: int
    text: str
    origins: list[str]
    taken: list[str]


def by_hand(payload: bytes, progress: Progress) -> bytes:
    """ByHand → Strand. Raises DynamikosError."""
    asked = msgspec.msgpack.decode(payload, type=ByHand)
    made = strand_by_hand(
        asked.recordings, asked.position, asked.text, origins=set(asked.origins), taken=asked.taken
    )
    return msgspec.msgpack.encode(with_proofs([made], asked.recordings)[0])


class Acceptance(msgspec.Struct, frozen=True, array_like=True):
    """Strands to be put into a journey (canonical JSON)."""

    journey: bytes
    strands: list[Strand]
    exchanges: list[Exchange]
    uses: dict[str, list[Use]] | None
    columns: dict[str, str] | None


def accepted(payload: bytes, progress: Progress) -> bytes:
    """Acceptance → (the changed journey as canonical JSON, what was done, what was left). Raises
    DynamikosError.
    """
    asked = msgspec.msgpack.decode(payload, type=Acceptance)
    journey = JOURNEY.read(asked.journey)
    made: Accepted = accept(journey, asked.strands, asked.exchanges, asked.uses, asked.columns)  # type: ignore[arg-type]
    return msgspec.msgpack.encode((canonical(made.journey), list(made.done), list(made.left)))


JOBS: dict[str, Callable[[bytes, Progress], bytes]] = {
    "har": har,
    "curl": curl,
    "described": described,
    "doing": doing,
    "scripted": scripted,
    "text_form": text_form,
    "compare": compare,
    "suggest": suggest,
    "by_hand": by_hand,
    "accepted": accepted,
}
