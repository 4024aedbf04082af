"""What was pinned, looked at again: each kind of pin as its evidence."""

import uuid
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property

import msgspec
import numpy as np
from django.http import QueryDict

from dynamikos.core.analysis.evidence import Found, milliseconds
from dynamikos.core.comparison import Comparison, Difference, compare
from dynamikos.core.comparison.trend import MEASURES
from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits
from dynamikos.core.frozen import FrozenRun, Series
from dynamikos.core.reports import Row
from dynamikos.core.reports.ledger import row_of_total
from dynamikos.core.telling.casebook import What
from dynamikos.core.telling.drawing import drawn
from dynamikos.core.telling.evidence import Evidence, Picture, Table
from dynamikos.core.telling.model import Lane
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.web.projects.models import Project
from dynamikos.web.runs import analysis, baselines, comparing, drawings, measures, queries, reading, telling, trend
from dynamikos.web.runs.models import Kept, Run

OWN_LANES = {"users": 0, "rate": 1, "time": 2, "failures": 3}
COLUMNS = ("step", "count #", "failed #", "/s #", "mean #", "p50 #", "p95 #", "p99 #", "longest #")
BODY = 4000  # signs of a body that are shown
LEVELS = ("step", "request", "repeat", "item")
GONE = "the run was deleted"


@dataclass(frozen=True)
class Seen:
    """What a pin names, as the project has it now. Raises DynamikosError for what is not there."""

    project: Project
    of: Mapping[str, str]

    @cached_property
    def run(self) -> Run:
        try:
            found = Run.objects.filter(project=self.project, pk=uuid.UUID(self.of.get("run", ""))).first()
        except ValueError:
            found = None
        if found is None:
            raise DynamikosError(f"{GONE}.")
        return found

    @cached_property
    def inputs(self) -> FrozenRun:
        return queries.as_run(self.run, queries.frozen(self.run))

    @cached_property
    def window(self) -> tuple[int, int]:
        """That in which it was seen, else the measured part."""
        begin, end = digits(self.of.get("from", "")), digits(self.of.get("to", ""))
        low, high = self.inputs.measured
        begin = int(low) if begin is None else begin
        end = min(int(high) if end is None else end, self.run.watermark + 1)
        if end <= begin:
            raise DynamikosError(f"run {self.run.number} has nothing from second {begin} on.")
        return begin, end

    @cached_property
    def row(self) -> str:
        """A row, or all of a persona; "" for everybody."""
        row = self.of.get("row", "")
        return row if len(self.inputs.places.rows) > 1 and row in dict(reading.slices_of(self.inputs)) else ""

    @property
    def name(self) -> str:
        """What the step or request is called."""
        each = self.series
        step = queries.names_of_steps(self.inputs).get(each.journey, {}).get(each.step, each.step)
        return f"{step}: {each.request}" if each.request else step or each.name

    @property
    def where(self) -> str:
        begin, end = self.window
        of_row = f", of {dict(reading.slices_of(self.inputs))[self.row]} only" if self.row else ""
        times = ", times of what failed" if self.of_failed else ""
        return f"{self.run.name}, run {self.run.number}, second {begin} to {end}{of_row}{times}"

    @property
    def of_failed(self) -> bool:
        return self.of.get("outcome", "") == "failed"

    @cached_property
    def series(self) -> Series:
        """The step or request that is named."""
        wanted = self.of.get("journey", ""), self.of.get("step", ""), self.of.get("request", "")
        for each in reading.shown_series(self.inputs, self.row or None):
            if (each.journey, each.step, each.request) == wanted and each.level in LEVELS:
                return each
        raise DynamikosError(f"run {self.run.number} has no step or request {'/'.join(filter(None, wanted))}.")


