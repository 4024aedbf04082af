"""The page of benchmark figures, made of what runs of `bench --write` have left: the newest of each
figure, with how it was before.
"""

import json
import platform
import time
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

BARS = "▁▂▃▄▅▆▇█"
MOST_BEFORE = 12  # earlier figures in a small chart
EARLIER = "until-2026-12-02.md"  # figures of before there were files


class Figure(NamedTuple):
    """One that a benchmark has measured; `goal` is "" for none."""

    bench: str
    figure: str
    value: float
    unit: str
    goal: str
    reached: bool


class Day(NamedTuple):
    """What was measured on one day, on one machine."""

    date: str
    machine: str
    figures: tuple[Figure, ...]


def machine() -> str:
    """What it was measured on."""
    cpu = next(
        (
            line.partition(":")[2].strip()
            for line in Path("/proc/cpuinfo").read_text(encoding="utf-8").splitlines()
            if line.startswith("model name")
        ),
        platform.machine(),
    )
    system = platform.freedesktop_os_release().get("PRETTY_NAME", platform.system())
    return f"{cpu}, {system}, Python {platform.python_version()}"


def read(folder: Path) -> list[Day]:
    """In order of their dates."""
    made = []
    for file in sorted(folder.glob("*.json")):
        known = json.loads(file.read_bytes())
        figures = tuple(Figure(**each) for each in known["figures"])
        made.append(Day(known["date"], known["machine"], figures))
    return made


def write(folder: Path, page: Path, figures: Sequence[Figure]) -> Path:
    """Puts figures to those of today, in place of those of the same names, and makes the page.
    Returns today's file.
    """
    today = time.strftime("%Y-%m-%d")
    file = folder / f"{today}.json"
    before = {d.date: d for d in read(folder)}.get(today, Day(today, "", ()))
    new = {(each.bench, each.figure): each for each in (*before.figures, *figures)}
    known = {
        "date": today,
        "machine": machine(),
        "figures": [each._asdict() for each in new.values()],
    }
    folder.mkdir(parents=True, exist_ok=True)
    file.write_text(json.dumps(known, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    page.write_text(markdown(read(folder)), encoding="utf-8")
    return file


def markdown(days: Iterable[Day]) -> str:
    """The page: a table a benchmark."""
    history: dict[str, dict[str, list[tuple[Day, Figure]]]] = {}
    for day in days:
        for each in day.figures:
            history.setdefault(each.bench, {}).setdefault(each.figure, []).append((day, each))
    machines = list(dict.fromkeys(r[-1][0].machine for f in history.values() for r in f.values()))
    lines = [
        "# Benchmark figures",
        "",
        "The newest of each figure, made by `./dynamikos bench --write` from the files in"
        " [bench/results](../bench/results); don't edit this page. Goals are ratios taken in one"
        " run; absolute figures hold for their machine only. Figures of before there were files"
        f" are in [{EARLIER}](../bench/results/{EARLIER}).",
        "",
        *(f"Machine {number}: {name}." for number, name in enumerate(machines, 1)),
    ]
    for bench, rows in sorted(history.items()):
        lines += ["", f"## {bench}", "", f"`./dynamikos bench {bench}`", ""]
        lines += [
            "| figure | value | goal | date | machine | before |",
            "|---|---|---|---|---|---|",
        ]
        lines += [_row(found, machines) for found in rows.values()]
    return "\n".join(lines) + "\n"


def _row(found: Sequence[tuple[Day, Figure]], machines: Sequence[str]) -> str:
    day, each = found[-1]
    goal = f"{each.goal}: {'reached' if each.reached else '**not reached**'}" if each.goal else ""
    digits = f"{each.value:,.0f}" if abs(each.value) >= 1000 else f"{each.value:.4g}"
    value = f"{digits} {each.unit}".strip()
    number = machines.index(day.machine) + 1
    figure = each.figure.replace("|", "\\|")
    values = [figure.value for _, figure in found[-MOST_BEFORE:]]
    return f"| {figure} | {value} | {goal} | {day.date} | {number} | {chart(values)} |"


def chart(values: Sequence[float]) -> str:
    """A bar for each, the largest as high as it goes; nothing for one alone."""
    if len(values) < 2:
        return ""
    top = max(map(abs, values)) or 1.0
    return "".join(BARS[round(abs(value) / top * (len(BARS) - 1))] for value in values)
