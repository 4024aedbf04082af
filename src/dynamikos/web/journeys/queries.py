"""Reading journeys."""

import contextlib
import difflib
import itertools
import uuid
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import NamedTuple

from django.db.models import QuerySet
from django.shortcuts import get_object_or_404

from dynamikos.core.exchanges import text_of
from dynamikos.core.frozen.freeze import FILE, bodies_from_files
from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.core.journeys import (
    Problem,
    Shared,
    expand,
    names_needed,
    used_in,
    verify,
    write_journey,
)
from dynamikos.core.journeys.shared import SHARED
from dynamikos.core.journeys.text import JOURNEY
from dynamikos.core.reports import unpack_kept
from dynamikos.web.datasets.queries import columns_known
from dynamikos.web.environments.queries import first, known, named
from dynamikos.web.environments.queries import names as names_of
from dynamikos.web.functions.queries import functions
from dynamikos.web.journeys.models import Draft, Journey, SharedStep
from dynamikos.web.projects.models import Membership, Revision
from dynamikos.web.projects.revisions import Unreadable, value_of
from dynamikos.web.recordings.models import Recording
from dynamikos.web.recordings.queries import as_core, own_origins


def journeys(member: Membership) -> QuerySet[Journey]:
    return Journey.objects.filter(project=member.project).select_related("head", "recording")


def journey(member: Membership, pk: uuid.UUID) -> Journey:
    return get_object_or_404(journeys(member), pk=pk)


def of_same_hosts(member: Membership, found: Recording) -> list[Journey]:
    """Journeys that another recording of the same hosts was made into, the newest first."""
    hosts = set(own_origins(found))
    made = journeys(member).exclude(recording=None).order_by("-pk").prefetch_related("others")
    return [
        each
        for each in made
        if each.recording is not None
        and hosts & set(own_origins(each.recording))
        and found.pk not in {each.recording_id, *(other.pk for other in each.others.all())}
    ]


def further_of(member: Membership, found: Journey) -> list[Recording]:
    """Recordings of the journey's hosts that it does not look at yet, the newest first."""
    hosts = set(own_origins(found.recording)) if found.recording is not None else set()
    known = {found.recording_id, *found.others.values_list("pk", flat=True)}
    recordings = Recording.objects.filter(project=member.project, count__gt=0)[:200]
    return [
        each
        for each in recordings
        if each.pk not in known and (not hosts or hosts & set(own_origins(each)))
    ]


def stored(found: Journey) -> CoreJourney:
    """The core value of the head revision, as it is kept: steps that use a shared one have no
    requests.
    """
    assert found.head is not None
    return _decoded(found.head.pk, found.head.sha256)  # a revision is folded into under a new sum


def content(found: Journey) -> CoreJourney:
    """The core value of the head revision with the requests of shared steps in it."""
    core = stored(found)
    return expand(core, shared_steps(found.project_id, used_in(core)))


def draft_of(member: Membership, found: Journey) -> Draft | None:
    """The member's own text that is not the journey's yet."""
    return Draft.objects.filter(journey=found, account=member.account).first()


def shared_steps(project: uuid.UUID, keys: Collection[str]) -> dict[str, Shared]:
    """The project's shared steps with these keys, at their heads."""
    if not keys:
        return {}
    rows = SharedStep.objects.filter(project=project, key__in=keys).select_related("head")
    return {row.key: _shared(row.head.pk, row.head.sha256) for row in rows if row.head is not None}


def columns_used(member: Membership) -> dict[str, list[str]]:
    """Each "table.column" that journeys use, with their names."""
    made: dict[str, list[str]] = {}
    for found, core in readable(journeys(member)):
        for name in names_needed(core):
            made.setdefault(name, []).append(found.name)
    return made


def readable(rows: Iterable[Journey]) -> Iterator[tuple[Journey, CoreJourney]]:
    """Journeys with what they hold; one that can't be read is left out, so that it harms nothing
    beside it.
    """
    for found in rows:
        try:
            core = content(found)
        except Unreadable:
            continue
        yield found, core


def users_of(found: Journey, key: str) -> list[Journey]:
    """The journeys of the project that use the shared step `key`."""
    rows = Journey.objects.filter(project=found.project_id).select_related("head")
    return [each for each, core in readable(rows) if key in used_in(core)]