def _lane(seen: Seen) -> Evidence:
    key = seen.of.get("lane", "")
    found, (begin, end) = seen.run, seen.window
    if key in OWN_LANES:
        lane = telling.lanes(found)[OWN_LANES[key]]
    elif key == "generators":
        values = np.full(found.watermark + 1, np.nan)
        for frame in queries.every_frame(found):
            if frame.second < len(values):
                values[frame.second] = frame.late_p99_ms
        lane = Lane("Generators: lateness p99", "ms", [("lateness", values)])
    else:
        wanted = next((each for each in measures.lanes(found, seen.inputs) if each.key == key), None)
        if wanted is None:
            raise DynamikosError(f"run {found.number} has no such lane of its servers.")
        traces = measures.traces(found, [no for no, _ in wanted.lines], 0, found.watermark + 1)
        lane = Lane(wanted.title, wanted.unit, [(name, traces[no]) for no, name in wanted.lines if no in traces])
    return Evidence(lane.title, seen.where, lanes=[drawn(lane, end, seen.inputs.measured, begin)])


def _cells(row: Row, name: str) -> list[str]:
    def ms(value: float | None) -> str:
        return "–" if value is None else milliseconds(value)

    times = (row.mean_ms, row.p50_ms, row.p95_ms, row.p99_ms, row.max_ms)
    return [name, f"{row.count:,}", f"{row.failures:,}", f"{row.per_s:.3g}", *map(ms, times)]


def _rows(seen: Seen) -> list[Row]:
    begin, end = seen.window
    ledger = queries.window(seen.run, seen.inputs, begin, end, seen.row or None)
    shown = reading.shown_series(seen.inputs, seen.row or None)
    return [row_of_total(each, ledger.totals[each.no], end - begin, of_failed=seen.of_failed) for each in shown]


def _steps(seen: Seen) -> Evidence:
    rows = [_cells(each, each.name) for each in _rows(seen) if each.level in ("step", "repeat") and each.count]
    return Evidence("Steps", seen.where, tables=[Table(COLUMNS, rows)])


def _step(seen: Seen) -> Evidence:
    row = next((each for each in _rows(seen) if each.no == seen.series.no), None)
    if row is None:
        raise DynamikosError("there are no figures of it.")
    return Evidence(seen.name, seen.where, tables=[Table(COLUMNS, [_cells(row, seen.name)])])


def _objective(seen: Seen) -> Evidence:
    told = OUTCOME.of(seen.run.outcome) if seen.run.outcome else None
    judged = next(
        (each for each in (told.judgements if told else ()) if each.objective == seen.of.get("objective")), None
    )
    if judged is None:
        raise DynamikosError(f"run {seen.run.number} has no such objective.")

    def figure(value: float | None) -> str:
        if value is None:
            return "–"
        return milliseconds(value) if judged.unit == "ms" else f"{value:.4g} {judged.unit}".strip()

    row = [judged.sentence, judged.word, figure(judged.value), figure(judged.limit), f"{judged.samples:,}"]
    more = [judged.reason] if judged.reason else []
    more += [f"{judged.seconds_over} s beyond the limit."] if judged.seconds_over else []
    table = Table(("objective", "", "value #", "limit #", "samples #"), [row])
    return Evidence("Objective", f"{seen.run.name}, run {seen.run.number}", more, tables=[table])


def _finding(seen: Seen) -> Evidence:
    try:
        every = msgspec.convert(seen.run.findings or [], list[Found])
    except msgspec.ValidationError:
        every = []
    wanted = seen.of.get("sentence", "")
    found = next((each for each in every if each.sentence == wanted), None)
    if found is None:
        raise DynamikosError(f"this is not noticed in run {seen.run.number} any more.")
    table = Table(("evidence", ""), [(name, str(value)) for name, value in found.evidence.items()])
    where = f"{seen.run.name}, run {seen.run.number}; about the {found.about}"
    return Evidence(found.sentence, where, [found.means, found.try_], tables=[table] if found.evidence else [])


