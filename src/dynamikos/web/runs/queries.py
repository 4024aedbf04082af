"""Reading runs: frames for the tape, tables for a window, kept exchanges."""

import math
import uuid
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import msgspec
from django.db.models import QuerySet, Window
from django.db.models.functions import Length, RowNumber
from django.shortcuts import get_object_or_404

from dynamikos.core.analysis.capacity import Capacity
from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms import Unfit
from dynamikos.core.frozen import FrozenRun, Series, every_series
from dynamikos.core.frozen.changing import with_changes
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.objectives import Judgement, Mark
from dynamikos.core.profiles import spans
from dynamikos.core.profiles.changing import Change
from dynamikos.core.reports import KeptExchange, Ledger, Row, SeriesTotal, unpack_kept
from dynamikos.core.reports.chunk_extras import carried_by
from dynamikos.core.reports.folding import BY_SHARD, Overall, with_overall
from dynamikos.core.reports.frames import Frame, joined
from dynamikos.core.reports.ledger import row_of_total
from dynamikos.core.reports.messages import FAILED
from dynamikos.core.verdicts import judgements_of
from dynamikos.core.verdicts.outcome import OUTCOME, ArrivalFigures, Outcome, RowFigures, rows_of
from dynamikos.core.verdicts.states import WORDS, WORST
from dynamikos.web.projects.models import Membership
from dynamikos.web.runs import measures, reading
from dynamikos.web.runs.drawings import KindLine, kinds_over_time
from dynamikos.web.runs.models import Kept, Remark, Run
from dynamikos.web.streams.models import Message

_frame = msgspec.json.Decoder(Frame)
LATER_S = 3600  # as long as a run may go on after its plan


def runs(member: Membership) -> QuerySet[Run]:
    return Run.objects.filter(project=member.project).select_related("asked_by", "plan")


def run(member: Membership, pk: uuid.UUID) -> Run:
    return get_object_or_404(runs(member), pk=pk)


def frozen(found: Run) -> FrozenRun:
    """A run's inputs. Raises DynamikosError for those that can't be read."""
    try:
        return FROZEN.read(bytes(found.frozen))
    except Unfit as problem:
        raise DynamikosError(
            f"Run {found.number} can't be shown: {problem}. It is kept as it is."
        ) from problem


def agreed_in(found: Run) -> set[str]:
    """The targets that it was agreed to load; none where its inputs can't be read, so that others
    are not kept from theirs by it.
    """
    try:
        return {str(each) for each in FROZEN.read(bytes(found.frozen)).agreed}
    except Unfit:
        return set()


def changes_of(found: Run) -> list[Change]:
    """How its load was changed while it ran, in order."""
    rows = (
        found.commands.filter(at_s__isnull=False)
        .order_by("id")
        .values_list("at_s", "verb", "factor")
    )
    made = [
        {"at_s": at, "verb": verb, "factor": 1.0 if factor is None else factor}
        for at, verb, factor in rows
    ]
    return msgspec.convert(made, list[Change])


def is_held(changes: Sequence[Change]) -> bool:
    """Whether the load is held now."""
    verbs = [each.verb for each in changes if each.verb != "change"]
    return bool(verbs) and verbs[-1] == "hold"


def as_run(found: Run, inputs: FrozenRun) -> FrozenRun:
    """Its inputs with the changes of its load; one that is held is taken as going on now, so that
    it has an end.
    """
    changes = changes_of(found)
    if is_held(changes):
        changes.append(Change(at_s=max(found.watermark + 1, changes[-1].at_s), verb="go on"))
    return with_changes(inputs, changes)


def siblings(found: Run) -> tuple[list[Run], str]:
    """The runs of its set in order, and the word of the set: its worst, once all are over."""
    if found.of_set is None:
        return [], ""
    runs = list(
        Run.objects.filter(of_set=found.of_set, project=found.project).order_by("set_place")
    )
    if len(runs) < found.set_size or not all(run.is_over for run in runs):
        return runs, ""
    codes = [(run.outcome or {}).get("exit_code", 2) for run in runs]
    return runs, WORDS[min(codes, key=WORST.index)]