@lru_cache(maxsize=64)
def _shared(revision: uuid.UUID, sha256: str) -> Shared:
    return value_of(Revision.objects.get(pk=revision), SHARED)


class SharedRow(NamedTuple):
    """A shared step with its content and the journeys that use it; `problem` says why there is no
    content.
    """

    row: SharedStep
    value: Shared | None
    users: list[Journey]
    problem: str = ""


def all_shared(member: Membership) -> list[SharedRow]:
    """Every shared step; journeys that can't be read use none."""
    users: dict[str, list[Journey]] = {}
    for each in journeys(member):
        with contextlib.suppress(Unreadable):
            for key in used_in(stored(each)):
                users.setdefault(key, []).append(each)
    made = []
    for row in SharedStep.objects.filter(project=member.project).select_related("head"):
        if row.head is None:
            continue
        try:
            made.append(
                SharedRow(row, _shared(row.head.pk, row.head.sha256), users.get(row.key, []))
            )
        except Unreadable as problem:
            made.append(SharedRow(row, None, users.get(row.key, []), str(problem)))
    return made


def problems(found: Journey, core: CoreJourney, environment: str = "") -> list[Problem]:
    """What is wrong with it, given the project's data sets, functions and an environment (by key;
    the first one without).
    """
    names = frozenset(columns_known(found.project) | names_of(named(found.project, environment)))
    calls = any(step.kind == "call" for _, step in core.steps())
    callable_ones = frozenset(functions(found.project)) if calls else frozenset()
    key = (
        found.head.sha256 if found.head is not None else "",
        names | {f"{each}()" for each in callable_ones},
        tuple(core.find_step(step.step) for _, step in core.steps() if step.use),
    )
    known_ones = _verified.get(key)
    if known_ones is None:  # the same content with the same names is verified once
        if len(_verified) >= 64:
            _verified.clear()
        known_ones = _verified[key] = [
            *verify(core, names, callable_ones),
            *(
                Problem(step=step, request=request, message=FILE)
                for step, request in bodies_from_files(core)
            ),
        ]
    return list(known_ones)


_verified: dict[tuple[object, ...], list[Problem]] = {}


@lru_cache(maxsize=64)
def _decoded(revision: uuid.UUID, sha256: str) -> CoreJourney:
    return value_of(Revision.objects.get(pk=revision), JOURNEY)


def values_known(found: Journey, core: CoreJourney) -> dict[str, dict[str, str]]:
    """Name → where its value comes from ("from") and what it was in the last rehearsal ("last"),
    for every value of the project.
    """
    made: dict[str, dict[str, str]] = {}
    environment = first(found.project)
    for name, value in known(environment).items():
        made[name] = {"from": f"from the environment {environment}", "last": value}
    for name in columns_known(found.project):
        made[name] = {"from": f"a column of {name.partition('.')[0]}: a new row each round"}
    made["user.number"], made["round.number"] = (
        {"from": "the user's number, from 1"},
        {"from": "the round's number, from 1"},
    )
    for name in sorted(names_of(environment)):
        if name.startswith("secrets."):
            made[name] = {"from": f"a sealed secret of the environment {environment}"}
    for _, step in core.steps():
        for name in step.gives():
            made[name] = {"from": f"given by {step.name}"}
        for request in step.requests:
            for capture in request.captures:
                made[capture.name] = {
                    "from": f"captured by {capture.form} from the answer of {request.request} in "
                    f"{step.name}"
                }
    last = found.rehearsals.first() if hasattr(found, "rehearsals") else None
    exchange = last.exchanges.last() if last is not None else None
    if exchange is not None:
        for name, value in unpack_kept(bytes(exchange.body)).variables.items():
            if name in made:
                made[name]["last"] = value[:200]
    return made


def last_values(found: Journey) -> dict[str, str]:
    """The values that the newest rehearsal ended with (masked as they were kept), the environment's
    and a number of user and round.
    """
    environment = first(found.project)
    values = {
        **dict.fromkeys(names_of(environment), "•••••"),
        **known(environment),
        "user.number": "1",
        "round.number": "1",
    }
    last = found.rehearsals.first() if hasattr(found, "rehearsals") else None
    exchange = last.exchanges.last() if last is not None else None
    if exchange is not None:
        values.update(unpack_kept(bytes(exchange.body)).variables)
    return values


