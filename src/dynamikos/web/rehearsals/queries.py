"""Reading rehearsals: each exchange as recorded and as replayed, and what differs."""

import difflib
import re
import uuid
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from typing import NamedTuple

import msgspec
from django.shortcuts import get_object_or_404

from dynamikos import workers
from dynamikos.core.checks import Check
from dynamikos.core.correlation.doing import Doubt, Replay
from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges import Answer, Exchange, Sent, Timings, text_of
from dynamikos.core.exchanges.model import redirect_of
from dynamikos.core.forms import Unfit
from dynamikos.core.frozen import FrozenRun
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.core.reports import KeptExchange, unpack_kept
from dynamikos.core.values.masking import MASK
from dynamikos.web.journeys.ladder import Ladder, draw
from dynamikos.web.journeys.models import Journey
from dynamikos.web.projects.models import Membership
from dynamikos.web.recordings.queries import as_core, exchange
from dynamikos.web.rehearsals.models import Rehearsal
from dynamikos.web.ui.templatetags.figures import plural, us
from dynamikos.workers.documents import Pair, Seen

QUIET_HEADERS = frozenset(
    {
        "date",
        "age",
        "expires",
        "last-modified",
        "etag",
        "server",
        "x-request-id",
        "content-length",
        "set-cookie",
    }
)


@dataclass(frozen=True, slots=True)
class Replayed:
    """One exchange as replayed, beside the recorded one if there is one. `differences` are
    sentences.
    """

    number: int
    kept: KeptExchange
    recorded: Exchange | None
    differences: list[str]

    @property
    def is_page(self) -> bool:
        return any(
            name.lower() == "content-type" and "html" in value.lower()
            for name, value in self.kept.headers
        ) and bool(self.kept.body)

    @property
    def at(self) -> str:
        """What it is selected by: step/request, or the step of an item."""
        return f"{self.kept.step}/{self.kept.request}" if not self.kept.item else self.kept.step

    @property
    def is_bad(self) -> bool:
        return bool(self.kept.failure)


def rehearsal(member: Membership, pk: uuid.UUID) -> Rehearsal:
    return get_object_or_404(
        Rehearsal.objects.select_related("journey__recording", "revision"),
        pk=pk,
        journey__project=member.project,
    )


def frozen(found: Rehearsal) -> FrozenRun:
    """A rehearsal's inputs. Raises DynamikosError for those that can't be read."""
    try:
        return FROZEN.read(bytes(found.frozen))
    except Unfit as problem:
        raise DynamikosError(
            f"Rehearsal {found.number} can't be shown: {problem}. It is kept as it is."
        ) from problem


def unproven(journey: Journey, core: CoreJourney) -> str:
    """Why nothing shows yet that `core`, the head revision, holds for more than one round; "" when
    a rehearsal of two rounds passed.
    """
    made = journey.rehearsals.filter(revision=journey.head).order_by("-number")
    over = [each for each in made[:20] if each.over]
    whole = core.active(cleanup=True)
    for each in over:
        if (
            each.state == Rehearsal.State.PASSED
            and each.rounds > 1
            and frozen(each).journey == whole
        ):
            return ""
    if not over:
        return "It was not rehearsed since it was last changed."
    if over[0].state != Rehearsal.State.PASSED:
        return f"Its last rehearsal ({over[0].number}) did not pass."
    what = "Only a part of it passed" if over[0].rounds > 1 else "It passed in one round"
    return f"{what} (rehearsal {over[0].number})."


def replayed(found: Rehearsal) -> list[Replayed]:
    """All exchanges so far, in order."""
    made = []
    for number, body in found.exchanges.values_list("number", "body"):
        kept = unpack_kept(bytes(body))
        recorded = None
        if found.journey.recording_id and kept.recorded is not None:
            recorded = exchange(found.journey.recording_id, kept.recorded)
        made.append((number, kept, recorded))
    told = differences(found, made)
    return [
        Replayed(number, kept, recorded, told.get(number, [])) for number, kept, recorded in made
    ]


# what a browser would fetch or follow without asking, whatever the policy says
HINT = re.compile(r"<(?:link|meta|base)\b", re.I)


def without_hints(page: str) -> str:
    """`page` without link, meta and base elements, in one pass over it."""
    made, last = [], 0
    for found in HINT.finditer(page):
        if found.start() < last:
            continue
        end = page.find(">", found.end())
        made.append(page[last : found.start()])
        if end < 0:
            return "".join(made)
        last = end + 1
    return "".join([*made, page[last:]])


def page_of(found: Rehearsal, number: int) -> tuple[str, bool] | None:
    """(body, whether it is HTML) of a replayed exchange, without hints that make a browser fetch
    ahead.
    """
    body = found.exchanges.filter(number=number).values_list("body", flat=True).first()
    if body is None:
        return None
    kept = unpack_kept(bytes(body))
    kind = next((value for name, value in kept.headers if name.lower() == "content-type"), "")
    is_html = "html" in kind.lower()
    return (without_hints(kept.body) if is_html else kept.body), is_html


