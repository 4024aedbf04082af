"""Of a run: lanes, tables, lines of them, objectives, what was noticed, suspects, kept
exchanges.
"""

import msgspec
import numpy as np

from dynamikos.core.analysis.evidence import Found
from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits, milliseconds, odds, short
from dynamikos.core.reports import Row, unpack_kept
from dynamikos.core.reports.by_value import Failing
from dynamikos.core.reports.columns import shown_at
from dynamikos.core.reports.folding import BY_SHARD
from dynamikos.core.reports.ledger import row_of_total
from dynamikos.core.telling.drawing import drawn
from dynamikos.core.telling.evidence import Evidence, Table
from dynamikos.core.telling.model import Lane
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.web.casebook.pins.seen import Seen
from dynamikos.web.runs import analysis, by_value, measures, queries, reading, telling
from dynamikos.web.runs.models import Kept

OWN_LANES = {"users": 0, "rate": 1, "time": 2, "failures": 3}
SHOWN = shown_at("pin")
COLUMNS = ("step", *(f"{each.title} #" for each in SHOWN))
BODY = 4000  # signs of a body that are shown


def lane(seen: Seen) -> Evidence:
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
        wanted = next(
            (each for each in measures.lanes(found, seen.inputs) if each.key == key), None
        )
        if wanted is None:
            raise DynamikosError(f"run {found.number} has no such lane of its servers.")
        traces = measures.traces(found, [no for no, _ in wanted.lines], 0, found.watermark + 1)
        lane = Lane(
            wanted.title,
            wanted.unit,
            [(name, traces[no]) for no, name in wanted.lines if no in traces],
        )
    return Evidence(lane.title, seen.where, lanes=[drawn(lane, end, seen.inputs.measured, begin)])


def _cells(row: Row, name: str) -> list[str]:
    return [name, *(each.text(row) for each in SHOWN)]


def _rows(seen: Seen) -> list[Row]:
    begin, end = seen.window
    shown = reading.shown_series(seen.inputs, seen.row or None)
    if seen.shards is None:
        ledger = queries.window(seen.run, seen.inputs, begin, end, seen.row or None)
    else:
        ledger = queries.of_generators(
            seen.run, seen.inputs, seen.shards, begin, end, seen.row or None
        )
        shown = [each for each in shown if each.level in BY_SHARD]
    return [
        row_of_total(each, ledger.totals[each.no], end - begin, of_failed=seen.of_failed)
        for each in shown
    ]


def steps(seen: Seen) -> Evidence:
    rows = [
        _cells(each, each.name)
        for each in _rows(seen)
        if each.level in ("step", "repeat") and each.count
    ]
    return Evidence("Steps", seen.where, tables=[Table(COLUMNS, rows)])


def step(seen: Seen) -> Evidence:
    row = next((each for each in _rows(seen) if each.no == seen.series.no), None)
    if row is None:
        raise DynamikosError("there are no figures of it.")
    return Evidence(seen.name, seen.where, tables=[Table(COLUMNS, [_cells(row, seen.name)])])


def objective(seen: Seen) -> Evidence:
    told = OUTCOME.of(seen.run.outcome) if seen.run.outcome else None
    judged = next(
        (
            each
            for each in (told.judgements if told else ())
            if each.objective == seen.of.get("objective")
        ),
        None,
    )
    if judged is None:
        raise DynamikosError(f"run {seen.run.number} has no such objective.")

    def figure(value: float | None) -> str:
        if value is None:
            return "–"
        return (
            milliseconds(value)
            if judged.unit == "ms"
            else f"{short(value, 4)} {judged.unit}".strip()
        )

    row = [
        judged.sentence,
        judged.word,
        figure(judged.value),
        figure(judged.limit),
        f"{judged.samples:,}",
    ]
    more = [judged.reason] if judged.reason else []
    more += [f"{judged.seconds_over} s beyond the limit."] if judged.seconds_over else []
    table = Table(("objective", "", "value #", "limit #", "samples #"), [row])
    return Evidence("Objective", f"{seen.run.name}, run {seen.run.number}", more, tables=[table])