def _suspect(seen: Seen) -> Evidence:
    begin, end = seen.window
    made, step, known, _ = analysis.suspects_of(seen.run, seen.inputs, [seen.series.no], (begin, end), 0.0)
    name = seen.of.get("measure", "")
    found = next((each for each in made if name in (each.measure, *each.folded)), None)
    if name not in known:
        raise DynamikosError(f"run {seen.run.number} has no measure {name}.")
    length = max(10, end - begin)
    low, high = max(0, begin - 2 * length), min(len(step), end + 2 * length)
    both = Lane(seen.name, "ms", [("mean", step)]), Lane(name, known[name].unit, [(name, known[name].trace)])
    said = "It is no suspect there any more."
    if found is not None:
        moved = "rose" if found.sign > 0 else "fell"
        chance = "" if found.p is None else f", by chance in {found.p:.3g}"
        said = f"It {moved} {found.words}, with a score of {found.score:.3g}{chance}."
    return Evidence(
        f"What moved with {seen.name}: {name}", seen.where, [said],
        lanes=[drawn(each, high, (begin, end), low) for each in both],
    )  # fmt: skip


def _kept(seen: Seen) -> Evidence:
    number = digits(seen.of.get("number", ""))
    row = Kept.objects.filter(run=seen.run, pk=number).first() if number is not None else None
    if row is None:
        raise DynamikosError(f"run {seen.run.number} does not keep this exchange any more.")
    from dynamikos.core.reports import unpack_kept

    kept = unpack_kept(bytes(row.body))
    said = [f"{kept.reason}; status {kept.status or 'none'}, {milliseconds(kept.duration_us / 1000)}."]
    said += [kept.error] if kept.error else []
    said += [f"Expected: {kept.expected}", f"Actual: {kept.actual}"] if kept.expected else []
    head = "\n".join(f"{name}: {value}" for name, value in kept.sent_headers)
    back = "\n".join(f"{name}: {value}" for name, value in kept.headers)
    texts = [
        ("request", f"{kept.method} {kept.url}\n{head}\n\n{kept.sent_body[:BODY]}".strip()),
        ("answer", f"{kept.status}\n{back}\n\n{kept.body[:BODY]}".strip()),
    ]
    if kept.variables:
        texts.append(("variables", "\n".join(f"{name} = {value}" for name, value in kept.variables.items())))
    where = f"{seen.run.name}, run {seen.run.number}, second {kept.second}, user {kept.user}, round {kept.round}"
    title = f"{kept.item}: {kept.step}" if kept.item else f"{kept.method} {kept.request} of {kept.step}"
    return Evidence(title, where, said, texts=[] if kept.item else texts)


def _times(seen: Seen) -> Evidence:
    begin, end = seen.window
    total = reading.window(seen.run, [seen.series], begin, end).totals[seen.series.no]
    spread = drawings.distribution(total.passed)
    if spread is None:
        raise DynamikosError("nothing of it passed in this window.")
    bars = "".join(f"M{x} 150V{round(150 - h, 1)}H{round(x + w, 1)}V150Z" for x, _, w, h in spread.bars)
    picture = Picture(
        "how often, and which part took no longer", 316, 172, [("bars", bars), ("line l1", spread.cumulative)],
        texts=[(x, 166, "middle", text) for x, text in spread.marks],
    )  # fmt: skip
    percents = [(f"p{each}", milliseconds((total.passed.percentile_us(each) or 0) / 1000)) for each in (50, 90, 95, 99)]
    said = ", ".join(f"{name} {value}" for name, value in percents)
    return Evidence(f"How long {seen.name} took", seen.where, [f"{total.passed.n:,} passed: {said}."],
                    pictures=[picture])  # fmt: skip


def _compared(seen: Seen) -> tuple[Comparison, str]:
    given = QueryDict(seen.of.get("query", ""))
    chosen = comparing.chosen(Run.objects.filter(project=seen.project), given)
    sides = {side: [run for run, its in chosen if its == side] for side in "ab"}
    if not sides["a"] or not sides["b"]:
        raise DynamikosError("its runs were deleted.")
    every = [run for runs in sides.values() for run in runs]
    a, b = ([comparing.one_run(run, every) for run in sides[name]] for name in "ab")
    tolerated = comparing.tolerated(given)
    named = " against ".join(
        f"{name.upper()}: {', '.join(f'run {run.number}' for run in sides[name])}" for name in "ab"
    )
    return compare(a, b, tolerated / 100), named


