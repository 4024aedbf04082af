"""Searching, accepting, dismissing, and the project's rules."""

import csv
import io
import zlib
from collections.abc import Callable, Sequence

import msgspec
from django.db import transaction

from dynamikos import workers
from dynamikos.core.correlation import Strand
from dynamikos.core.correlation.accept import maker_for, with_dependents
from dynamikos.core.correlation.model import STRANDS, Use
from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges import Exchange
from dynamikos.core.frozen import canonical
from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.core.journeys import key_from
from dynamikos.core.journeys.text import JOURNEY
from dynamikos.web.datasets.models import DataSet
from dynamikos.web.datasets.queries import columns_known
from dynamikos.web.datasets.uploads import import_csv
from dynamikos.web.journeys import actions as journeys
from dynamikos.web.journeys.models import Journey
from dynamikos.web.journeys.queries import content
from dynamikos.web.projects.access import note
from dynamikos.web.projects.models import Membership
from dynamikos.web.recordings.actions import import_har
from dynamikos.web.recordings.models import Recording
from dynamikos.web.recordings.queries import as_core
from dynamikos.web.rehearsals.queries import as_exchanges
from dynamikos.web.strands import queries
from dynamikos.web.strands.models import Dismissal, Rule, Search
from dynamikos.workers.documents import Acceptance, ByHand
from dynamikos.workers.jobs import SearchJob

SEARCH_S, SEARCH_MB = 180.0, 4000


def recordings_of(journey: Journey) -> list[tuple[str, list[Exchange]]]:
    """(name, exchanges) of the journey's recording and the others of the same journey.

    Raises DynamikosError without one.
    """
    if journey.recording is None:
        raise DynamikosError(
            "This journey was not made from a recording, so there is nothing to search. Add a "
            "recorded session of it"
            " first."
        )
    found = [(journey.recording.name, own_exchanges(journey))]
    return [
        *found,
        *(
            (each.name, list(as_core(each).exchanges))
            for each in journey.others.order_by("imported_at")
        ),
    ]


def own_exchanges(journey: Journey) -> list[Exchange]:
    """Those of the recording that the journey was made from. Raises DynamikosError without one."""
    if journey.recording is None:
        raise DynamikosError(
            "This journey was not made from a recording, so no value of one can be put into it."
        )
    return list(as_core(journey.recording).exchanges)


def search(
    member: Membership,
    journey: Journey,
    progress: Callable[[float], None] = lambda share: None,
    *,
    rehearsed: bool = True,
) -> Search:
    """Searches all recordings of the journey, with its newest rehearsal as further evidence."""
    recordings = recordings_of(journey)
    newest = queries.newest_rehearsal(journey) if rehearsed else None
    origins = _origins(content(journey), recordings[0][1])
    asked = SearchJob(
        [each for _, each in recordings],
        as_exchanges(newest) if newest is not None else None,
        sorted(origins),
        queries.rules(member),
    )
    body = workers.call(
        "strands",
        msgspec.msgpack.encode(asked),
        seconds=SEARCH_S,
        memory_mb=SEARCH_MB,
        progress=progress,
    )
    found = msgspec.msgpack.decode(body, type=list[Strand])
    evidence = [name for name, _ in recordings] + (
        [f"rehearsal {newest.number}"] if newest is not None else []
    )
    made, _ = Search.objects.update_or_create(
        journey=journey,
        defaults={
            "evidence": evidence,
            "body": zlib.compress(STRANDS.packed(found), 1),
            "said": {},
            "searched_by": member.account,
        },
    )
    note(member, "strands searched", journey.name, found=len(found))
    return made


def _origins(core: CoreJourney, exchanges: Sequence[Exchange]) -> set[str]:
    """Origins of the recorded exchanges that the journey was made of."""
    from urllib.parse import urlsplit

    numbers = {
        request.recorded
        for _, step in core.steps()
        for request in step.requests
        if request.recorded is not None
    }
    urls = [exchanges[number].sent.url for number in numbers if number < len(exchanges)]
    found = {f"{parts.scheme}://{parts.netloc}" for parts in map(urlsplit, urls)}
    if not found:
        raise DynamikosError(
            "No request of this journey comes from its recording any more, so there is nothing to "
            "compare."
        )
    return found