def as_exchanges(found: Rehearsal) -> list[Exchange]:
    """A rehearsal's exchanges as a recording's, for comparing and for a HAR file."""
    begun = round(found.asked_at.timestamp() * 1e6)
    rows = [row for row in replayed(found) if not row.kept.item]
    return [_exchange(row.kept, number, begun) for number, row in enumerate(rows)]


def _exchange(kept: KeptExchange, number: int, begun_us: int) -> Exchange:
    answer = None
    if kept.status:
        answer = Answer(
            status=kept.status,
            headers=tuple(kept.headers),
            body=kept.body.encode(),
            size_bytes=kept.size_bytes,
        )
    sent = Sent(
        method=kept.method,
        url=kept.url,
        headers=tuple(kept.sent_headers),
        body=kept.sent_body.encode(),
    )
    parts = {f"{name}_us": value for name, value in kept.parts_us.items()}
    timings = Timings(**parts) if parts else Timings(wait_us=kept.duration_us)
    return Exchange(
        sent=sent,
        answer=answer,
        timings=timings,
        started_us=begun_us + kept.second * 1_000_000 + number,
        entry=number,
        error=kept.error,
        http="http/1.1",
    )


_told: dict[tuple[uuid.UUID, int], list[str]] = {}  # what was compared does not change any more
MOST_TOLD = 5_000


def differences(
    found: Rehearsal, rows: Iterable[tuple[int, KeptExchange, Exchange | None]]
) -> dict[int, list[str]]:
    """By number, why an exchange looks different from the recording, in sentences: compared in a
    worker, each once. Nothing where there is no recorded answer to compare with.
    """
    new = [
        (number, kept, each.answer)
        for number, kept, each in rows
        if each and each.answer and (found.pk, number) not in _told
    ]
    if new:
        try:
            told = compared([(kept, recorded) for _, kept, recorded in new])
        except (
            DynamikosError
        ) as problem:  # said where the differences would stand, and tried again with the next page
            return {number: [f"could not be compared: {problem}"] for number, _, _ in new}
        if len(_told) > MOST_TOLD:
            _told.clear()
        _told.update(
            {(found.pk, number): each for (number, _, _), each in zip(new, told, strict=True)}
        )
    return {number: _told.get((found.pk, number), []) for number, _, _ in rows}


def compared(pairs: Iterable[tuple[KeptExchange, Answer]]) -> list[list[str]]:
    """Why each exchange looks different from a recorded answer, in sentences. Raises DynamikosError
    where the worker can't say.
    """
    asked = [
        Pair(
            recorded,
            kept.status,
            {name.lower(): value for name, value in kept.headers},
            kept.body,
            kept.size_bytes,
        )
        for kept, recorded in pairs
    ]
    answer = workers.call("compare", msgspec.msgpack.encode(asked), seconds=10.0, memory_mb=1000)
    return msgspec.msgpack.decode(answer, type=list[list[str]])


class Sentence(NamedTuple):
    """A rehearsal in a sentence: what is alarming, and the rest of it."""

    alarm: str
    rest: str


def sentence(
    found: Rehearsal, exchanges: int, bad: int, differing: int | None, doubts: int
) -> Sentence:
    """`bad` requests failed, `differing` exchanges look different (None: there is nothing to
    compare with).
    """
    replayed = f"{plural(exchanges, 'exchange')} replayed"
    open_ = {"asked": "Waiting for the generator", "stopping": "Stopping"}
    if found.state in open_:
        return Sentence("", open_[found.state])
    if found.state == "running":
        return Sentence("", f"Rehearsing: {plural(exchanges, 'exchange')} so far")
    if found.state == "lost":
        return Sentence("The rehearsal was lost:", f" {found.reason}")
    differ = (
        f"; {differing} differ{'s' if differing == 1 else ''} from the recording"
        if differing
        else ""
    )
    if bad:
        return Sentence(f"{plural(bad, 'request')} failed", f", {replayed}{differ}")
    if found.state != "passed":
        return Sentence("The rehearsal did not come to its end", f", {replayed}{differ}")
    if doubts:
        say = (
            f"Every check passed, but {plural(doubts, 'doubt')} remain{'s' if doubts == 1 else ''}"
        )
        return Sentence(say, f", {replayed}{differ}")
    rounds = f" in {found.rounds} rounds" if found.rounds > 1 else ""
    alike = ", none looks different from the recording" if differing == 0 else ""
    return Sentence("", f"Every check passed{rounds}, {replayed}{differ or alike}")


_doubts: dict[uuid.UUID, list[Doubt]] = {}  # of rehearsals that are over


