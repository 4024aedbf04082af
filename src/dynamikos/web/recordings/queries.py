"""Reading recordings."""

import uuid
import zlib
from dataclasses import dataclass
from functools import lru_cache

import msgspec
from django.db.models import QuerySet
from django.shortcuts import get_object_or_404
from msgspec.structs import replace

from dynamikos.core.exchanges import Exchange, Mark
from dynamikos.core.exchanges import Recording as CoreRecording
from dynamikos.core.exchanges.resources import is_static
from dynamikos.web.projects.models import Membership
from dynamikos.web.recordings.models import Recording, Session

_decoder = msgspec.msgpack.Decoder(Exchange)


def recordings(member: Membership) -> QuerySet[Recording]:
    return Recording.objects.filter(project=member.project).select_related("session")


def recording(member: Membership, pk: uuid.UUID) -> Recording:
    return get_object_or_404(Recording, project=member.project, pk=pk)


def own_origins(found: Recording) -> list[str]:
    """Origins that the import took for the application's."""
    return [host["origin"] for host in found.hosts if host.get("ours")]


def unpack(body: bytes) -> Exchange:
    return _decoder.decode(zlib.decompress(body))


@lru_cache(maxsize=256)
def exchange(recording_id: uuid.UUID, number: int) -> Exchange | None:
    """One recorded exchange; recordings never change, so it may be kept in memory."""
    row = Recording.objects.get(pk=recording_id).exchanges.filter(number=number).first()
    return None if row is None else unpack(bytes(row.body))


def as_core(found: Recording) -> CoreRecording:
    """The whole recording as a core value. Its exchanges are numbered by their place in it, as they
    are stored and as journeys refer to them; what number they had in a file is forgotten here.
    """
    bodies = found.exchanges.order_by("number").values_list("body", flat=True)
    exchanges = tuple(
        replace(unpack(bytes(body)), entry=number) for number, body in enumerate(bodies)
    )
    session = Session.objects.filter(recording=found).first()
    marks = (
        tuple(msgspec.convert(each, Mark) for each in session.marks) if session is not None else ()
    )
    return CoreRecording(exchanges=exchanges, pages=found.pages, creator=found.creator, marks=marks)


WIDE, HIGH = 860, 92


@dataclass(frozen=True, slots=True)
class Tick:
    """An exchange on the time strip, pixels."""

    x: float
    height: int
    is_bad: bool
    title: str


@dataclass(frozen=True, slots=True)
class Strip:
    """A recording as drawn: ticks, named stretches (x, width, name, part), the first and last
    instant in µs.
    """

    ticks: list[Tick]
    stretches: list[tuple[float, float, str, str]]
    from_us: int
    to_us: int
    newest: list[
        tuple[Exchange, list[Exchange]]
    ]  # pages and calls, each with the resources it embeds


def strip(session: Session) -> Strip:
    """The time strip of a session so far; resources of pages are short ticks."""
    exchanges = [
        unpack(bytes(body)) for body in session.recording.exchanges.values_list("body", flat=True)
    ]
    if not exchanges:
        return Strip([], [], 0, 0, [])
    begin = min(each.started_us for each in exchanges)
    end = max(begin + 10_000_000, max(each.started_us for each in exchanges) + 1_000_000)

    def x(at_us: int) -> float:
        return round(6 + (min(max(at_us, begin), end) - begin) / (end - begin) * (WIDE - 12), 1)

    ticks = []
    for each in exchanges:
        kind = (each.answer.header("content-type") or "") if each.answer else ""
        page = not _resource(each) and (
            "html" in kind or "json" in kind or each.sent.method != "GET" or not is_static(each)
        )
        bad = each.answer is None or each.answer.status >= 400
        ticks.append(
            Tick(x(each.started_us), 34 if page else 12, bad, f"{each.sent.method} {each.sent.url}")
        )
    marks = sorted(session.marks, key=lambda mark: mark["at_us"])
    stretches = []
    for number, mark in enumerate(marks):
        right = x(marks[number + 1]["at_us"]) if number + 1 < len(marks) else WIDE - 6.0
        left = x(mark["at_us"])
        stretches.append((left, max(2.0, round(right - left, 1)), mark["name"], mark["part"]))
    return Strip(ticks, stretches, begin, end, _folded(exchanges)[-12:][::-1])


def _resource(each: Exchange) -> bool:
    return is_static(each) or each.sent.url.partition("?")[0].endswith("/favicon.ico")


def _folded(exchanges: list[Exchange]) -> list[tuple[Exchange, list[Exchange]]]:
    """Pages and calls in order, with the resources that came after each."""
    made: list[tuple[Exchange, list[Exchange]]] = []
    for each in exchanges:
        if made and _resource(each):
            made[-1][1].append(each)
        else:
            made.append((each, []))
    return made