@transaction.atomic
def by_hand(member: Membership, journey: Journey, position: int, text: str) -> Strand:
    """A strand for a value that a person marked in a recorded answer; the first of the list. Raises
    DynamikosError.
    """
    recordings = recordings_of(journey)
    if not 0 <= position < len(recordings[0][1]):
        raise DynamikosError(
            "This request has no recorded answer, so no value can be taken from it."
        )
    known = Search.objects.select_for_update().filter(journey=journey).first()
    strands = queries.strands_of(known) if known is not None else []
    same = next(
        (
            each
            for each in strands
            if each.value == text.strip() and each.kind == "issued" and each.captures
        ),
        None,
    )
    if same is not None:
        return same
    origins = _origins(content(journey), recordings[0][1])
    asked = ByHand(
        [each for _, each in recordings],
        position,
        text,
        sorted(origins),
        [each.name for each in strands],
    )
    answered = workers.call(
        "by_hand", msgspec.msgpack.encode(asked), seconds=SEARCH_S, memory_mb=SEARCH_MB
    )
    made = msgspec.msgpack.decode(answered, type=Strand)
    body = zlib.compress(
        STRANDS.packed([made, *(each for each in strands if each.value != made.value)]), 1
    )
    if known is None:
        evidence = [name for name, _ in recordings]
        Search.objects.create(
            journey=journey, evidence=evidence, body=body, said={}, searched_by=member.account
        )
    else:
        Search.objects.filter(pk=known.pk).update(body=body)
    note(member, "strand begun by hand", f"{journey.name}: {made.name}")
    return made


@transaction.atomic
def take(
    member: Membership,
    journey: Journey,
    parent: str,
    strands: Sequence[Strand],
    uses: dict[str, Sequence[Use]] | None = None,
    columns: dict[str, str] | None = None,
) -> tuple[list[str], list[str]]:
    """Puts captures, makers and columns (strand → "set.column") into the journey; (done, left) in
    sentences.

    Raises Stale or DynamikosError.
    """
    exchanges = own_exchanges(journey)
    known = queries.search_of(journey)
    if known is not None:
        strands = with_dependents(strands, queries.strands_of(known))
    before = journey.head.number if journey.head is not None else 0
    told: tuple[list[str], list[str]] = ([], [])

    def edit(core: CoreJourney) -> CoreJourney:
        nonlocal told
        ticked = None
        if uses is not None:
            ticked = {each.name: list(uses.get(each.name, each.uses)) for each in strands}
        asked = Acceptance(canonical(core), list(strands), exchanges, ticked, columns)
        answered = workers.call(
            "accepted", msgspec.msgpack.encode(asked), seconds=30.0, memory_mb=SEARCH_MB
        )
        changed, done, left = msgspec.msgpack.decode(
            answered, type=tuple[bytes, list[str], list[str]]
        )
        told = (done, left)
        return JOURNEY.read(changed)

    label = f"accepted {', '.join(each.name for each in strands)}"
    changed = journeys.change(member, journey, parent, edit, label=label[:200])
    after = changed.head.number if changed.head is not None else 0
    said = {
        "done": list(told[0]),
        "left": list(told[1]),
        "names": [each.name for each in strands],
        "before": before,
        "after": after,
    }
    Search.objects.filter(journey=journey).update(said=said)
    note(member, "strands accepted", journey.name, names=[each.name for each in strands])
    return list(told[0]), list(told[1])


def into_column(
    member: Membership,
    journey: Journey,
    parent: str,
    strand: Strand,
    column: str,
    uses: Sequence[Use],
) -> None:
    """A typed value replaced by an existing column. Raises DynamikosError or Stale."""
    if not column:
        raise DynamikosError(
            "Choose the column that takes the place of the value; none of them holds it, so none "
            "is proposed."
        )
    if column not in columns_known(journey.project):
        raise DynamikosError(
            f"There is no column '{column}' in this project; choose one of the list."
        )
    take(member, journey, parent, [strand], {strand.name: uses}, {strand.name: column})