def stretches(inputs: FrozenRun) -> list[tuple[str, int, int]]:
    """(name, from, to) in whole seconds of the run of the stretches that have a name: windows to
    look through.
    """
    named = (
        inputs.plan.everybody()
    )  # as they were planned: a change of the load makes other stretches of them
    return [
        (stretch.name, int(crowd.starts_s + begin), math.ceil(crowd.starts_s + end))
        for crowd in named
        for stretch, (begin, end) in zip(crowd.profile, spans(crowd.profile), strict=True)
        if stretch.name
    ]


def lasts_s(found: Run, inputs: FrozenRun) -> float:
    """How long a run is as it is drawn: as planned, or as it was where it ended earlier; of a trial
    as long as it has taken.
    """
    until = found.watermark + 1
    if found.is_over and until > 0:
        return float(min(inputs.ends_s, until))
    return float(max(60, until)) if found.is_trial else inputs.ends_s


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

    To be asked for before anything else of a page is read: what comes meanwhile is then told by the
    stream once more, never left out.
    """
    last = (
        Message.objects.filter(subject=pk)
        .order_by("-sequence")
        .values_list("sequence", flat=True)
        .first()
    )
    return -1 if last is None else last


def every_frame(found: Run) -> Iterator[Frame]:
    """That of each second, in order."""
    messages = Message.objects.filter(subject=found.pk, event="frame").order_by("sequence")
    return (_frame.decode(body) for body in messages.values_list("body", flat=True))


def frames(found: Run, inputs: FrozenRun) -> list[Frame]:
    """At most so many as a lane has points, in order: those of single seconds where there is room
    for them.
    """
    every = list(every_frame(found))
    width = -(-len(every) // reading.POINTS)
    if width <= 1:
        return every
    steps = [each.no for each in reading.shown_series(inputs) if each.level == "step"]
    points = {point.at: point for point in reading.line(found, steps, 0, found.watermark + 1)}
    width = max((point.seconds for point in points.values()), default=width)
    stretches: dict[int, list[Frame]] = {}
    for each in every:
        stretches.setdefault(each.second // width * width, []).append(each)
    nothing = reading.Point(0, width)
    return [
        joined(stretch, [points.get(at, nothing).ms(percent) for percent in (50, 95, 99)])
        for at, stretch in sorted(stretches.items())
    ]


def rejudged(found: Run) -> list[Judgement]:
    """What it was judged anew, or nothing."""
    try:
        return msgspec.convert((found.rejudged or {}).get("judgements", []), list[Judgement])
    except msgspec.ValidationError:
        return []


def capacity(found: Run) -> Capacity | None:
    """What was computed when it was over; None where there was nothing to compute it of."""
    try:
        return msgspec.convert(found.capacity, Capacity) if found.capacity else None
    except msgspec.ValidationError:
        return None


def remarks(found: Run) -> list[Remark]:
    return list(found.remarks.select_related("by"))


def window(found: Run, inputs: FrozenRun, from_s: int, to_s: int, row: str | None = None) -> Ledger:
    """Everything that ended in [from_s, to_s) of the run clock, of everybody or of one row: the
    series that are shown, every row's rounds, and what objectives about rows are judged on.
    """
    persona, rest = Overall((), {}), list[Series]()
    if row is not None and row.startswith(reading.PERSONA):
        rest, persona = reading.of_persona(inputs, row)
    shown = {each.no: each for each in reading.shown_series(inputs, row)} | {
        each.no: each for each in rest
    }
    besides = {each.row for each in inputs.plan.objectives if each.row is not None}
    every = [each for each in every_series(inputs) if each.level == "round" or each.row in besides]
    ledger = reading.window(
        found, list((shown | {each.no: each for each in every}).values()), from_s, to_s
    )
    for no, stands in persona.of.items():
        ledger.totals[stands].merge(ledger.totals[no])
    if any(each.measure == "checks" for each in inputs.plan.objectives):
        for beside in reading.besides(found, from_s, min(to_s, found.watermark + 1)):
            ledger.ask(beside)
    _carry(ledger, found, inputs, (from_s, to_s), persona.of)
    return ledger


def _carry(
    ledger: Ledger,
    found: Run,
    inputs: FrozenRun,
    window: tuple[int, int],
    of: Mapping[int, int] | None = None,
    shards: Collection[int] | None = None,
) -> None:
    """What was under way at the end of the measured part (of some `shards`, or of all) counts in
    it, too.
    """
    if window == tuple(map(int, inputs.measured)):
        of = of or Overall.over(every_series(inputs)).of
        for beside in reading.besides(
            found, window[1], max(found.watermark, window[1] + LATER_S) + 1
        ):
            ledger.carry(with_overall(beside if shards is None else carried_by(beside, shards), of))


def of_one(found: Run, inputs: FrozenRun, series: Series, from_s: int, to_s: int) -> SeriesTotal:
    """What one series adds up to in a window, as in the table of that window."""
    ledger = reading.window(found, [series], from_s, to_s)
    _carry(ledger, found, inputs, (from_s, to_s))
    return ledger.totals[series.no]


def of_generators(
    found: Run,
    inputs: FrozenRun,
    shards: Sequence[int],
    from_s: int,
    to_s: int,
    row: str | None = None,
) -> Ledger:
    """As `window`, of what some generators did: only rounds and steps are kept of each."""
    whose = reading.rows_named(inputs, row)
    base = [
        each
        for each in every_series(inputs)
        if each.level in BY_SHARD and (whose is None or each.row in whose)
    ]
    ledger = reading.window(found, base, from_s, to_s, shards)
    _carry(ledger, found, inputs, (from_s, to_s), shards=shards)
    is_one = row is not None and not row.startswith((reading.PERSONA, reading.JOURNEY))
    is_persona = row is not None and row.startswith(reading.PERSONA)
    over = (
        reading.of_persona(inputs, row or "")[1]
        if is_persona
        else Overall.over(every_series(inputs))
    )
    shown = {each.no: each for each in reading.shown_series(inputs, row)}
    made = Ledger([*shown.values(), *(each for each in base if each.no not in shown)])
    for each in base:
        made.totals[each.no].merge(ledger.totals[each.no])
        if not is_one and each.no in over.of:
            made.totals[over.of[each.no]].merge(ledger.totals[each.no])
    return made


WORST_FIRST = "worst"  # an order


def table(
    ledger: Ledger,
    series: Sequence[Series],
    seconds: float,
    sort: str,
    down: bool,
    *,
    of_failed: bool = False,
) -> list[tuple[Row, list[Row]]]:
    """Steps with their requests beneath; sorted by a column of the steps, or by WORST_FIRST: those
    that fail most first, and of others those that take longest. `of_failed`: with the times of what
    failed.
    """
    rows = [
        row_of_total(each, ledger.totals[each.no], seconds, of_failed=of_failed) for each in series
    ]
    steps = [
        row
        for row in rows
        if row.level in ("step", "repeat", "token", "item") and (row.level != "item" or row.count)
    ]
    if sort == WORST_FIRST:
        steps.sort(key=lambda row: (row.failure_percent or 0.0, row.p95_ms or 0.0), reverse=True)
    elif sort:
        steps.sort(key=lambda row: _sortable(getattr(row, sort)), reverse=down)
    below: dict[tuple[str, str], list[Row]] = {}
    for row in rows:
        if row.level in ("request", "embedded"):
            below.setdefault((row.row, row.step), []).append(row)
    return [(step, below.get((step.row, step.step), [])) for step in steps]


def crowd(found: Run, inputs: FrozenRun, ledger: Ledger, *, is_measured: bool) -> list[RowFigures]:
    """What became of each row in a window; users only of the measured part of a run that is
    over.
    """
    told = _outcome(found)
    if is_measured and told is not None and told.crowd:
        return told.crowd
    return rows_of(inputs, ledger, 0.0)


def arrivals(found: Run) -> ArrivalFigures | None:
    """What became of those who arrived, in a run that is over."""
    told = _outcome(found)
    return told.arrivals if told is not None else None


def own_delay(found: Run) -> str:
    """What of the figures may be the generators' own delay, and why, in words; "" for nothing."""
    told = _outcome(found)
    return told.own_delay.sentence if told is not None and told.own_delay is not None else ""