def finding(seen: Seen) -> Evidence:
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
    return Evidence(
        found.sentence, where, [found.means, found.try_], tables=[table] if found.evidence else []
    )


def suspect(seen: Seen) -> Evidence:
    begin, end = seen.window
    look, step, known = analysis.suspects_of(
        seen.run, seen.inputs, [seen.series.no], (begin, end), 0.0
    )
    name = seen.of.get("measure", "")
    found = next((each for each in look.every if name in (each.measure, *each.folded)), None)
    if name not in known:
        raise DynamikosError(f"run {seen.run.number} has no measure {name}.")
    length = max(10, end - begin)
    low, high = max(0, begin - 2 * length), min(len(step), end + 2 * length)
    both = (
        Lane(seen.name, "ms", [("mean", step)]),
        Lane(name, known[name].unit, [(name, known[name].trace)]),
    )
    said = "It is no suspect there any more."
    if found is not None:
        moved = "rose" if found.sign > 0 else "fell"
        chance = "" if found.p is None else f", by chance {odds(found.p)}"
        unproven = "" if found.is_proven else "; unproven"
        said = f"It {moved} {found.words}, with a score of {found.score:.3g}{chance}{unproven}."
    return Evidence(
        f"What moved with {seen.name}: {name}", seen.where, [said],
        lanes=[drawn(each, high, (begin, end), low) for each in both],
    )  # fmt: skip


def kept(seen: Seen) -> Evidence:
    number = digits(seen.of.get("number", ""))
    row = Kept.objects.filter(run=seen.run, pk=number).first() if number is not None else None
    if row is None:
        raise DynamikosError(f"run {seen.run.number} does not keep this exchange any more.")
    kept = unpack_kept(bytes(row.body))
    said = [
        f"{kept.reason}; status {kept.status or 'none'}, {milliseconds(kept.duration_us / 1000)}."
    ]
    said += [kept.error] if kept.error else []
    said += [f"Expected: {kept.expected}", f"Actual: {kept.actual}"] if kept.expected else []
    head = "\n".join(f"{name}: {value}" for name, value in kept.sent_headers)
    back = "\n".join(f"{name}: {value}" for name, value in kept.headers)
    texts = [
        ("request", f"{kept.method} {kept.url}\n{head}\n\n{kept.sent_body[:BODY]}".strip()),
        ("answer", f"{kept.status}\n{back}\n\n{kept.body[:BODY]}".strip()),
    ]
    if kept.variables:
        texts.append(
            ("variables", "\n".join(f"{name} = {value}" for name, value in kept.variables.items()))
        )
    where = (
        f"{seen.run.name}, run {seen.run.number}, second {kept.second}, user {kept.user}, round "
        f"{kept.round}"
    )
    title = (
        f"{kept.item}: {kept.step}" if kept.item else f"{kept.method} {kept.request} of {kept.step}"
    )
    return Evidence(title, where, said, texts=[] if kept.item else texts)


MOST_VALUES = 50


def _value(each: Failing) -> str:
    if not each.is_many:
        return each.value
    return f"one of {each.values:,} values" if each.values else "many values"


def values(seen: Seen) -> Evidence:
    """What failed, by the values of dealt columns."""
    rows_of = reading.rows_named(seen.inputs, seen.row or None)
    window = (
        seen.window if "from" in seen.of else (0, seen.run.watermark + 1)
    )  # as it was pinned on an earlier day
    found = by_value.failures(seen.run, seen.inputs, *window, rows_of, seen.shards)
    if not found.values:
        raise DynamikosError(
            f"nothing failed in run {seen.run.number} then that a data value was dealt to."
        )
    rows = [
        (
            each.asked[2],
            each.name,
            _value(each),
            f"{each.failed:,}" if each.failed else "–",
            f"{each.of:,}",
            f"{each.dealt:,}" if each.dealt_in_all else "–",
        )
        for each in found.values[:MOST_VALUES]
    ]
    heads = ("request", "column", "value", "failed #", "of #", "dealt #")
    counted = (
        f"counted from second {found.from_s} to {found.to_s}; columns with secrets are left out"
    )
    where = f"{seen.where}; {counted}"
    return Evidence("Failures by data value", where, tables=[Table(heads, rows)])
