"""Reading strands: the last search, what is taken already, and a strand's proof on every
recording.
"""

import zlib
from collections.abc import Callable
from dataclasses import dataclass
from itertools import islice

import msgspec

from dynamikos import workers
from dynamikos.core.captures import Capture, described
from dynamikos.core.correlation import Rule as CoreRule
from dynamikos.core.correlation import Strand
from dynamikos.core.correlation.accept import hard_wired
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.model import STRANDS
from dynamikos.core.correlation.witnessed import Places
from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges import Exchange
from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.web.datasets.models import DataSet
from dynamikos.web.datasets.queries import all_rows
from dynamikos.web.journeys.models import Journey
from dynamikos.web.projects.models import Membership
from dynamikos.web.rehearsals.models import Rehearsal
from dynamikos.web.rehearsals.queries import replayed
from dynamikos.web.strands.models import Rule, Search
from dynamikos.workers.documents import GivenAnswer
from dynamikos.workers.jobs import Trial

KINDS = ("issued", "client-made", "typed", "constant")
WIDTH = 190


@dataclass(frozen=True, slots=True)
class Row:
    """A strand as the list shows it; `born` and `uses` are pixels on its thread."""

    strand: Strand
    story: str
    taken: bool
    born: int | None
    uses: list[int]
    likely: bool
    left: int  # places of an issued value that are still as recorded


def search_of(journey: Journey) -> Search | None:
    return Search.objects.filter(journey=journey).first()


def strands_of(found: Search) -> list[Strand]:
    return STRANDS.read_packed(zlib.decompress(bytes(found.body)))


def strand_named(journey: Journey, name: str) -> Strand:
    """A strand of the journey's last search. Raises DynamikosError when it is not there any
    more.
    """
    found = search_of(journey)
    strand = (
        next((each for each in strands_of(found) if each.name == name), None)
        if found is not None
        else None
    )
    if strand is None:
        raise DynamikosError(f"There is no strand '{name}' any more; search again.")
    return strand


def may_undo(journey: Journey, found: Search) -> bool:
    """Whether nothing was changed since the last acceptance."""
    head = journey.head.number if journey.head is not None else 0
    return bool(found.said.get("names")) and found.said.get("after") == head


def rules(member: Membership) -> list[CoreRule]:
    return [
        CoreRule(name=each.name, kind=each.kind, ignore=each.ignore)  # type: ignore[arg-type]
        for each in Rule.objects.filter(project=member.project)
    ]


def newest_rehearsal(journey: Journey) -> Rehearsal | None:
    """The newest rehearsal that came to an end on a generator."""
    return (
        Rehearsal.objects.filter(journey=journey, state__in=("passed", "failed"))
        .order_by("-number")
        .first()
    )


def failing(journey: Journey) -> set[int]:
    """Numbers of recorded exchanges whose request failed in the newest rehearsal."""
    newest = newest_rehearsal(journey)
    if newest is None or newest.state != "failed":
        return set()
    return {
        row.kept.recorded
        for row in replayed(newest)
        if row.is_bad and row.kept.recorded is not None
    }


def dismissed(journey: Journey) -> Callable[[Strand], bool]:
    """Whether a person does not want to see a strand again."""
    places = set(journey.dismissals.values_list("entry", "place"))
    return lambda each: bool(each.uses) and (each.uses[0].entry, each.uses[0].place) in places


def _row(
    each: Strand,
    core: CoreJourney,
    names: dict[int, str],
    taken: set[Capture],
    last: int,
    failed: set[int],
) -> Row:
    def across(entry: int) -> int:
        return round(8 + entry / last * (WIDTH - 16))

    mine = any(msgspec.structs.replace(c, name="v", note="") in taken for c in each.captures)
    born = across(each.origin.entry) if each.origin is not None else None
    is_sent = any(use.entry in failed for use in each.uses)
    left = len(hard_wired(core, each)) if each.kind in ("issued", "client-made") else 0
    mine = mine or (each.kind == "client-made" and not left and _is_sent(core, each))
    telling = story(each, names)
    if mine and left:
        telling = f"captured, but still as recorded in {left} of {len(each.uses)} places"
    uses = sorted({across(use.entry) for use in each.uses})
    likely = each.kind == "issued" and not mine and is_sent
    return Row(each, telling, mine, born, uses, likely, left)


def _is_sent(core: CoreJourney, each: Strand) -> bool:
    """Whether the journey has a request that sent it in the recording."""
    sent = {use.at for use in each.uses}
    return any(request.recorded in sent for _, request in core.requests())