def _outcome(found: Run) -> Outcome | None:
    try:
        return OUTCOME.of(found.outcome) if found.outcome else None
    except Unfit:
        return None


def names_of_steps(inputs: FrozenRun) -> dict[str, dict[str, str]]:
    """What steps are called, by journey and key."""
    return {
        key: {step.step: step.name for _, step in each.steps()}
        for key, each in inputs.journeys.items()
    }


def step_names(inputs: FrozenRun) -> dict[str, dict[str, str]]:
    """What steps are called, by row and key: with the row before it where there are several."""
    rows = inputs.places.rows
    made = {}
    for row in rows:
        said = f"{row.name or row.row}: " if len(rows) > 1 else ""
        made[row.row] = {
            step.step: said + step.name for _, step in inputs.journeys[row.journey].steps()
        }
    return made


def rounds(ledger: Ledger, row: str | None = None, rows: Collection[str] = ()) -> tuple[int, int]:
    """Rounds (passed, failed) in it, of everybody, of a row, or of several `rows`."""
    if rows:
        total = ledger.sum_of(
            each for each in ledger.series if each.level == "round" and each.row in rows
        )
    else:
        total = ledger.all_of("round", row=row)
    return total.passed.n, total.failures + total.own


SAME = ("count", "failures", "open", "min_ms", "mean_ms", "p95_ms", "max_ms")


