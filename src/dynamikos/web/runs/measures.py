"""What probes told of a run: its measures, and their lines over time."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from django.db.models import Max
from numpy.typing import NDArray

from dynamikos.core.frozen import FrozenRun
from dynamikos.core.objectives import Objective, Told, source_of
from dynamikos.core.objectives.readings import Source
from dynamikos.web.runs.models import Measure, MeasureMinute, Reading, Run
from dynamikos.web.runs.reading import POINTS

Trace = NDArray[np.float64]
FIRST = (
    "utilization",
    "largest paint",
    "processor",
    "waiting",
    "memory",
    "queue",
)  # what lanes begin with, where it is told of
LANES, LINES = 4, 8  # so many at first; and in one lane


@dataclass(frozen=True, slots=True)
class Lane:
    """Measures that are drawn over one another: alike but for their labels."""

    key: str
    title: str
    unit: str
    lines: tuple[tuple[int, str], ...]  # number and label of each


def lanes(found: Run, inputs: FrozenRun) -> list[Lane]:
    """All there are, in the order of their probes."""
    titles = {each.probe: each.title for each in inputs.plan.probes}
    groups: dict[tuple[str, str, str], list[tuple[int, str]]] = {}
    for each in found.measures.all():
        base, _, labels = each.name.partition("{")
        label = labels.rstrip("}").replace('"', "").replace(",", ", ")
        label = label.partition("=")[2] if label.count("=") == 1 else label
        groups.setdefault((each.probe, base, each.unit), []).append((each.no, label))
    made: list[Lane] = []
    for (probe, base, unit), lines in groups.items():
        title = f"{titles.get(probe, probe)}: {_called(base)}"
        made.extend(
            Lane(f"{probe}/{base}/{unit}/{at}", title, unit, tuple(lines[at : at + LINES]))
            for at in range(0, len(lines), LINES)
        )
    return made


def lane_of(found: Run, inputs: FrozenRun) -> dict[str, str]:
    """The key of the lane that each measure stands in, by what the measure is called as a
    suspect.
    """
    titles = {each.probe: each.title for each in inputs.plan.probes}
    names = {
        each.no: f"{titles.get(each.probe, each.probe)}: {each.name}"
        for each in found.measures.all()
    }
    return {names[no]: lane.key for lane in lanes(found, inputs) for no, _ in lane.lines}


def _called(name: str) -> str:
    """A measure's name as words; what its unit says already is left out."""
    words = name.removesuffix("_total").split("_")
    return " ".join(
        words[:-1] if len(words) > 1 and words[-1] in ("ratio", "seconds", "bytes") else words
    )


def shown_first(every: Sequence[Lane]) -> list[Lane]:
    """Those that tell most: by what they are called, else the first."""

    def place(lane: Lane) -> int:
        return next((at for at, word in enumerate(FIRST) if word in lane.title), len(FIRST))

    return [lane for lane in sorted(every, key=place) if place(lane) < len(FIRST)][:LANES] or list(
        every[:LANES]
    )


def traces(found: Run, numbers: Collection[int] | None, from_s: int, to_s: int) -> dict[int, Trace]:
    """Values by second of [from_s, to_s), NaN where there is none, of all measures or of some."""
    to_s = min(to_s, found.watermark + 1)
    if to_s <= from_s:
        return {}
    made: dict[int, Trace] = {}

    def trace(no: int) -> Trace:
        if no not in made:
            made[no] = np.full(to_s - from_s, np.nan)
        return made[no]

    minutes = MeasureMinute.objects.filter(
        run=found, minute__gte=from_s // 60, minute__lt=-(-to_s // 60)
    )
    minutes = minutes if numbers is None else minutes.filter(no__in=numbers)
    for no, minute, body in minutes.values_list("no", "minute", "values"):
        begin = minute * 60
        low, high = max(from_s, begin), min(to_s, begin + 60)
        trace(no)[low - from_s : high - from_s] = np.frombuffer(bytes(body), "<f8")[
            low - begin : high - begin
        ]
    for second, values in Reading.objects.filter(
        run=found, second__gte=from_s, second__lt=to_s
    ).values_list("second", "values"):
        for no, value in values.items():
            if numbers is None or int(no) in numbers:
                trace(int(no))[second - from_s] = value
    return made


def readings_of(
    found: Run,
    inputs: FrozenRun,
    objectives: Sequence[Objective] | None = None,
    until_s: int | None = None,
) -> dict[Source, Told]:
    """What was told, before second `until_s` (the last that was added up), of the measures that
    objectives (of its plan, or others) are about.
    """
    wanted = {
        source_of(each)
        for each in (inputs.plan.objectives if objectives is None else objectives)
        if each.probe
    }
    if not wanted:
        return {}
    every = {each.probe: each.every_s for each in inputs.plan.probes}
    asked = {each.no: each for each in found.measures.all() if (each.probe, each.name) in wanted}
    told = traces(found, list(asked), 0, found.watermark + 1 if until_s is None else until_s)
    return {
        (each.probe, each.name): Told(told[no], each.unit, every.get(each.probe, 1.0))
        for no, each in asked.items()
        if no in told
    }


def drawn(found: Run, numbers: Collection[int]) -> tuple[list[int], dict[int, list[float | None]]]:
    """(seconds, values of each measure there, at most POINTS): where there are more, the mean of so
    many seconds.
    """
    end = found.watermark + 1
    known = traces(found, numbers, 0, end)
    width = max(1, -(-end // POINTS))
    seconds = list(range(0, end, width))
    made: dict[int, list[float | None]] = {}
    for no, trace in known.items():
        if width > 1:
            padded = np.full(len(seconds) * width, np.nan)
            padded[: len(trace)] = trace
            parts = padded.reshape(-1, width)
            counts = np.sum(~np.isnan(parts), axis=1)
            trace = np.divide(
                np.nansum(parts, axis=1),
                counts,
                out=np.full(len(seconds), np.nan),
                where=counts > 0,
            )
        made[no] = [None if np.isnan(value) else float(f"{value:.6g}") for value in trace]
    return seconds, made


def take(found: Run, probe: str, traces: Mapping[str, Trace]) -> int:
    """Measures that came afterwards, written as those of a probe; those of the same names are
    replaced. How many.
    """
    first = found.measures.aggregate(top=Max("no"))["top"]
    no = 0 if first is None else first + 1
    old = found.measures.filter(probe=probe, name__in=list(traces))
    MeasureMinute.objects.filter(run=found, no__in=old.values_list("no", flat=True)).delete()
    old.delete()
    for at, (name, trace) in enumerate(traces.items(), no):
        Measure.objects.create(run=found, no=at, probe=probe, name=name[:300])
        padded = np.full(-(-len(trace) // 60) * 60, np.nan)
        padded[: len(trace)] = trace
        minutes = enumerate(padded.astype("<f8").reshape(-1, 60))
        MeasureMinute.objects.bulk_create(
            MeasureMinute(run=found, no=at, minute=minute, values=values.tobytes())
            for minute, values in minutes
        )
    return len(traces)