def _difference_cells(each: Difference) -> list[str]:
    share = each.wanted.is_share
    times, points = (100, " points") if share else (1, " %")
    unit = " %" if share else " /s" if each.wanted.measure == "throughput" else " ms"

    def value(of: float | None) -> str:
        return "–" if of is None else f"{of * times:.3g}{unit}"

    def signed(of: float | None) -> str:
        return "–" if of is None else f"{100 * of:+.3g}{points}"

    within = each.reason if each.low is None else f"{signed(each.low)} to {signed(each.high)}"
    word = f"{each.word} here" if each.differs and not each.is_real else each.word
    return [each.name, each.wanted.measure, value(each.a), value(each.b), signed(each.change), within, word]


HEADS = ("step", "of", "A #", "B #", "change #", "within", "verdict")


def _comparison(seen: Seen) -> Evidence:
    found, named = _compared(seen)
    table = Table(HEADS, [_difference_cells(each) for each in found.differences])
    return Evidence("Compared", named, [found.sentence], tables=[table])


def _difference(seen: Seen) -> Evidence:
    found, named = _compared(seen)
    wanted = seen.of.get("journey", ""), seen.of.get("step", ""), seen.of.get("request", ""), seen.of.get("measure", "")
    for each in (*found.differences, *found.others):
        if (*each.wanted.key[1:], each.wanted.measure) == wanted:
            return Evidence(f"{each.name}, compared", named, tables=[Table(HEADS, [_difference_cells(each)])])
    raise DynamikosError("the two sides have nothing of it in common any more.")


def _trend(seen: Seen) -> Evidence:
    given = QueryDict(seen.of.get("query", ""))
    measure = given.get("measure", "")
    measure = measure if measure in MEASURES else MEASURES[0]
    runs, _, whose, _ = trend.asked(Run.objects.filter(project=seen.project), given)
    baseline = baselines.current(whose)
    lines = trend.drawn(runs, measure, list(baseline.runs.all()) if baseline is not None else [], trend.goals(whose))
    line = next((each for each in lines if each.name == seen.of.get("name")), None)
    if line is None:
        raise DynamikosError("no run there has it any more.")
    paths = [("grid", f"M{trend.LEFT} {y}H{trend.WIDTH}") for y, _ in line.rows]
    paths += [("limit", f"M{trend.LEFT} {y}H{trend.WIDTH}") for y, _ in line.limits]
    paths += [("line", each) for each in line.levels]
    paths += [("line", f"M{each.x} {each.low}V{each.high}") for each in line.points if each.low is not None]
    texts = [(x, 114.0, "middle", text) for x, text in line.columns]
    texts += [(trend.LEFT - 6, y + 3, "end", text) for y, text in line.rows]
    texts += [(trend.WIDTH, y - 3, "end", text) for y, text in line.limits]
    texts += [(each.x, 9.0, "middle", each.said) for each in line.changes]
    dots = [("" if each.is_counted else "doubted", each.x, each.y) for each in line.points]
    said = [f"{line.name} {each.said} since run {each.since.number}." for each in line.changes]
    picture = Picture(f"{measure}, {trend.UNITS.get(measure, 'ms')}, by run", trend.WIDTH, 118, paths, dots, texts)
    first, last = (line.points[at].run.number for at in (0, -1))
    return Evidence(f"{line.name} over runs", f"runs {first} to {last}", said or ["No change of level."],
                    pictures=[picture])  # fmt: skip


SHOWN: dict[What, Callable[[Seen], Evidence]] = {
    "lane": _lane, "steps": _steps, "step": _step, "objective": _objective, "finding": _finding, "suspect": _suspect,
    "kept": _kept, "times": _times, "comparison": _comparison, "difference": _difference, "trend": _trend,
}  # fmt: skip