def is_same(step: Row, below: list[Row]) -> bool:
    """Whether a step's only request would show the figures of the step once more (to half a per
    cent).
    """

    def close(one: float | None, other: float | None) -> bool:
        return one == other or (
            one is not None and other is not None and abs(one - other) <= 0.005 * max(one, other)
        )

    return len(below) == 1 and all(
        close(getattr(step, each), getattr(below[0], each)) for each in SAME
    )


def _sortable(value: object) -> tuple[int, object]:
    return (0, 0) if value is None else (1, value)


def judgements(
    found: Run,
    inputs: FrozenRun,
    ledger: Ledger,
    begin: float,
    seconds: float,
    *,
    is_measured: bool,
) -> Sequence[Judgement]:
    """The objectives judged on what is in `ledger`, which lasts `seconds` from second `begin` on.
    Those of the measured part are the verdict's own, once there is one, and until then go by the
    intervals that are over.
    """
    outcome = _outcome(found) if is_measured else None
    if outcome is not None and len(outcome.judgements) == len(inputs.plan.objectives):
        return outcome.judgements
    marks = (
        {int(no): msgspec.convert(each, list[Mark]) for no, each in found.marks.items()}
        if is_measured
        else None
    )
    told = measures.readings_of(found, inputs)
    return judgements_of(inputs, ledger, seconds, marks, readings=told, from_s=begin)


def all_dealt(found: Run, inputs: FrozenRun) -> Iterator[tuple[int, int, str, int, int, int]]:
    """(second, shard, data set, user, round, row from 1) of every row dealt, in the order it was
    reported.
    """
    names = [name for name, _, _ in _dealt_names(inputs)]
    for second, shard, pile, user, turn, row in reading.dealt(
        found, 0, found.watermark + LATER_S + 1
    ):
        yield second, shard, names[pile] if pile < len(names) else str(pile), user, turn, row + 1


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
    for _, _, pile, _, _, row in reading.dealt(found, from_s, to_s):
        counts.setdefault(pile, []).append(row)
    return [
        (name, len(counts.get(no, ())), len(set(counts.get(no, ()))), rows)
        for no, (name, rows, _) in enumerate(_dealt_names(inputs))
    ]


ASKED = ("request", "embedded", "token", "item", "repeat")  # levels that fail by themselves