def revisions(found: Journey) -> list[Revision]:
    """All revisions, the newest first."""
    return list(
        Revision.objects.filter(subject=found.pk)
        .select_related("author", "parent")
        .order_by("-number")[:500]
    )


def difference(revision: Revision) -> list[tuple[str, str]]:
    """(mark, line) of the text form against the parent's: " " same, "-" gone, "+" new, "@" lines
    left out.
    """
    after = write_journey(value_of(revision, JOURNEY)).splitlines()
    before = (
        write_journey(value_of(revision.parent, JOURNEY)).splitlines()
        if revision.parent is not None
        else []
    )
    lines = list(difflib.unified_diff(before, after, lineterm="", n=3))[2:]
    return [(line[0], line[1:]) if line[:2] != "@@" else ("@", "") for line in lines][:1500]


def answered_s(found: Journey, core: CoreJourney) -> float:
    """Seconds that the answers of a round took in the recording."""
    if found.recording is None:
        return 0.0
    exchanges = as_core(found.recording).exchanges
    numbers = [
        request.recorded
        for step in core.active().rounds
        for request in step.requests
        if request.recorded is not None
    ]
    return (
        sum(exchanges[number].timings.total_us for number in numbers if number < len(exchanges))
        / 1e6
    )


@dataclass(frozen=True, slots=True)
class Match:
    """Where a text was found, with what stands around it."""

    recording: str
    number: int
    place: str
    request: str
    before: str
    text: str
    after: str


def find_text(found: Journey, text: str, limit: int = 200) -> list[Match]:
    """A text (any case) in addresses, headers and bodies of all recordings of the journey and its
    newest rehearsals, sent and received.
    """
    recordings = (
        [found.recording, *found.others.order_by("imported_at")]
        if found.recording is not None
        else []
    )
    made: list[Match] = []
    for where, number, request, places in itertools.chain(
        _recorded_places(recordings), _rehearsed_places(found)
    ):
        for place, whole in places:
            at = whole.lower().find(text.lower())
            if at >= 0:
                end = at + len(text)
                made.append(
                    Match(
                        where,
                        number,
                        place,
                        request,
                        whole[max(0, at - 60) : at],
                        whole[at:end],
                        whole[end : end + 60],
                    )
                )
                if len(made) >= limit:
                    return made
    return made


Places = list[tuple[str, str]]
REHEARSALS_SEARCHED = 10


def _lines(headers: Iterable[tuple[str, str]]) -> str:
    return "\n".join(f"{name}: {value}" for name, value in headers)


def _recorded_places(recordings: Iterable[Recording]) -> Iterator[tuple[str, int, str, Places]]:
    """(where, number, request, texts by place) of every recorded exchange."""
    for recording in recordings:
        for number, each in enumerate(as_core(recording).exchanges):
            sent, answer = each.sent, each.answer
            places = [
                ("address", sent.url),
                ("sent headers", _lines(sent.headers)),
                ("sent body", text_of(sent.body)),
            ]
            if answer is not None:
                kind = answer.header("content-type") or ""
                places.append(("answer's headers", _lines(answer.headers)))
                if not kind.startswith(("image/", "font/", "video/")):
                    places.append(("answer's body", text_of(answer.body, kind)))
            yield (
                recording.name,
                number,
                f"{sent.method} /{sent.url.split('://', 1)[-1].partition('/')[2]}",
                places,
            )


def _rehearsed_places(found: Journey) -> Iterator[tuple[str, int, str, Places]]:
    """The same of the newest rehearsals, masked as they are kept."""
    for rehearsal in found.rehearsals.order_by("-number")[:REHEARSALS_SEARCHED]:
        for number, body in rehearsal.exchanges.values_list("number", "body"):
            kept = unpack_kept(bytes(body))
            places = [
                ("address", kept.url),
                ("sent headers", _lines(kept.sent_headers)),
                ("sent body", kept.sent_body),
                ("answer's headers", _lines(kept.headers)),
                ("answer's body", kept.body),
            ]
            yield (
                f"rehearsal {rehearsal.number}",
                number,
                f"{kept.method} /{kept.url.split('://', 1)[-1].partition('/')[2]}",
                places,
            )
