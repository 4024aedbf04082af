"""Reading runs: frames for the tape, tables for a window, kept exchanges."""

import uuid
import zlib
from collections.abc import Collection, Iterator
from dataclasses import dataclass

import msgspec
from django.db.models import QuerySet
from django.shortcuts import get_object_or_404

from dynamikos.core.checks import described
from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms import Unfit
from dynamikos.core.frozen import CheckPlace, FrozenRun, every_check, every_series
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.objectives import Judgement
from dynamikos.core.reports import KeptExchange, Ledger, Row, SeriesSecond, ShardSecond, decode, unpack_kept
from dynamikos.core.reports.besides import Beside, Dealt, besides_of, dealt_of, unpacked_besides, unpacked_dealt
from dynamikos.core.verdicts import judgements_of
from dynamikos.core.verdicts.outcome import OUTCOME, ArrivalFigures, Outcome, RowFigures, rows_of
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs.models import Block, Chunk, Kept, Minute, Report, Run
from dynamikos.web.streams.models import Message

LATER_S = 3600  # as long as a run may go on after its plan
_seconds = msgspec.msgpack.Decoder(list[tuple[int, SeriesSecond]])
_total = msgspec.msgpack.Decoder(SeriesSecond)


def runs(member: Membership) -> QuerySet[Run]:
    return Run.objects.filter(project=member.project).select_related("asked_by", "plan")


def run(member: Membership, pk: uuid.UUID) -> Run:
    return get_object_or_404(runs(member), pk=pk)


def frozen(found: Run) -> FrozenRun:
    """A run's inputs. Raises DynamikosError for those that can't be read."""
    try:
        return FROZEN.read(bytes(found.frozen))
    except Unfit as problem:
        raise DynamikosError(f"Run {found.number} can't be shown: {problem}. It is kept as it is.") from problem


def sentence(found: Run) -> str:
    """The verdict of a run that is over; where its outcome can't be read, why."""
    if not found.outcome:
        return str(found.ended)
    try:
        return OUTCOME.of(found.outcome).sentence
    except Unfit as problem:
        return f"{found.ended}; its verdict can't be shown: {problem}."


def newest_message(pk: uuid.UUID) -> int:
    """The sequence of a run's newest message, −1 when there is none.

    To be asked for before anything else of a page is read: what comes meanwhile is then told by the stream once more,
    never left out.
    """
    last = Message.objects.filter(subject=pk).order_by("-sequence").values_list("sequence", flat=True).first()
    return -1 if last is None else last


def frames(found: Run) -> list[str]:
    """All frames as JSON texts in order of their second."""
    return list(
        Message.objects.filter(subject=found.pk, event="frame").order_by("sequence").values_list("body", flat=True)
    )