def kinds(
    ledger: Ledger, series: Sequence[Series] | None = None, levels: Collection[str] = ASKED
) -> list[tuple[str, str, str, str, int]]:
    """(journey, step, request, kind, count) of failures, most first."""
    found = [
        (each.journey, each.step, each.request, kind, count)
        for each in (ledger.series if series is None else series)
        if each.level in levels
        for kind, count in ledger.totals[each.no].failed.items()
    ]
    return sorted(found, key=lambda row: -row[4])


def failures_over_time(found: Run, from_s: int, to_s: int) -> list[KindLine]:
    """Of everybody by kind, as the seconds of the tape tell."""
    width = max(1, -(-(to_s - from_s) // reading.STRIPS))
    columns: list[dict[str, int]] = [{} for _ in range(-(-(to_s - from_s) // width))]
    for each in every_frame(found):
        if from_s <= each.second < to_s:
            column = columns[(each.second - from_s) // width]
            for kind, count in each.kinds.items():
                column[kind] = column.get(kind, 0) + count
    return kinds_over_time(columns)


def kept(
    found: Run,
    from_s: int,
    to_s: int,
    limit: int = 60,
    *,
    series: Collection[int] | None = None,
    shards: Collection[int] | None = None,
) -> list[tuple[int, KeptExchange]]:
    """Kept exchanges of the window, of some series or shards or of all: failed ones in their order,
    some of each kind of each step before more of one; some logged lines; some of users that are
    followed; then the others, the longest first (of the first 600).
    """
    rows = Kept.objects.filter(run=found, second__gte=from_s, second__lt=to_s).order_by(
        "second", "pk"
    )
    rows = rows if series is None else rows.filter(series__in=series)
    rows = rows if shards is None else rows.filter(shard__in=shards)
    of_its_kind = Window(RowNumber(), partition_by=["reason", "series"], order_by=["second", "pk"])
    failing = (
        rows.filter(reason__startswith=FAILED)
        .annotate(turn=of_its_kind)
        .order_by("turn", "second", "pk")
    )
    few = limit // 3
    failed = _unpacked(sorted(failing[:limit], key=lambda row: (row.second, row.pk)))
    logged = _unpacked(rows.filter(reason="log")[:few])
    followed = [
        each for each in _unpacked(rows.filter(reason="followed")[:600]) if not each[1].item
    ]
    others = _unpacked(
        rows.exclude(reason__startswith=FAILED).exclude(reason__in=["log", "followed"])[:600]
    )
    logged += [each for each in others if each[1].item][: few - len(logged)]
    for longest in (followed, others := [each for each in others if not each[1].item]):
        longest.sort(key=lambda each: -each[1].duration_us)
    return failed + logged + followed[:few] + others[:few]


def _unpacked(rows: Iterable[Kept]) -> list[tuple[int, KeptExchange]]:
    return [(row.pk, unpack_kept(bytes(row.body))) for row in rows]


@dataclass(frozen=True, slots=True)
class Seen:
    """A look of a browser at a page; its picture is asked for by number."""

    pk: int
    page: str
    second: int
    painted: float | None  # ms until the largest part was
    problem: str
    is_pictured: bool


def shots(found: Run, from_s: int, to_s: int, limit: int = 60) -> list[Seen]:
    """Those that were kept of the window, page by page."""
    inside = found.shots.filter(second__gte=from_s, second__lt=to_s).annotate(size=Length("jpeg"))
    names = ("pk", "page", "second", "figures", "problem", "size")
    rows = inside.order_by("page", "second").values_list(*names)
    return [
        Seen(pk, page, second, figures.get("largest paint"), problem, bool(size))
        for pk, page, second, figures, problem, size in rows[:limit]
    ]


def trace_link(found: Run, trace: str) -> str:
    """Where a trace is looked at: the environment's value `trace_link`, with its id for {trace_id};
    "" for none.
    """
    template = frozen(found).values.get("env.trace_link", "") if trace else ""
    if not template.startswith(("http://", "https://")):
        return ""
    return template.replace("{trace_id}", trace)


def one_kept(found: Run, pk: int) -> KeptExchange:
    return unpack_kept(bytes(get_object_or_404(Kept, run=found, pk=pk).body))
