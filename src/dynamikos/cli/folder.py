"""A result folder: a run in open formats (docs/run-command.md), and what is read of it again."""

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import orjson
import pyarrow as pa
import pyarrow.parquet as pq

from dynamikos.cli.writing import write_over
from dynamikos.core.analysis.capacity import Capacity
from dynamikos.core.analysis.evidence import Found, Measured, Trace
from dynamikos.core.analysis.suspects import Look, Suspect, suspects
from dynamikos.core.comparison import OneRun
from dynamikos.core.comparison.side import COMPARED, Cells, Key, mix_of
from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms import Unfit
from dynamikos.core.frozen import FrozenRun, Series, canonical, every_series
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.objectives import Objective
from dynamikos.core.probes.shots import Shot
from dynamikos.core.reports import KeptExchange, SeriesSecond
from dynamikos.core.statistics import Histogram
from dynamikos.core.telling import Report, report_of
from dynamikos.core.telling.model import lanes_of, lanes_of_objectives
from dynamikos.core.verdicts import Outcome, as_json
from dynamikos.core.verdicts.objectives import series_of_objective
from dynamikos.core.verdicts.outcome import OUTCOME

RUN, OUTCOME_FILE, INPUTS, SECONDS, PROBES, KEPT = (
    "run.json", "outcome.json", "inputs.json", "seconds.parquet", "probes.parquet", "kept.jsonl",
)  # fmt: skip
SHOTS = "shots"
EXCHANGES, FAILING = ("request", "embedded", "token"), ("request", "item", "repeat")  # levels
SECOND_COLUMNS = pa.schema(
    [
        ("second", pa.int32()),
        ("level", pa.string()),
        ("row", pa.string()),
        ("journey", pa.string()),
        ("step", pa.string()),
        ("request", pa.string()),
        ("passed", pa.int64()),
        ("failed", pa.int64()),
        ("sum_us", pa.int64()),
        ("squares_us2", pa.string()),
        ("p50_ms", pa.float64()),
        ("p95_ms", pa.float64()),
        ("p99_ms", pa.float64()),
        ("bytes_in", pa.int64()),
        ("users", pa.int32()),
        ("times", pa.binary()),
        ("cut_off", pa.binary()),
        ("cut_sum_us", pa.int64()),
        ("own_us", pa.int32()),
        ("low_times", pa.binary()),
        ("quiet_us", pa.int64()),
    ]
)
PROBE_COLUMNS = pa.schema(
    [
        ("second", pa.int32()),
        ("probe", pa.string()),
        ("measure", pa.string()),
        ("unit", pa.string()),
        ("value", pa.float64()),
    ]
)


@dataclass(frozen=True, slots=True)
class Result:
    """What is written: `parts` are the seconds of each series by number, `users` how many were
    there by second.
    """

    frozen: FrozenRun
    outcome: Outcome
    findings: Sequence[Found]
    capacity: Capacity | None
    series: Sequence[Series]
    parts: Mapping[int, Mapping[int, SeriesSecond]]
    users: Trace
    measures: Sequence[Measured]
    kept: Iterable[KeptExchange]
    shots: Sequence[tuple[int, Shot]] = ()
    began: str = ""  # ISO 8601, UTC


def second_table(result: Result) -> pa.Table:
    """A line for every series and second in which something ended."""
    columns: dict[str, list[Any]] = {name: [] for name in SECOND_COLUMNS.names}
    for each in result.series:
        for second, part in sorted(result.parts.get(each.no, {}).items()):
            times = Histogram.joined((part.hist, part.cut_hist))
            values = [times.percentile_us(percent) for percent in (50, 95, 99)]
            told = (
                second, each.level, each.row, each.journey, each.step, each.request, part.n,
                sum(part.failed.values()), part.sum_us, part.squares,
                *(None if value is None else value / 1000 for value in values), part.bytes_in,
                int(result.users[second]) if second < len(result.users) else 0, part.hist,
                part.cut_hist, part.cut_sum_us, part.own_us, part.low_hist, part.quiet_us,
            )  # fmt: skip
            for name, value in zip(columns, told, strict=True):
                columns[name].append(value)
    return pa.table(columns, schema=SECOND_COLUMNS)


def probe_table(measures: Sequence[Measured]) -> pa.Table:
    columns: dict[str, list[Any]] = {name: [] for name in PROBE_COLUMNS.names}
    for each in measures:
        for second in np.flatnonzero(~np.isnan(each.trace)):
            told = int(second), each.probe, each.name, each.unit, float(each.trace[second])
            for name, value in zip(columns, told, strict=True):
                columns[name].append(value)
    return pa.table(columns, schema=PROBE_COLUMNS)


