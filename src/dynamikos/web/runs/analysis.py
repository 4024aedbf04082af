"""Findings, suspects and capacity of runs in the database: gathers what core.analysis computes
on.
"""

import math
from collections.abc import Iterable, Sequence

import msgspec
import numpy as np

from dynamikos.core.analysis.capacity import Capacity
from dynamikos.core.analysis.evidence import Evidence, Found, Line, Measured, Trace
from dynamikos.core.analysis.findings import findings
from dynamikos.core.analysis.gathering import LEVELS, lines_of
from dynamikos.core.analysis.levels import capacity_of
from dynamikos.core.analysis.suspects import Look, suspects, worth_a_look
from dynamikos.core.frozen import FrozenRun, Series, every_series
from dynamikos.core.objectives import Mark
from dynamikos.core.reports import Ledger, SeriesSecond, unpack_kept
from dynamikos.core.reports.folding import COARSE_S, Overall, with_overall
from dynamikos.core.reports.frames import Frame
from dynamikos.core.statistics import Histogram
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.web.runs import by_value, generator_filter, measures, queries, reading
from dynamikos.web.runs.models import Kept, Run

FINE_S = 7200  # of longer runs lines are ten by ten seconds
KEPT = 1500  # kept exchanges that are looked at
SILENT = " tells nothing: "


def evidence(found: Run) -> Evidence:
    """Everything that is folded of a run."""
    inputs = queries.as_run(found, queries.frozen(found))
    every = every_series(inputs)
    over = Overall.over(every)
    seconds = found.watermark + 1
    shown = [*(each for each in every if each.no not in over.of), *over.series]
    rows = [each for each in every if each.level == "step" and each.no in over.of]
    frames = list(queries.every_frame(found))
    lines = _lines(found, [each for each in (*shown, *rows) if each.level in LEVELS], seconds)
    own = {each.no for each in rows}
    return Evidence(
        frozen=inputs,
        seconds=seconds,
        users=_by_second(frames, seconds, lambda f: f.users),
        planned=np.array(inputs.planned([second + 0.995 for second in range(seconds)]), float),
        rate=_by_second(frames, seconds, lambda f: f.answered + f.failed),
        failures=_by_second(frames, seconds, lambda f: f.failed),
        late=_by_second(frames, seconds, lambda f: float(f.is_late)),
        lines=[each for each in lines if each.series.no not in own],
        by_row=[each for each in lines if each.series.no in own],
        by_place=_by_place(found, every, over, seconds),
        ledger=_ledger(found, inputs, frames),
        whole=_whole(found, every),
        measures=measured(found, inputs),
        kept=[
            unpack_kept(bytes(body))
            for body in Kept.objects.filter(run=found).values_list("body", flat=True)[:KEPT]
        ],
        changes=queries.changes_of(found),
        silent=_silent(found),
        failing=by_value.failures(found, inputs, 0, found.watermark + 1).values,
        width=1 if seconds <= FINE_S else COARSE_S,
        names={row.row: row.name or row.row for row in inputs.places.rows},
    )


def _by_second(frames: Iterable[Frame], seconds: int, value) -> Trace:  # type: ignore[no-untyped-def]
    made = np.zeros(seconds)
    for frame in frames:
        if frame.second < seconds:
            made[frame.second] = value(frame)
    return made


def _lines(found: Run, series: Sequence[Series], seconds: int) -> list[Line]:
    if seconds <= FINE_S:
        parts: dict[int, dict[int, SeriesSecond]] = {}
        for second, part in reading.fine_parts(found, [each.no for each in series], 0, seconds):
            parts.setdefault(part.no, {})[second] = part
        return lines_of(series, parts, seconds)
    made = []
    for each in series:
        points = reading.tens(found, each.no, seconds)
        passed, failed = (
            np.array([float(getattr(p, name)) for p in points]) for name in ("passed", "failed")
        )
        made.append(Line(each, passed, failed, [point.times for point in points]))
    return made