def window(found: Run, inputs: FrozenRun, from_s: int, to_s: int) -> Ledger:
    """Everything that ended in [from_s, to_s) of the run clock, from whole blocks, whole chunks, and ragged edges.

    Fine bins all the way: every printed figure comes from them.
    """
    ledger = Ledger(every_series(inputs))
    chunked = (found.chunked + 1) * 60
    end = min(to_s, chunked)
    covered: list[tuple[int, int]] = []
    first_ten, last_ten = -(-from_s // 600), end // 600
    for each in Block.objects.filter(run=found, ten_minutes__gte=first_ten, ten_minutes__lt=last_ten):
        _add(ledger, _total.decode(bytes(each.total)))
    if last_ten > first_ten:
        covered.append((first_ten * 600, last_ten * 600))
    for begin, stop in _gaps(from_s, end, covered):
        for chunk in Chunk.objects.filter(run=found, minute__gte=begin // 60, minute__lt=-(-stop // 60)):
            at = chunk.minute * 60
            if begin <= at and at + 60 <= stop:
                _add(ledger, _total.decode(bytes(chunk.total)))
                continue
            for second, part in _seconds.decode(zlib.decompress(bytes(chunk.seconds))):
                if begin <= second < stop:
                    _add(ledger, part)
    if to_s > chunked:
        low = max(from_s, chunked)
        for body in Report.objects.filter(
            shard__run=found, second__gte=low, second__lt=to_s, second__lte=found.watermark
        ).values_list("body", flat=True):
            for part in decode(bytes(body)).series:
                _add(ledger, part)
    # what was under way at its end counts in it, too
    if (from_s, to_s) == tuple(map(int, inputs.measured)):
        for beside in besides(found, to_s, max(found.watermark, to_s + LATER_S) + 1):
            ledger.carry(beside)
    return ledger


def besides(found: Run, from_s: int, to_s: int) -> Iterator[Beside]:
    """What the seconds of [from_s, to_s) tell besides their series: folded minutes, and the reports of the rest."""
    folded = Minute.objects.filter(run=found, minute__gte=from_s // 60, minute__lt=-(-to_s // 60))
    have = set()
    for minute, body in folded.values_list("minute", "besides"):
        have.add(minute)
        yield from (each for each in unpacked_besides(bytes(body)) if from_s <= each.second < to_s)
    yield from besides_of(_unfolded(found, from_s, to_s, have))


def _unfolded(found: Run, from_s: int, to_s: int, have: Collection[int]) -> Iterator[ShardSecond]:
    """The reports of [from_s, to_s) whose minutes are not folded: the newest, and those of runs of earlier days."""
    begun: int | None = None
    for minute in range(from_s // 60, -(-to_s // 60) + 1):
        is_missing = minute not in have and minute * 60 < to_s
        if is_missing and begun is None:
            begun = minute
        elif not is_missing and begun is not None:
            low, high = max(from_s, begun * 60), min(to_s, minute * 60)
            begun = None
            rows = Report.objects.filter(shard__run=found, second__gte=low, second__lt=high).order_by("second")
            for body in rows.values_list("body", flat=True).iterator():
                yield decode(bytes(body))


def _add(ledger: Ledger, part: SeriesSecond) -> None:
    total = ledger.totals.get(part.no)
    if total is not None:
        total.add(part)


def _gaps(start: int, end: int, covered: list[tuple[int, int]]) -> list[tuple[int, int]]:
    if not covered:
        return [(start, end)] if end > start else []
    (low, high), *_ = covered
    return [(a, b) for a, b in ((start, low), (high, end)) if b > a]


def table(ledger: Ledger, seconds: float, sort: str, down: bool) -> list[tuple[Row, list[Row]]]:
    """Steps with their requests beneath; sorted by a column of the steps."""
    rows = ledger.rows(seconds)
    steps = [
        row for row in rows if row.level in ("step", "repeat", "token", "item") and (row.level != "item" or row.count)
    ]
    if sort:
        steps.sort(key=lambda row: _sortable(getattr(row, sort)), reverse=down)
    below: dict[tuple[str, str], list[Row]] = {}
    for row in rows:
        if row.level in ("request", "embedded"):
            below.setdefault((row.row, row.step), []).append(row)
    return [(step, below.get((step.row, step.step), [])) for step in steps]


def crowd(found: Run, inputs: FrozenRun, ledger: Ledger, *, is_measured: bool) -> list[RowFigures]:
    """What became of each row in a window; users only of the measured part of a run that is over."""
    told = _outcome(found)
    if is_measured and told is not None and told.crowd:
        return told.crowd
    return rows_of(inputs, ledger, 0.0)


def arrivals(found: Run) -> ArrivalFigures | None:
    """What became of those who arrived, in a run that is over."""
    told = _outcome(found)
    return told.arrivals if told is not None else None


def _outcome(found: Run) -> Outcome | None:
    try:
        return OUTCOME.of(found.outcome) if found.outcome else None
    except Unfit:
        return None


def step_names(inputs: FrozenRun) -> dict[str, dict[str, str]]:
    """What steps are called, by row and key: with the row before it where there are several."""
    rows = inputs.places.rows
    made = {}
    for row in rows:
        said = f"{row.name or row.row}: " if len(rows) > 1 else ""
        made[row.row] = {step.step: said + step.name for _, step in inputs.journeys[row.journey].steps()}
    return made


def rounds(ledger: Ledger) -> tuple[int, int]:
    """Rounds (passed, failed) in it."""
    total = ledger.all_of("round")
    return total.passed.n, total.failures + total.own


SAME = ("count", "failures", "open", "min_ms", "mean_ms", "p95_ms", "max_ms")


def is_same(step: Row, below: list[Row]) -> bool:
    """Whether a step's only request would show the figures of the step once more (to half a per cent)."""

    def close(one: float | None, other: float | None) -> bool:
        return one == other or (one is not None and other is not None and abs(one - other) <= 0.005 * max(one, other))

    return len(below) == 1 and all(close(getattr(step, each), getattr(below[0], each)) for each in SAME)


def _sortable(value: object) -> tuple[int, object]:
    return (0, 0) if value is None else (1, value)


def judgements(inputs: FrozenRun, ledger: Ledger) -> list[Judgement]:
    """The objectives judged on what is in `ledger`."""
    return judgements_of(inputs, ledger)


@dataclass(frozen=True, slots=True)
class CheckLine:
    """A check over time: counts, and bars of (x, width, y of passed, height of failed) in a 300×22 picture."""

    place: CheckPlace
    words: str
    passed: int
    failed: int
    bars: list[tuple[float, float, float, float]]
    heights: list[float]


BARS = 60


def checks(found: Run, inputs: FrozenRun, from_s: int, to_s: int) -> list[CheckLine]:
    """Passed and failed per check over the window; those that failed most first."""
    places = every_check(inputs)
    if not places or to_s <= from_s:
        return []
    width = max(1, -(-(to_s - from_s) // BARS))
    asked: dict[int, list[int]] = {}
    missed: dict[int, list[int]] = {}
    count = -(-(to_s - from_s) // width)
    for each in besides(found, from_s, to_s):
        slot = (each.second - from_s) // width
        for counts, found_now in ((asked, each.judged), (missed, each.missed)):
            for no, number in found_now.items():
                counts.setdefault(no, [0] * count)[slot] += number
    made = []
    for place in places:
        total = asked.get(place.first, [0] * count)
        failed = missed.get(place.no, [0] * count)
        if not sum(total):
            continue
        top = max(total)
        bars, heights = [], []
        for at, (n, bad) in enumerate(zip(total, failed, strict=True)):
            if n:
                high, low = 22 * (n - bad) / top, 22 * bad / top
                bars.append(
                    (round(300 * at / count, 1), round(300 / count - 0.5, 1), round(22 - high, 1), round(low, 1))
                )
                heights.append(round(high, 1))
        made.append(CheckLine(place, described(place.check), sum(total) - sum(failed), sum(failed), bars, heights))
    return sorted(made, key=lambda line: -line.failed)


def all_dealt(found: Run, inputs: FrozenRun) -> Iterator[tuple[int, int, str, int, int, int]]:
    """(second, shard, data set, user, round, row from 1) of every row dealt, in the order it was reported."""
    names = [name for name, _, _ in _dealt_names(inputs)]
    for second, shard, pile, user, turn, row in _dealt(found, 0, found.watermark + LATER_S + 1):
        yield second, shard, names[pile] if pile < len(names) else str(pile), user, turn, row + 1


def _dealt(found: Run, from_s: int, to_s: int) -> Iterator[Dealt]:
    folded = Minute.objects.filter(run=found, minute__gte=from_s // 60, minute__lt=-(-to_s // 60)).order_by("minute")
    have = set()
    for minute, body in folded.values_list("minute", "dealt"):
        have.add(minute)
        yield from (row for row in unpacked_dealt(bytes(body)) if from_s <= row[0] < to_s)
    yield from dealt_of(_unfolded(found, from_s, to_s, have))


def _dealt_names(inputs: FrozenRun) -> list[tuple[str, int, str]]:
    """Names of what is dealt, numbered as the generators number them."""
    made: list[tuple[str, int, str]] = []
    for pile in inputs.data:
        apart = [column for column in pile.deal.apart if column in pile.columns]
        if len(apart) < len(pile.columns):
            made.append((pile.key, pile.rows, pile.key))
        made.extend((f"{pile.key}.{column}", pile.rows, pile.key) for column in apart)
    return made


def dealt(found: Run, inputs: FrozenRun, from_s: int, to_s: int) -> list[tuple[str, int, int, int]]:
    """(name, rows dealt in the window, different ones, rows there are) of each data set."""
    counts: dict[int, list[int]] = {}
    for _, _, pile, _, _, row in _dealt(found, from_s, to_s):
        counts.setdefault(pile, []).append(row)
    return [
        (name, len(counts.get(no, ())), len(set(counts.get(no, ()))), rows)
        for no, (name, rows, _) in enumerate(_dealt_names(inputs))
    ]


def kinds(ledger: Ledger) -> list[tuple[str, str, str, str, int]]:
    """(row, step, request, kind, count) of failures, most first."""
    found = [
        (each.row, each.step, each.request, kind, count)
        for each in ledger.series
        if each.level in ("request", "embedded", "token", "item", "repeat")
        for kind, count in ledger.totals[each.no].failed.items()
    ]
    return sorted(found, key=lambda row: -row[4])


def kept(found: Run, from_s: int, to_s: int, limit: int = 60) -> list[tuple[int, KeptExchange]]:
    """Kept exchanges of the window: failed ones in their order, some logged lines, then the others, the longest first
    (of the first 600).
    """
    rows = Kept.objects.filter(run=found, second__gte=from_s, second__lt=to_s).order_by("second", "pk")
    failed = [(row.pk, unpack_kept(bytes(row.body))) for row in rows.filter(reason__startswith="failed")[:limit]]
    others = [(row.pk, unpack_kept(bytes(row.body))) for row in rows.exclude(reason__startswith="failed")[:600]]
    logged = [each for each in others if each[1].item][: limit // 3]
    return (
        failed
        + logged
        + sorted((each for each in others if not each[1].item), key=lambda each: -each[1].duration_us)[: limit // 3]
    )


def one_kept(found: Run, pk: int) -> KeptExchange:
    return unpack_kept(bytes(get_object_or_404(Kept, run=found, pk=pk).body))