def write(folder: Path, result: Result) -> None:
    """Raises OSError where it can't be written."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    for last in (RUN, OUTCOME_FILE):  # a folder without them is not taken for a run
        (folder / last).unlink(missing_ok=True)
    (folder / INPUTS).write_bytes(canonical(result.frozen))
    whole = {
        "began": result.began,
        "outcome": OUTCOME.plain(result.outcome),
        "findings": msgspec.to_builtins(list(result.findings)),
        "capacity": msgspec.to_builtins(result.capacity),
    }
    pq.write_table(second_table(result), folder / SECONDS)
    pq.write_table(probe_table(result.measures), folder / PROBES)
    with (folder / KEPT).open("wb") as file:
        for each in result.kept:
            file.write(orjson.dumps(msgspec.to_builtins(each)) + b"\n")
    for old in (folder / SHOTS).glob("*.jpg"):  # of a run that was kept here before
        old.unlink()
    pictures = [(second, shot) for second, shot in result.shots if shot.jpeg]
    if pictures:
        (folder / SHOTS).mkdir(exist_ok=True)
    for second, shot in pictures:
        page = re.sub(r"[^A-Za-z0-9]+", "-", shot.page).strip("-") or "page"
        (folder / SHOTS / f"{second:06}-{page[:60]}.jpg").write_bytes(shot.jpeg)
    write_over(folder / OUTCOME_FILE, orjson.dumps(whole))
    write_over(
        folder / RUN, as_json(result.frozen, result.outcome, result.findings, result.capacity)
    )


def one_run(folder: Path) -> tuple[OneRun, FrozenRun]:
    """A run that was kept, as it is compared, and what it was made of. Raises DynamikosError for
    what is no such folder, or one of an earlier day, which lacks what is needed.
    """
    try:
        told = orjson.loads((folder / RUN).read_bytes())
        frozen = FROZEN.read((folder / INPUTS).read_bytes())
        columns = [
            "second",
            "level",
            "journey",
            "step",
            "request",
            "passed",
            "failed",
            "sum_us",
            "times",
        ]
        more = [
            "cut_off",
            "cut_sum_us",
            "own_us",
            "low_times",
            "quiet_us",
        ]  # not in folders of earlier days
        more = [each for each in more if each in pq.read_schema(folder / SECONDS).names]
        seconds = pq.read_table(folder / SECONDS, columns=columns + more).to_pydict()
    except (OSError, ValueError, pa.ArrowException, Unfit) as problem:
        raise DynamikosError(
            f"{folder} is no result folder of ./dynamikos run --keep that can be compared: "
            f"{problem}"
        ) from problem
    begin, end = int(told["measured_from_s"]), int(told["measured_to_s"])
    end = min(end, max(seconds["second"], default=-1) + 1)
    names: dict[Key, str] = {
        (each.level, each.journey, each.step, each.request): each.name
        for each in every_series(frozen)
    }
    cells: dict[Key, Cells] = {}
    rows = zip(*(seconds[name] for name in columns), strict=True)
    for at, (second, level, journey, step, request, passed, failed, sum_us, times) in enumerate(
        rows
    ):
        if level in COMPARED and begin <= second < end:
            key: Key = level, journey, step, request
            cut, cut_sum_us, own_us, low, quiet_us = (
                (seconds[name][at] for name in more) if more else (b"", 0, 0, b"", 0)
            )
            part = SeriesSecond(
                no=0,
                n=passed,
                failed={"failed": failed} if failed else {},
                sum_us=sum_us,
                hist=times,
                cut_hist=cut,
                cut_sum_us=cut_sum_us,
                own_us=own_us,
                low_hist=low,
                quiet_us=quiet_us,
            )
            cells.setdefault(key, Cells(end - begin)).add(second - begin, part)
    lines = {key: each.line(names.get(key, key[2])) for key, each in cells.items()}
    doubts, plan = told.get("doubts") or [], frozen.plan
    lost = told.get("generators", {}).get("lost") or []
    return OneRun(
        name=folder.name,
        lines=lines,
        seconds=end - begin,
        plan=plan.plan,
        doubts=doubts,
        lost=f"its generator {', '.join(lost)} was lost" if lost else "",
        objectives=plan.objectives,
        mix=mix_of(told.get("crowd") or []),
    ), frozen


def report(folder: Path) -> Report:
    """What a run that was kept is told as. Raises DynamikosError for what is no such folder, or one
    of another day.
    """
    try:
        told = orjson.loads((folder / OUTCOME_FILE).read_bytes())
        frozen = FROZEN.read((folder / INPUTS).read_bytes())
        outcome = OUTCOME.of(told["outcome"])
        findings = msgspec.convert(told["findings"], list[Found])
        capacity = msgspec.convert(told["capacity"], Capacity | None)
        columns = ["second", "level", "passed", "failed", "times", "users"]
        place = ["row", "journey", "step", "request"]
        rows = pq.read_table(folder / SECONDS, columns=columns + place).to_pydict()
        probes = pq.read_table(folder / PROBES).to_pydict()
    except (
        OSError,
        ValueError,
        KeyError,
        pa.ArrowException,
        Unfit,
        msgspec.ValidationError,
    ) as problem:
        raise DynamikosError(
            f"{folder} is no result folder of ./dynamikos run --keep: {problem}"
        ) from problem
    seconds = max(rows["second"], default=-1) + 1
    users, ended, wrongs = (np.zeros(seconds) for _ in range(3))
    times: dict[int, list[bytes]] = {}
    for second, level, n, wrong, body, there in zip(*(rows[name] for name in columns), strict=True):
        users[second] = there
        if level in EXCHANGES:
            ended[second] += n + wrong
        if level in FAILING:
            wrongs[second] += wrong
        if level == "step" and n:
            times.setdefault(second, []).append(body)
    percentiles = {name: np.full(seconds, np.nan) for name in ("p95", "p50")}
    for second, bodies in times.items():
        both = Histogram.joined(bodies).percentiles_us(95, 50)
        for line, value in zip(percentiles.values(), both, strict=True):
            line[second] = (value or 0) / 1000

    def of(objective: Objective) -> dict[int, Histogram]:
        about = series_of_objective(objective, every_series(frozen))
        keys = {(each.level, each.row, each.journey, each.step, each.request) for each in about}
        made: dict[int, list[bytes]] = {}
        for at, key in enumerate(zip(*(rows[name] for name in ("level", *place)), strict=True)):
            if key in keys:
                made.setdefault(rows["second"][at], []).append(rows["times"][at])
        return {second: Histogram.joined(bodies) for second, bodies in made.items()}

    goals = frozen.plan.objectives
    own = lanes_of_objectives(outcome.judgements, goals, of, seconds)
    lanes = lanes_of(users, ended, wrongs, percentiles, _measures(probes, seconds), goals, own)
    return report_of(
        frozen,
        outcome,
        lanes,
        run=folder.name,
        when=told["began"],
        findings=findings,
        capacity=capacity,
    )


def _measures(probes: Mapping[str, list[Any]], seconds: int) -> list[Measured]:
    made: dict[str, Measured] = {}
    for second, probe, measure, unit, value in zip(
        *(probes[name] for name in PROBE_COLUMNS.names), strict=True
    ):
        if measure not in made:
            made[measure] = Measured(measure, unit, np.full(seconds, np.nan), probe, False)
        if second < seconds:
            made[measure].trace[second] = value
    return list(made.values())


def suspects_in(
    folder: Path, step: str, window: tuple[int, int], least: float | None = None
) -> Look:
    """Of a step, by its key, in a window of a run that was kept. Raises DynamikosError for what is
    no such folder.
    """
    try:
        seconds = pq.read_table(folder / SECONDS).to_pydict()
        probes = pq.read_table(folder / PROBES).to_pydict()
    except (OSError, pa.ArrowException) as problem:
        raise DynamikosError(
            f"{folder} is no result folder of ./dynamikos run --keep: {problem}"
        ) from problem
    length = max(seconds["second"], default=-1) + 1
    passed, total, users = np.zeros(length), np.zeros(length), np.full(length, np.nan)
    steps = set()
    lines = zip(
        *(seconds[name] for name in ("second", "level", "step", "passed", "sum_us", "users")),
        strict=True,
    )
    for second, level, key, n, sum_us, here in lines:
        users[second] = here
        if level in ("step", "repeat"):
            steps.add(key)
            if key == step:
                passed[second] += n
                total[second] += sum_us
    if step not in steps:
        raise DynamikosError(
            f"There is no step '{step}' in {folder}; there are "
            f"{', '.join(sorted(steps)) or 'none'}."
        )
    line = np.divide(total, passed * 1000, out=np.full(length, np.nan), where=passed > 0)
    candidates: dict[str, Trace] = {}
    told = zip(probes["second"], probes["measure"], probes["value"], strict=True)
    for second, measure, value in told:
        if measure not in candidates:
            candidates[measure] = np.full(length, np.nan)
        if second < length:
            candidates[measure][second] = value
    return suspects(line, window, candidates, users, least=least)


def as_plain(found: Suspect) -> dict[str, object]:
    """As it is printed in JSON."""
    return {
        "measure": found.measure,
        "score": round(found.score, 3),
        "lag_s": found.lag_s,
        "sign": found.sign,
        "proven": found.is_proven,
        "p": found.p,
        "folded": list(found.folded),
    }