def doubts(found: Rehearsal, rows: Iterable[Replayed]) -> list[Doubt]:
    """What speaks against a rehearsal that is over, although its checks may have passed. Looked for
    in a worker.
    """
    if found.pk in _doubts:
        return _doubts[found.pk]
    begun = round(found.asked_at.timestamp() * 1e6)
    recorded = _recorded(found)
    place = {each.entry: at for at, each in enumerate(recorded)}
    replays = [
        Replay(
            at=row.at,
            round=row.kept.round,
            recorded=place.get(row.kept.recorded)
            if row.kept.recorded is not None and not row.kept.hop
            else None,
            exchange=_exchange(row.kept, row.number, begun),
            captured=row.kept.captured,
        )
        for row in rows
        if not row.kept.item
    ]
    asked = msgspec.msgpack.encode((replays, recorded))
    try:
        told = msgspec.msgpack.decode(
            workers.call("doing", asked, seconds=20.0, memory_mb=2000), type=list[Doubt]
        )
    except DynamikosError as problem:  # silence would be taken for a proof
        words = f"Whether the rehearsal did the thing could not be found out: {problem}"
        told = [Doubt(kind="unknown", at="", value="", words=words)]
    if len(_doubts) > MOST_TOLD:
        _doubts.clear()
    _doubts[found.pk] = told
    return told


def _recorded(found: Rehearsal) -> list[Exchange]:
    """The recording's exchanges in order, each with its number as entry; none where there is no
    recording.
    """
    if found.journey.recording is None:
        return []
    exchanges = as_core(found.journey.recording).exchanges
    return [msgspec.structs.replace(each, entry=number) for number, each in enumerate(exchanges)]


PARTS = (
    ("dns", "name looked up"),
    ("connect", "connected"),
    ("ssl", "TLS agreed"),
    ("send", "sent"),
    ("wait", "waited for the first byte"),
    ("receive", "received"),
)


def timings(row: Replayed) -> list[tuple[str, int | None, int | None]]:
    """(what, recorded µs, replayed µs) of the parts of an exchange; None where a part did not
    happen or is not known.
    """
    before = row.recorded.timings if row.recorded is not None else None
    made = []
    for name, words in PARTS:
        old, new = getattr(before, f"{name}_us", -1), row.kept.parts_us.get(name, -1)
        if old > 0 or new >= 0:
            made.append((words, old if old >= 0 else None, new if new >= 0 else None))
    return made


def cookies(row: Replayed) -> list[tuple[str, str, str]]:
    """(sent or set, name, rest) of the cookies of an exchange as replayed."""
    made: list[tuple[str, str, str]] = []
    for name, value in row.kept.sent_headers:
        if name.lower() == "cookie":
            made.extend(("sent", *part.strip().partition("=")[::2]) for part in value.split(";"))
    made.extend(
        ("set", *value.partition("=")[::2])
        for name, value in row.kept.headers
        if name.lower() == "set-cookie"
    )
    return made


def suggestions(
    found: Rehearsal, rows: list[Replayed], row: Replayed, core: CoreJourney
) -> list[tuple[str, str]]:
    """(what it says, the check as JSON) of checks that fit a replayed answer and are not in the
    journey yet.
    """
    step = core.find_step(row.kept.step)
    request = (
        next((each for each in step.requests if each.request == row.kept.request), None)
        if step is not None
        else None
    )
    if (
        request is None
        or row.is_bad
        or not row.kept.status
        or row.kept.status in (301, 302, 303, 307, 308)
    ):
        return []
    others = [
        each.kept.body
        for each in rows
        if (each.kept.step, each.kept.request) != (row.kept.step, row.kept.request)
    ]
    answer = _final_recorded(found, row)
    values = {name: value for name, value in row.kept.variables.items() if MASK not in value}
    had = {msgspec.structs.replace(each, note="", then="round") for each in request.checks}
    asked = msgspec.msgpack.encode(
        ((row.kept.status, row.kept.headers, row.kept.body.encode()), answer, others, values)
    )
    try:
        told = msgspec.msgpack.decode(
            workers.call("suggest", asked, seconds=5.0), type=list[tuple[str, str]]
        )
    except DynamikosError:  # it took too long: then there is nothing to suggest
        return []
    return [
        (words, check) for words, check in told if msgspec.json.decode(check, type=Check) not in had
    ]


def _final_recorded(found: Rehearsal, row: Replayed) -> Seen | None:
    """The recorded answer at the end of the redirects that begin at a row's counterpart, if its
    status is the same.
    """
    now = landed(found.journey.recording_id, row.kept.recorded)
    if now is None or now.answer is None or now.answer.status != row.kept.status:
        return None
    return now.answer.status, list(now.answer.headers), now.answer.body