def _by_place(
    found: Run, every: Sequence[Series], over: Overall, seconds: int
) -> list[tuple[str, Line]]:
    """The steps of everybody at each place, where generators stand at several."""
    steps = [each for each in every if each.level == "step"]
    stands = {each.no: each for each in (*steps, *over.series)}
    made = []
    width = 1 if seconds <= FINE_S else COARSE_S
    for place, shards in generator_filter.places(list(found.shards.all())).items():
        passed = {no: np.zeros(-(-seconds // width)) for no in stands}
        failed = {no: np.zeros(-(-seconds // width)) for no in stands}
        times: dict[int, dict[int, list[bytes]]] = {}
        for second, no, n, wrong, hist in reading.of_shards(
            found, [each.no for each in steps], shards, width
        ):
            at, whole = second // width, over.of.get(no, no)
            if at < len(passed[whole]):
                passed[whole][at] += n
                failed[whole][at] += wrong
                times.setdefault(whole, {}).setdefault(at, []).append(hist)
        for no, own in times.items():
            joined = [
                Histogram.joined(own[at]) if at in own else None for at in range(len(passed[no]))
            ]
            made.append((place, Line(stands[no], passed[no], failed[no], joined)))
    return made


def _ledger(found: Run, inputs: FrozenRun, frames: Iterable[Frame]) -> Ledger:
    """The measured part."""
    begin, end = map(int, inputs.measured)
    every = every_series(inputs)
    over = Overall.over(every)
    ledger = reading.window(found, [*every, *over.series], begin, end)
    for beside in reading.besides(found, begin, min(end, found.watermark + 1)):
        ledger.ask(beside)
    for beside in reading.besides(found, end, found.watermark + queries.LATER_S):
        ledger.carry(with_overall(beside, over.of))
    inside = [frame for frame in frames if begin <= frame.second < end]
    ledger.seconds, ledger.late_seconds = len(inside), sum(frame.is_late for frame in inside)
    for frame in inside:
        for why in frame.late_by:
            ledger.late_by[why] = ledger.late_by.get(why, 0) + 1
    return ledger


def _whole(found: Run, series: Iterable[Series]) -> Ledger:
    ledger = Ledger(series)
    ledger.leavings = OUTCOME.of(found.outcome).leavings if found.outcome else []
    return ledger


def _silent(found: Run) -> list[tuple[str, int, str]]:
    made = []
    for remark in found.remarks.filter(by=None, text__contains=SILENT):
        title, _, why = remark.text.removeprefix("The probe ").partition(SILENT)
        made.append((title, remark.second, why))
    return made


def measured(found: Run, inputs: FrozenRun) -> list[Measured]:
    """All measures of its probes."""
    probes = {each.probe: each for each in inputs.plan.probes}
    traces = measures.traces(found, None, 0, found.watermark + 1)
    made = []
    for each in found.measures.all():
        probe = probes.get(each.probe)
        title = probe.title if probe is not None else each.probe
        is_host = probe is not None and probe.host is not None
        if each.no in traces:
            made.append(
                Measured(f"{title}: {each.name}", each.unit, traces[each.no], each.probe, is_host)
            )
    return made


def look(found: Run) -> tuple[list[Found], Capacity | None]:
    """The findings of a run that is over, and its capacity where it had several levels of load."""
    marks = {int(no): msgspec.convert(each, list[Mark]) for no, each in found.marks.items()}
    told = OUTCOME.of(found.outcome) if found.outcome else None
    for no, judged in enumerate(told.judgements if told is not None else ()):
        if judged.marks:
            marks[no] = list(judged.marks)
    whole = evidence(found)
    return findings(whole, marks), capacity_of(whole)


MOST_SUGGESTED = 6


def suggested(told: Sequence[tuple[int, float | None]], until: int) -> list[tuple[int, int]]:
    """(from, to) of stretches that are worth a look, of what p95 was (ms) from each second on, to
    the last one before `until`: the longest, in order.
    """
    if len(told) < 2:
        return []
    width = told[1][0] - told[0][0]
    trace = np.array([np.nan if value is None else value for _, value in told], float)
    places = worth_a_look(trace, max(1, math.ceil(3 / width)))
    longest = sorted(places, key=lambda each: each[0] - each[1])[:MOST_SUGGESTED]
    return [
        (told[begin][0], told[end][0] if end < len(told) else until)
        for begin, end in sorted(longest)
    ]


def users_of(found: Run) -> Trace:
    """Users there, by second."""
    return _by_second(queries.every_frame(found), found.watermark + 1, lambda f: f.users)


def step_line(found: Run, numbers: Sequence[int]) -> tuple[Trace, Trace]:
    """(mean ms by second, how many passed) of series added up; NaN where none passed."""
    seconds = found.watermark + 1
    passed, total = np.zeros(seconds), np.zeros(seconds)
    for second, part in reading.fine_parts(found, numbers, 0, seconds):
        passed[second] += part.n
        total[second] += part.sum_us
    return np.divide(total, passed * 1000, out=np.full(seconds, np.nan), where=passed > 0), passed


def suspects_of(
    found: Run,
    inputs: FrozenRun,
    numbers: Sequence[int],
    window: tuple[int, int],
    least: float | None = None,
) -> tuple[Look, Trace, dict[str, Measured]]:
    """(suspects, the step's mean by second, measures by name) of a step in a window; see core's
    suspects.
    """
    line, _ = step_line(found, numbers)
    frames = list(queries.every_frame(found))
    load = _by_second(frames, len(line), lambda f: f.users)
    known = {each.name: each for each in measured(found, inputs)}
    candidates: dict[str, Trace] = {name: each.trace for name, each in known.items()}
    failures = _by_second(frames, len(line), lambda f: f.failed)
    if failures.sum():
        known["failures"] = Measured("failures", "/s", failures)
        candidates["failures"] = failures
    late = _by_second(frames, len(line), lambda f: f.late_p99_ms)
    known["generators: lateness p99"] = Measured("generators: lateness p99", "ms", late)
    candidates["generators: lateness p99"] = late
    return suspects(line, window, candidates, load, least=least), line, known