@transaction.atomic
def into_new_set(
    member: Membership, journey: Journey, parent: str, strands: Sequence[Strand]
) -> str:
    """A data set of what was typed, one row for each recording, and its columns in the journey; its
    key.

    Raises DynamikosError or Stale.
    """
    if not strands:
        raise DynamikosError(
            "No value of this journey looks typed, so there is nothing to put into a data set."
        )
    computed = [each for each in strands if each.made_by]  # from the others, so they need no column
    strands = [each for each in strands if not each.made_by] or strands
    count = max(len(each.values) for each in strands) or 1
    rows = [
        [(each.values[i] if i < len(each.values) else None) or each.value for each in strands]
        for i in range(count)
    ]
    taken = set(DataSet.objects.filter(project=journey.project).values_list("key", flat=True))
    key = key_from(f"{journey.name} typed", {each.replace("_", "-") for each in taken}).replace(
        "-", "_"
    )
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow([each.name for each in strands])
    writer.writerows(dict.fromkeys(map(tuple, rows)))
    made = import_csv(member, text.getvalue().encode(), f"{key}.csv")
    columns = {each.name: f"{made.key}.{each.name}" for each in strands}
    take(
        member,
        journey,
        parent,
        [*strands, *(each for each in computed if each not in strands)],
        None,
        columns,
    )
    return made.key


@transaction.atomic
def undo(member: Membership, journey: Journey) -> list[str]:
    """Takes the last acceptance back as a whole, as long as nothing was changed since; returns the
    names of its strands. Raises DynamikosError.
    """
    found = Search.objects.select_for_update().filter(journey=journey).first()
    if found is None or not queries.may_undo(journey, found):
        raise DynamikosError(
            "The journey was changed since the values were accepted; restore an older revision of "
            "it instead."
        )
    names = [str(name) for name in found.said["names"]]
    journeys.step_through(member, journey, forward=False)
    Search.objects.filter(pk=found.pk).update(said={})
    note(member, "acceptance undone", journey.name, names=names)
    return names


def proven(found: Search) -> list[Strand]:
    """What “accept all proven” takes: what the server issues, with a capture that was proven, and
    what the client makes where the application was seen to accept another one.
    """
    return [each for each in queries.strands_of(found) if each.has_evidence]


def unproven_makers(found: Search) -> list[Strand]:
    """What the client makes and nothing shows that a fresh one is accepted; it stays as recorded
    until somebody says otherwise.
    """
    return [
        each
        for each in queries.strands_of(found)
        if each.kind == "client-made"
        and not each.has_evidence
        and (maker_for(each) or each.made_by)
    ]


def dismiss(member: Membership, journey: Journey, strand: Strand) -> None:
    if strand.uses:
        Dismissal.objects.get_or_create(
            journey=journey, entry=strand.uses[0].entry, place=strand.uses[0].place[:400]
        )
        note(member, "strand dismissed", f"{journey.name}: {strand.name}")


def restore(member: Membership, journey: Journey) -> None:
    journey.dismissals.all().delete()


def set_rule(member: Membership, name: str, kind: str, *, ignore: bool) -> None:
    """Raises DynamikosError for a rule without a name or with an unknown kind."""
    if not name.strip():
        raise DynamikosError("A rule needs the name of the field it is for, such as form_key.")
    if kind not in queries.KINDS:
        raise DynamikosError(f"'{kind}' is not a kind; choose from {', '.join(queries.KINDS)}.")
    Rule.objects.update_or_create(
        project=member.project, name=name.strip()[:120], defaults={"kind": kind, "ignore": ignore}
    )
    note(member, "strand rule set", name.strip()[:120], kind=kind, ignore=ignore)


def drop_rule(member: Membership, name: str) -> None:
    Rule.objects.filter(project=member.project, name=name).delete()
    note(member, "strand rule dropped", name[:120])


def add_recording(
    member: Membership, journey: Journey, data: bytes, name: str, progress: Callable[[float], None]
) -> Recording:
    """Another recording of the same journey; the first one of a journey that has none becomes
    its own.
    """
    made = import_har(member, data, name, progress)
    journeys.further(member, journey, made)
    return made