def landed(recording: uuid.UUID | None, number: int | None) -> Exchange | None:
    """The recorded exchange at the end of the redirects that begin at `number`; None where it was
    not recorded.
    """
    if recording is None or number is None:
        return None
    now = exchange(recording, number)
    for _ in range(12):
        wanted = redirect_of(now) if now is not None else None
        if wanted is None:
            break
        number += 1
        now = exchange(recording, number)
        if now is not None and now.sent.url.partition("#")[0] != wanted:
            return None
    return now


def recorded_text(row: Replayed) -> str:
    """The recorded answer's body, at most 20,000 bytes of it."""
    if row.recorded is None or row.recorded.answer is None:
        return ""
    return text_of(
        row.recorded.answer.body[:20_000], row.recorded.answer.header("content-type") or ""
    )


def values_of(rows: list[Replayed], row: Replayed) -> list[tuple[str, str, str, str]]:
    """(name, before it, after it, mark) of all values around a request or item; mark "+" new, "≠"
    changed, "" the same. A column's name says which row of which data set it came from.
    """
    last = row.kept
    before = dict(last.before)
    if last.item or not before:  # an item is kept after it was done
        at = rows.index(row)
        before = dict(rows[at - 1].kept.variables) if at else {}
    made = []
    for name in sorted({*before, *last.variables}):
        old, new = before.get(name, ""), last.variables.get(name, "")
        made.append((name, old, new, "+" if name not in before else "≠" if old != new else ""))
    found = sorted(made, key=lambda each: (not each[3], each[0]))
    return [
        (
            f"{name} (row {row_no:,})" if (row_no := row_of(row.kept, name)) else name,
            before,
            after,
            how,
        )
        for name, before, after, how in found
    ]


def row_of(kept: KeptExchange, name: str) -> int:
    """The number of the row a value came from; 0 for what is no column."""
    return kept.rows.get(name) or kept.rows.get(name.partition(".")[0], 0) if "." in name else 0


def results(rows: list[Replayed]) -> dict[tuple[str, str], tuple[str, bool]]:
    """For the ladder: by step and request, the first hop's status and the request's time."""
    made: dict[tuple[str, str], tuple[str, bool]] = {}
    last: dict[tuple[str, str], str] = {}
    times: dict[tuple[str, str], int] = {}
    for row in rows:
        key = (row.kept.step, row.kept.request)
        if row.kept.item:
            made[key] = (row.kept.error, row.is_bad)
            continue
        if row.kept.resource:
            continue
        status = str(row.kept.status) if row.kept.status else row.kept.failure or row.kept.reason
        if key in made and last.get(key) != "hop":  # performed once more
            times[key] = times.get(key, 1) + 1
            made[key] = (
                f"{times[key]}× {status} · {us(row.kept.duration_us)}",
                made[key][1] or row.is_bad,
            )
        elif key in made:
            made[key] = (
                f"{made[key][0].split(' · ')[0]} → {status} · {us(row.kept.duration_us)}",
                made[key][1] or row.is_bad,
            )
        else:
            made[key] = (f"{status} · {us(row.kept.duration_us)}", row.is_bad)
        last[key] = row.kept.reason
    return made


def lost_resources(rows: list[Replayed]) -> Counter[tuple[str, str]]:
    """How many embedded resources of each (step, request) failed; only such are kept."""
    return Counter((row.kept.step, row.kept.request) for row in rows if row.kept.resource)


def ladder(found: Rehearsal, rows: list[Replayed]) -> Ladder:
    return draw(frozen(found).journey, results(rows), lost_resources(rows))


def body_lines(row: Replayed) -> list[tuple[str, str]]:
    """(mark, line) of a line by line comparison of both bodies: " " same, "-" recorded only, "+" replayed only; at most
    400.
    """  # noqa: E501
    if row.recorded is None or row.recorded.answer is None:
        return []
    before = text_of(
        row.recorded.answer.body[:60_000], row.recorded.answer.header("content-type") or ""
    ).splitlines()
    after = row.kept.body[:60_000].splitlines()
    made = (
        [
            (line[0], line[2:])
            for line in difflib.ndiff(before[:1500], after[:1500])
            if line[0] in " -+"
        ]
        if len(before) + len(after) < 1200
        else []
    )
    return made[:400]


def header_rows(row: Replayed) -> list[tuple[str, str, str, bool]]:
    """(name, recorded, replayed, differs) of the answer's headers; values that change each time do
    not count.
    """
    before = {
        name.lower(): value
        for name, value in (
            row.recorded.answer.headers if row.recorded and row.recorded.answer else ()
        )
    }
    after = {name.lower(): value for name, value in row.kept.headers}
    return [
        (
            name,
            before.get(name, ""),
            after.get(name, ""),
            bool(before) and name not in QUIET_HEADERS and before.get(name) != after.get(name),
        )
        for name in sorted(before | after)
    ]