def rows(journey: Journey, core: CoreJourney, found: Search, failed: set[int]) -> list[Row]:
    """Strands that are not dismissed.

    After a failed rehearsal, hard-wired values of the first failing request come first.
    """
    captures = [
        each for _, step in core.steps() for request in step.requests for each in request.captures
    ]
    taken = {msgspec.structs.replace(each, name="v", note="") for each in captures}
    gone = dismissed(journey)
    strands = [each for each in strands_of(found) if not gone(each)]
    last = max((use.entry for each in strands for use in each.uses), default=1) or 1
    names = step_names(core)
    made = [_row(each, core, names, taken, last, failed) for each in strands]
    if failed:
        made.sort(
            key=lambda row: (
                (not row.likely, *_evidence(row.strand, failed)) if row.likely else (True,)
            )
        )
    return made


def _evidence(strand: Strand, failed: set[int]) -> tuple[int, bool, float]:
    """Of the likely causes first what the first failing request sends, then what is proven, then by
    score.
    """
    return (
        min(use.entry for use in strand.uses if use.entry in failed),
        not strand.proven,
        -strand.score,
    )


def step_names(core: CoreJourney) -> dict[int, str]:
    """Number of a recorded exchange → name of its step; exchanges between two belong to the one
    before.
    """
    named = {
        request.recorded: step.name
        for _, step in core.steps()
        for request in step.requests
        if request.recorded is not None
    }
    names, name = {}, ""
    for number in range(max(named, default=-1) + 60):
        name = named.get(number, name)
        names[number] = name
    return names


def story(strand: Strand, names: dict[int, str]) -> str:
    """One sentence: where from, whether it changes, where to."""
    count = len({use.entry for use in strand.uses})
    sent = f"sent in {count} request{'' if count == 1 else 's'}"
    if strand.kind == "issued":
        differs = (
            " different each time,"
            if any("differ" in reason or "another value" in reason for reason in strand.reasons)
            else ""
        )
        where = (
            f"issued in the answer of “{names.get(strand.origin.entry) or strand.origin.entry}”,"
            if strand.origin is not None
            else "issued before the recording began,"
        )
        return f"{where}{differs} {sent}"
    return f"{strand.reasons[0] if strand.reasons else ''}; {sent}"


@dataclass(frozen=True, slots=True)
class Alternative:
    """A form of capture with what it finds on each recording."""

    number: int
    form: str
    expression: str
    matches: list[
        tuple[str, str, bool | None]
    ]  # recording, what was found, right (None: nothing to compare with)


@dataclass(frozen=True, slots=True)
class Tried:
    """What a capture of one's own finds in a recording; `right` None: nothing to compare with."""

    recording: str
    trial: Trial
    right: bool | None


def tried(
    strand: Strand, capture: Capture, recordings: list[tuple[str, list[Exchange]]]
) -> list[Tried]:
    """`capture` tried, in a worker, on each recording's answer.

    Raises DynamikosError for one that is wrong or takes too long.
    """
    places = Places([exchanges for _, exchanges in recordings]).of(strand)
    asked = [look(answers, at) for _, answers, at in places]
    found = msgspec.msgpack.decode(
        workers.call("trial", msgspec.msgpack.encode((capture, asked))), type=list[Trial]
    )
    made = []
    for (number, _, _), trial in zip(places, found, strict=True):
        wanted = strand.values[number] if number < len(strand.values) else None
        made.append(
            Tried(
                recordings[number][0],
                trial,
                None if wanted is None or capture.pick == "random" else trial.taken == wanted,
            )
        )
    return made


def fitting_columns(journey: Journey, strand: Strand) -> list[tuple[str, bool]]:
    """("set.column", whether a recorded value of the strand is found in its first 100,000 rows) of
    the project, fitting ones first.
    """
    wanted = {value for value in (strand.value, *strand.values) if value}
    made: list[tuple[str, bool]] = []
    for each in DataSet.objects.filter(project=journey.project):
        holding = {
            number
            for row in islice(all_rows(each), 100_000)
            if wanted.intersection(row)
            for number, value in enumerate(row)
            if value in wanted
        }
        made.extend(
            (f"{each.key}.{column}", number in holding)
            for number, column in enumerate(each.columns)
        )
    return sorted(made, key=lambda row: not row[1])


def alternatives(strand: Strand, evidence: list[str]) -> list[Alternative]:
    """Each capture with what it took from each recording when they were searched; `evidence` names
    them.
    """
    made = []
    for number, capture in enumerate(strand.captures):
        form, expression = described(capture)
        taken = strand.proofs[number] if number < len(strand.proofs) else ()
        matches = [
            (
                evidence[each.recording],
                each.value if each.value is not None else "nothing found",
                each.right,
            )
            for each in taken
            if each.recording < len(evidence)
        ]
        made.append(Alternative(number, form, expression, matches))
    return made


def look(answers: Answers, at: int) -> GivenAnswer:
    """An answer as a worker is given it."""
    view = answers.view(at)
    return GivenAnswer(
        view.status,
        [(bytes(n), bytes(v)) for n, v in view.headers],
        view.body,
        view.cookies(),
        list(view.addresses),
    )
